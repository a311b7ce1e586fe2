"""Runs every command on odd levels, and judges how each ended.

`SAID` holds words that a command must print about some of them; where it says nothing, an exit status of the contract
and no traceback are all that is asked for.
"""

from __future__ import annotations

import os
import sys
import time
import traceback
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from odd_levels import ZOO
from ropebell.cli.main import main

CONTRACT, MOST_SECONDS = (0, 1, 2, 3, 4), 60.0
NO_INSIDE = (0, "no inside")
NOT_LIGHT = "pixels hold values that are no light"
# What must be said: by level and command, the exit status and some words.
SAID: dict[tuple[str, str], tuple[int, str]] = {
    ("one_room", "sight"): (0, "is sealed"), ("one_room", "bake"): (0, "texels"),
    ("floor_and_cube", "sight"): NO_INSIDE, ("one_slab", "sight"): NO_INSIDE, ("one_triangle", "sight"): NO_INSIDE,
    ("coplanar", "sight"): NO_INSIDE, ("micro", "sight"): NO_INSIDE, ("mega", "sight"): NO_INSIDE,
    ("skinned", "sight"): NO_INSIDE, ("sky_picture", "sight"): NO_INSIDE, ("crates_in_crates", "sight"): NO_INSIDE,
    ("sealed_box_inside_out", "sight"): NO_INSIDE, ("tall_shaft", "sight"): (0, "is sealed"),
    ("empty", "check"): (1, "No node of the level has a mesh"), ("only_lights", "check"): (1, "No node of the level"),
    ("points", "check"): (1, "points or lines alone"), ("lines", "check"): (1, "points or lines alone"),
    ("zero_area", "check"): (1, "without area"), ("all_on_a_line", "check"): (1, "without area"),
    ("all_left_out", "check"): (1, "None of its 2 objects are baked"),
    ("all_moving", "check"): (1, "None of its 2 objects are baked"),
    ("all_left_out", "bake"): (3, "one of its 2 objects are baked"), ("no_lights", "check"): (1, "Nothing gives light"),
    ("blinding_lamp", "check"): (1, "Light 'lights/lamp' has a strength of 2e+12"),
    ("blinding_lamp", "bake"): (3, "'lights/lamp' has a strength of 2e+12"),
    ("sky_one_huge", "check"): (1, "more than the 1e12"), ("sky_one_huge", "bake"): (3, "more than the 1e12"),
    ("sky_nan", "check"): (1, NOT_LIGHT), ("sky_infinite", "check"): (1, NOT_LIGHT),
    ("sky_negative", "check"): (1, NOT_LIGHT), ("sky_all_nan", "check"): (1, NOT_LIGHT),
    ("sky_nan", "bake"): (2, NOT_LIGHT), ("sky_negative", "hunt"): (2, NOT_LIGHT),
    ("cycle", "check"): (2, ""), ("two_parents", "check"): (2, ""), ("truncated", "check"): (2, "cut off"),
    ("not_a_level", "check"): (2, ""), ("nan_corner", "check"): (2, "node 'floor'"),
    ("infinite_corner", "check"): (2, "mesh 'square' of node 'floor'"),
    ("huge_scale", "check"): (2, "floor"), ("mega", "check"): (0, "not exported in metres"),
    ("obj_without_faces", "check"): (2, "no faces"),
}  # fmt: skip


@dataclass(frozen=True)
class Run:
    """How one command ended on one level."""

    command: str
    status: int
    seconds: float
    said: str
    trouble: str


SEEN_AT = "0.1,0.0,0.1"
QUICK = ("check", "sight")
BAKE = ("--recipe", "sketch", "--set", "density.texels_per_metre=4", "--set", "light.gather_rays=32")


# So large that all texels are used that pages of the usual size may have, which takes minutes.
COARSE = {"mega": ("--set", "density.page_size=256"), "large": ("--set", "draft=8")}


def visit(name: str, folder: Path, builds: bool = True) -> Iterator[Run]:
    """Every command on one level, each in a process forked from this one."""
    home = folder / "level"
    home.mkdir()
    level = ZOO[name](home)
    os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
    for command in QUICK:
        yield _run(name, command, [str(level)])
    if not builds:
        return
    build, again = str(folder / "build"), str(folder / "again")
    how = (*BAKE, *COARSE.get(name, ()))
    yield (baked := _run(name, "bake", [str(level), "--out", build, *how]))
    yield _run(name, "hunt", [str(level), "--while", "black>0.9", "--most-trials", "3", "--no-fixes", *how])
    if baked.status:
        return
    _run(name, "bake", [str(level), "--out", again, *how, "--set", "light.bounces=1"])
    yield _run(name, "meter", [build, SEEN_AT])
    yield _run(name, "account", [build, SEEN_AT])
    yield _run(name, "faults", [build, "--html", str(folder / "f.html"), "--csv", str(folder / "f.csv")])
    yield _run(name, "compare", [build, again, "--html", str(folder / "c.html")])
    yield _run(name, "ledger", [build])
    yield _run(name, "advise", [str(level), build])
    yield _run(name, "export", [build, "--out", str(folder / "out.zip"), "--despite", "any"])


def _run(name: str, command: str, arguments: list[str]) -> Run:
    began = time.monotonic()
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        os.dup2(writer, 1)
        os.dup2(writer, 2)
        status = 99
        try:
            sys.stdout, sys.stderr = (
                open(n, "w", encoding="utf-8", closefd=False)  # noqa: SIM115 - the process ends with them
                for n in (1, 2)
            )
            status = main([command, *arguments])
        except BaseException:  # noqa: BLE001 - the border of a process
            traceback.print_exc()
        finally:
            for stream in (sys.stdout, sys.stderr):
                stream.flush()
            os._exit(status)
    os.close(writer)
    with open(reader, encoding="utf-8", errors="backslashreplace") as heard:
        said = heard.read()
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    seconds = time.monotonic() - began
    return Run(command, status, seconds, said, _trouble(name, command, status, seconds, said))


def _trouble(name: str, command: str, status: int, seconds: float, said: str) -> str:
    if "Traceback" in said or "of this program" in said or "of its own" in said:
        return "a mistake of the program"
    if status not in CONTRACT:
        return f"status {status}"
    if seconds > MOST_SECONDS:
        return f"{seconds:.0f} s"
    if any(not (c == "\n" or c == " " or c.isprintable()) for c in said):
        return "raw control characters"
    wanted, words = SAID.get((name, command), (None, ""))
    if wanted is not None and status != wanted:
        return f"status {status}, not {wanted}"
    return "" if words in said else f"it does not say '{words}'"
