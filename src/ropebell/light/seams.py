"""Closing seams: along edges that two charts share, what interpolation shows on either side is made the same.

Least squares over the texels beside such edges: every point of an edge asks that its bilinear value on one side equal
that on the other, and every texel asks, less strongly, to stay what it was. M. Iwanicki, "Lighting technology of The
Last of Us", SIGGRAPH 2013 talks.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.level.model import F32, F64, I32, I64
from ropebell.level.scene import Scene

# Faces that meet at more than this have a crease there, where light may well jump.
SMOOTH = float(np.cos(np.radians(25)))
SAME = 1e-5
# How strongly a texel stays what it was, against one point of an edge.
HOLD = 0.08
POINTS_PER_TEXEL = 1.5
MOST_STEPS = 200


@dataclass(frozen=True, eq=False)
class Seams:
    """Points along shared edges, each as weights of texels on one side minus those on the other.

    Attributes:
        rows, columns, weights: entries of the (M, N) difference matrix.
        points: M.
    """

    rows: NDArray[np.int64]
    columns: NDArray[np.int64]
    weights: F64
    points: int

    def steps(self, field: F32) -> F64:
        """(M, C) how far the light jumps at each point."""
        found: F64 = self._matrix(len(field)) @ field.astype(np.float64)
        return found

    def mean_step(self, field: F32) -> float:
        """How far the light jumps in the mean."""
        return float(np.abs(self.steps(field)).mean()) if self.points else 0.0

    def _matrix(self, count: int) -> Any:
        from scipy.sparse import coo_matrix  # slow to load, and only wanted here

        return coo_matrix((self.weights, (self.rows, self.columns)), shape=(self.points, count)).tocsr()

    def closed(self, field: F32) -> F32:
        """(N, C) float32 field with the seams closed, not below zero; only texels beside seams change."""
        if not self.points:
            return field
        from scipy.sparse import coo_matrix, identity
        from scipy.sparse.linalg import cg

        touched, place = np.unique(self.columns, return_inverse=True)
        shape = (self.points, len(touched))
        matrix = coo_matrix((self.weights, (self.rows, place)), shape=shape).tocsr()
        normal = matrix.T @ matrix + HOLD * identity(len(touched))
        out = field.copy()
        for channel in range(field.shape[1]):
            before = field[touched, channel].astype(np.float64)
            # The difference to what was: small, so that few steps are enough.
            change, _ = cg(normal, -(matrix.T @ (matrix @ before)), rtol=1e-5, maxiter=MOST_STEPS)
            out[touched, channel] = np.maximum(before + change, 0.0)
        return out


NO_SEAMS = Seams(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0), 0)


def find_seams(scene: Scene, atlas: Atlas, texels: Texels, tick: Callable[[float], None]) -> Seams:
    """Edges shared by faces of two charts, or of one chart at two places, that are smooth across.

    Edges are shared when both ends lie in the same places, of one object or of two.
    """
    first, second = _shared_edges(scene, atlas)
    tick(0.4)
    uv = np.asarray(atlas.uv, dtype=np.float64)
    a0, a1 = _ends(uv, first)
    b0, b1 = _ends(uv, second)
    # The partner runs along the edge the other way.
    flip = _runs_alike(scene, first, second)
    b0, b1 = np.where(flip[:, None], b0, b1), np.where(flip[:, None], b1, b0)
    length = np.maximum(np.linalg.norm(a1 - a0, axis=1), np.linalg.norm(b1 - b0, axis=1))
    count = np.maximum(np.ceil(length * POINTS_PER_TEXEL), 2).astype(np.int64)
    edge = np.repeat(np.arange(len(first)), count)
    starts = np.repeat(np.cumsum(count) - count, count)
    along = ((np.arange(len(edge)) - starts + 0.5) / count[edge])[:, None]
    page = atlas.page
    sides = []
    for ends, triangle, sign in (((a0, a1), first[:, 0], 1.0), ((b0, b1), second[:, 0], -1.0)):
        at = ends[0][edge] + along * (ends[1][edge] - ends[0][edge])
        rect = atlas.rects[atlas.chart[triangle]][edge]
        sides.append(_bilinear(at, page[triangle][edge], rect, texels, sign))
    tick(0.8)
    rows = np.concatenate([s[0] for s in sides])
    columns = np.concatenate([s[1] for s in sides])
    weights = np.concatenate([s[2] for s in sides])
    tick(1.0)
    return Seams(rows, columns, weights, len(edge))


def _shared_edges(scene: Scene, atlas: Atlas) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(m, 2) face and corner of each of two edges that lie in one place and in two places of the pages."""
    low, high = scene.bounds()
    step = max(float((high - low).max()), 1e-9) * SAME
    cells = np.round((scene.corners - low) / step).astype(np.int64)
    _, vertex = np.unique(cells.reshape(-1, 3), axis=0, return_inverse=True)
    vertex = vertex.reshape(-1, 3)
    begin, end = vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()
    key = np.minimum(begin, end) * (int(vertex.max(initial=0)) + 1) + np.maximum(begin, end)
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(key[order[1:]] == key[order[:-1]])
    a, b = order[same], order[same + 1]
    fa, fb = a // 3, b // 3
    smooth = np.einsum("ij,ij->i", scene.face_normals[fa], scene.face_normals[fb]) > SMOOTH
    apart = (atlas.chart[fa] != atlas.chart[fb]) | ~_touching(atlas, a, b)
    lit = atlas.lightmap >= 0
    keep = smooth & apart & (fa != fb) & lit[fa] & lit[fb]
    return np.stack([fa, a % 3], axis=1)[keep], np.stack([fb, b % 3], axis=1)[keep]


def _touching(atlas: Atlas, a: I64, b: I64) -> NDArray[np.bool_]:
    """Whether two edges lie in the same place of a page: then there is no seam."""
    uv = np.asarray(atlas.uv)
    a0, a1 = uv[a // 3, a % 3], uv[a // 3, (a + 1) % 3]
    b0, b1 = uv[b // 3, b % 3], uv[b // 3, (b + 1) % 3]
    near = np.minimum(
        np.abs(a0 - b1).max(axis=1) + np.abs(a1 - b0).max(axis=1),
        np.abs(a0 - b0).max(axis=1) + np.abs(a1 - b1).max(axis=1),
    )
    found: NDArray[np.bool_] = near < 0.01
    return found


def _ends(uv: F64, edge: NDArray[np.int64]) -> tuple[F64, F64]:
    return uv[edge[:, 0], edge[:, 1]], uv[edge[:, 0], (edge[:, 1] + 1) % 3]


def _runs_alike(scene: Scene, first: NDArray[np.int64], second: NDArray[np.int64]) -> NDArray[np.bool_]:
    a = scene.corners[first[:, 0], first[:, 1]]
    b = scene.corners[second[:, 0], second[:, 1]]
    c = scene.corners[second[:, 0], (second[:, 1] + 1) % 3]
    found: NDArray[np.bool_] = np.linalg.norm(a - b, axis=1) < np.linalg.norm(a - c, axis=1)
    return found


def _bilinear(
    at: F64, page: I32, rect: I32, texels: Texels, sign: float
) -> tuple[NDArray[np.int64], NDArray[np.int64], F64]:
    """Entries of the difference matrix for points of pages; texels outside the chart give their weight to the nearest
    inside, as dilation does."""
    x, y = at[:, 0] - 0.5, at[:, 1] - 0.5
    x0, y0 = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    fx, fy = x - x0, y - y0
    rows, columns, weights = [], [], []
    number = np.arange(len(at))
    for dx in (0, 1):
        for dy in (0, 1):
            cx = np.clip(x0 + dx, rect[:, 1], rect[:, 1] + rect[:, 3] - 1)
            cy = np.clip(y0 + dy, rect[:, 2], rect[:, 2] + rect[:, 4] - 1)
            texel = texels.grid[page, cy, cx]
            weight = np.where(dx, fx, 1 - fx) * np.where(dy, fy, 1 - fy) * sign
            known = texel >= 0
            rows.append(number[known])
            columns.append(texel[known].astype(np.int64))
            weights.append(weight[known])
    return np.concatenate(rows), np.concatenate(columns), np.concatenate(weights)
