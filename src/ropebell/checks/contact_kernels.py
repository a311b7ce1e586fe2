"""Kernels that find faces of different objects on top of one another."""

from __future__ import annotations

import numpy as np

from ropebell.charts.polygon import area_and_middle, clip
from ropebell.kernel import kernel
from ropebell.level.model import F64, I32, I64


@kernel
def overlapping_pairs(
    order: I64, group: I64, low: F64, high: F64, node: I32, corners: F64, frames: F64,
    least: float, first: I64, second: I64, area: F64, places: F64,
) -> int:  # fmt: skip
    """Pairs of faces in one plane that cover each other, of different objects; how many were found.

    Args:
        order: (n,) faces sorted by group, then by the lowest coordinate along the group's first axis.
        group: (n,) plane of each face in `order`.
        low, high: (n,) extent along the group's first axis, in `order`.
        corners: (T, 3, 3); frames: (n, 2, 3) two axes of each face's plane, in `order`.
        least: smallest area that counts, m².
        first, second, area: (m,) room for pairs; places: (m, 3) middle of the overlap.
    """
    found = 0
    poly, spare = np.empty((16, 2)), np.empty((16, 2))
    a, b = np.empty((3, 2)), np.empty((3, 2))
    for i in range(len(order)):
        for j in range(i + 1, len(order)):
            if group[j] != group[i] or low[j] >= high[i]:
                break
            s, t = order[i], order[j]
            if node[s] == node[t]:
                continue
            for k in range(3):
                for d in range(2):
                    a[k, d] = (
                        corners[s, k, 0] * frames[i, d, 0]
                        + corners[s, k, 1] * frames[i, d, 1]
                        + corners[s, k, 2] * frames[i, d, 2]
                    )
                    b[k, d] = (
                        corners[t, k, 0] * frames[i, d, 0]
                        + corners[t, k, 1] * frames[i, d, 1]
                        + corners[t, k, 2] * frames[i, d, 2]
                    )
            size, x, y = clipped(a, b, poly, spare)
            if size <= least:
                continue
            if found == len(first):
                return found
            first[found], second[found], area[found] = s, t, size
            for c in range(3):
                # The middle in the plane, carried over from the first face's own corner.
                places[found, c] = corners[s, 0, c] + (x - a[0, 0]) * frames[i, 0, c] + (y - a[0, 1]) * frames[i, 1, c]
            found += 1
    return found


@kernel
def clipped(a: F64, b: F64, poly: F64, spare: F64) -> tuple[float, float, float]:
    """Area and middle of the overlap of two flat triangles."""
    turn = (b[1, 0] - b[0, 0]) * (b[2, 1] - b[0, 1]) - (b[2, 0] - b[0, 0]) * (b[1, 1] - b[0, 1])
    sign = 1.0 if turn > 0 else -1.0
    count = 3
    for i in range(3):
        poly[i, 0], poly[i, 1] = a[i, 0], a[i, 1]
    for e in range(3):
        f = (e + 1) % 3
        ex, ey = sign * (b[f, 0] - b[e, 0]), sign * (b[f, 1] - b[e, 1])
        count = clip(poly, spare, count, b[e, 0], b[e, 1], -ey, ex)
        if count < 3:
            return 0.0, 0.0, 0.0
    return area_and_middle(poly, count)
