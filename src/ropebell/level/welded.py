"""Triangles welded into surfaces: which vertices are one, which pieces hang together, which of them are closed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.connected import connected
from ropebell.level.model import F64, I32
from ropebell.level.scene import Scene
from ropebell.level.triangles import bounds_by

# Corners of one object closer than this share of its size are one vertex.
WELD = 1e-5
MIX = np.array([0x1B873593CC9E2D51, 0x2545F4914F6CDD1D, 0x369DEA0F31A53F85, 0x5851F42D4C957F2D], np.int64)


@dataclass(frozen=True, eq=False)
class Welded:
    """A scene's triangles as connected pieces, K of them; no piece spans two objects.

    Attributes:
        vertex: (T, 3) int64 number of each corner's vertex.
        piece: (T,) int32.
        closed: (K,) bool, every edge is shared by two faces wound alike.
        volume: (K,) float64 signed m³, positive when faces look outward; only true of closed pieces.
        area: (K,) float64 m².
        node: (K,) int32.
        low, high: (K, 3) bounds.
        borders: (T, 3) bool, whether the edge from corner i to i + 1 has no partner.
        edge: (T, 3) number of that edge, 0 … E − 1. edge_place: (E,) one place of each edge in the flattened `edge`.
    """

    vertex: NDArray[np.int64]
    piece: I32
    closed: NDArray[np.bool_]
    volume: F64
    area: F64
    node: I32
    low: F64
    high: F64
    borders: NDArray[np.bool_]
    edge: NDArray[np.int64]
    edge_place: NDArray[np.int64]

    @staticmethod
    def of(scene: Scene, sizes: F64) -> Welded:
        """Weld a scene.

        Args:
            sizes: (nodes,) extent of each object in metres.
        """
        vertex = _vertices(scene, sizes)
        piece = _pieces(vertex)
        count = int(piece.max()) + 1 if len(piece) else 0
        edge, edge_place = _edges(vertex)
        borders = _borders(vertex, edge)
        open_edges = np.bincount(piece, borders.sum(axis=1), count) if count else np.zeros(0)
        first = np.full(count, len(piece), np.int64)
        np.minimum.at(first, piece, np.arange(len(piece)))
        node = scene.node[first] if count else np.zeros(0, np.int32)
        low, high = bounds_by(scene.corners, piece, count)
        # About the piece's own corner, or far pieces lose their volume to rounding.
        local = scene.corners - low[piece][:, None, :]
        six = np.einsum("ij,ij->i", local[:, 0], np.cross(local[:, 1], local[:, 2]))
        return Welded(
            vertex, piece, open_edges == 0, totals(piece, six / 6, count), totals(piece, scene.areas, count),
            node, low, high, borders, edge, edge_place,
        )  # fmt: skip


def totals(owner: NDArray[Any], values: F64, count: int) -> F64:
    """(count,) sum of values by owner."""
    summed: F64 = np.bincount(owner, values, count).astype(np.float64)
    return summed


def _vertices(scene: Scene, sizes: F64) -> NDArray[np.int64]:
    step = np.maximum(sizes[scene.node], 1e-9) * WELD
    cell = np.round(scene.corners / step[:, None, None]).astype(np.int64)
    # One number a corner: a sum of products with large odd numbers, modulo 2⁶⁴, in which a clash needs a whole-number
    # relation between them that no level's coordinates will have.
    with np.errstate(over="ignore"):
        key = (cell * MIX[:3]).sum(axis=2) + scene.node[:, None].astype(np.int64) * MIX[3]
    _, number = np.unique(key.ravel(), return_inverse=True)
    return number.reshape(-1, 3)


def _pieces(vertex: NDArray[np.int64]) -> I32:
    if not len(vertex):
        return np.zeros(0, np.int32)
    count = int(vertex.max()) + 1
    rows = np.concatenate([vertex[:, 0], vertex[:, 1]])
    columns = np.concatenate([vertex[:, 1], vertex[:, 2]])
    label = connected(count, rows, columns)
    _, piece = np.unique(label[vertex[:, 0]], return_inverse=True)
    return piece.astype(np.int32)


def _edges(vertex: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(T, 3) number of the edge from corner i to i + 1, whichever way it is run along, and (E,) one of its places in
    the flattened table."""
    if not len(vertex):
        return np.zeros((0, 3), np.int64), np.zeros(0, np.int64)
    begin, end = vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()
    span = int(vertex.max()) + 1
    key = np.minimum(begin, end) * span + np.maximum(begin, end)
    _, first, number = np.unique(key, return_index=True, return_inverse=True)
    return number.reshape(-1, 3), first


def _borders(vertex: NDArray[np.int64], edge: NDArray[np.int64]) -> NDArray[np.bool_]:
    """(T, 3) whether an edge is not run along in one direction as often as in the other."""
    if not len(vertex):
        return np.zeros((0, 3), np.bool_)
    forward = np.where(vertex < np.roll(vertex, -1, axis=1), 1.0, -1.0)
    balance = np.bincount(edge.ravel(), forward.ravel())
    found: NDArray[np.bool_] = balance[edge] != 0.0
    return found
