"""Faces cut along density boxes, so that only what lies inside a box gets its density.

A face that a box cuts is divided along the planes of the box into pieces that lie wholly inside or outside: the convex
clipping of I. Sutherland and G. Hodgman, "Reentrant polygon clipping", CACM 17 (1974), with both sides kept.
Normals and coordinates are carried along the edges. The result is a level like any other.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ropebell.level.brief import Box, DensityBox
from ropebell.level.model import F64, I32, Level, Mesh, Primitive

# Pieces thinner than this share of the box's size are not cut off: they would be slivers.
SLIVER = 1e-6
Corner = tuple[float, ...]


def cut_along_boxes(level: Level, boxes: tuple[DensityBox, ...]) -> Level:
    """A level whose faces end where density boxes do; the same one where no box cuts a face.

    Args:
        level: as arranged. boxes: in its frame, metres.
    """
    meshes, nodes = list(level.meshes), list(level.nodes)
    for index, node in enumerate(level.nodes):
        if node.mesh < 0:
            continue
        mesh = level.meshes[node.mesh]
        made = tuple(cut_primitive(primitive, node.world, boxes) for primitive in mesh.primitives)
        if any(new is not old for new, old in zip(made, mesh.primitives)):
            nodes[index] = replace(node, mesh=len(meshes))
            meshes.append(Mesh(mesh.name, made))
    return level if len(meshes) == len(level.meshes) else replace(level, meshes=tuple(meshes), nodes=tuple(nodes))


def cut_primitive(primitive: Primitive, world: F64, boxes: tuple[DensityBox, ...]) -> Primitive:
    """A primitive with the faces that boxes cut divided; itself where none is."""
    layers = [primitive.positions, primitive.normals, primitive.uv0, primitive.uv1]
    widths = [0 if layer is None else layer.shape[1] for layer in layers]
    table = np.concatenate([layer.astype(np.float64) for layer in layers if layer is not None], axis=1)
    placed = table[:, :3] @ world[:3, :3].T + world[:3, 3]
    corners = [*map(tuple, np.concatenate([placed, table], axis=1).tolist())]
    faces: list[tuple[Corner, ...]] = []
    whole = np.ones(len(primitive.triangles), np.bool_)
    for box in boxes:
        whole &= ~_crossed(placed[primitive.triangles], box)
    if whole.all():
        return primitive
    for a, b, c in primitive.triangles[~whole].tolist():
        pieces: list[tuple[Corner, ...]] = [(corners[a], corners[b], corners[c])]
        for box in boxes:
            pieces = [part for piece in pieces for part in _divided(piece, box)]
        faces += [(piece[0], piece[i], piece[i + 1]) for piece in pieces for i in range(1, len(piece) - 1)]
    fresh = np.array(faces).reshape(-1, 3 + table.shape[1])[:, 3:]
    triangles: I32 = np.concatenate(
        [primitive.triangles[whole], len(table) + np.arange(len(fresh), dtype=np.int32).reshape(-1, 3)]
    )
    ends = np.cumsum(widths)
    joined = np.concatenate([table, fresh])
    split = [joined[:, end - width : end].astype(np.float32) if width else None for width, end in zip(widths, ends)]
    positions, normals, uv0, uv1 = split
    assert positions is not None
    return replace(primitive, positions=positions, triangles=triangles, normals=normals, uv0=uv0, uv1=uv1)


def _crossed(corners: F64, box: DensityBox) -> np.ndarray:
    """(T,) which triangles may be cut by a box: they reach into it and out of it."""
    b = Box(box.low, box.high).ordered()
    low, high = np.array(b.low), np.array(b.high)
    slack = SLIVER * float((high - low).max())
    least, most = corners.min(axis=1), corners.max(axis=1)
    reaches = ((most > low + slack) & (least < high - slack)).all(axis=1)
    flat = ((most >= low - slack) & (least <= high + slack)).all(axis=1)
    inside = ((least >= low - slack) & (most <= high + slack)).all(axis=1)
    found: np.ndarray = (reaches | flat) & ~inside
    return found


def _divided(polygon: tuple[Corner, ...], box: DensityBox) -> list[tuple[Corner, ...]]:
    """Convex pieces of a polygon, each wholly inside or outside a box; its first three numbers are the place."""
    b = Box(box.low, box.high).ordered()
    slack = SLIVER * max(high - low for low, high in zip(b.low, b.high))
    outside: list[tuple[Corner, ...]] = []
    rest = polygon
    for axis in range(3):
        for bound, sign in ((b.low[axis], 1.0), (b.high[axis], -1.0)):
            beyond, rest = _halves(rest, axis, bound, sign, slack)
            if len(rest) < 3:
                return [polygon]  # it does not reach in after all
            if len(beyond) >= 3:
                outside.append(beyond)
    return [*outside, rest] if outside else [polygon]


def _halves(
    polygon: tuple[Corner, ...], axis: int, bound: float, sign: float, slack: float
) -> tuple[tuple[Corner, ...], tuple[Corner, ...]]:
    """What of a polygon lies outside and inside of one plane."""
    far = [sign * (corner[axis] - bound) for corner in polygon]
    if min(far) >= -slack:
        return (), polygon
    if max(far) <= slack:
        return polygon, ()
    out: list[Corner] = []
    kept: list[Corner] = []
    for i, corner in enumerate(polygon):
        after, here, there = polygon[(i + 1) % len(polygon)], far[i], far[(i + 1) % len(polygon)]
        if here <= slack:
            out.append(corner)
        if here >= -slack:
            kept.append(corner)
        if (here < -slack and there > slack) or (here > slack and there < -slack):
            share = here / (here - there)
            # From the same end whichever face it is of, so that neighbours meet in the same point.
            one, other, at = (corner, after, share) if corner < after else (after, corner, 1.0 - share)
            crossing = tuple(p + at * (q - p) for p, q in zip(one, other))
            crossing = (*crossing[:axis], bound, *crossing[axis + 1 :])
            out.append(crossing)
            kept.append(crossing)
    return tuple(out), tuple(kept)
