"""The point of a set of triangles that is nearest to another point, exactly, for many points at a time."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import dividing, inlined_dividing
from ropebell.level.model import F64, I32, I64

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

# Triangles of one tree differ in size by no more than this.
SIZE_STEP = 4.0
# Square metres by which two triangles count as equally near, as at an edge, relative to the square of the distance.
TIE = 1e-12
# Points looked up at a time, which bounds the memory for their candidates.
AT_ONCE = 256


class NearestSurface:
    """Finds the nearest of many triangles.

    Any point of a triangle is no further from its centroid than its farthest corner, so the nearest triangle's centroid
    is at most that much further away than the nearest surface. Triangles are put into trees by size, so that a few
    large ones do not make candidates of all the small ones.

    Args:
        corners: (T, 3, 3) metres, none without area. faces: (T, 3) unit normals.
    """

    def __init__(self, corners: F64, faces: NDArray[np.floating]) -> None:
        self._corners = np.ascontiguousarray(corners, np.float64)
        self._faces = np.ascontiguousarray(faces, np.float64)
        from scipy.spatial import cKDTree  # slow to load, and only wanted here

        centroids = self._corners.mean(axis=1)
        reach = np.sqrt(((self._corners - centroids[:, None]) ** 2).sum(axis=2).max(axis=1))
        sizes = np.floor(np.log(np.maximum(reach, 1e-30)) / math.log(SIZE_STEP)).astype(np.int64)
        self._trees: list[tuple[cKDTree, NDArray[np.intp], float]] = []
        for size in np.unique(sizes):
            rows = np.flatnonzero(sizes == size)
            self._trees.append((cKDTree(centroids[rows]), rows, float(reach[rows].max())))

    def at(self, points: F64, normal: F64 | None = None) -> tuple[I32, F64, F64]:
        """The nearest triangle of each point; where several are equally near, as at an edge, the one that faces the
        point most squarely, or the normal if there is one.

        Args:
            points: (M, 3) metres. normal: (3,) unit, or None.

        Returns:
            (M,) int32 triangle, −1 where there is none; (M, 2) weights of its corners 1 and 2 there; (M,) metres.
        """
        points = np.ascontiguousarray(points, np.float64).reshape(-1, 3)
        found, weights, far = (
            np.full(len(points), -1, np.int32),
            np.zeros((len(points), 2)),
            np.full(len(points), np.inf),
        )
        if not self._trees:
            return found, weights, far
        wanted = np.zeros(3) if normal is None else np.asarray(normal, np.float64)
        for first in range(0, len(points), AT_ONCE):
            part = slice(first, first + AT_ONCE)
            starts, candidates = self._candidates(points[part])
            _nearest(
                self._corners, self._faces, points[part], wanted, starts, candidates, np.empty(len(candidates)),
                found[part], weights[part], far[part],
            )  # fmt: skip
        return found, weights, far

    def _candidates(self, points: F64) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Triangles that may be nearest: (m + 1,) where each point's begin, and all of them."""
        bound = np.full(len(points), np.inf)
        for tree, rows, _ in self._trees:
            near = tree.query(points, workers=-1)[1]
            _tighten(self._corners, points, rows[near], bound)
        lists: list[list[NDArray[np.intp]]] = [[] for _ in points]
        for tree, rows, reach in self._trees:
            # A little more, for the rounding of the distance itself.
            radius = (bound + reach) * (1.0 + 1e-9) + 1e-12
            for own, met in zip(lists, tree.query_ball_point(points, radius, workers=-1, return_sorted=False)):
                own.append(rows[met])
        counts = [sum(len(part) for part in own) for own in lists]
        flat = [part for own in lists for part in own]
        return np.concatenate([[0], np.cumsum(counts)]), np.concatenate(flat).astype(np.int64)


@dividing
def _tighten(corners: F64, points: F64, triangles: I64, bound: F64) -> None:
    for m in range(len(points)):
        bound[m] = min(bound[m], math.sqrt(nearest_on(corners, triangles[m], points, m)[0]))


@dividing
def _nearest(
    corners: F64, faces: F64, points: F64, normal: F64, starts: I64, candidates: I64,
    squares: F64, found: I32, weights: F64, far: F64,
) -> None:  # fmt: skip
    wanted = normal[0] != 0.0 or normal[1] != 0.0 or normal[2] != 0.0
    for m in range(len(points)):
        least = np.inf
        for k in range(starts[m], starts[m + 1]):
            squares[k] = nearest_on(corners, candidates[k], points, m)[0]
            least = min(least, squares[k])
        best = -np.inf
        for k in range(starts[m], starts[m + 1]):
            if squares[k] > least * (1.0 + 1e-9) + TIE:
                continue
            t = candidates[k]
            square, b, c = nearest_on(corners, t, points, m)
            side = 0.0
            for i in range(3):
                at = corners[t, 0, i] + b * (corners[t, 1, i] - corners[t, 0, i])
                at += c * (corners[t, 2, i] - corners[t, 0, i])
                side += (normal[i] if wanted else points[m, i] - at) * faces[t, i]
            if side > best or (side == best and square < far[m]):
                best = side
                found[m], weights[m, 0], weights[m, 1], far[m] = t, b, c, square
        far[m] = math.sqrt(far[m])


@dividing
def nearest_on(corners: F64, t: int, points: F64, m: int) -> tuple[float, float, float]:
    """Square of the distance of point m to triangle t, and the weights of its corners 1 and 2 at the nearest point.

    After C. Ericson, "Real-Time Collision Detection" (2005), 5.1.5.
    """
    ax, ay, az = corners[t, 0, 0], corners[t, 0, 1], corners[t, 0, 2]
    ux, uy, uz = corners[t, 1, 0] - ax, corners[t, 1, 1] - ay, corners[t, 1, 2] - az
    vx, vy, vz = corners[t, 2, 0] - ax, corners[t, 2, 1] - ay, corners[t, 2, 2] - az
    px, py, pz = points[m, 0] - ax, points[m, 1] - ay, points[m, 2] - az
    b, c = _weights(ux, uy, uz, vx, vy, vz, px, py, pz)
    dx, dy, dz = px - b * ux - c * vx, py - b * uy - c * vy, pz - b * uz - c * vz
    return dx * dx + dy * dy + dz * dz, b, c


@inlined_dividing
def _weights(
    ux: float, uy: float, uz: float, vx: float, vy: float, vz: float, px: float, py: float, pz: float
) -> tuple[float, float]:  # fmt: skip
    """Of corners 1 and 2, whose edges from corner 0 are u and v, at the point nearest to p; all from corner 0."""
    d1, d2 = ux * px + uy * py + uz * pz, vx * px + vy * py + vz * pz
    if d1 <= 0.0 and d2 <= 0.0:
        return 0.0, 0.0
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    d3, d4 = d1 - uu, d2 - uv
    if d3 >= 0.0 and d4 <= d3:
        return 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        return d1 / (d1 - d3), 0.0
    d5, d6 = d1 - uv, d2 - vv
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        return 0.0, d2 / (d2 - d6)
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 1.0 - w, w
    total = va + vb + vc
    return vb / total, vc / total


def distance_to_triangles(corners: F64, triangles: I64, points: F64) -> F64:
    """(m,) metres from each point to a triangle of its own.

    Args:
        corners: (T, 3, 3) metres. triangles: (m,) of them. points: (m, 3) metres.
    """
    found = np.empty(len(points))
    _distances(np.ascontiguousarray(corners), triangles, np.ascontiguousarray(points), found)
    return found


@dividing
def _distances(corners: F64, triangles: I64, points: F64, found: F64) -> None:
    for m in range(len(points)):
        found[m] = math.sqrt(nearest_on(corners, triangles[m], points, m)[0])
