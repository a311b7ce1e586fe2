"""Kernels that clip small convex polygons in the plane."""

from __future__ import annotations

from ropebell.kernel import kernel
from ropebell.level.model import F64


@kernel
def clip(
    polygon: F64, spare: F64, count: int, origin_x: float, origin_y: float, inward_x: float, inward_y: float
) -> int:
    """Keep what lies on the inner side of a line: I. Sutherland, G. Hodgman, "Reentrant polygon clipping" (1974).

    Args:
        polygon: (n, 2) float64, of which the first `count` are used; overwritten by the result, at most one more.
        spare: (n, 2) float64 working space.
        origin_x, origin_y: a point of the line; inward_x, inward_y: a vector to its inner side, of any length.

    Returns:
        The corners left; below 3 for nothing.
    """
    kept = 0
    for i in range(count):
        j = (i + 1) % count
        di = inward_x * (polygon[i, 0] - origin_x) + inward_y * (polygon[i, 1] - origin_y)
        dj = inward_x * (polygon[j, 0] - origin_x) + inward_y * (polygon[j, 1] - origin_y)
        if di >= 0:
            spare[kept, 0], spare[kept, 1] = polygon[i, 0], polygon[i, 1]
            kept += 1
        if (di >= 0) != (dj >= 0):
            s = di / (di - dj)
            spare[kept, 0] = polygon[i, 0] + s * (polygon[j, 0] - polygon[i, 0])
            spare[kept, 1] = polygon[i, 1] + s * (polygon[j, 1] - polygon[i, 1])
            kept += 1
    for i in range(kept):
        polygon[i, 0], polygon[i, 1] = spare[i, 0], spare[i, 1]
    return kept


@kernel
def area_and_middle(polygon: F64, count: int) -> tuple[float, float, float]:
    """Area and centroid (x, y) of a convex polygon's first `count` corners; all 0 where it has no area."""
    area, x, y = 0.0, 0.0, 0.0
    for i in range(1, count - 1):
        ux, uy = polygon[i, 0] - polygon[0, 0], polygon[i, 1] - polygon[0, 1]
        vx, vy = polygon[i + 1, 0] - polygon[0, 0], polygon[i + 1, 1] - polygon[0, 1]
        part = 0.5 * abs(ux * vy - uy * vx)
        area += part
        x += part * (polygon[0, 0] + polygon[i, 0] + polygon[i + 1, 0]) / 3
        y += part * (polygon[0, 1] + polygon[i, 1] + polygon[i + 1, 1]) / 3
    if area <= 0:
        return 0.0, 0.0, 0.0
    return area, x / area, y / area
