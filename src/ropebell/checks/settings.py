"""Checks of what was decided, or not: density, play region, poses, temporary things."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.before import BEFORE, MARKS, SHAPES
from ropebell.checks.remedies import CLEAR_BIAS, LEAVE_OUT, LEVEL_DENSITY, OWN_DENSITY, USUAL_POSE
from ropebell.checks.subject import Subject, listed, short
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64
from ropebell.sight.viewing import NEAR, view_distances

# An object finer than the level by this factor, and than its distance asks for by as much, wastes its texels.
TOO_FINE = 3.0
MOST_FACES = 8000


@BEFORE.detector({"test-density": "Test density", "density-bias": "Density bias"}, SHAPES, MARKS)
def density(s: Subject) -> Iterator[Finding]:
    """Objects left at test density, forgotten biases, density where nobody comes near."""
    scene, brief = s.baking, s.brief
    tested = [name for name in scene.node_names if name in brief.test_density.paths]
    if tested:
        reason = f"{len(tested)} objects are still at test density: {listed([short(t) for t in tested])}."
        yield Finding(
            "test-density", "warning", "", reason, "Take all back to their own density", None, OWN_DENSITY.of()
        )
    for index, mark in enumerate(scene.marks.nodes):
        changed = {m: v for m, v in mark.bias.items() if v != 1.0}
        if changed and np.isfinite(s.node_bounds[0][index]).all():
            name = s.level.nodes[index].path
            what = listed([f"×{v:g} on '{m}'" for m, v in changed.items()])
            reason = f"Its faces have a density bias of their own: {what}."
            fix = CLEAR_BIAS.of(name)
            yield Finding("density-bias", "warning", name, reason, "Clear it if nobody needs it", s.centre(index), fix)


@BEFORE.detector({"no-region": "No play region", "too-fine": "Too fine for its distance"}, SHAPES, MARKS)
def region_and_distance(s: Subject) -> Iterator[Finding]:
    """No play region, with what it costs; and density spent where players never come near."""
    scene = s.baking
    floors = s.floors
    if not len(scene):
        return
    if floors is None:
        if not s.brief.region.boxes:
            reason = "There is no play region and no start point, so all surfaces get the same effort."
            yield Finding("no-region", "note", "", reason, "Set a start point, then let a region be proposed")
        return
    texels = scene.areas * scene.factor.astype(np.float64) ** 2
    rows = _telling_faces(texels, scene.factor)
    some = scene.faces(rows)
    distance = view_distances(some, s.space, floors.eyes)
    unseen = ~np.isfinite(distance)
    if not s.brief.region.boxes and len(floors.floors):
        share = float(texels[rows][unseen].sum() / max(texels[rows].sum(), 1e-300))
        reason = f"There is no play region; {100 * share:.0f} % of the texels go to faces that players never see."
        yield Finding("no-region", "warning", "", reason, "Let a region be proposed on the Level step")
    count = len(scene.node_names)
    weight = np.bincount(scene.node, texels, count)
    factor = np.sqrt(weight / np.maximum(np.bincount(scene.node, scene.areas, count), 1e-300))
    nearest = np.full(count, np.inf)
    np.minimum.at(nearest, some.node, distance)
    wanted = np.minimum(1.0, NEAR / np.maximum(nearest, NEAR))
    for node in np.flatnonzero((factor >= TOO_FINE) & (factor >= TOO_FINE * wanted) & (nearest > NEAR)):
        name, near = scene.node_names[node], nearest[node]
        seen = (
            f"nobody comes nearer than {near:.1f} m" if np.isfinite(near) else "nobody walking from the start sees it"
        )
        share = 100 * weight[node] / max(texels.sum(), 1e-300)
        reason = (
            f"It is {factor[node]:.2g} times as fine as the level and takes {share:.0f} % of all texels, but {seen}."
        )
        fix = LEVEL_DENSITY.of(name)
        yield Finding("too-fine", "warning", name, reason, "Give it the level's density", s.centre(int(node)), fix)


def _telling_faces(texels: F64, factor: F32) -> NDArray[np.int64]:
    """Faces that most texels go to, and the largest of those finer than the level; enough to judge by."""
    most = np.argsort(-texels)[:MOST_FACES]
    fine = np.flatnonzero(factor >= TOO_FINE)
    return np.union1d(most, fine[np.argsort(-texels[fine])[:MOST_FACES]])


@BEFORE.detector(
    {
        "pose": "Pose",
        "unusual-pose": "Unusual pose",
        "removable-shadow": "Shadow may stay behind",
        "work-object": "Work object",
    },
    SHAPES,
    MARKS,
)
def poses_and_props(s: Subject) -> Iterator[Finding]:
    """Things baked in a pose that players seldom see, that may be taken away, or that are only for work."""
    for index, mark in enumerate(s.scene.marks.nodes):
        if not np.isfinite(s.node_bounds[0][index]).all():
            continue
        name, place = s.level.nodes[index].path, s.centre(index)
        if mark.poses:
            now = mark.pose or "as in the level"
            if mark.usual is not None and mark.usual != (mark.pose or ""):
                reason = f"It is baked {now}, but players mostly see it {mark.usual}: its light will be wrong then."
                fix = USUAL_POSE.of(name, mark.usual)
                yield Finding("unusual-pose", "warning", name, reason, "Bake the usual pose", place, fix)
            else:
                reason = f"It is baked {now}; it can also be {listed([p for p in mark.poses if p != mark.pose])}."
                yield Finding("pose", "note", name, reason, "Nothing, if this is the one to bake", place)
        if mark.removable and mark.casts:
            reason = "It may be taken away later, but its shadow will be baked into what is round it."
            yield Finding(
                "removable-shadow", "warning", name, reason, "Let it block no light, or leave it out", place,
                LEAVE_OUT.of(name),
            )  # fmt: skip
        if mark.work:
            reason = "It is marked as a work object and would go into the build."
            fix = LEAVE_OUT.of(name)
            yield Finding("work-object", "warning", name, reason, "Leave it out before a hand-over", place, fix)
