"""Which points of each texel stand in the open.

A floor runs on below the walls that stand on it. Points of a texel that lie inside a wall see its back faces
only; counted in, they would darken every foot of every wall. Each footprint sample looks round, and samples
that mostly see back faces of one-sided surfaces are left out of their texel.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, I64, U32, Mask
from ropebell.light.affected import mark_crossing
from ropebell.light.kept import Kept, carried_samples
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import cosine_direction, hash32, sobol
from ropebell.light.surface import Ground, OpenSamples, Spots, Surface, sample_point
from ropebell.light.workers import run_chunks

FIRST_LOOK = 2
SECOND_LOOK = 8
CHUNK = 4096
REDIRECT_RADIUS = 6
# Which texels are as they were, what was found then, and the number of each triangle of then now, None if the same.
Before = tuple[Kept, OpenSamples, I32 | None]


def find_open_samples(
    surface: Surface,
    space: RaySpace,
    texels: Texels,
    atlas: Atlas,
    workers: int,
    tick: Callable[[float], None],
    earlier: Before | None = None,
    wary: Mask | None = None,
) -> OpenSamples:
    """Sort the footprint samples of every texel into open and buried ones.

    Two tilted rays per sample; a sample for which either meets a back face casts eight more, and is buried
    if at least half of them meet back faces too.

    Args:
        earlier: what is known of texels that are as they were.
        wary: (N,) bool, written: texels with a sample that cast eight more.
    """
    buried = np.zeros(texels.sample_triangle.shape, np.bool_)
    key = texel_keys(texels, atlas, surface.names)
    fresh = earlier[0].fresh if earlier is not None else np.arange(len(texels), dtype=np.int32)

    def look(first: int, end: int) -> None:
        span = fresh[first:end]
        rows, columns = np.nonzero(texels.sample_triangle[span] >= 0)
        spots = footprints(texels, span)._replace(key=key[span])
        suspect = _back_hits(surface, space, spots, rows, columns, FIRST_LOOK, 0) > 0
        rows, columns = rows[suspect], columns[suspect]
        if wary is not None:
            wary[span] = False
            wary[span[rows]] = True
        hits = _back_hits(surface, space, spots, rows, columns, SECOND_LOOK, FIRST_LOOK)
        inside = 2 * hits >= SECOND_LOOK
        buried[span[rows[inside]], columns[inside]] = True

    run_chunks(len(fresh), CHUNK, look, workers, tick)
    return _compact(texels, atlas, key, buried, earlier)


def looking_through(
    surface: Surface, texels: Texels, atlas: Atlas, boxes: F64, rows: I32, workers: int, tick: Callable[[float], None]
) -> Mask:  # fmt: skip
    """(m,) bool: which of some texels cast a first look through a box.

    Args:
        boxes: (B, 2, 3) relative to the centre. rows: (m,) texels.
    """
    found = np.zeros(len(rows), np.bool_)
    key = texel_keys(texels, atlas, surface.names)

    def look(first: int, end: int) -> None:
        span = rows[first:end]
        spots = footprints(texels, span)._replace(key=key[span])
        which, columns = np.nonzero(spots.triangle >= 0)
        origins = np.empty((len(which) * FIRST_LOOK, 3), np.float32)
        directions = np.empty_like(origins)
        _look_rays(surface.ground, spots, which, columns, FIRST_LOOK, 0, origins, directions)
        through = np.zeros(len(origins), np.bool_)
        mark_crossing(boxes, origins, directions, through)
        found[first + which[through.reshape(-1, FIRST_LOOK).any(axis=1)]] = True

    run_chunks(len(rows), CHUNK, look, workers, tick)
    return found


def footprints(texels: Texels, rows: I32 | None = None) -> Spots:
    """All footprint samples of some texels or all, as if they stood in the open."""
    rows = np.arange(len(texels), dtype=np.int32) if rows is None else rows
    triangle, weights = texels.sample_triangle[rows], texels.sample_weights[rows]
    return Spots((triangle >= 0).sum(axis=1, dtype=np.int32), triangle, weights, np.zeros(len(rows), np.uint32))


def _back_hits(surface: Surface, space: RaySpace, spots: Spots, rows: I64, columns: I64, rays: int, start: int) -> I64:
    """(m,) how many of `rays` rays from each listed sample meet a back face of a one-sided triangle."""
    origins = np.empty((len(rows) * rays, 3), np.float32)
    directions = np.empty_like(origins)
    _look_rays(surface.ground, spots, rows, columns, rays, start, origins, directions)
    hit = space.first_hit(origins, directions)
    found = np.zeros(len(rows), np.int64)
    _count_backs(surface.faces, surface.two_sided, hit, directions, found)
    return found


@kernel
def _count_backs(faces: F32, two_sided: Mask, hit: I32, directions: F32, found: I64) -> None:
    rays = len(hit) // max(len(found), 1)
    for m in range(len(found)):
        for j in range(m * rays, (m + 1) * rays):
            t = hit[j]
            if t >= 0 and not two_sided[t]:
                into = faces[t, 0] * directions[j, 0] + faces[t, 1] * directions[j, 1] + faces[t, 2] * directions[j, 2]
                found[m] += into > 0


@kernel
def _look_rays(
    ground: Ground, spots: Spots, rows: I64, columns: I64, rays: int, start: int, origins: F32, directions: F32
) -> None:
    faces = ground.faces
    for m in range(len(rows)):
        i, s = rows[m], columns[m]
        t = spots.triangle[i, s]
        x, y, z, _, _, _ = sample_point(ground, spots, i, s)
        seed = hash32(spots.key[i] ^ hash32(np.uint32(s)))
        for k in range(rays):
            # About the face's own normal, never steeper than 10° to the surface.
            u = 0.97 * sobol(start + k, 0, seed)
            v = sobol(start + k, 1, seed)
            dx, dy, dz = cosine_direction(faces[t, 0], faces[t, 1], faces[t, 2], u, v)
            j = m * rays + k
            origins[j, 0], origins[j, 1], origins[j, 2] = x, y, z
            directions[j, 0], directions[j, 1], directions[j, 2] = dx, dy, dz


def texel_keys(texels: Texels, atlas: Atlas, faces: NDArray[np.uint64]) -> NDArray[np.uint32]:
    """(N,) uint32 that names each texel by its triangle and its place in its chart, wherever on the pages that lies and
    whatever other triangles there are.

    A few of a million may share one by chance, which does no more than give them the same rays.

    Args:
        faces: (T,) `Surface.names`.
    """
    rects = atlas.rects[atlas.chart[texels.owner]] if len(texels) else np.zeros((0, 5), np.int32)
    keys = np.empty(len(texels), np.uint32)
    own = faces[texels.owner].astype(np.uint32)  # the lower half of the bits
    _mix(own, texels.column - rects[:, 1], texels.row - rects[:, 2], keys)
    return keys


@kernel
def _mix(owner: U32, x: I32, y: I32, keys: U32) -> None:
    for n in range(len(owner)):
        keys[n] = hash32(owner[n] ^ hash32(np.uint32(x[n]) ^ hash32(np.uint32(y[n]))))


def _compact(
    texels: Texels, atlas: Atlas, key: NDArray[np.uint32], buried: Mask, earlier: Before | None
) -> OpenSamples:  # fmt: skip
    count = np.zeros(len(texels), np.int32)
    triangle, weights = np.empty_like(texels.sample_triangle), np.empty_like(texels.sample_weights)
    _open_first(texels.sample_triangle, texels.sample_weights, buried, count, triangle, weights)
    if earlier is not None:
        carried_samples(*earlier, count, triangle, weights)
    target = np.arange(len(texels), dtype=np.int32)
    closed = np.flatnonzero(count == 0).astype(np.int32)
    rects = atlas.rects[atlas.chart[texels.owner[closed]]] if len(closed) else np.zeros((0, 5), np.int32)
    _redirect(closed, rects, texels.page, texels.column, texels.row, texels.grid, count, target)
    return OpenSamples(count, triangle, weights, target, key)


@kernel
def _open_first(samples: I32, places: F32, buried: Mask, count: I32, triangle: I32, weights: F32) -> None:
    """Samples in another order: those in the open first, which are counted, then the others, both as they were."""
    for i in range(len(samples)):
        at = 0
        for wanted in (True, False):
            for s in range(samples.shape[1]):
                if (samples[i, s] >= 0 and not buried[i, s]) == wanted:
                    triangle[i, at] = samples[i, s]
                    weights[i, at, 0], weights[i, at, 1] = places[i, s, 0], places[i, s, 1]
                    at += 1
            if wanted:
                count[i] = at


@kernel
def _redirect(closed: I32, rects: I32, page: I32, column: I32, row: I32, grid: I32, count: I32, target: I32) -> None:
    """Point closed texels at the nearest open texel of their chart within a few texels, if there is one."""
    for m in range(len(closed)):
        i = closed[m]
        best, nearest = -1, REDIRECT_RADIUS * REDIRECT_RADIUS + 1
        x0, y0 = max(column[i] - REDIRECT_RADIUS, rects[m, 1]), max(row[i] - REDIRECT_RADIUS, rects[m, 2])
        x1 = min(column[i] + REDIRECT_RADIUS + 1, rects[m, 1] + rects[m, 3])
        y1 = min(row[i] + REDIRECT_RADIUS + 1, rects[m, 2] + rects[m, 4])
        for y in range(y0, y1):
            for x in range(x0, x1):
                j = grid[page[i], y, x]
                if j < 0 or count[j] == 0:
                    continue
                away = (x - column[i]) ** 2 + (y - row[i]) ** 2
                if away < nearest:
                    best, nearest = j, away
        if best >= 0:
            target[i] = best
