"""One cell of space and the few planes that cut it: into which regions, and where one leads to the next.

A cell with up to `MOST_PLANES` planes falls into one convex region per combination of their sides. Between two regions
that differ in one plane lies a facet of it: what triangles cover of that is closed. So contact, overlap, joints and
T-junctions are told as closed at any size of cell, and a slit as open, without cells as small as the slit.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F64, I64
from ropebell.sight.polygons import clipped, copied, middle_of, section, uncovered, width_of

# What a cell is.
EMPTY, CUT, UNDECIDED, SPLIT = np.uint8(0), np.uint8(1), np.uint8(2), np.uint8(3)
MOST_PLANES = 4
# Openings below this are closed, metres. What is in one plane within the next, is one plane; and triangles reach
# further than their edges by the last, so that what nearly touches is closed: below 1 mm all is, above 3 mm nothing.
CLOSED = 1.25e-3
ONE_PLANE, WIDER = 0.45e-3, 0.9e-3


@kernel
def touches(low: F64, size: float, corners: F64, t: int) -> bool:
    """Whether a triangle meets a cube, by the separating axes of box and triangle (T. Akenine-Möller, 2001)."""
    half = 0.5 * size
    x, y, z = low[0] + half, low[1] + half, low[2] + half
    half *= 1.0 + 1e-9
    ax, ay, az = corners[t, 0, 0] - x, corners[t, 0, 1] - y, corners[t, 0, 2] - z
    bx, by, bz = corners[t, 1, 0] - x, corners[t, 1, 1] - y, corners[t, 1, 2] - z
    cx, cy, cz = corners[t, 2, 0] - x, corners[t, 2, 1] - y, corners[t, 2, 2] - z
    if min(ax, bx, cx) > half or max(ax, bx, cx) < -half:
        return False
    if min(ay, by, cy) > half or max(ay, by, cy) < -half:
        return False
    if min(az, bz, cz) > half or max(az, bz, cz) < -half:
        return False
    ux, uy, uz = bx - ax, by - ay, bz - az
    vx, vy, vz = cx - bx, cy - by, cz - bz
    wx, wy, wz = ax - cx, ay - cy, az - cz
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    if abs(nx * ax + ny * ay + nz * az) > half * (abs(nx) + abs(ny) + abs(nz)):
        return False
    for k in range(3):
        ex, ey, ez = (ux, uy, uz) if k == 0 else ((vx, vy, vz) if k == 1 else (wx, wy, wz))
        p, q, r = az * ey - ay * ez, bz * ey - by * ez, cz * ey - cy * ez
        reach = half * (abs(ey) + abs(ez))
        if min(p, q, r) > reach or max(p, q, r) < -reach:
            return False
        p, q, r = ax * ez - az * ex, bx * ez - bz * ex, cx * ez - cz * ex
        reach = half * (abs(ex) + abs(ez))
        if min(p, q, r) > reach or max(p, q, r) < -reach:
            return False
        p, q, r = ay * ex - ax * ey, by * ex - bx * ey, cy * ex - cx * ey
        reach = half * (abs(ex) + abs(ey))
        if min(p, q, r) > reach or max(p, q, r) < -reach:
            return False
    return True


@kernel
def boxed(p: F64, n: int, low: F64, size: float, work: F64) -> int:
    """Clip a polygon to a cube, in place."""
    for axis in range(3):
        a, b, c = (1.0 if axis == 0 else 0.0), (1.0 if axis == 1 else 0.0), (1.0 if axis == 2 else 0.0)
        n = clipped(p, n, a, b, c, -low[axis], work)
        n = clipped(work, n, -a, -b, -c, low[axis] + size, p)
    return n


@kernel
def planes_of(
    low: F64, size: float, listed: I64, normals: F64, offsets: F64, plane: I64, group: I64
) -> int:  # fmt: skip
    """How many planes the triangles of a cell lie in, −1 for more than a cell can have.

    Args:
        listed: (m,) triangles. normals: (T, 3) unit; offsets: (T,) of their planes.
        plane: (MOST_PLANES,) one triangle of each. group: (m,) each one's plane.
    """
    half = 0.5 * size
    x, y, z = low[0] + half, low[1] + half, low[2] + half
    count = 0
    off = np.zeros(MOST_PLANES)
    for m in range(len(listed)):
        t = listed[m]
        here = normals[t, 0] * x + normals[t, 1] * y + normals[t, 2] * z - offsets[t]
        found = -1
        for j in range(count):
            r = plane[j]
            there = normals[r, 0] * x + normals[r, 1] * y + normals[r, 2] * z - offsets[r]
            dot = normals[t, 0] * normals[r, 0] + normals[t, 1] * normals[r, 1] + normals[t, 2] * normals[r, 2]
            s = 1.0 if dot >= 0.0 else -1.0
            square = 0.0
            for c in range(3):
                square += (normals[t, c] - s * normals[r, c]) ** 2
            away = abs(here - s * there) + math.sqrt(3.0 * square) * half
            if away <= ONE_PLANE:
                found = j
                off[j] = max(off[j], away)
                break
        if found < 0:
            if count == MOST_PLANES:
                return -1
            found = count
            plane[count] = t
            count += 1
        group[m] = found
    if _meet_elsewhere(x, y, z, half, normals, offsets, plane, count, off):
        return -1
    return count


@kernel
def _meet_elsewhere(
    x: float, y: float, z: float, half: float, normals: F64, offsets: F64, plane: I64, count: int, off: F64
) -> bool:  # fmt: skip
    """Whether two planes of a cell may meet in another line than the triangles do for which they stand.

    Derived: triangles that lie d off their plane meet those of another, at an angle a to it, up to d / sin a away from
    where the planes meet. Of finely tessellated round things a is small, and a strip as wide as that would be told as
    uncovered. Smaller cells have them in one plane.

    Args:
        x, y, z, half: middle and half a side of the cell, metres. plane: (count,) a triangle of each plane.
        off: (count,) metres that others of each lie off it, at most.
    """
    for j in range(count):
        for k in range(j):
            a, b = plane[j], plane[k]
            dot = normals[a, 0] * normals[b, 0] + normals[a, 1] * normals[b, 1] + normals[a, 2] * normals[b, 2]
            s = 1.0 if dot >= 0.0 else -1.0
            apart = normals[a, 0] * x + normals[a, 1] * y + normals[a, 2] * z - offsets[a]
            apart -= s * (normals[b, 0] * x + normals[b, 1] * y + normals[b, 2] * z - offsets[b])
            square = 0.0
            for c in range(3):
                square += (normals[a, c] - s * normals[b, c]) ** 2
            together = off[j] + off[k]
            near = abs(apart) <= math.sqrt(3.0 * square) * half + together
            if near and together > WIDER * math.sqrt(max(1.0 - dot * dot, 0.0)):
                return True
    return False


@kernel
def facets(
    low: F64, size: float, listed: I64, corners: F64, normals: F64, offsets: F64, plane: I64, group: I64, count: int,
    found: F64, polygon: F64, work: F64, members: I64, pieces: F64, sizes: I64, room: F64,
) -> int:  # fmt: skip
    """Where one region of a cell leads to the next; −1: a facet is partly open, which smaller cells tell.

    Args:
        found: (n, 6) written: the two regions, the width of the opening in metres, and a place in it.
        polygon, work: (MOST, 3); members: (m,); pieces, sizes, room: of `uncovered`, to write on.
    """
    half = 0.5 * size
    made = 0
    regions = 1 << count
    base = np.empty_like(polygon)
    for j in range(count):
        r = plane[j]
        nx, ny, nz = normals[r, 0], normals[r, 1], normals[r, 2]
        x, y, z = low[0] + half, low[1] + half, low[2] + half
        away = nx * x + ny * y + nz * z - offsets[r]
        n = section(x - away * nx, y - away * ny, z - away * nz, nx, ny, nz, 2.0 * size, base)
        n = boxed(base, n, low, size, work)
        if n == 0:
            continue
        inside = _members(listed, group, j, members)
        for region in range(regions):
            if (region >> j) & 1:
                continue
            copied(base, n, polygon)
            k = n
            for other in range(count):
                if other != j and k > 0:
                    k = _side(polygon, k, normals, offsets, plane[other], (region >> other) & 1, work)
            width = width_of(polygon, k) if k else 0.0
            if width < CLOSED:
                continue
            left = uncovered(polygon, k, normals[r], corners, members, inside, WIDER, pieces, sizes, room)
            if left == 1:
                return -1
            if left == 2:
                found[made, 0], found[made, 1], found[made, 2] = region, region | (1 << j), width
                middle_of(polygon, k, found[made, 3:6])
                made += 1
    return made


@kernel
def _members(listed: I64, group: I64, plane: int, members: I64) -> int:
    """Write the triangles of one plane, and how many they are."""
    count = 0
    for m in range(len(listed)):
        if group[m] == plane:
            members[count] = listed[m]
            count += 1
    return count


@kernel
def _side(p: F64, n: int, normals: F64, offsets: F64, t: int, above: int, work: F64) -> int:
    """Clip a polygon to one side of a triangle's plane, in place."""
    s = 1.0 if above else -1.0
    k = clipped(p, n, s * normals[t, 0], s * normals[t, 1], s * normals[t, 2], -s * offsets[t], work)
    copied(work, k, p)
    return k


@kernel
def on_side(p: F64, n: int, normals: F64, offsets: F64, plane: I64, count: int, region: int, work: F64) -> int:
    """Clip a polygon to a region of a cell, in place."""
    for j in range(count):
        if n > 0:
            n = _side(p, n, normals, offsets, plane[j], (region >> j) & 1, work)
    return n


@kernel
def region_at(x: float, y: float, z: float, normals: F64, offsets: F64, plane: I64, count: int) -> int:
    """The region of a cell that a point lies in."""
    region = 0
    for j in range(count):
        t = plane[j]
        if normals[t, 0] * x + normals[t, 1] * y + normals[t, 2] * z - offsets[t] >= 0.0:
            region |= 1 << j
    return region
