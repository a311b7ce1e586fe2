"""What can be written after `ropebell`: commands and their options, read into a namespace. See docs/command-line.md."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

import ropebell
from ropebell.cli.arguments import box, new_file, new_folder, new_package, numbers, path, worker
from ropebell.errors import shown

EXIT_WRONG = 2


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line."""

    def error(self, message: str) -> Any:
        self.exit(EXIT_WRONG, f"ropebell: {shown(message)}. See 'ropebell --help'.\n")

    def many(self, name: str, metavar: str, words: str | None = None, into: str | None = None) -> None:
        """An option that may be given several times."""
        self.add_argument(name, action="append", default=[], metavar=metavar, dest=into, help=words)

    def file(self, name: str, words: str, metavar: str = "FILE") -> None:
        """An option that names a file or a folder."""
        self.add_argument(name, type=path, default=None, metavar=metavar, help=words)

    def writes(self, name: str, words: str, metavar: str = "FILE", into: Callable[[str], Any] = new_file) -> None:
        """An option that names what is written."""
        self.add_argument(name, type=into, default=None, metavar=metavar, help=words)

    def build(self, words: str | None = None) -> None:
        """The folder of a build."""
        self.add_argument("build", type=path, metavar="DIR", help=words)

    def answer(self) -> None:
        """One JSON document instead of words."""
        self.add_argument("--json", action="store_true")

    def level(self) -> None:
        """A level file or a project folder, whose project counts unless it is left aside."""
        self.add_argument("level", type=path)
        self.add_argument("--no-project", action="store_true", help="the level alone, whatever its project decides")

    def recipe(self) -> None:
        """What a build is made with."""
        self.add_argument("--recipe", metavar="NAME|FILE", help="sketch, working, final or a TOML file")
        self.many("--set", "KEY=VALUE", into="settings")
        self.sky()

    def sky(self) -> None:
        """Another sky than the project's."""
        self.add_argument("--sky", type=numbers, default=None, metavar="R,G,B", help="uniform sky in cd/m²")

    def normal(self) -> None:
        """Which side of a surface is meant."""
        self.add_argument("--normal", type=numbers, default=None, metavar="NX,NY,NZ")


def _open(p: _Parser) -> None:
    p.add_argument("target", nargs="?", type=path, metavar="PROJECT|LEVEL")


def _check(p: _Parser) -> None:
    p.level()
    p.sky()
    p.answer()


def _bake(p: _Parser) -> None:
    p.level()
    p.add_argument("--out", type=new_folder, required=True, metavar="DIR")
    p.recipe()
    p.many("--only", "NODE", "light this object and what is below it")
    p.many("--all-but", "NODE", "light everything but this object and what is below it")
    p.add_argument(
        "--seen-from", nargs=2, type=numbers, default=None, metavar="X,Y,Z",
        help="light what is seen from the first place, looking at the second",
    )  # fmt: skip
    p.add_argument("--seen-angle", type=float, default=90.0, metavar="DEG", help="how wide that look is; 90")
    p.add_argument("--box", type=box, default=None, metavar="X0,Y0,Z0,X1,Y1,Z1", help="only inside, the cut sealed")
    p.file("--changed-since", "what changed after this build; it lights the rest", "DIR")
    p.file("--properties-of", "shoot nothing: this build's light on the level with its properties of now", "DIR")
    p.add_argument("--stage", default="", metavar="NAME", help="stop after this stage; what it gave is kept")
    p.many("--stop-when", "COND", "stop as by a tripwire, such as black>0.3; exit 4")
    p.add_argument(
        "--worker", type=worker, default="", metavar="NAME", help="compute as this build worker; 'help' lists"
    )
    p.add_argument("--clear-earlier", action="store_true", help="once done, remove earlier builds kept as DIR.before-N")
    p.answer()


def _meter(p: _Parser) -> None:
    p.build()
    p.add_argument("points", nargs="+", type=numbers, metavar="X,Y,Z")
    p.normal()
    p.add_argument("--mover", action="store_true", help="what lights a moving thing there: probes, and what is below")
    p.answer()


def _faults(p: _Parser) -> None:
    p.build()
    p.file("--since", "what is new, still there, and gone", "DIR_BEFORE")
    p.answer()
    p.writes("--sarif", "write SARIF 2.1.0")
    p.writes("--csv", "write a table")
    p.writes("--html", "write a page to print, with pictures")


def _account(p: _Parser) -> None:
    p.build()
    p.add_argument("point", type=numbers, metavar="X,Y,Z")
    p.normal()
    p.answer()


def _sight(p: _Parser) -> None:
    p.level()
    p.many("--set", "sight.cell=M", into="settings")
    p.many("--pose", "NODE=POSE", "with this object in that pose")
    p.add_argument(
        "--sees", action="append", default=[], nargs=2, type=numbers, metavar="X,Y,Z",
        help="whether one place can be seen from the other",
    )  # fmt: skip
    p.answer()


def _hunt(p: _Parser) -> None:
    p.level()
    p.add_argument("--while", dest="condition", required=True, metavar="COND", help="what is looked for: black>0.3")
    p.add_argument(
        "--worker", type=worker, default="", metavar="NAME", help="hunt on this build worker; all: who sees it"
    )
    p.add_argument("--command", dest="outside", default="", metavar="CMD", help="any compiler: 'bake {level} {out}'")
    p.add_argument("--shell", action="store_true", help="hand the command to a shell")
    p.recipe()
    p.add_argument("--most-trials", type=int, default=400, metavar="N")
    p.add_argument("--time-limit", type=float, default=0.0, metavar="S", help="of one run; 0: ten times the first")
    p.add_argument("--as-built", action="store_true", help="no shorter build that shows it is looked for")
    p.add_argument("--no-fixes", action="store_true", help="try no fixes")
    p.writes("--out", "the case, the log, patches; goes on from there", "DIR", new_folder)
    p.answer()


def _compare(p: _Parser) -> None:
    p.add_argument("a", type=path, metavar="DIR_A")
    p.add_argument("b", type=path, metavar="DIR_B")
    p.answer()
    p.writes("--html", "write a page with pictures")


def _expect(p: _Parser) -> None:
    p.build()
    p.writes("--save", "keep its numbers here")
    p.file("--against", "hold it against these")


def _ledger(p: _Parser) -> None:
    p.build()
    p.answer()


def _advise(p: _Parser) -> None:
    p.level()
    p.build("a finished build of it")
    p.answer()


def _export(p: _Parser) -> None:
    p.build()
    p.add_argument("--out", type=new_package, required=True, metavar="DIR|FILE.zip")
    p.many("--despite", "KIND", "hand over though this speaks against it; any: whatever can be accepted")
    p.add_argument(
        "--most-mb", type=float, default=None, metavar="MB", help="what its pages may take, not the project's"
    )
    p.answer()


def _demo(p: _Parser) -> None:
    p.add_argument("folder", type=new_folder, metavar="DIR")
    p.add_argument("--halls", type=int, default=1, metavar="N", help="1 … 40 mills along the quay")
    p.add_argument("--bare", action="store_true", help="the level alone, without the builds of its past")


def _accuracy(p: _Parser) -> None:
    p.writes("--out", "write the page here")
    p.answer()


def _detection(p: _Parser) -> None:
    p.writes("--out", "write the page here")
    p.add_argument("--each", type=int, default=8, metavar="N", help="levels with and without each fault")
    p.answer()


def _shots(p: _Parser) -> None:
    p.add_argument("--out", type=new_folder, required=True, metavar="DIR")


def _bench(p: _Parser) -> None:
    p.answer()
    p.add_argument("--long", action="store_true", help="also what takes minutes: large levels, noise, memory limits")
    p.add_argument("--window", action="store_true", help="also measure the window (needs a display or offscreen Qt)")
    p.writes("--plot", "draw how the time grows with texels, SVG (--long)")
    p.writes("--hunts", "only this: hunt 200 made-up faults; a page")
    p.add_argument("--scale", type=float, default=1.0, help="size of the test relative to the usual one")


COMMANDS: dict[str, tuple[str, Callable[[_Parser], None]]] = {
    "open": ("start the window", _open),
    "check": ("findings without a build; exit 1 if any is an error", _check),
    "bake": ("build the light of a level", _bake),
    "meter": ("light where points touch a baked surface", _meter),
    "faults": ("findings of a build; exit 1 if any is not known", _faults),
    "account": ("why a spot of a build looks as it does", _account),
    "sight": ("sealed or not, and what can see what; exit 1 if the level leaks", _sight),
    "hunt": ("narrow a fault down to what causes it; exit 1 when a culprit was found", _hunt),
    "compare": ("what changed between two builds; exit 1 if the light differs beyond noise", _compare),
    "expect": ("keep a build's numbers, or hold a build against some; exit 1 if it differs", _expect),
    "ledger": ("where the time of a build went, by stage, object and light", _ledger),
    "advise": ("what would shorten builds of a level, and what that costs", _advise),
    "export": ("a package that others can build; exit 1 if something speaks against it", _export),
    "demo": ("write the sample level", _demo),
    "accuracy": ("compare the light with closed forms", _accuracy),
    "detection": ("measure how well faults are found on levels made by code; minutes", _detection),
    "shots": ("draw every main view of the window into PNG files", _shots),
    "bench": ("measure this machine against the bare ray library", _bench),
}


def parser() -> argparse.ArgumentParser:
    """The command line."""
    top = _Parser(prog="ropebell", description="Bake the light of a level, see it, meter it.")
    top.add_argument("--version", action="version", version=f"Rope Bell {ropebell.__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)
    for name, (words, options) in COMMANDS.items():
        options(commands.add_parser(name, help=words))
    return top


def shield_negative(arguments: list[str]) -> list[str]:
    """Let points such as −1,2,3 through, which would be read as options."""
    out: list[str] = []
    for text in arguments:
        negative = len(text) > 1 and text[0] == "-" and (text[1].isdigit() or text[1] == ".")
        out.append(f" {text}" if negative and "," in text else text)
    return out
