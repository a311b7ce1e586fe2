"""How finely each face is to be divided, as factors on the level's texels per metre."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.level.arrange import Marks
from ropebell.level.brief import Box, Brief, DensityBox
from ropebell.level.left_out import left_out_faces
from ropebell.level.model import F32, F64, Level
from ropebell.level.scene import Scene
from ropebell.level.triangles import corner_bounds

# Density of surfaces without a lightmap, relative to what they would have with one.
BARE_SHARE = 0.25


def density_factors(scene: Scene, level: Level, brief: Brief, marks: Marks) -> F32:
    """(T,) float32: object's factor × bias of its material × the finest density box it lies in, divided
    outside the play region; objects at test density have that factor alone. What gets no lightmap has a share of it."""
    count = len(scene)
    if not count:
        return np.zeros(0, np.float32)
    of_node = np.array([m.density or 1.0 for m in marks.nodes] + [1.0] * (len(scene.node_names) - len(marks.nodes)))
    factor = of_node[scene.node]
    _apply_bias(factor, scene, level, marks)
    if brief.density_boxes or brief.region.boxes:
        low, high = corner_bounds(scene.corners)
        factor *= box_factors(scene.corners.mean(axis=1), brief.density_boxes)
        if brief.region.boxes:
            factor[~objects_inside(scene, low, high, brief.region.boxes)] /= brief.region.outside
    if brief.test_density.paths:
        tested = np.array([name in brief.test_density.paths for name in scene.node_names], dtype=bool)
        factor[tested[scene.node]] = brief.test_density.factor
    # What gets no lightmap only needs to know roughly how bright it is.
    factor[bare_faces(scene, brief, marks)] *= BARE_SHARE
    return factor.astype(np.float32)


def bare_faces(scene: Scene, brief: Brief, marks: Marks) -> NDArray[np.bool_]:
    """(T,) faces that block and bounce light but get no lightmap: of objects marked so, those that are left out, and of
    unlit materials, which are drawn in their own colour whatever the light."""
    more = len(scene.node_names) - len(marks.nodes)
    marked = np.array([m.role == "blocks" for m in marks.nodes] + [False] * (more + 1), dtype=np.bool_)
    unlit = np.array([m.unlit for m in scene.materials] + [False], dtype=np.bool_)
    return marked[scene.node] | unlit[scene.material] | left_out_faces(scene, brief)


def _apply_bias(factor: F64, scene: Scene, level: Level, marks: Marks) -> None:
    numbers = {m.name: i for i, m in enumerate(level.materials)}
    for index, mark in enumerate(marks.nodes):
        for material, value in mark.bias.items():
            if material in numbers:
                factor[(scene.node == index) & (scene.material == numbers[material])] *= value


def box_factors(middle: F64, boxes: tuple[DensityBox, ...]) -> F64:
    """(T,) largest factor of the boxes that each face lies in, 1 where none; faces are cut along boxes, so its middle
    tells."""
    found = np.full(len(middle), -np.inf)
    for box in boxes:
        inside = reaches_into(middle, middle, Box(box.low, box.high))
        found[inside] = np.maximum(found[inside], box.factor)
    return np.where(np.isfinite(found), found, 1.0)


def ray_shares(scene: Scene, brief: Brief) -> F32:
    """(T,) float32 share of the gather rays: all inside the play region, one in `outside` for objects outside it."""
    shares = np.ones(len(scene), np.float32)
    if brief.region.boxes and len(scene):
        low, high = corner_bounds(scene.corners)
        shares[~objects_inside(scene, low, high, brief.region.boxes)] = 1.0 / brief.region.outside
    return shares


def reaches_into(low: F64, high: F64, box: Box) -> NDArray[np.bool_]:
    """(n,) whether boxes from `low` to `high`, each (n, 3), touch a box."""
    b = box.ordered()
    inside: NDArray[np.bool_] = np.all((high >= np.array(b.low)) & (low <= np.array(b.high)), axis=1)
    return inside


def objects_inside(scene: Scene, low: F64, high: F64, boxes: tuple[Box, ...]) -> NDArray[np.bool_]:
    """(T,) whether any face of the triangle's object reaches into one of the boxes.

    Args:
        low, high: (T, 3) bounds of the triangles.
    """
    hit = np.zeros(len(low), np.bool_)
    for box in boxes:
        hit |= reaches_into(low, high, box)
    nodes = np.zeros(len(scene.node_names), np.bool_)
    nodes[scene.node[hit]] = True
    return nodes[scene.node]
