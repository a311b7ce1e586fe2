"""The transport stage: for every texel and ray, what was hit. Shot once per geometry; all bounces are algebra on it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.level.model import F32, I32
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import TO_UNIT, dimension_seed, frame, hash32, owen_reversed, plain_points, unit_circle
from ropebell.light.surface import OpenSamples, Surface, sample_point
from ropebell.light.workers import run_chunks

SKY, BACK, NONE = -1, -2, -3
"""Codes in the hit table: the ray left the level; it met a back face or an unlit place; it does not count."""

RAYS_PER_CHUNK = 32_768


def passes(rays: int) -> list[tuple[int, int]]:
    """Ray ranges that refine the picture: an eighth, up to a half, the rest."""
    marks = sorted({0, max(rays // 8, min(rays, 4)), max(rays // 2, min(rays, 4)), rays})
    return list(zip(marks[:-1], marks[1:]))


def trace(
    surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, samples: OpenSamples, hits: I32,
    rays: tuple[int, int], seed: int, workers: int, tick: Callable[[float], None],
    budget: I32 | None = None, grid: I32 | None = None,
) -> None:  # fmt: skip
    """Fill columns `rays[0]` … `rays[1]` of the hit table.

    Rays of a texel are cosine-distributed about the shading normal and start at its open samples; both by one
    scrambled Sobol' sequence. Rays that would start below their own face do not count.

    Args:
        hits: (N, R) int32, written: a texel index, or `SKY`, `BACK`, `NONE`.
        seed: decorrelates builds; equal seeds give equal tables on any number of workers.
        budget: (N,) rays that each texel may shoot; None: all.
        grid: from `targets`, where `samples` are those of some texels only; None: made here.
    """
    first_ray, end_ray = rays
    width = end_ray - first_ray
    wanted = samples.count > 0
    if budget is not None:
        # Whole passes only: a prefix of the sequence is as even as the whole.
        wanted &= budget > first_ray
    active = np.flatnonzero(wanted).astype(np.int32)
    flat_grid = targets(texels, samples) if grid is None else grid
    plain = plain_points(first_ray, end_ray)
    records = hit_records(surface, atlas)

    def shoot(first: int, end: int) -> None:
        rows = active[first:end]
        origins = np.empty((len(rows) * width, 3), np.float32)
        directions = np.empty_like(origins)
        make_rays(
            surface.vertices, surface.normals, surface.faces, surface.extent, samples.count, samples.triangle,
            samples.weights, rows, plain, seed, origins, directions,
        )  # fmt: skip
        struck = space.first_hit(origins, directions)
        resolve(records, flat_grid, rows, first_ray, width, origins, directions, struck, hits)

    run_chunks(len(active), max(RAYS_PER_CHUNK // width, 1), shoot, workers, tick)


def targets(texels: Texels, samples: OpenSamples) -> I32:
    """(P, H, W) the texel grid with closed texels replaced by those that speak for them."""
    grid = texels.grid.copy()
    inside = grid >= 0
    grid[inside] = samples.target[grid[inside]]
    return grid


def empty_hits(count: int, rays: int) -> I32:
    """(N, R) hit table with no ray counted yet."""
    return np.full((count, rays), NONE, np.int32)


@njit(cache=True, nogil=True)
def make_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, rows: NDArray, plain: NDArray, seed: int, origins: NDArray, directions: NDArray,
) -> None:  # fmt: skip
    """Gather rays of the listed texels; (len(rows)·width, 3) float32 origins and unit directions, the
    direction zero for rays that do not count.

    Args:
        plain: (width, 4) points of the sequence before scrambling.
    """
    samples, width = triangle.shape[1], len(plain)
    # Start, normal, and the two directions that make a frame with it.
    points = np.empty((samples, 12), np.float64)
    for m in range(len(rows)):
        i = rows[m]
        for s in range(count[i]):
            points[s, :6] = sample_point(
                vertices, normals, faces, triangle[i, s], weights[i, s, 0], weights[i, s, 1], extent
            )
            points[s, 6:] = frame(points[s, 3], points[s, 4], points[s, 5])
        mine = hash32(np.uint32(i) ^ hash32(np.uint32(seed)))
        seed_u, seed_v, seed_s = dimension_seed(0, mine), dimension_seed(1, mine), dimension_seed(2, mine)
        for k in range(width):
            s = min(int(owen_reversed(plain[k, 2], seed_s) * TO_UNIT * count[i]), count[i] - 1)
            u = owen_reversed(plain[k, 0], seed_u) * TO_UNIT
            c, d = unit_circle(owen_reversed(plain[k, 1], seed_v) * TO_UNIT)
            radius = math.sqrt(u)
            x, y, z = radius * c, radius * d, math.sqrt(1.0 - u)
            dx = x * points[s, 6] + y * points[s, 9] + z * points[s, 3]
            dy = x * points[s, 7] + y * points[s, 10] + z * points[s, 4]
            dz = x * points[s, 8] + y * points[s, 11] + z * points[s, 5]
            j = m * width + k
            t = triangle[i, s]
            if dx * faces[t, 0] + dy * faces[t, 1] + dz * faces[t, 2] <= 0.0:
                dx, dy, dz = 0.0, 0.0, 0.0  # below its own face: `resolve` leaves it out
            origins[j, 0], origins[j, 1], origins[j, 2] = points[s, 0], points[s, 1], points[s, 2]
            directions[j, 0], directions[j, 1], directions[j, 2] = dx, dy, dz


# Columns of `hit_records`: corners, face normal, texel coordinates, chart rectangle and page, two-sided.
FACE, UV, RECT, TWO_SIDED, RECORD = 9, 12, 18, 23, 24


def hit_records(surface: Surface, atlas: Atlas) -> F32:
    """(T, 24) float32: all that `resolve` needs of a struck triangle, side by side, since hits come in no order and
    every separate table would be another miss of the processor's cache."""
    records = np.zeros((len(surface.vertices), RECORD), np.float32)
    records[:, :FACE] = surface.vertices.reshape(-1, 9)
    records[:, FACE:UV] = surface.faces
    records[:, UV:RECT] = np.asarray(atlas.uv).reshape(-1, 6)
    records[:, RECT:TWO_SIDED] = atlas.rects[atlas.chart] if len(atlas.chart) else 0
    records[:, TWO_SIDED] = surface.two_sided
    return records


@njit(cache=True, nogil=True)
def locate(
    records: NDArray, grid: NDArray, t: int, ox: float, oy: float, oz: float, dx: float, dy: float, dz: float
) -> int:
    """Texel where a ray meets the plane of triangle t, by Möller and Trumbore's solution (1997); `BACK` if none."""
    r = records[t]
    e1x, e1y, e1z = r[3] - r[0], r[4] - r[1], r[5] - r[2]
    e2x, e2y, e2z = r[6] - r[0], r[7] - r[1], r[8] - r[2]
    px, py, pz = dy * e2z - dz * e2y, dz * e2x - dx * e2z, dx * e2y - dy * e2x
    det = e1x * px + e1y * py + e1z * pz
    if det == 0.0:
        return BACK
    sx, sy, sz = ox - r[0], oy - r[1], oz - r[2]
    b = min(max((sx * px + sy * py + sz * pz) / det, 0.0), 1.0)
    qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
    c = min(max((dx * qx + dy * qy + dz * qz) / det, 0.0), 1.0 - b)
    a = 1.0 - b - c
    page, x0, y0 = int(r[RECT]), int(r[RECT + 1]), int(r[RECT + 2])
    x1, y1 = x0 + int(r[RECT + 3]), y0 + int(r[RECT + 4])
    x = min(max(int(a * r[UV] + b * r[UV + 2] + c * r[UV + 4]), x0), x1 - 1)
    y = min(max(int(a * r[UV + 1] + b * r[UV + 3] + c * r[UV + 5]), y0), y1 - 1)
    found = grid[page, y, x]
    if found >= 0:
        return found
    # Rounding put the point into a neighbour that the chart does not touch.
    for ny in range(max(y - 1, y0), min(y + 2, y1)):
        for nx in range(max(x - 1, x0), min(x + 2, x1)):
            if grid[page, ny, nx] >= 0:
                return grid[page, ny, nx]
    return BACK


@njit(cache=True, nogil=True)
def resolve(
    records: NDArray, grid: NDArray, rows: NDArray, first_ray: int, width: int, origins: NDArray,
    directions: NDArray, struck: NDArray, hits: NDArray,
) -> None:  # fmt: skip
    """Turn struck triangles into entries of the hit table.

    Rule of sides: a one-sided surface seen from behind is black; a two-sided one shows the same light on both.

    Args:
        records: (T, 24) from `hit_records`.
        grid: (P, H, W) texel of each page pixel.
        rows: texels whose rays these are, `width` each, for columns from `first_ray` on.
    """
    for m in range(len(rows)):
        i = rows[m]
        for k in range(width):
            j = m * width + k
            dx, dy, dz = directions[j, 0], directions[j, 1], directions[j, 2]
            if dx == 0.0 and dy == 0.0 and dz == 0.0:
                hits[i, first_ray + k] = NONE
                continue
            t = struck[j]
            if t < 0:
                hits[i, first_ray + k] = SKY
                continue
            r = records[t]
            if dx * r[FACE] + dy * r[FACE + 1] + dz * r[FACE + 2] > 0.0 and r[TWO_SIDED] == 0.0:
                hits[i, first_ray + k] = BACK
            else:
                hits[i, first_ray + k] = locate(
                    records, grid, t, origins[j, 0], origins[j, 1], origins[j, 2], dx, dy, dz
                )


@dataclass(frozen=True, eq=False)
class Hits:
    """What the gather rays met.

    Attributes:
        table: (N, R) int32: a texel index, or `SKY`, `BACK`, `NONE`.
        counted: (N,) int32 rays that count.
        open: (N,) int32 of them, those that left the level.
    """

    table: I32
    counted: I32
    open: I32

    @staticmethod
    def of(table: I32) -> Hits:
        """Count a table's entries."""
        counted, open_ = np.zeros(len(table), np.int32), np.zeros(len(table), np.int32)
        _tally(table, counted, open_)
        return Hits(table, counted, open_)

    def sky_share(self) -> F32:
        """(N,) share of each texel's counted rays that leave the level."""
        return (self.open / np.maximum(self.counted, 1)).astype(np.float32)


@njit(cache=True, nogil=True)
def _tally(table: NDArray, counted: NDArray, open_: NDArray) -> None:
    for i in range(len(table)):
        for k in range(table.shape[1]):
            h = table[i, k]
            if h != NONE:
                counted[i] += 1
            if h == SKY:
                open_[i] += 1
