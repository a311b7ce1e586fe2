"""Convex polygons in space: clipped, measured, and what triangles leave uncovered of them.

A polygon is the first so many rows of a (MOST, 3) float64 array, metres, its corners in order.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F64, I64

MOST = 32
# What is left of a polygon may fall into so many pieces; in more, nobody says what is open.
PIECES = 48
# Slivers of this width are nothing, metres.
NOTHING = 5e-5


@kernel
def clipped(p: F64, n: int, a: float, b: float, c: float, d: float, out: F64) -> int:
    """Corners of the part of a polygon where ax + by + cz + d ≥ 0 (I. Sutherland, G. Hodgman, 1974)."""
    count = 0
    if n == 0:
        return 0
    x0, y0, z0 = p[n - 1, 0], p[n - 1, 1], p[n - 1, 2]
    s0 = a * x0 + b * y0 + c * z0 + d
    for i in range(n):
        x1, y1, z1 = p[i, 0], p[i, 1], p[i, 2]
        s1 = a * x1 + b * y1 + c * z1 + d
        if (s0 < 0.0) != (s1 < 0.0) and count < MOST:
            t = s0 / (s0 - s1)
            out[count, 0], out[count, 1], out[count, 2] = x0 + t * (x1 - x0), y0 + t * (y1 - y0), z0 + t * (z1 - z0)
            count += 1
        if s1 >= 0.0 and count < MOST:
            out[count, 0], out[count, 1], out[count, 2] = x1, y1, z1
            count += 1
        x0, y0, z0, s0 = x1, y1, z1, s1
    return count if count >= 3 else 0


@kernel
def width_of(p: F64, n: int) -> float:
    """The least distance between two parallel lines that hold a polygon between them, metres."""
    least = math.inf
    for i in range(n):
        k = i + 1 if i + 1 < n else 0
        ex, ey, ez = p[k, 0] - p[i, 0], p[k, 1] - p[i, 1], p[k, 2] - p[i, 2]
        square = ex * ex + ey * ey + ez * ez
        if square < 1e-18:
            continue
        most = 0.0
        for m in range(n):
            vx, vy, vz = p[m, 0] - p[i, 0], p[m, 1] - p[i, 1], p[m, 2] - p[i, 2]
            cx, cy, cz = vy * ez - vz * ey, vz * ex - vx * ez, vx * ey - vy * ex
            most = max(most, (cx * cx + cy * cy + cz * cz) / square)
        least = min(least, most)
    return math.sqrt(least) if least < math.inf else 0.0


@kernel
def middle_of(p: F64, n: int, out: F64) -> None:
    """Mean of a polygon's corners, which lies inside it."""
    out[:] = 0.0
    for i in range(n):
        for c in range(3):
            out[c] += p[i, c] / n


@kernel
def section(px: float, py: float, pz: float, nx: float, ny: float, nz: float, half: float, out: F64) -> int:
    """A square about a point of a plane, so many metres to each side."""
    # Any way along the plane: crossed with the axis that its normal leans to least.
    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
        ux, uy, uz = 0.0, nz, -ny
    elif abs(ny) <= abs(nz):
        ux, uy, uz = -nz, 0.0, nx
    else:
        ux, uy, uz = ny, -nx, 0.0
    length = math.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = half * ux / length, half * uy / length, half * uz / length
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    for i in range(4):
        s = 1.0 if i == 0 or i == 3 else -1.0
        t = 1.0 if i < 2 else -1.0
        out[i, 0], out[i, 1], out[i, 2] = px + s * ux + t * vx, py + s * uy + t * vy, pz + s * uz + t * vz
    return 4


@kernel
def uncovered(
    p: F64, n: int, normal: F64, corners: F64, triangles: I64, count: int, wider: float, pieces: F64, sizes: I64,
    work: F64,
) -> int:  # fmt: skip
    """What triangles in a polygon's plane leave uncovered: 0 nothing, 1 a part, 2 all of it.

    Args:
        corners: (T, 3, 3); triangles: the first `count` of them are in the plane. wider: metres by which each reaches
            further than its edges. pieces: (2, PIECES, MOST, 3), sizes: (2, PIECES), work: (3, MOST, 3), to write on.
    """
    now, others = 0, 1
    copied(p, n, pieces[now, 0])
    sizes[now, 0] = n
    held, touched = 1, False
    for j in range(count):
        t = triangles[j]
        made = 0
        for k in range(held):
            if not _under(pieces[now, k], sizes[now, k], corners, t, normal, wider, work):
                if made == PIECES:
                    return 1
                copied(pieces[now, k], sizes[now, k], pieces[others, made])
                sizes[others, made] = sizes[now, k]
                made += 1
                continue
            touched = True
            made = _beyond(
                pieces[now, k], sizes[now, k], corners, t, normal, wider, pieces[others], sizes[others], made, work
            )
            if made < 0:
                return 1
        now, others, held = others, now, made
        if held == 0:
            return 0
    return 1 if touched else 2


@kernel
def _under(p: F64, n: int, corners: F64, t: int, normal: F64, wider: float, work: F64) -> bool:
    """Whether anything of a polygon lies under a triangle, not only under what this reaches further."""
    copied(p, n, work[0])
    at = 0
    for e in range(3):
        n = _within(work[at], n, corners, t, e, normal, wider, 1.0, work[1 - at])
        at = 1 - at
    return n > 0 and width_of(work[at], n) >= 1.2 * wider


@kernel
def _beyond(
    p: F64, n: int, corners: F64, t: int, normal: F64, wider: float, pieces: F64, sizes: I64, made: int, work: F64
) -> int:  # fmt: skip
    """Add to the pieces what of a polygon lies beyond each edge of a triangle in turn, and how many there are then; −1
    if that is too many."""
    copied(p, n, work[0])
    at = 0
    for e in range(3):
        outside = _within(work[at], n, corners, t, e, normal, wider, -1.0, work[2])
        if outside > 0 and width_of(work[2], outside) >= NOTHING:
            if made == PIECES:
                return -1
            copied(work[2], outside, pieces[made])
            sizes[made] = outside
            made += 1
        n = _within(work[at], n, corners, t, e, normal, wider, 1.0, work[1 - at])
        at = 1 - at
    return made


@kernel
def _within(
    p: F64, n: int, corners: F64, t: int, e: int, normal: F64, wider: float, sign: float, out: F64
) -> int:  # fmt: skip
    """The part of a polygon on the inner side (1) or the outer side (−1) of a triangle's edge."""
    f = (e + 1) % 3
    g = (e + 2) % 3
    ex = corners[t, f, 0] - corners[t, e, 0]
    ey = corners[t, f, 1] - corners[t, e, 1]
    ez = corners[t, f, 2] - corners[t, e, 2]
    ax, ay, az = normal[1] * ez - normal[2] * ey, normal[2] * ex - normal[0] * ez, normal[0] * ey - normal[1] * ex
    length = math.sqrt(ax * ax + ay * ay + az * az)
    if length < 1e-12:
        copied(p, n, out)
        return n if sign > 0 else 0
    ax, ay, az = ax / length, ay / length, az / length
    d = -(ax * corners[t, e, 0] + ay * corners[t, e, 1] + az * corners[t, e, 2])
    # Towards the third corner.
    if ax * corners[t, g, 0] + ay * corners[t, g, 1] + az * corners[t, g, 2] + d < 0.0:
        ax, ay, az, d = -ax, -ay, -az, -d
    return clipped(p, n, sign * ax, sign * ay, sign * az, sign * (d + wider), out)


@kernel
def copied(p: F64, n: int, out: F64) -> None:
    for i in range(n):
        for c in range(3):
            out[i, c] = p[i, c]


@kernel
def scratch() -> tuple[F64, I64, F64]:
    """Room for `uncovered` to write on."""
    return np.empty((2, PIECES, MOST, 3)), np.empty((2, PIECES), np.int64), np.empty((3, MOST, 3))
