"""Closing seams: along edges that two charts share, what interpolation shows on either side is made the same.

Least squares over the texels beside such edges: every point of an edge asks that its bilinear value on one side equal
that on the other, and every texel asks, less strongly, to stay what it was; both in proportion to the light there, so
that what is dark beside the sun stays dark. M. Iwanicki, "Lighting technology of The Last of Us", SIGGRAPH 2013 talks.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, I64, Mask
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

# Faces that meet at more than this have a crease there, where light may well jump.
SMOOTH = float(np.cos(np.radians(25)))
# What is as near as this share of a texel is one place: told by what is seen, not by how wide the level is.
SAME = 2e-3
# How strongly a texel stays what it was, against one point of an edge.
HOLD = 0.08
POINTS_PER_TEXEL = 1.5
MOST_STEPS = 200
# Of the light on both sides of a joint, the share of a step that is still taken for one of cut charts; and the least
# light, in shares of the mean, in proportion to which steps are told.
OWN_STEP, LEAST_LEVEL = 0.4, 1e-3
# Directions of edges on one line differ by less.
SAME_WAY = 1e-4
# How far above the surface one looks from texel to texel, over their distance: clear of what is gently round.
ABOVE = 0.25
# Short edges beside a long one, counted.
MOST_PARTNERS = 64


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
        from scipy.sparse import coo_matrix, diags, identity
        from scipy.sparse.linalg import cg

        touched, place = np.unique(self.columns, return_inverse=True)
        shape = (self.points, len(touched))
        matrix = coo_matrix((self.weights, (self.rows, place)), shape=shape).tocsr()
        # What is added up on either side, to tell steps in proportion.
        sides = coo_matrix((np.abs(self.weights), (self.rows, place)), shape=shape).tocsr()
        out = field.copy()
        for channel in range(field.shape[1]):
            before = field[touched, channel].astype(np.float64)
            step, level = matrix @ before, 0.5 * (sides @ before)
            least = LEAST_LEVEL * float(level.mean()) + 1e-30
            level = np.maximum(level, least)
            # A step far larger than cut charts make is the light's own, as where a shadow ends at a joint: it stays.
            trust = np.exp(-0.5 * (step / (OWN_STEP * level)) ** 2) / level
            own = diags(np.maximum(before, least))
            scaled = diags(trust) @ matrix @ own
            normal = scaled.T @ scaled + HOLD * identity(len(touched))
            # The difference to what was, in shares of it: small, so that few steps are enough.
            change, _ = cg(normal, -(scaled.T @ (trust * step)), rtol=1e-5, maxiter=MOST_STEPS)
            out[touched, channel] = np.maximum(before + own @ change, 0.0)
        return out


NO_SEAMS = Seams(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0), 0)


class Standing(NamedTuple):
    """What stands on a level's surfaces: (N, 3) middle of each texel's open samples, metres, (N,) whether it has any,
    and the rays that tell what lies between two."""

    places: F64
    open: Mask
    space: RaySpace


def find_seams(
    scene: Scene, atlas: Atlas, texels: Texels, tick: Callable[[float], None], standing: Standing | None = None
) -> Seams:  # fmt: skip
    """Edges shared by faces of two charts, or of one chart at two places, that are smooth across.

    Edges are shared, of one object or of two, where they lie in one place: as a whole, or in part, as where a long
    edge meets several short ones.

    Args:
        standing: where anything stands on a joint, such as a wall on a floor, light may well be another on either side:
            no seam there. None: nothing does.
    """
    measure = _measure(scene, atlas)
    whole, parts = _shared_edges(scene, atlas, *measure)
    pairs = _joined(whole, _partly_shared(scene, atlas, parts, *measure))
    tick(0.4)
    uv = np.asarray(atlas.uv, dtype=np.float64)
    (a0, a1), (b0, b1) = (_ends(uv, edge, along) for edge, along in ((pairs.a, pairs.on_a), (pairs.b, pairs.on_b)))
    length = np.maximum(np.linalg.norm(a1 - a0, axis=1), np.linalg.norm(b1 - b0, axis=1))
    count = np.maximum(np.ceil(length * POINTS_PER_TEXEL), 2).astype(np.int64)
    edge = np.repeat(np.arange(len(pairs.a)), count)
    starts = np.repeat(np.cumsum(count) - count, count)
    along = ((np.arange(len(edge)) - starts + 0.5) / count[edge])[:, None]
    page = atlas.page
    sides = []
    for ends, triangle, sign in (((a0, a1), pairs.a[:, 0], 1.0), ((b0, b1), pairs.b[:, 0], -1.0)):
        at = ends[0][edge] + along * (ends[1][edge] - ends[0][edge])
        rect = atlas.rects[atlas.chart[triangle]][edge]
        sides.append(_bilinear(at, page[triangle][edge], rect, texels, sign))
    tick(0.8)
    rows, columns, weights = (np.concatenate(column) for column in zip(*sides))
    if standing is not None:
        a, b = (_heaviest(side, len(edge)) for side in sides)
        kept = _free_between(standing, scene.face_normals[texels.owner], a, b)[rows]
        rows, columns, weights = rows[kept], columns[kept], weights[kept]
    # Counted anew, as a point of which no texel speaks is in no entry.
    points, rows = np.unique(rows, return_inverse=True)
    tick(1.0)
    return Seams(rows.astype(np.int64), columns, weights, len(points))


def _heaviest(side: tuple[I64, I64, F64], count: int) -> I64:
    """(M,) texel that says most at each point of a side, −1 where none does."""
    rows, columns, weights = side
    found = np.full(count, -1, np.int64)
    order = np.argsort(np.abs(weights), kind="stable")
    found[rows[order]] = columns[order]
    return found


def _free_between(standing: Standing, normals: F32, a: I64, b: I64) -> NDArray[np.bool_]:
    """(M,) whether nothing stands between the texels on either side of each point.

    A wall thinner than two texels is met by the way from one to the other, a little above the surface; a thicker one
    buries a texel.
    """
    free: NDArray[np.bool_] = (a >= 0) & (b >= 0) & standing.open[a] & standing.open[b]
    a, b = a[free], b[free]
    apart = np.linalg.norm(standing.places[b] - standing.places[a], axis=1)[:, None]
    begin, end = (standing.places[t] - standing.space.centre + ABOVE * apart * normals[t] for t in (a, b))
    origins, ways = begin.astype(np.float32), (end - begin).astype(np.float32)
    free[free] = ~standing.space.blocked(origins, ways, np.ones(len(a), np.float32))
    return free


class Pairs(NamedTuple):
    """Edges that lie in one place of the level and in two places of the pages.

    Attributes:
        a, b: (m, 2) face and corner that each begins at.
        on_a, on_b: (m, 2) where the common part begins and ends on each, as shares of its length.
    """

    a: I64
    b: I64
    on_a: F64
    on_b: F64


def _joined(first: Pairs, second: Pairs) -> Pairs:
    return Pairs(*(np.concatenate(both) for both in zip(first, second)))


def _measure(scene: Scene, atlas: Atlas) -> tuple[F64, float]:
    """(3,) the middle of the level, as most of it lies, and the metres within which two places are one."""
    uv = np.asarray(atlas.uv, dtype=np.float64)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    texels = 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    known = (texels > 0) & (scene.areas > 0)
    texel = float(np.sqrt(np.median(scene.areas[known] / texels[known]))) if known.any() else 1.0
    return np.median(scene.corners.reshape(-1, 3), axis=0) if len(scene) else np.zeros(3), SAME * texel


def _shared_edges(scene: Scene, atlas: Atlas, middle: F64, step: float) -> tuple[Pairs, I64]:
    """Edges with both ends in the same places; and (k,) those whose surface does not go on smoothly at one that has."""
    cells = np.round((scene.corners - middle) / step).astype(np.int64)
    _, vertex = np.unique(cells.reshape(-1, 3), axis=0, return_inverse=True)
    vertex = vertex.reshape(-1, 3)
    begin, end = vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()
    key = np.minimum(begin, end) * (int(vertex.max(initial=0)) + 1) + np.maximum(begin, end)
    order = np.argsort(key, kind="stable")
    alike = key[order[1:]] == key[order[:-1]]
    same = np.flatnonzero(alike)
    a, b = order[same], order[same + 1]
    alone = np.ones(len(key), np.bool_)
    smooth = _smooth(scene, a, b)
    alone[a[smooth]] = alone[b[smooth]] = False
    kept = _across(scene, atlas, a, b)
    a, b = a[kept], b[kept]
    # The partner may run along the edge the other way.
    turned = (begin[a] != begin[b])[:, None]
    whole = np.broadcast_to([0.0, 1.0], (len(a), 2))
    pairs = Pairs(_corners(a), _corners(b), whole, np.where(turned, whole[:, ::-1], whole))
    return pairs, np.flatnonzero(alone & (begin != end))


def _corners(edges: I64) -> I64:
    """(m, 2) face and corner of edges given as 3 · face + corner."""
    return np.stack([edges // 3, edges % 3], axis=1)


def _across(scene: Scene, atlas: Atlas, a: I64, b: I64) -> NDArray[np.bool_]:
    """Whether pairs of edges, as 3 · face + corner, part two lit charts, or two places of one, of a smooth surface."""
    fa, fb = a // 3, b // 3
    apart = (atlas.chart[fa] != atlas.chart[fb]) | ~_touching(atlas, a, b)
    lit = atlas.lightmap >= 0
    kept: NDArray[np.bool_] = _smooth(scene, a, b) & apart & (fa != fb) & lit[fa] & lit[fb]
    return kept


def _smooth(scene: Scene, a: I64, b: I64) -> NDArray[np.bool_]:
    """Whether the faces of pairs of edges go on into each other without a crease."""
    normals = scene.face_normals
    found: NDArray[np.bool_] = np.einsum("ij,ij->i", normals[a // 3], normals[b // 3]) > SMOOTH
    return found


def _partly_shared(scene: Scene, atlas: Atlas, edges: I64, middle: F64, step: float) -> Pairs:
    """Pairs of edges on one line that lie beside each other for a part of their length, their faces on either side.

    Args:
        edges: (k,) candidates, as 3 · face + corner. middle, step: of `_measure`.
    """
    corners = scene.corners.reshape(-1, 3)
    following = edges - edges % 3 + (edges % 3 + 1) % 3
    begin, along = corners[edges], corners[following] - corners[edges]
    length = np.linalg.norm(along, axis=1)
    way = along / np.maximum(length, 1e-30)[:, None]
    # A line runs one way only: the first part of its direction that is not nothing is above it.
    first = np.argmax(np.abs(way) > 1e-6, axis=1)
    way *= np.sign(way[np.arange(len(way)), first])[:, None]
    # Direction and moment name a line (J. Plücker); rounded, more than corners are. What falls on both sides of a
    # rounding keeps its seam, no worse.
    moment = np.cross(begin - middle, way)
    named = np.round(np.concatenate([way / SAME_WAY, moment / (10 * step)], axis=1)).astype(np.int64)
    _, line = np.unique(named, axis=0, return_inverse=True)
    ends = np.stack([np.einsum("ij,ij->i", corners[c] - middle, way) for c in (edges, following)], axis=1)
    start, stop = ends.min(axis=1), ends.max(axis=1)
    order = np.lexsort((start, line.ravel()))
    i, j = _overlaps(line.ravel()[order], start[order], stop[order], step)
    i, j = order[i], order[j]
    kept = _across(scene, atlas, edges[i], edges[j]) & _either_side(scene, edges[i], edges[j], way[i])
    i, j = i[kept], j[kept]
    part = np.stack([np.maximum(start[i], start[j]), np.minimum(stop[i], stop[j])], axis=1)
    on_a, on_b = ((part - ends[e, :1]) / (ends[e, 1:] - ends[e, :1]) for e in (i, j))
    return Pairs(_corners(edges[i]), _corners(edges[j]), on_a, on_b)


def _either_side(scene: Scene, a: I64, b: I64, way: F64) -> NDArray[np.bool_]:
    """Whether the faces of pairs of edges on one line lie on either side of it."""
    sides = []
    for edge in (a, b):
        face = scene.corners[edge // 3]
        away = face[np.arange(len(edge)), (edge % 3 + 2) % 3] - face[np.arange(len(edge)), edge % 3]
        sides.append(away - np.einsum("ij,ij->i", away, way)[:, None] * way)
    found: NDArray[np.bool_] = np.einsum("ij,ij->i", *sides) < 0.0
    return found


def _overlaps(line: I64, start: F64, stop: F64, least: float) -> tuple[I64, I64]:
    """Pairs of spans of one line that overlap by more than `least`, of each span with `MOST_PARTNERS` at most: copies
    stacked in one place by the thousand must not cost their square.

    Args:
        line: (k,) which line each lies on. start, stop: (k,) metres along it; in order of line and start.
    """
    count = _count_overlaps(line, start, stop, least, np.zeros((0, 2), np.int64))
    found = np.empty((count, 2), np.int64)
    _count_overlaps(line, start, stop, least, found)
    return found[:, 0], found[:, 1]


@kernel
def _count_overlaps(line: I64, start: F64, stop: F64, least: float, found: I64) -> int:
    """Count pairs, and write them down where there is room."""
    count = 0
    for i in range(len(line)):
        j, partners = i + 1, 0
        while j < len(line) and line[j] == line[i] and start[j] < stop[i] - least and partners < MOST_PARTNERS:
            if min(stop[i], stop[j]) - start[j] > least:
                if count < len(found):
                    found[count, 0], found[count, 1] = i, j
                count += 1
                partners += 1
            j += 1
    return count


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


def _ends(uv: F64, edge: I64, along: F64) -> tuple[F64, F64]:
    """Where parts of edges begin and end on the pages."""
    begin, end = uv[edge[:, 0], edge[:, 1]], uv[edge[:, 0], (edge[:, 1] + 1) % 3]
    return begin + along[:, :1] * (end - begin), begin + along[:, 1:] * (end - begin)


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
