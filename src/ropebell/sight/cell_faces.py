"""The faces between cells of space: what opens over one from a region of a cell to a region of the next."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F64, I32, I64, U8
from ropebell.sight.cell import CLOSED, EMPTY, ONE_PLANE, SPLIT, UNDECIDED, on_side
from ropebell.sight.polygons import MOST, copied, middle_of, width_of

# Cosine of the angle up to which planes of two cells may stand for one surface.
LIKE = 0.5


@kernel
def across(
    cells: I64, at: I32, level: NDArray[np.int8], state: U8, child: I32, shape: I64, size: float, node: I64,
    plane: I64, planes: I64, normals: F64, offsets: F64, new: int, found: F64, beside: I64,
) -> tuple[int, int]:  # fmt: skip
    """Openings over faces of cells, and what lies beside undecided ones; how many of each there are, written or not.

    Args:
        new: cells from this number on are looked at for the first time.
    """
    made, near = 0, 0
    room = np.empty((3, MOST, 3))
    place = np.empty(3, np.int64)
    stack = np.empty(4096, np.int64)
    for m in range(len(cells)):
        a = cells[m]
        depth = level[a]
        for axis in range(3):
            for way in range(2):
                for c in range(3):
                    place[c] = at[a, c]
                place[axis] += 1 if way else -1
                x, y, z = place[0] >> depth, place[1] >> depth, place[2] >> depth
                if x < 0 or y < 0 or z < 0 or x >= shape[0] or y >= shape[1] or z >= shape[2]:
                    continue
                b = (x * shape[1] + y) * shape[2] + z
                down = 0
                while down < depth and state[b] == SPLIT:
                    down += 1
                    s = depth - down
                    b = child[b] + 4 * ((place[0] >> s) & 1) + 2 * ((place[1] >> s) & 1) + ((place[2] >> s) & 1)
                if state[b] != SPLIT:
                    if down == depth and b >= new and way == 0:
                        continue  # told by the other one
                    made, near = _between(
                        a, b, axis, way, at, level, state, size, node, plane, planes, normals, offsets, room, found,
                        made, beside, near,
                    )  # fmt: skip
                    continue
                # All smaller ones on the other side of the face.
                stack[0], top = b, 1
                while top > 0:
                    top -= 1
                    b = stack[top]
                    if state[b] != SPLIT:
                        if b < new:
                            made, near = _between(
                                b, a, axis, 1 - way, at, level, state, size, node, plane, planes, normals, offsets,
                                room, found, made, beside, near,
                            )  # fmt: skip
                        continue
                    for octant in range(8):
                        if ((octant >> (2 - axis)) & 1) == 1 - way:
                            stack[top] = child[b] + octant
                            top += 1
    return made, near


@kernel
def _face(at: I32, side: float, axis: int, way: int, out: F64) -> None:
    """The corners of one face of a cell."""
    for i in range(4):
        s, t = (1.0 if i == 1 or i == 2 else 0.0), (1.0 if i >= 2 else 0.0)
        for c in range(3):
            along = float(way) if c == axis else (s if c == (axis + 1) % 3 else t)
            out[i, c] = (at[c] + along) * side


@kernel
def _hugs(p: F64, n: int, normals: F64, offsets: F64, plane: I64, count: int, region: int) -> bool:
    """Whether a polygon lies so near a plane of a cell that the triangles for which that stands may lie beyond it."""
    for i in range(count):
        t = plane[i]
        side, most = 1.0 if (region >> i) & 1 else -1.0, 0.0
        for m in range(n):
            far = normals[t, 0] * p[m, 0] + normals[t, 1] * p[m, 1] + normals[t, 2] * p[m, 2] - offsets[t]
            most = max(most, side * far)
        if most <= ONE_PLANE:
            return True
    return False


@kernel
def _of_one_surface(
    p: F64, n: int, normals: F64, offsets: F64, mine: I64, count: int, ra: int, theirs: I64, others: int, rb: int
) -> bool:  # fmt: skip
    """Whether an opening over a face is only what two cells draw one surface apart by.

    Each cell stands for a surface by planes of its own, which differ by what counts as one plane. Where the surface is
    nearly parallel to the face, the strip between them on the face is many times as wide as they are apart; what
    passes through it has to pass between them.

    Args:
        p: (n, 3) polygon of the opening, in front of a plane of one cell and behind one of the other.
        mine, theirs: planes of the cells, so many of each. ra, rb: regions on either side.
    """
    if _hugs(p, n, normals, offsets, mine, count, ra) or _hugs(p, n, normals, offsets, theirs, others, rb):
        return True
    for i in range(count):
        for j in range(others):
            a, b = mine[i], theirs[j]
            dot = normals[a, 0] * normals[b, 0] + normals[a, 1] * normals[b, 1] + normals[a, 2] * normals[b, 2]
            side_a, side_b = (1.0 if (ra >> i) & 1 else -1.0), (1.0 if (rb >> j) & 1 else -1.0)
            if abs(dot) < LIKE or side_a * side_b * dot > 0.0:
                continue
            most = 0.0
            for m in range(n):
                far = side_a * (
                    normals[a, 0] * p[m, 0] + normals[a, 1] * p[m, 1] + normals[a, 2] * p[m, 2] - offsets[a]
                )
                far += side_b * (
                    normals[b, 0] * p[m, 0] + normals[b, 1] * p[m, 1] + normals[b, 2] * p[m, 2] - offsets[b]
                )
                most = max(most, far)
            if most <= CLOSED:
                return True
    return False


@kernel
def _between(
    a: int, b: int, axis: int, way: int, at: I32, level: NDArray[np.int8], state: U8, size: float, node: I64,
    plane: I64, planes: I64, normals: F64, offsets: F64, room: F64, found: F64, made: int, beside: I64, near: int,
) -> tuple[int, int]:  # fmt: skip
    """What opens over a face of cell a, to a cell that is no smaller."""
    side = size / (1 << level[a])
    if state[a] == EMPTY and state[b] == EMPTY:
        if made < len(found):
            found[made, 0], found[made, 1], found[made, 2] = node[a], node[b], side
            for c in range(3):
                found[made, 3 + c] = (at[a, c] + (0.5 if c != axis else float(way))) * side
        return made + 1, near
    if state[a] == UNDECIDED and state[b] == UNDECIDED:
        if near + 1 < len(beside):
            beside[near, 0], beside[near, 1], beside[near, 2] = a, -1, b
            beside[near + 1, 0], beside[near + 1, 1], beside[near + 1, 2] = b, -1, a
        return made, near + 2
    mine, both, work = room[0], room[1], room[2]
    of_a, of_b = 1 << planes[a], 1 << planes[b]
    least = min(CLOSED, 0.5 * side)
    for ra in range(of_a):
        _face(at[a], side, axis, way, mine)
        # A cell without planes has none that its one region is on a side of.
        n = on_side(mine, 4, normals, offsets, plane[a], planes[a], ra, work)
        if n == 0 or width_of(mine, n) < least:
            continue
        for rb in range(of_b):
            copied(mine, n, both)
            k = on_side(both, n, normals, offsets, plane[b], planes[b], rb, work)
            width = width_of(both, k) if k else 0.0
            if width < least:
                continue
            if _of_one_surface(both, k, normals, offsets, plane[a], planes[a], ra, plane[b], planes[b], rb):
                continue
            if state[a] == UNDECIDED or state[b] == UNDECIDED:
                if near < len(beside):
                    beside[near, 0] = a if state[a] == UNDECIDED else b
                    beside[near, 1] = node[b] + rb if state[a] == UNDECIDED else node[a] + ra
                    beside[near, 2] = -1
                near += 1
                continue
            if made < len(found):
                found[made, 0], found[made, 1], found[made, 2] = node[a] + ra, node[b] + rb, width
                middle_of(both, k, found[made, 3:6])
            made += 1
    return made, near
