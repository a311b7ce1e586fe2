"""Sky boxes: shells far round a level that are there to be looked at, and close nothing off."""

from __future__ import annotations

import numpy as np

from ropebell.level.model import Level
from ropebell.level.scene import Scene

# So much of a shell looks inward; it may stand in by this share of the level's size.
INWARD, WITHIN = 0.95, 1e-3


def sky_boxes(level: Level, scene: Scene) -> tuple[int, ...]:
    """Nodes that are one: they hold all else, look inward, and are drawn in their own light, by which they differ from
    a room that is lit.

    As they stand they count as a lid: nothing leaks through them. What does not block sight (`blocks_sight = false`)
    lets one see out, so that the level has to be sealed by its own walls.
    """
    if not len(scene):
        return ()
    own_light = np.array([m.unlit or max(m.emission) > 0 for m in level.materials] + [False])
    lows, highs = scene.corners.min(axis=1), scene.corners.max(axis=1)
    lowest, highest = lows.min(axis=0), highs.max(axis=0)
    slack = WITHIN * float((highest - lowest).max())
    found = []
    for node, first, end in scene.node_ranges():
        mine = slice(first, end)
        if not own_light[scene.material[mine]].all() or end - first == len(scene):
            continue
        low, high = lows[mine].min(axis=0), highs[mine].max(axis=0)
        if (lowest < low - slack).any() or (highest > high + slack).any():
            continue
        rest = np.ones(len(scene), np.bool_)
        rest[mine] = False
        middle = (lows[rest].min(axis=0) + highs[rest].max(axis=0)) / 2
        toward = middle - scene.corners[mine].mean(axis=1)
        inward = np.einsum("tk,tk->t", toward, scene.face_normals[mine].astype(np.float64)) > 0
        areas = scene.areas[mine]
        if float(areas[inward].sum()) >= INWARD * float(areas.sum()):
            found.append(node)
    return tuple(found)
