"""Which cells of a grid triangles touch."""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F64, I64
from ropebell.sight.cell import touches


def rasterised(corners: F64, shape: I64, size: float) -> I64:
    """(m, 2) cell of a grid and a triangle that touches it.

    Args:
        corners: (T, 3, 3) metres from the grid's corner. shape: (3,) cells along each axis. size: of them, metres.
    """
    pairs = np.empty((max(len(corners) * 16, 1 << 16), 2), np.int64)
    made = _rasterised(corners, shape, size, pairs)
    if made > len(pairs):
        pairs = np.empty((made, 2), np.int64)
        made = _rasterised(corners, shape, size, pairs)
    return pairs[:made]


def sorted_into(corners: F64, shape: I64, size: float) -> tuple[I64, I64]:
    """Triangles by cell of a grid: (cells + 1,) where each one's begin, and (m,) of them."""
    pairs = rasterised(corners, shape, size)
    order = np.argsort(pairs[:, 0], kind="stable")
    count = int(shape.prod())
    return np.concatenate([[0], np.cumsum(np.bincount(pairs[:, 0], minlength=count))]), pairs[order, 1].copy()


@kernel
def _rasterised(corners: F64, shape: I64, size: float, pairs: I64) -> int:
    """Cells that triangles touch, with which; a box of cells is halved until it is one or touches nothing."""
    made = 0
    stack = np.empty((256, 6), np.int64)
    low = np.empty(3)
    for t in range(len(corners)):
        for a in range(3):
            least = min(corners[t, 0, a], corners[t, 1, a], corners[t, 2, a])
            most = max(corners[t, 0, a], corners[t, 1, a], corners[t, 2, a])
            stack[0, a] = max(math.floor(least / size - 1e-9), 0)
            stack[0, 3 + a] = min(math.floor(most / size + 1e-9), shape[a] - 1) + 1
        top = 1
        while top > 0:
            top -= 1
            x0, y0, z0, x1, y1, z1 = stack[top]
            side = max(x1 - x0, y1 - y0, z1 - z0)
            low[0], low[1], low[2] = x0 * size, y0 * size, z0 * size
            # A cube round the box is coarser, but cheap; single cells are asked exactly.
            if not touches(low, side * size, corners, t):
                continue
            if side == 1:
                if made < len(pairs):
                    pairs[made, 0], pairs[made, 1] = (x0 * shape[1] + y0) * shape[2] + z0, t
                made += 1
                continue
            axis = 0 if x1 - x0 == side else (1 if y1 - y0 == side else 2)
            half = (stack[top, axis] + stack[top, 3 + axis]) // 2
            for a in range(6):
                stack[top + 1, a] = stack[top, a]
            stack[top, 3 + axis] = stack[top + 1, axis] = half
            top += 2
    return made
