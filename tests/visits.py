"""Runs every command on odd levels, and judges how each ended.

`SAID` holds words that a command must print about some of them; where it says nothing, an exit status of the contract
and no traceback are all that is asked for.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from odd_levels import ZOO
from ropebell.cli.main import main

# Commands are forked from a process that has imported much and begun no thread: a child of one that has may wait for
# ever for a lock that a thread held which is not there any more.
CLEAN = multiprocessing.get_context("forkserver")
CLEAN.set_forkserver_preload(
    ["ropebell.cli.main", "ropebell.checks.run", "ropebell.sight.survey", "ropebell.build.worker", "ropebell.hunt.hunt"]
)
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
    """Every command on one level, each in a process of its own."""
    home = folder / "level"
    home.mkdir()
    level = ZOO[name](home)
    run = partial(_run, name, cache=folder / "cache")
    for command in QUICK:
        yield run(command, [str(level)])
    if not builds:
        return
    build, again = str(folder / "build"), str(folder / "again")
    how = (*BAKE, *COARSE.get(name, ()))
    yield (baked := run("bake", [str(level), "--out", build, *how]))
    yield run("hunt", [str(level), "--while", "black>0.9", "--most-trials", "3", "--no-fixes", *how])
    if baked.status:
        return
    run("bake", [str(level), "--out", again, *how, "--set", "light.bounces=1"])
    yield run("meter", [build, SEEN_AT])
    yield run("account", [build, SEEN_AT])
    yield run("faults", [build, "--html", str(folder / "f.html"), "--csv", str(folder / "f.csv")])
    yield run("compare", [build, again, "--html", str(folder / "c.html")])
    yield run("expect", [build, "--save", str(folder / "expected.json")])
    yield run("expect", [build, "--against", str(folder / "expected.json")])
    yield run("ledger", [build])
    yield run("advise", [str(level), build])
    yield run("export", [build, "--out", str(folder / "out.zip"), "--despite", "any"])


def _run(name: str, command: str, arguments: list[str], cache: Path) -> Run:
    began, heard = time.monotonic(), cache.with_name("said")
    child = CLEAN.Process(target=_child, args=([command, *arguments], heard, cache))
    child.start()
    child.join(4 * MOST_SECONDS)
    if child.exitcode is None:
        child.kill()
        child.join()
    seconds, status = time.monotonic() - began, child.exitcode or 0
    said = heard.read_text(encoding="utf-8", errors="backslashreplace")
    return Run(command, status, seconds, said, _trouble(name, command, status, seconds, said))


def _child(line: list[str], heard: Path, cache: Path) -> None:
    os.environ["XDG_CACHE_HOME"] = str(cache)
    with open(heard, "wb") as file:
        os.dup2(file.fileno(), 1)
        os.dup2(file.fileno(), 2)
    status = main(line)
    sys.stdout.flush()
    sys.exit(status)


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
