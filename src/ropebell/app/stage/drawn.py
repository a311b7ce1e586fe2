"""Levels and light as the stage draws them: made on any thread, without GL."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ropebell.level.connected import connected
from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

Half = NDArray[np.float16]
# Places on a page that are told apart.
PER_TEXEL = 64


@dataclass(frozen=True, eq=False)
class Charted:
    """Where the scene's triangles lie on lightmap pages.

    Attributes:
        uv: (T, 3, 2) float32 in texels; page: (T,) int32, −1 for triangles without a place; side: texels.
    """

    uv: F32
    page: I32
    side: int

    @cached_property
    def chart(self) -> I32:
        """(T,) int32 number of each triangle's chart, −1 without a place: what shares corners on a page is one."""
        found = np.full(len(self.page), -1, np.int32)
        rows = np.flatnonzero(self.page >= 0)
        if not len(rows):
            return found
        cell = np.round(self.uv[rows].astype(np.float64) * PER_TEXEL).astype(np.int64)
        key = ((self.page[rows, None].astype(np.int64) << 44) + (cell[..., 0] << 22) + cell[..., 1]).ravel()
        order = np.argsort(key, kind="stable")
        same = key[order[1:]] == key[order[:-1]]
        found[rows] = connected(len(rows), order[1:][same] // 3, order[:-1][same] // 3)
        return found


@dataclass(frozen=True)
class Batch:
    """A run of triangles of one material and sidedness."""

    material: int
    first: int
    count: int
    two_sided: bool = False


@dataclass(frozen=True, eq=False)
class Vertices:
    """Triangles as the stage draws them.

    Attributes:
        table: (T, 3, 14) float32 position, normal, picture uv, light uv and page, node, density against what is right,
            chart.
        batches: runs of one material.
    """

    table: F32
    batches: list[Batch]


def charted_on(scene: Scene, charted: Charted) -> Charted:
    """Charts of what takes part in a build as charts of all that is placed."""
    if len(charted.page) == len(scene):
        return charted
    uv = np.zeros((len(scene), 3, 2), np.float32)
    page = np.full(len(scene), -1, np.int32)
    uv[scene.part], page[scene.part] = charted.uv, charted.page
    return Charted(uv, page, charted.side)


def to_half(pages: F32) -> Half:
    """(P, H, W, 3) lux as half floats, as the stage draws them."""
    return np.minimum(pages, 65000.0).astype(np.float16)


def vertex_table(scene: Scene, space: RaySpace, charted: Charted | None, density: F64 | None = None) -> Vertices:
    """The triangles as the stage draws them, those of one material and sidedness together.

    Args:
        density: (T,) density over what is right for the distance; infinite for never seen; None: right everywhere.
    """
    kind = 2 * scene.material.astype(np.int64) + scene.double_sided
    order = np.argsort(kind, kind="stable")
    batches = []
    if len(scene):
        kinds, first = np.unique(kind[order], return_index=True)
        ends = np.append(first[1:], len(order))
        batches = [Batch(int(k) // 2, int(a), int(b - a), bool(k % 2)) for k, a, b in zip(kinds, first, ends)]
    table = _table(scene, space, charted)
    table[:, :, 12] = 1.0 if density is None else np.minimum(density, 1e9)[:, None]
    return Vertices(np.ascontiguousarray(table[order]), batches)


def _table(scene: Scene, space: RaySpace, charted: Charted | None) -> F32:
    """(T, 3, 14) float32: see `Vertices`; the column of the density is left to the caller."""
    table = np.zeros((len(scene), 3, 14), np.float32)
    table[:, :, 0:3] = space.vertices
    table[:, :, 3:6] = scene.normals
    table[:, :, 6:8] = np.nan_to_num(scene.uv0)
    if charted is not None:
        table[:, :, 8:10] = charted.uv
        table[:, :, 10] = charted.page[:, None]
        table[:, :, 13] = charted.chart[:, None]
    table[:, :, 11] = scene.node[:, None]
    return table


def crease_edges(scene: Scene, node: int, centre: F64) -> F32:
    """(n, 3) float32 end points of the lines that show a node's shape: borders and creases, not the diagonals
    of flat faces."""
    rows = np.flatnonzero(scene.node == node)
    if not len(rows) or len(rows) > 60_000:
        return np.zeros((0, 3), np.float32)
    corners = scene.corners[rows] - centre
    size = max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-9)
    _, vertex = np.unique(
        np.round(corners.reshape(-1, 3) / (size * 1e-6)).astype(np.int64), axis=0, return_inverse=True
    )
    vertex = vertex.reshape(-1, 3)
    ends = np.stack([vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()], axis=1)
    ends.sort(axis=1)
    points = np.stack([corners.reshape(-1, 3), np.roll(corners, -1, axis=1).reshape(-1, 3)], axis=1)
    faces = np.repeat(scene.face_normals[rows], 3, axis=0)
    _, first, edge = np.unique(ends, axis=0, return_index=True, return_inverse=True)
    edge = edge.ravel()
    agree = np.ones(len(first))
    np.minimum.at(agree, edge, np.einsum("ij,ij->i", faces, faces[first][edge]))
    alone = np.bincount(edge) == 1
    found: F32 = points[first[alone | (agree < 0.93)]].reshape(-1, 3).astype(np.float32)
    return found
