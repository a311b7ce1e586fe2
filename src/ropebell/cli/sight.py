"""`ropebell sight`: whether a level is sealed, and what can see what."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from ropebell.build.precheck import gather
from ropebell.build.recipe import with_setting
from ropebell.build.sighting import as_json, hidden_in_words, in_words, sight_of, unseen_of
from ropebell.build.store import Store
from ropebell.cli.commands import Color, project_of
from ropebell.cli.said import say
from ropebell.errors import UsageError
from ropebell.level.brief import Brief, Mark
from ropebell.level.model import Level
from ropebell.level.open import open_level
from ropebell.light.workers import cores
from ropebell.sight.sight import Sight
from ropebell.sight.survey import in_any_pose

# Stands for all poses of an object at once.
ANY = "*"
# Objects that cost most are told, so many.
MOST_COSTS = 10


def sight(
    target: Path, settings: Sequence[str], poses: Sequence[str], asked: Sequence[tuple[Color, Color]], in_json: bool,
    no_project: bool = False,
) -> int:  # fmt: skip
    """`ropebell sight`: 1 if the level leaks."""
    project = project_of(target, no_project)
    recipe = project.recipe
    for setting in settings:
        recipe = with_setting(recipe, setting)
    source = open_level(project.level)
    brief, free = _posed(project.brief, source, poses)
    subject = gather(source, brief, recipe, project.sky, project.tables).subject
    if free:
        subject = replace(subject, scene=in_any_pose(subject.scene, free))
    found, _ = sight_of(subject, recipe.sight.cell, recipe.limits.workers or cores(), Store(project.cache))
    sees = [found.sees(np.array(a), np.array(b)) for a, b in asked]
    if in_json:
        print(json.dumps({**as_json(found, subject.scene, subject.texels_per_metre), "sees": sees}))
    else:
        area, texels = unseen_of(found, subject.scene, subject.texels_per_metre)
        say(_lines(found, area, texels, sees))
    return 1 if found.leaks else 0


def _posed(brief: Brief, level: Level, poses: Sequence[str]) -> tuple[Brief, set[str]]:
    """A brief in which some objects stand in other poses, and those that may stand in any.

    Raises:
        UsageError: there is no such object or pose.
    """
    marks, free = dict(brief.marks), set[str]()
    names = {node.path for node in level.nodes}
    for text in poses:
        node, _, pose = text.partition("=")
        mark = marks.get(node, Mark())
        if node not in names:
            raise UsageError(f"the level has no '{node}'", "--pose", "Name an object by its path, as in NODE=POSE")
        if pose == ANY:
            free.add(node)
            continue
        if pose and pose not in mark.poses:
            known = ", ".join(mark.poses) or "none"
            raise UsageError(f"'{node}' has no pose '{pose}'", "--pose", f"Name one of its poses: {known}")
        marks[node] = replace(mark, pose=pose)
    return replace(brief, marks=marks), free


def _lines(found: Sight, area: float, texels: int, sees: Sequence[bool]) -> str:
    lines = [in_words(found)]
    if found.open:
        return lines[0]
    if not found.decided:
        lines.append("It is so large or so ragged that not every cranny could be looked into.")
    for leak in found.leaks:
        place = ", ".join(f"{v:.3f}" for v in leak.place)
        width = f"{leak.width:.2f} m" if leak.width >= 1 else f"{1e3 * leak.width:.3g} mm"
        length = float(np.linalg.norm(np.diff(leak.trail, axis=0), axis=1).sum())
        lines.append(
            f"  {width} wide at {place}, between {', '.join(leak.nodes[:4])}; {length:.1f} m from the start out"
        )
    lines.append(
        f"Cells from {found.size:.3g} m up, {found.pairs:,} pairs see each other; {found.rays:,} rays, "
        f"{found.seconds:.1f} s"
    )
    lines += [
        f"  {b.node} need not block sight: {b.triangles:,} triangles, hides {hidden_in_words(b.hides)} of all pairs"
        for b in found.blockers
    ]
    lines += [
        f"  {c.node} costs {c.seconds:.2g} s and {c.cells} cells; it {'closes the hull and ' if c.hull else ''}hides "
        f"{hidden_in_words(c.hides)}"
        for c in found.costs[:MOST_COSTS]
    ]
    lines.append(f"Nobody can see {area:.3g} m² of what is baked: {texels:,} texels")
    lines += [f"  pair {number + 1}: {'in sight' if one else 'hidden'}" for number, one in enumerate(sees)]
    return "\n".join(lines)
