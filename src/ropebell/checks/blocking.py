"""Checks of what blocks sight: by who sees whom where that is known, else by rays and shapes alone."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ropebell.checks.before import BEFORE, MARKS, SHAPES, SIGHT
from ropebell.checks.remedies import BLOCK_SIGHT, LIGHTMAPS_BACK, PASS_SIGHT
from ropebell.checks.subject import Subject
from ropebell.level.arrange import marks_in_force
from ropebell.level.brief import Brief, Mark
from ropebell.level.finding import Finding
from ropebell.level.left_out import left_out_faces
from ropebell.level.model import Mask
from ropebell.sight.survey import crossed

# An object of so many triangles, all so small, costs the sight stage more than it hides.
COSTLY_TRIANGLES = 2000
COSTLY_SHARE = 0.08
COSTLY_EDGE = 0.003


@BEFORE.detector({"costly-blocker": "Costly sight blocker"}, SHAPES, MARKS, SIGHT, version=2)
def costly_blockers(s: Subject) -> Iterator[Finding]:
    """Objects of very many small faces that count as sight blockers, and hide next to nothing where that is known."""
    scene, sight = s.baking, s.sight
    counts = np.bincount(scene.node, minlength=len(scene.node_names))
    total = max(len(scene), 1)
    spared = {b.node: b for b in sight.blockers} if sight is not None else {}
    for node in np.flatnonzero((counts > COSTLY_TRIANGLES) & (counts > COSTLY_SHARE * total)):
        name = scene.node_names[node]
        known = spared.get(name)
        edge = math.sqrt(float(scene.areas[scene.node == node].mean()))
        if scene.marks.nodes[node].blocks_sight is False or (known is None and edge > COSTLY_EDGE * s.extent):
            continue
        closes = bool(s.hull[node])
        if sight is not None and known is None and not closes:
            continue  # it hides something
        told = "they will take most of the visibility stage and hide little"
        if known is not None:
            told = f"they hide {100 * known.hides:.2g} % of all pairs of cells and take {known.seconds:.2g} s"
        share = 100 * counts[node] / total
        reason = f"{counts[node]:,} small faces ({share:.0f} % of the level) count as a sight blocker; {told}."
        fix = PASS_SIGHT.of(name)
        remedy = "Let it not block sight"
        if closes:
            reason += " It is a piece of the outer hull, which something has to close."
            remedy, fix = "Put a plain wall behind it first; then it need not block sight", ()
        yield Finding("costly-blocker", "warning", name, reason, remedy, s.centre(int(node)), fix)


@BEFORE.detector({"hull-opened": "Outer hull opened"}, SHAPES, MARKS, SIGHT, version=2)
def opened_hull(s: Subject) -> Iterator[Finding]:
    """Pieces of the outer hull that do not block sight: visibility cannot be worked out for a level that leaks."""
    opened = np.array([mark.blocks_sight is False for mark in s.scene.marks.nodes])
    by_rays = np.flatnonzero(opened & s.hull_by_rays[: len(opened)]) if s.sight is None else ()
    for node in by_rays if s.sight is None else _pieces_on_ways_out(s, opened):
        name = s.baking.node_names[node]
        reason = "It is a piece of the outer hull, but does not block sight: the visibility stage leaks through it."
        fix = BLOCK_SIGHT.of(name)
        yield Finding("hull-opened", "error", name, reason, "Let it block sight", s.centre(int(node)), fix)


def _pieces_on_ways_out(s: Subject, opened: Mask) -> list[int]:
    """Of objects that sight goes through, those that a way out goes through; where it goes through several, those of
    them that close a room off from the open, as far as rays can tell.

    Args:
        opened: (nodes,).
    """
    assert s.sight is not None
    rows = np.flatnonzero(opened[s.scene.node])
    found = dict[int, None]()
    for leak in s.sight.leaks:
        through = list(dict.fromkeys(node for node, _ in crossed(s.scene, rows, leak.trail)))
        outer = [node for node in through if s.hull_by_rays[node]] if len(through) > 1 else through
        found |= dict.fromkeys(outer or through)
    return list(found)


def hull_refusal(s: Subject, after: Brief) -> str:
    """Why marks may not become as in `after`: a piece of the hull would stop blocking sight; empty if none would."""
    before = s.brief
    tables = ((before.marks, after.marks), (before.branches, after.branches))
    if all(_sight(a) == _sight(b) for a, b in tables):
        return ""
    then = marks_in_force(s.level, after).nodes
    for node in np.flatnonzero(s.hull):
        if then[node].blocks_sight is False and s.scene.marks.nodes[node].blocks_sight is not False:
            name = s.baking.node_names[node]
            return f"'{name}' is a piece of the outer hull: without it the level leaks. Close the hull behind it first."
    return ""


def _sight(marks: dict[str, Mark]) -> dict[str, bool]:
    return {path: mark.blocks_sight for path, mark in marks.items() if mark.blocks_sight is not None}


@BEFORE.detector({"seen-left-out": "Left out though it is seen"}, SHAPES, MARKS, SIGHT)
def seen_left_out(s: Subject) -> Iterator[Finding]:
    """Objects of which faces were left out of the lightmaps when nobody could see them, and somebody can now."""
    if s.sight is None or not s.brief.left_out:
        return
    scene = s.scene
    seen = left_out_faces(scene, s.brief) & ~s.sight.unseen
    for node in np.unique(scene.node[seen]):
        name = scene.node_names[node]
        count = int((seen & (scene.node == node)).sum())
        faces = f"{count} of its faces have" if count > 1 else "One of its faces has"
        reason = f"{faces} no lightmap, as nobody could see that, and can be seen by now: it will be black."
        place = s.centre(int(node))
        yield Finding(
            "seen-left-out", "warning", name, reason, "Give it its lightmap back", place, LIGHTMAPS_BACK.of(name)
        )
