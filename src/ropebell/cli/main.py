"""The `ropebell` command. What it prints and its exit status are a contract; see docs/command-line.md."""

from __future__ import annotations

import argparse
import contextlib
import datetime
import json
import resource
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import ropebell
from ropebell.cli.arguments import box, numbers, path, worker
from ropebell.cli.said import answer_alone, say
from ropebell.errors import RopeBellError, UsageError, why
from ropebell.files import temporary_beside, write_text
from ropebell.interpreter import isolate

EXIT_DONE, EXIT_FOUND, EXIT_WRONG, EXIT_FAILED, EXIT_TRIPWIRE, EXIT_INTERRUPTED = 0, 1, 2, 3, 4, 130
# Of address space.
LEAST_ROOM = 1000 << 20


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line."""

    def error(self, message: str) -> Any:
        self.exit(EXIT_WRONG, f"ropebell: {message}. See 'ropebell --help'.\n")


def parser() -> argparse.ArgumentParser:
    """The command line."""
    top = _Parser(prog="ropebell", description="Bake the light of a level, see it, meter it.")
    top.add_argument("--version", action="version", version=f"Rope Bell {ropebell.__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)

    p = commands.add_parser("open", help="start the window")
    p.add_argument("target", nargs="?", type=path, metavar="PROJECT|LEVEL")

    p = commands.add_parser("check", help="findings without a build; exit 1 if any is an error")
    p.add_argument("level", type=path)
    p.add_argument("--sky", type=numbers, default=None, metavar="R,G,B", help="uniform sky in cd/m²")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("bake", help="build the light of a level")
    p.add_argument("level", type=path)
    p.add_argument("--out", type=path, required=True, metavar="DIR")
    p.add_argument("--recipe", metavar="NAME|FILE", help="sketch, working, final or a TOML file")
    p.add_argument("--set", action="append", default=[], metavar="KEY=VALUE", dest="settings")
    p.add_argument("--sky", type=numbers, default=None, metavar="R,G,B", help="uniform sky in cd/m²")
    p.add_argument("--only", action="append", default=[], metavar="NODE", help="light this object and what is below it")
    p.add_argument("--box", type=box, default=None, metavar="X0,Y0,Z0,X1,Y1,Z1", help="only inside, the cut sealed")
    p.add_argument(
        "--changed-since",
        type=path,
        default=None,
        metavar="DIR",
        help="what changed after this build; it lights the rest",
    )
    p.add_argument("--stage", default="", metavar="NAME", help="stop after this stage; what it gave is kept")
    p.add_argument(
        "--stop-when",
        action="append",
        default=[],
        metavar="COND",
        help="stop as by a tripwire, such as black>0.3; exit 4",
    )
    p.add_argument(
        "--worker", type=worker, default="", metavar="NAME", help="compute as this build worker; 'help' lists"
    )
    p.add_argument("--clear-earlier", action="store_true", help="once done, remove earlier builds kept as DIR.before-N")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("meter", help="light where points touch a baked surface")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("points", nargs="+", type=numbers, metavar="X,Y,Z")
    p.add_argument("--normal", type=numbers, default=None, metavar="NX,NY,NZ")
    p.add_argument("--mover", action="store_true", help="what lights a moving thing there: probes, and what is below")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("faults", help="findings of a build; exit 1 if any is not known")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("--since", type=path, default=None, metavar="DIR_BEFORE", help="what is new, still there, and gone")
    p.add_argument("--json", action="store_true")
    p.add_argument("--sarif", type=path, default=None, metavar="FILE", help="write SARIF 2.1.0")
    p.add_argument("--csv", type=path, default=None, metavar="FILE", help="write a table")
    p.add_argument("--html", type=path, default=None, metavar="FILE", help="write a page to print, with pictures")

    p = commands.add_parser("account", help="why a spot of a build looks as it does")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("point", type=numbers, metavar="X,Y,Z")
    p.add_argument("--normal", type=numbers, default=None, metavar="NX,NY,NZ")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("sight", help="sealed or not, and what can see what; exit 1 if the level leaks")
    p.add_argument("level", type=path)
    p.add_argument("--set", action="append", default=[], metavar="sight.cell=M", dest="settings")
    p.add_argument("--pose", action="append", default=[], metavar="NODE=POSE", help="with this object in that pose")
    p.add_argument(
        "--sees", action="append", default=[], nargs=2, type=numbers, metavar="X,Y,Z",
        help="whether one place can be seen from the other",
    )  # fmt: skip
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("hunt", help="narrow a fault down to what causes it; exit 1 when a culprit was found")
    p.add_argument("level", type=path)
    p.add_argument("--while", dest="condition", required=True, metavar="COND", help="what is looked for: black>0.3")
    p.add_argument(
        "--worker", type=worker, default="", metavar="NAME", help="hunt on this build worker; all: who sees it"
    )
    p.add_argument("--command", dest="outside", default="", metavar="CMD", help="any compiler: 'bake {level} {out}'")
    p.add_argument("--shell", action="store_true", help="hand the command to a shell")
    p.add_argument("--recipe", metavar="NAME|FILE", help="sketch, working, final or a TOML file")
    p.add_argument("--set", action="append", default=[], metavar="KEY=VALUE", dest="settings")
    p.add_argument("--sky", type=numbers, default=None, metavar="R,G,B", help="uniform sky in cd/m²")
    p.add_argument("--most-trials", type=int, default=400, metavar="N")
    p.add_argument("--time-limit", type=float, default=0.0, metavar="S", help="of one run; 0: ten times the first")
    p.add_argument("--as-built", action="store_true", help="no shorter build that shows it is looked for")
    p.add_argument("--no-fixes", action="store_true", help="try no fixes")
    p.add_argument(
        "--out", type=path, default=None, metavar="DIR", help="the case, the log, patches; goes on from there"
    )
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("compare", help="what changed between two builds; exit 1 if the light differs beyond noise")
    p.add_argument("a", type=path, metavar="DIR_A")
    p.add_argument("b", type=path, metavar="DIR_B")
    p.add_argument("--json", action="store_true")
    p.add_argument("--html", type=path, default=None, metavar="FILE", help="write a page with pictures")

    p = commands.add_parser("expect", help="keep a build's numbers, or hold a build against some; exit 1 if it differs")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("--save", type=path, default=None, metavar="FILE")
    p.add_argument("--against", type=path, default=None, metavar="FILE")

    p = commands.add_parser("ledger", help="where the time of a build went, by stage, object and light")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("advise", help="what would shorten builds of a level, and what that costs")
    p.add_argument("level", type=path)
    p.add_argument("build", type=path, metavar="DIR", help="a finished build of it")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("export", help="a package that others can build; exit 1 if something speaks against it")
    p.add_argument("build", type=path, metavar="DIR")
    p.add_argument("--out", type=path, required=True, metavar="DIR|FILE.zip")
    p.add_argument(
        "--despite", action="append", default=[], metavar="KIND",
        help="hand over though this speaks against it; any: whatever can be accepted",
    )  # fmt: skip
    p.add_argument(
        "--most-mb", type=float, default=None, metavar="MB", help="what its pages may take, not the project's"
    )
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("demo", help="write the sample level")
    p.add_argument("folder", type=path, metavar="DIR")
    p.add_argument("--halls", type=int, default=1, metavar="N", help="1 … 40 mills along the quay")
    p.add_argument("--bare", action="store_true", help="the level alone, without the builds of its past")

    p = commands.add_parser("accuracy", help="compare the light with closed forms")
    p.add_argument("--out", type=path, default=None, metavar="FILE", help="write the page here")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("detection", help="measure how well faults are found on levels made by code; minutes")
    p.add_argument("--out", type=path, default=None, metavar="FILE", help="write the page here")
    p.add_argument("--each", type=int, default=8, metavar="N", help="levels with and without each fault")
    p.add_argument("--json", action="store_true")

    p = commands.add_parser("shots", help="draw every main view of the window into PNG files")
    p.add_argument("--out", type=path, required=True, metavar="DIR")

    p = commands.add_parser("bench", help="measure this machine against the bare ray library")
    p.add_argument("--json", action="store_true")
    p.add_argument("--long", action="store_true", help="also what takes minutes: large levels, noise, memory limits")
    p.add_argument("--window", action="store_true", help="also measure the window (needs a display or offscreen Qt)")
    p.add_argument(
        "--plot", type=path, default=None, metavar="FILE", help="draw how the time grows with texels, SVG (--long)"
    )
    p.add_argument(
        "--hunts",
        type=path,
        default=None,
        metavar="FILE",
        help="only this: hunt 200 made-up faults; a page",
    )
    p.add_argument("--scale", type=float, default=1.0, help="size of the test relative to the usual one")
    return top


def _shield_negative(arguments: Sequence[str]) -> list[str]:
    """Let points such as −1,2,3 through, which would be read as options."""
    out: list[str] = []
    for text in arguments:
        negative = len(text) > 1 and text[0] == "-" and (text[1].isdigit() or text[1] == ".")
        out.append(f" {text}" if negative and "," in text else text)
    return out


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command; returns the exit status."""
    try:
        options = parser().parse_args(_shield_negative(sys.argv[1:] if arguments is None else arguments))
    except SystemExit as leave:
        return int(leave.code or 0)
    if options.command is None:
        parser().print_help()
        return EXIT_WRONG
    try:
        _check_room()
        with answer_alone() if getattr(options, "json", False) else contextlib.nullcontext():
            return _run(options)
    except RopeBellError as error:
        say(f"ropebell: {error}", aside=True)
        return error.exit_code
    except KeyboardInterrupt:
        return EXIT_INTERRUPTED
    except BrokenPipeError:
        return EXIT_DONE


def _check_room() -> None:
    """Libraries wait for ever for memory that a limit does not let them have.

    Raises:
        UsageError: the limit is too low to begin with.
    """
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    if limit != resource.RLIM_INFINITY and limit < LEAST_ROOM:
        what = f"the limit on memory is {limit >> 20:,} MB, and {LEAST_ROOM >> 20:,} MB are needed to begin with"
        raise UsageError(what, "", "Raise it (ulimit -v)")


def _run(options: argparse.Namespace) -> int:
    # Each command loads only what it needs: `check` starts without Qt, `open` without the bench.
    from ropebell.cli import commands
    from ropebell.cli.bake import Wanted, bake

    if options.command == "check":
        return commands.check(options.level, options.sky, options.json)
    if options.command == "bake":
        return bake(
            options.level,
            options.out,
            Wanted(
                options.recipe, options.settings, options.sky, options.only, options.box, options.changed_since,
                options.stage, options.stop_when, options.worker,
            ),
            options.clear_earlier,
            options.json,
        )  # fmt: skip
    if options.command == "meter":
        if options.mover:
            return commands.mover(options.build, options.points, options.json)
        return commands.meter(options.build, options.points, options.normal, options.json)
    if options.command == "faults":
        from ropebell.cli.faults import faults

        o = options
        return faults(o.build, o.since, o.json, o.sarif, o.csv, o.html)
    if options.command == "account":
        from ropebell.cli.account import account

        return account(options.build, options.point, options.normal, options.json)
    if options.command == "sight":
        from ropebell.cli.sight import sight

        return sight(options.level, options.settings, options.pose, options.sees, options.json)
    if options.command == "hunt":
        from ropebell.cli.hunt import hunt

        return hunt(options)
    if options.command == "export":
        from ropebell.cli.export import export

        return export(options.build, options.out, options.despite, options.most_mb, options.json)
    if options.command == "demo":
        if not 1 <= options.halls <= 40:
            raise UsageError(f"--halls {options.halls} is outside 1 … 40", "", "Choose another number")
        return commands.demo(options.folder, options.halls, options.bare)
    if options.command in ("compare", "expect", "ledger", "advise"):
        return _compare(options)
    return _measure_or_show(options)


def _compare(o: argparse.Namespace) -> int:
    from ropebell.cli import compare

    if o.command == "compare":
        return compare.run_compare(o.a, o.b, o.json, o.html)
    if o.command == "expect":
        if o.save is None and o.against is None:
            raise UsageError("nothing is to be done", "", "Give --save FILE or --against FILE")
        return compare.expect(o.build, o.save, o.against)
    if o.command == "ledger":
        return compare.run_ledger(o.build, o.json)
    return compare.run_advise(o.level, o.build, o.json)


def _measure_or_show(o: argparse.Namespace) -> int:
    if o.command == "accuracy":
        return _accuracy(o.out, o.json)
    if o.command == "detection":
        return _detection(o.out, o.each, o.json)
    if o.command == "bench":
        return _hunts(o.hunts) if o.hunts is not None else _bench(o.json, o.scale, o.long, o.window, o.plot)
    return _window(o)


def _try(path: Path) -> None:
    """Find out before the work whether its result can be written.

    Raises:
        UsageError: it cannot.
    """
    try:
        part = temporary_beside(path)
        part.touch()
        part.unlink()
    except (OSError, ValueError) as error:
        raise UsageError(
            f"it cannot be written ({why(error) if isinstance(error, OSError) else error})",
            path,
            "Name another file, in a folder that is there",
        ) from error


def _bench(as_json: bool, scale: float, long: bool, window: bool, plot: Path | None) -> int:
    from ropebell.bench import report, run

    if not 0.01 <= scale <= 100.0:
        raise UsageError(f"--scale {scale} is outside 0.01 … 100", "", "Choose another number")
    if plot is not None:
        _try(plot)
    if window:
        from ropebell.app.main import application

        application()  # without a display this ends here, not after minutes of measuring
    figures = run(scale, long or plot is not None)  # the curve is one of the long ones
    if window:
        from ropebell.app.latency import measure

        figures["window"] = measure()
    if plot is not None:
        from ropebell.bench.engine import curve_svg

        write_text(plot, curve_svg(figures["scaling"]))
    print(json.dumps(figures, indent=1) if as_json else report(figures))
    return EXIT_DONE


def _hunts(out: Path) -> int:
    from ropebell.bench import hunting

    _try(out)
    page = hunting.report(hunting.run(5), datetime.date.today())
    write_text(out, page)
    say(page)
    return EXIT_DONE


def _accuracy(out: Path | None, as_json: bool) -> int:
    from ropebell.bench import accuracy, told_noise

    if out is not None:
        _try(out)
    found, noise = accuracy.run(), told_noise.run()
    page = accuracy.report(found, noise, datetime.date.today())
    if out is not None:
        try:
            write_text(out, page)
        except OSError as error:
            raise UsageError(f"it cannot be written ({why(error)})", out, "Name another file") from error
    if as_json:
        print(json.dumps(accuracy.as_json(found, noise)))
    elif out is None:
        print(page)
    return EXIT_DONE


def _detection(out: Path | None, each: int, as_json: bool) -> int:
    from dataclasses import asdict

    from ropebell.bench import detection

    if not 1 <= each <= 100:
        raise UsageError(f"--each {each} is outside 1 … 100", "", "Choose another number")
    if out is not None:
        _try(out)
    by_draft: dict[int, list[detection.Kind]] = {}
    quiet: list[list[Any]] = []
    for draft in (1, 4):
        by_draft[draft], quiet = detection.run(each, draft)
    page = detection.report(by_draft, quiet, each, datetime.date.today())
    if out is not None:
        write_text(out, page)
    if as_json:
        told = {str(draft): [asdict(kind) for kind in kinds] for draft, kinds in by_draft.items()}
        print(json.dumps({"drafts": told, "clean": [len(found) for found in quiet]}))
    elif out is None:
        print(page)
    return EXIT_DONE


def _window(options: argparse.Namespace) -> int:
    from ropebell.app.main import open_window, take_shots

    return take_shots(options.out) if options.command == "shots" else open_window(options.target)


def entry() -> None:
    """The installed command: not even an environment that names other folders brings in code from there."""
    isolate("ropebell.cli.main")
    sys.exit(main())


if __name__ == "__main__":
    entry()
