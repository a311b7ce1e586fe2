"""Kernels that lay flat triangles on the texel grid, row 0 at v = 0.

All of it is reckoned in texels from the chart's own corner, so that a chart moved to another place of the pages has
the very same texels: what is known of them can be kept.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.charts.polygon import area_and_middle, clip
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32

# A texel touched by less than this share of its area carries no usable footprint.
LEAST_COVER = 1e-5


@kernel
def clip_cell(tri: F64, x: float, y: float, poly: F64, spare: F64) -> tuple[float, float, float]:
    """Clip a triangle to the unit cell at (x, y).

    Args:
        tri: (3, 2) float64.
        poly, spare: (12, 2) float64 working space.

    Returns:
        area, and the centroid (x, y) of the clipped polygon.
    """
    count = 3
    for i in range(3):
        poly[i, 0], poly[i, 1] = tri[i, 0], tri[i, 1]
    for side in range(4):
        sign = 1.0 if side < 2 else -1.0
        far = 0.0 if side < 2 else 1.0
        if side % 2 == 0:
            count = clip(poly, spare, count, x + far, 0.0, sign, 0.0)
        else:
            count = clip(poly, spare, count, 0.0, y + far, 0.0, sign)
        if count < 3:
            return 0.0, x, y
    area, cx, cy = area_and_middle(poly, count)
    return (area, cx, cy) if area > 0 else (0.0, x, y)


@kernel
def weights(tri: F64, x: float, y: float) -> tuple[float, float]:
    """Barycentric weights of corners 1 and 2 at a point; (−1, −1) for a triangle without area."""
    bx, by = tri[1, 0] - tri[0, 0], tri[1, 1] - tri[0, 1]
    cx, cy = tri[2, 0] - tri[0, 0], tri[2, 1] - tri[0, 1]
    area = bx * cy - by * cx
    if abs(area) < 1e-14:
        return -1.0, -1.0
    px, py = x - tri[0, 0], y - tri[0, 1]
    return (px * cy - py * cx) / area, (bx * py - by * px) / area


@kernel
def cell_bounds(tri: F64, rect: I32) -> tuple[int, int, int, int]:
    """Cells of its chart that a triangle can touch: x0, x1, y0, y1, ends excluded."""
    low_x = min(tri[0, 0], tri[1, 0], tri[2, 0])
    high_x = max(tri[0, 0], tri[1, 0], tri[2, 0])
    low_y = min(tri[0, 1], tri[1, 1], tri[2, 1])
    high_y = max(tri[0, 1], tri[1, 1], tri[2, 1])
    x0, x1 = max(math.floor(low_x), 0), min(math.floor(high_x) + 1, rect[3])
    y0, y1 = max(math.floor(low_y), 0), min(math.floor(high_y) + 1, rect[4])
    return x0, x1, y0, y1


@kernel
def from_corner(uv: F32, rect: I32, tri: F64) -> None:
    """Write a triangle's coordinates, in texels from its chart's corner, to `tri` (3, 2) float64."""
    for i in range(3):
        tri[i, 0], tri[i, 1] = uv[i, 0] - rect[1], uv[i, 1] - rect[2]


@kernel
def cover(uv: F32, chart: I32, rects: I32, area: F32, owner: I32, first: int, end: int) -> None:
    """Add triangles `first` … `end` to the covered area of each texel and note the one that covers most.

    Args:
        uv: (T, 3, 2) float32; chart: (T,); rects: (C, 5).
        area: (pages, H, W) float32, added to.
        owner: (pages, H, W) int32 triangle with the largest share; −1 where none.
    """
    tri = np.empty((3, 2))
    poly, spare = np.empty((12, 2)), np.empty((12, 2))
    for t in range(first, end):
        rect = rects[chart[t]]
        from_corner(uv[t], rect, tri)
        x0, x1, y0, y1 = cell_bounds(tri, rect)
        for y in range(y0, y1):
            for x in range(x0, x1):
                part, _, _ = clip_cell(tri, x, y, poly, spare)
                if part < LEAST_COVER:
                    continue
                at = rect[0], rect[2] + y, rect[1] + x
                before = area[at]
                # The first triangle to cover half of what is covered so far keeps the texel.
                if owner[at] < 0 or part > before:
                    owner[at] = t
                area[at] = before + part


@kernel
def place_samples(
    uv: F32,
    chart: I32,
    rects: I32,
    texel: I32,
    lattice: F64,
    tri_of: I32,
    bary: F32,
) -> None:
    """Find for every texel and lattice point the triangle below it.

    Args:
        texel: (pages, H, W) int32 texel index or −1.
        lattice: (S, 2) float64 points of the unit cell.
        tri_of: (N, S) int32, filled where it was −1.
        bary: (N, S, 2) float32 weights of corners 1 and 2.
    """
    tri = np.empty((3, 2))
    for t in range(len(uv)):
        rect = rects[chart[t]]
        from_corner(uv[t], rect, tri)
        x0, x1, y0, y1 = cell_bounds(tri, rect)
        for y in range(y0, y1):
            for x in range(x0, x1):
                n = texel[rect[0], rect[2] + y, rect[1] + x]
                if n < 0:
                    continue
                for s in range(len(lattice)):
                    if tri_of[n, s] >= 0:
                        continue
                    b, c = weights(tri, x + lattice[s, 0], y + lattice[s, 1])
                    if b >= 0 and c >= 0 and b + c <= 1:
                        tri_of[n, s] = t
                        bary[n, s, 0], bary[n, s, 1] = b, c


@kernel
def centroid_samples(
    uv: F32, chart: I32, rects: I32, owner: I32, column: I32, row: I32, tri_of: I32,
    bary: F32,
) -> None:  # fmt: skip
    """Give texels that no lattice point hit one sample, at the centroid of what their owner covers.

    Args:
        owner: (N,) int32 triangle; column, row: (N,) int32.
    """
    tri = np.empty((3, 2))
    poly, spare = np.empty((12, 2)), np.empty((12, 2))
    for n in range(len(owner)):
        if tri_of[n].max() >= 0:
            continue
        t = owner[n]
        rect = rects[chart[t]]
        from_corner(uv[t], rect, tri)
        _, x, y = clip_cell(tri, column[n] - rect[1], row[n] - rect[2], poly, spare)
        b, c = weights(tri, x, y)
        b = min(max(b, 0.0), 1.0)
        c = min(max(c, 0.0), 1.0 - b)
        tri_of[n, 0], bary[n, 0, 0], bary[n, 0, 1] = t, b, c
