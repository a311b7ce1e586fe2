"""A level cut down to a box: faces end where the box does, and what gives light from outside is not there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ropebell.level.box_cuts import cut_primitive
from ropebell.level.brief import Box, DensityBox
from ropebell.level.model import F64, Level, Mesh, Primitive
from ropebell.level.scene import Scene

# Of the box's size: faces that lie in one of its sides are inside.
ON_THE_SIDE = 1e-6


def cut_to_box(level: Level, box: Box) -> Level:
    """Only the faces inside a box.

    Args:
        level: as arranged. box: in its frame, metres.
    """
    cut = box.ordered()
    low, high = np.array(cut.low), np.array(cut.high)
    more = ON_THE_SIDE * float((high - low).max(initial=0.0))
    meshes, nodes = list(level.meshes), list(level.nodes)
    for index, node in enumerate(level.nodes):
        if node.mesh < 0:
            continue
        mesh = level.meshes[node.mesh]
        made = [_inside(p, node.world, cut, low - more, high + more) for p in mesh.primitives]
        if not any(len(p.triangles) for p in made):
            nodes[index] = replace(node, mesh=-1)
        elif any(new is not old for new, old in zip(made, mesh.primitives)):
            nodes[index] = replace(node, mesh=len(meshes))
            meshes.append(Mesh(mesh.name, tuple(made)))
    return replace(level, meshes=tuple(meshes), nodes=tuple(nodes))


def lit_from_inside(scene: Scene, box: Box) -> Scene:
    """Without lamps outside a box, and without suns, which shine in from outside."""
    cut = box.ordered()
    low, high = np.array(cut.low), np.array(cut.high)
    inside = [x for x in scene.lights if x.kind != "directional" and ((x.position >= low) & (x.position <= high)).all()]
    return replace(scene, lights=tuple(inside))


def _inside(primitive: Primitive, world: F64, box: Box, low: F64, high: F64) -> Primitive:
    made = cut_primitive(primitive, world, (DensityBox(box.low, box.high),))
    placed = made.positions.astype(np.float64) @ world[:3, :3].T + world[:3, 3]
    middles = placed[made.triangles].mean(axis=1)
    kept = ((middles >= low) & (middles <= high)).all(axis=1)
    return made if kept.all() else replace(made, triangles=made.triangles[kept])
