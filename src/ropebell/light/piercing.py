"""Rays through the holes of cut-out surfaces."""

from __future__ import annotations

import math

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, U8, Mask
from ropebell.level.picture_lookup import CLAMP, MIRROR


@kernel
def wrapped(value: float, mode: int, size: int) -> int:
    """Pixel of a coordinate under a glTF wrap mode."""
    if mode == CLAMP:
        value = min(max(value, 0.0), 1.0)
    elif mode == MIRROR:
        value = value - 2.0 * math.floor(value / 2.0)
        value = 1.0 - abs(value - 1.0)
    else:
        value = value - math.floor(value)
    return min(int(value * size), size - 1)


@kernel
def weights_along(
    corners: F32, ox: float, oy: float, oz: float, dx: float, dy: float, dz: float
) -> tuple[float, float]:
    """Weights of corners 1 and 2 where a ray meets a triangle's plane (Möller and Trumbore, 1997), held inside it."""
    ax, ay, az = float(corners[0, 0]), float(corners[0, 1]), float(corners[0, 2])
    e1x, e1y, e1z = corners[1, 0] - ax, corners[1, 1] - ay, corners[1, 2] - az
    e2x, e2y, e2z = corners[2, 0] - ax, corners[2, 1] - ay, corners[2, 2] - az
    px, py, pz = dy * e2z - dz * e2y, dz * e2x - dx * e2z, dx * e2y - dy * e2x
    det = e1x * px + e1y * py + e1z * pz
    if det == 0.0:
        return 0.0, 0.0
    sx, sy, sz = ox - ax, oy - ay, oz - az
    qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
    b = min(max((sx * px + sy * py + sz * pz) / det, 0.0), 1.0)
    return b, min(max((dx * qx + dy * qy + dz * qz) / det, 0.0), 1.0 - b)


@kernel
def pierce(
    vertices: F32, row_of: I32, uv: F32, mask: I32, shape: I32, solid: U8,
    origins: F32, directions: F32, struck: I32, hole: Mask, along: F64,
) -> None:  # fmt: skip
    """For every ray that struck a triangle: how far along it, and whether it struck a hole.

    Args:
        vertices: (T, 3, 3) float32; row_of: (T,) int32 row of the cut-out table, −1 for whole triangles.
        uv, mask, shape, solid: of `Cutouts`.
        struck: (n,) int32 triangle, −1 for none.
        hole: (n,) bool, written. along: (n,) float64 lengths of the direction, written; infinite for none.
    """
    for j in range(len(struck)):
        t = struck[j]
        hole[j], along[j] = False, math.inf
        if t < 0:
            continue
        ax, ay, az = float(vertices[t, 0, 0]), float(vertices[t, 0, 1]), float(vertices[t, 0, 2])
        e1x, e1y, e1z = vertices[t, 1, 0] - ax, vertices[t, 1, 1] - ay, vertices[t, 1, 2] - az
        e2x, e2y, e2z = vertices[t, 2, 0] - ax, vertices[t, 2, 1] - ay, vertices[t, 2, 2] - az
        dx, dy, dz = float(directions[j, 0]), float(directions[j, 1]), float(directions[j, 2])
        px, py, pz = dy * e2z - dz * e2y, dz * e2x - dx * e2z, dx * e2y - dy * e2x
        det = e1x * px + e1y * py + e1z * pz
        if det == 0.0:
            along[j] = 0.0
            continue
        sx, sy, sz = origins[j, 0] - ax, origins[j, 1] - ay, origins[j, 2] - az
        qx, qy, qz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
        along[j] = (e2x * qx + e2y * qy + e2z * qz) / det
        row = row_of[t]
        if row < 0:
            continue
        b = min(max((sx * px + sy * py + sz * pz) / det, 0.0), 1.0)
        c = min(max((dx * qx + dy * qy + dz * qz) / det, 0.0), 1.0 - b)
        a = 1.0 - b - c
        u = a * uv[row, 0, 0] + b * uv[row, 1, 0] + c * uv[row, 2, 0]
        v = a * uv[row, 0, 1] + b * uv[row, 1, 1] + c * uv[row, 2, 1]
        m = mask[row]
        y, x = wrapped(v, shape[m, 4], shape[m, 1]), wrapped(u, shape[m, 3], shape[m, 2])
        hole[j] = solid[shape[m, 0] + y * shape[m, 2] + x] == 0
