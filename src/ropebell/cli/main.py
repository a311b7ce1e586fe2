"""The `ropebell` command. What it prints and its exit status are a contract; see docs/command-line.md.

All commands pass one door: known troubles end in one line and their status, and what nobody foresaw in one line, the
name of a report, and a status that means nothing else.
"""

from __future__ import annotations

import argparse
import contextlib
import resource
import sys
from collections.abc import Callable, Sequence

from ropebell.cli.grammar import EXIT_WRONG, parser, shield_negative
from ropebell.cli.said import answer_alone, say
from ropebell.errors import NO_ROOM_FOR_LIBRARY, RopeBellError, UsageError, step, why
from ropebell.fault_report import EXIT_FAULT, keep_report
from ropebell.interpreter import isolate

EXIT_DONE, EXIT_INTERRUPTED = 0, 130
NO_MEMORY = "there is not enough memory. Close other programs, raise the limit (ulimit -v), or use a higher draft."
# Of address space: with less, libraries end the process when one of their threads finds no room, and nothing is said.
LEAST_ROOM = 1600 << 20


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command; returns the exit status."""
    try:
        return _guarded(arguments)
    except Exception as error:  # noqa: BLE001 - the border of the process: a mistake is reported, never a status of others
        return _fault(error)


def _guarded(arguments: Sequence[str] | None) -> int:
    try:
        options = parser().parse_args(shield_negative(list(sys.argv[1:] if arguments is None else arguments)))
    except SystemExit as leave:
        return int(leave.code or 0)
    if options.command is None:
        parser().print_help()
        return EXIT_WRONG
    try:
        _check_room()
        with answer_alone() if getattr(options, "json", False) else contextlib.nullcontext():
            return RUN[options.command](options)
    except RopeBellError as error:
        say(f"ropebell: {error}", aside=True)
        return error.exit_code
    except KeyboardInterrupt:
        return EXIT_INTERRUPTED
    except BrokenPipeError:
        return EXIT_DONE
    except MemoryError:
        say(f"ropebell: {NO_MEMORY}", aside=True)
        return EXIT_WRONG
    except OSError as error:
        # What no command has words for, such as a disk that fills up or a folder that goes away meanwhile.
        say(f"ropebell: {UsageError(why(error), error.filename or '', step(error))}", aside=True)
        return EXIT_WRONG


def _fault(error: Exception) -> int:
    """Tell of a mistake of this program."""
    if isinstance(error, ImportError) and any(words in str(error).lower() for words in NO_ROOM_FOR_LIBRARY):
        say(f"ropebell: {NO_MEMORY}", aside=True)
        return EXIT_WRONG
    kept = keep_report(error)
    where = f"A report without names of yours lies in {kept}" if kept is not None else "No report could be written"
    say(f"ropebell: this program met a mistake of its own ({type(error).__name__}). {where}.", aside=True)
    return EXIT_FAULT


def _check_room() -> None:
    """Libraries wait for ever for memory that a limit does not let them have.

    Raises:
        UsageError: the limit is too low to begin with.
    """
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    if limit != resource.RLIM_INFINITY and limit < LEAST_ROOM:
        what = f"the limit on memory is {limit >> 20:,} MB, and {LEAST_ROOM >> 20:,} MB are needed to begin with"
        raise UsageError(what, "", "Raise it (ulimit -v)")


# Each command loads only what it needs: `check` starts without Qt, `open` without the bench.


def _check(o: argparse.Namespace) -> int:
    from ropebell.cli.commands import check

    return check(o.level, o.sky, o.json, o.no_project)


def _bake(o: argparse.Namespace) -> int:
    from ropebell.cli.bake import Wanted, bake

    wanted = Wanted(
        o.recipe, o.settings, o.sky, o.only, o.all_but, o.seen_from, o.seen_angle, o.box, o.changed_since,
        o.properties_of, o.stage, o.stop_when, o.worker, o.no_project,
    )  # fmt: skip
    return bake(o.level, o.out, wanted, o.clear_earlier, o.json)


def _meter(o: argparse.Namespace) -> int:
    from ropebell.cli import commands

    if o.mover:
        return commands.mover(o.build, o.points, o.json)
    return commands.meter(o.build, o.points, o.normal, o.json)


def _faults(o: argparse.Namespace) -> int:
    from ropebell.cli.faults import faults

    return faults(o.build, o.since, o.json, o.sarif, o.csv, o.html)


def _account(o: argparse.Namespace) -> int:
    from ropebell.cli.account import account

    return account(o.build, o.point, o.normal, o.json)


def _sight(o: argparse.Namespace) -> int:
    from ropebell.cli.sight import sight

    return sight(o.level, o.settings, o.pose, o.sees, o.json, o.no_project)


def _hunt(o: argparse.Namespace) -> int:
    from ropebell.cli.hunt import hunt

    return hunt(o)


def _compare(o: argparse.Namespace) -> int:
    from ropebell.cli.compare import run_compare

    return run_compare(o.a, o.b, o.json, o.html)


def _expect(o: argparse.Namespace) -> int:
    from ropebell.cli.compare import expect

    if o.save is None and o.against is None:
        raise UsageError("nothing is to be done", "", "Give --save FILE or --against FILE")
    return expect(o.build, o.save, o.against)


def _ledger(o: argparse.Namespace) -> int:
    from ropebell.cli.compare import run_ledger

    return run_ledger(o.build, o.json)


def _advise(o: argparse.Namespace) -> int:
    from ropebell.cli.compare import run_advise

    return run_advise(o.level, o.build, o.json, o.no_project)


def _export(o: argparse.Namespace) -> int:
    from ropebell.cli.export import export

    return export(o.build, o.out, o.despite, o.most_mb, o.json)


def _demo(o: argparse.Namespace) -> int:
    from ropebell.cli.commands import demo

    if not 1 <= o.halls <= 40:
        raise UsageError(f"--halls {o.halls} is outside 1 … 40", "", "Choose another number")
    return demo(o.folder, o.halls, o.bare)


def _accuracy(o: argparse.Namespace) -> int:
    from ropebell.cli.measuring import accuracy

    return accuracy(o.out, o.json)


def _detection(o: argparse.Namespace) -> int:
    from ropebell.cli.measuring import detection

    return detection(o.out, o.each, o.json)


def _bench(o: argparse.Namespace) -> int:
    from ropebell.cli import measuring

    return measuring.hunts(o.hunts) if o.hunts else measuring.bench(o.json, o.scale, o.long, o.window, o.plot)


def _open(o: argparse.Namespace) -> int:
    from ropebell.app.main import open_window

    return open_window(o.target)


def _shots(o: argparse.Namespace) -> int:
    from ropebell.app.main import take_shots

    return take_shots(o.out)


RUN: dict[str, Callable[[argparse.Namespace], int]] = {
    "open": _open, "check": _check, "bake": _bake, "meter": _meter, "faults": _faults, "account": _account,
    "sight": _sight, "hunt": _hunt, "compare": _compare, "expect": _expect, "ledger": _ledger, "advise": _advise,
    "export": _export, "demo": _demo, "accuracy": _accuracy, "detection": _detection, "shots": _shots, "bench": _bench,
}  # fmt: skip


def entry() -> None:
    """The installed command: not even an environment that names other folders brings in code from there."""
    isolate("ropebell.cli.main")
    sys.exit(main())


if __name__ == "__main__":
    entry()
