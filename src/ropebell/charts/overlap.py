"""How much of a set of flat triangles lies on top of others of the set."""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, U8

GRID = 1024


def overlapping_share(uv: F32) -> float:
    """Share of the covered area that more than one triangle covers, on a grid of 1024² points.

    Args:
        uv: (T, 3, 2) in 0 … 1.
    """
    counts = np.zeros((GRID, GRID), np.uint8)
    _count(np.ascontiguousarray(uv, dtype=np.float64) * GRID, counts)
    covered = int((counts > 0).sum())
    return float((counts > 1).sum() / covered) if covered else 0.0


@kernel
def _count(uv: F64, counts: U8) -> None:
    """Count for every grid point the triangles that contain it well inside, so that shared edges do not count."""
    rows, columns = counts.shape
    for t in range(len(uv)):
        ax, ay, bx, by, cx, cy = uv[t, 0, 0], uv[t, 0, 1], uv[t, 1, 0], uv[t, 1, 1], uv[t, 2, 0], uv[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-12:
            continue
        x0, x1 = max(math.floor(min(ax, bx, cx)), 0), min(math.ceil(max(ax, bx, cx)), columns)
        y0, y1 = max(math.floor(min(ay, by, cy)), 0), min(math.ceil(max(ay, by, cy)), rows)
        # A point counts only if it is 0.05 grid steps inside: rounding of shared corners stays below that.
        sa = 0.05 * math.hypot(cx - bx, cy - by) / abs(area)
        sb = 0.05 * math.hypot(cx - ax, cy - ay) / abs(area)
        sc = 0.05 * math.hypot(bx - ax, by - ay) / abs(area)
        for y in range(y0, y1):
            for x in range(x0, x1):
                # Off the lattice of likely vertices, so that grids of quads do not fall on it.
                px, py = x + 0.4142, y + 0.5858
                wb = ((px - ax) * (cy - ay) - (py - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                if wb > sb and wc > sc and 1 - wb - wc > sa and counts[y, x] < 255:
                    counts[y, x] += 1


def overlap_of(uv: F32, grid: int = 256) -> tuple[float, int]:
    """Share of the covered area that more than one triangle covers, and a triangle where it does (−1: none).

    Coarser than `overlapping_share` and as much quicker, for checks of many meshes.

    Args:
        uv: (T, 3, 2) in 0 … 1.
    """
    counts = np.zeros((grid, grid), np.uint8)
    flat = np.ascontiguousarray(uv, dtype=np.float64) * grid
    _count(flat, counts)
    covered = int((counts > 0).sum())
    double = counts > 1
    if not covered or not double.any():
        return 0.0, -1
    at = np.clip(flat.mean(axis=1).astype(np.int64), 0, grid - 1)
    over = double[at[:, 1], at[:, 0]]
    return float(double.sum() / covered), int(np.argmax(over)) if over.any() else 0
