"""Guards: an object, or the level, on which nothing may be changed until the guard is taken off."""

from __future__ import annotations

from dataclasses import replace

from ropebell.level.brief import NO_MARK, Brief
from ropebell.level.model import Level

REMEDY = "Take the guard off first"


def refusal(level: Level, before: Brief, after: Brief) -> str:
    """Why a change is not allowed, empty if it is.

    A change that only sets or clears guards, or notes what is known, is always allowed.
    """
    if before.guard and replace(after, guard=True, known=before.known) != before:
        return f"The level is guarded: nothing may be changed. {REMEDY}."
    guarded = _guarded(level, before)
    if not guarded:
        return ""
    alone, below = _touched(before, after)
    hit = alone & guarded | {g for g in guarded if any(g == b or g.startswith(f"{b}/") for b in below)}
    return f"'{min(hit)}' is guarded: nothing may be changed on it. {REMEDY}." if hit else ""


def _guarded(level: Level, brief: Brief) -> set[str]:
    """Paths whose own mark, or whose branch, is guarded. A branch guards all below it."""
    alone = {p for p, mark in brief.marks.items() if mark.guard}
    below = {p for p, mark in brief.branches.items() if mark.guard}
    freed = {p for p, mark in brief.marks.items() if mark.guard is False}
    names = [node.path for node in level.nodes]
    return alone | {n for n in names if n not in freed and any(n == b or n.startswith(f"{b}/") for b in below)}


def _touched(before: Brief, after: Brief) -> tuple[set[str], set[str]]:
    """Nodes and branches about which the two briefs say something else, guards aside."""
    touched: dict[str, set[str]] = {"marks": set(), "branches": set()}
    for key, found in touched.items():
        a, b = getattr(before, key), getattr(after, key)
        for path in a.keys() | b.keys():
            old, new = (replace(t.get(path, NO_MARK), guard=None) for t in (a, b))
            if old != new:
                found.add(path)
    alone = touched["marks"] | (before.test_density.paths ^ after.test_density.paths)
    for key in ("lights", "moves", "left_out"):
        a, b = getattr(before, key), getattr(after, key)
        alone |= {path for path in a.keys() | b.keys() if a.get(path) != b.get(path)}
    return alone, touched["branches"]
