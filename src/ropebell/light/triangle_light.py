"""Sampling an emitting triangle by the solid angle it fills.

J. Arvo, "Stratified sampling of spherical triangles", SIGGRAPH 1995, with the cosine at the receiver warped
in bilinearly: D. Hart et al., "Practical product sampling by fitting and composing warps", CGF 39.4 (2020).
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64

# Below this solid angle (steradian) spherical trigonometry loses digits and the plain area is as good.
SMALL_ANGLE = 0.01
LEAST_WEIGHT = 0.01


@kernel
def _angle(ax: float, ay: float, az: float, bx: float, by: float, bz: float) -> float:
    """Angle between two vectors, accurate when they are nearly parallel (Kahan)."""
    cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    return math.atan2(math.sqrt(cx * cx + cy * cy + cz * cz), ax * bx + ay * by + az * bz)


@kernel
def directions_to(tri: F32, x: float, y: float, z: float, out: F64) -> None:
    """(3, 3) unit directions from a point to the corners of a (3, 3) triangle."""
    for i in range(3):
        dx, dy, dz = tri[i, 0] - x, tri[i, 1] - y, tri[i, 2] - z
        length = max(math.sqrt(dx * dx + dy * dy + dz * dz), 1e-20)
        out[i, 0], out[i, 1], out[i, 2] = dx / length, dy / length, dz / length


@kernel
def solid_angle(w: F64) -> float:
    """Solid angle between three unit directions: A. van Oosterom and J. Strackee, IEEE TBME 30 (1983)."""
    triple = (
        w[0, 0] * (w[1, 1] * w[2, 2] - w[1, 2] * w[2, 1])
        + w[0, 1] * (w[1, 2] * w[2, 0] - w[1, 0] * w[2, 2])
        + w[0, 2] * (w[1, 0] * w[2, 1] - w[1, 1] * w[2, 0])
    )
    ab = w[0, 0] * w[1, 0] + w[0, 1] * w[1, 1] + w[0, 2] * w[1, 2]
    bc = w[1, 0] * w[2, 0] + w[1, 1] * w[2, 1] + w[1, 2] * w[2, 2]
    ca = w[2, 0] * w[0, 0] + w[2, 1] * w[0, 1] + w[2, 2] * w[0, 2]
    return abs(2.0 * math.atan2(triple, 1.0 + ab + bc + ca))


@kernel
def _bilinear_1d(a: float, b: float, u: float) -> float:
    """Invert the distribution whose density goes linearly from a to b over 0 … 1."""
    if abs(a - b) < 1e-12 * (a + b):
        return u
    return (a - math.sqrt(max(a * a * (1 - u) + b * b * u, 0.0))) / (a - b)


@kernel
def spherical_sample(
    w: F64, omega: float, nx: float, ny: float, nz: float, u: float, v: float
) -> tuple[float, float, float, float]:
    """A direction in the triangle of unit directions w, roughly in proportion to its cosine to a normal.

    Args:
        omega: its solid angle.
        u, v: point of the unit square.

    Returns:
        unit direction (x, y, z) and its density per steradian.
    """
    ca = max(w[0, 0] * nx + w[0, 1] * ny + w[0, 2] * nz, LEAST_WEIGHT)
    cb = max(w[1, 0] * nx + w[1, 1] * ny + w[1, 2] * nz, LEAST_WEIGHT)
    cc = max(w[2, 0] * nx + w[2, 1] * ny + w[2, 2] * nz, LEAST_WEIGHT)
    # Corners of Arvo's square: v = 0 is corner b, (u = 0, v = 1) is a, (u = 1, v = 1) is c.
    v = _bilinear_1d(2 * cb, ca + cc, v)
    low, high = cb + v * (ca - cb), cb + v * (cc - cb)
    u = _bilinear_1d(low, high, u)
    density = (low + u * (high - low)) / (0.25 * (2 * cb + ca + cc))
    # Interior angles at the corners, from the normals of the great circles.
    n_ab = np.empty(3)
    n_bc = np.empty(3)
    n_ca = np.empty(3)
    _unit_cross(w[0], w[1], n_ab)
    _unit_cross(w[1], w[2], n_bc)
    _unit_cross(w[2], w[0], n_ca)
    alpha = _angle(n_ab[0], n_ab[1], n_ab[2], -n_ca[0], -n_ca[1], -n_ca[2])
    side = w[0, 0] * w[1, 0] + w[0, 1] * w[1, 1] + w[0, 2] * w[1, 2]
    beta = _angle(n_bc[0], n_bc[1], n_bc[2], -n_ab[0], -n_ab[1], -n_ab[2])
    gamma = _angle(n_ca[0], n_ca[1], n_ca[2], -n_bc[0], -n_bc[1], -n_bc[2])
    area = u * (alpha + beta + gamma - math.pi)
    s, t = math.sin(area - alpha), math.cos(area - alpha)
    p = t - math.cos(alpha)
    q = s + math.sin(alpha) * side
    top = (q * t - p * s) * math.cos(alpha) - q
    bottom = (q * s + p * t) * math.sin(alpha)
    cosine = min(max(top / bottom if bottom != 0 else 1.0, -1.0), 1.0)
    # c' on the arc from a to c.
    ac = w[0, 0] * w[2, 0] + w[0, 1] * w[2, 1] + w[0, 2] * w[2, 2]
    ox, oy, oz = w[2, 0] - ac * w[0, 0], w[2, 1] - ac * w[0, 1], w[2, 2] - ac * w[0, 2]
    length = max(math.sqrt(ox * ox + oy * oy + oz * oz), 1e-20)
    sine = math.sqrt(max(0.0, 1.0 - cosine * cosine)) / length
    cx, cy, cz = cosine * w[0, 0] + sine * ox, cosine * w[0, 1] + sine * oy, cosine * w[0, 2] + sine * oz
    # The sample on the arc from b to c'.
    bc = cx * w[1, 0] + cy * w[1, 1] + cz * w[1, 2]
    z = 1.0 - v * (1.0 - bc)
    ox, oy, oz = cx - bc * w[1, 0], cy - bc * w[1, 1], cz - bc * w[1, 2]
    length = max(math.sqrt(ox * ox + oy * oy + oz * oz), 1e-20)
    sine = math.sqrt(max(0.0, 1.0 - z * z)) / length
    return z * w[1, 0] + sine * ox, z * w[1, 1] + sine * oy, z * w[1, 2] + sine * oz, density / omega


@kernel
def _unit_cross(a: F64, b: F64, out: F64) -> None:
    x, y, z = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
    length = max(math.sqrt(x * x + y * y + z * z), 1e-30)
    out[0], out[1], out[2] = x / length, y / length, z / length
