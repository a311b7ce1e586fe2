"""The room between triangles as a graph: cells of an octree, the regions in them, and how wide one opens to the next.

An empty cell is one node, a cell with a few planes has one for each of its regions (`sight.cell`), and any other is
*undecided* until it is split into eight. Only those that matter are split, so a pinhole costs as many cells as it takes
to get down to it, and nothing elsewhere.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import inlined, kernel
from ropebell.level.model import F64, I32, I64, U8
from ropebell.light.workers import halves
from ropebell.sight.cell import CLOSED, MOST_PLANES, ONE_PLANE, facets, on_side, planes_of, region_at, touches
from ropebell.sight.polygons import MOST, copied, middle_of, scratch, width_of
from ropebell.sight.rasterised import sorted_into

# Cosine of the angle up to which planes of two cells may stand for one surface.
LIKE = 0.5
EMPTY, CUT, UNDECIDED, SPLIT = np.uint8(0), np.uint8(1), np.uint8(2), np.uint8(3)
# Of so many cells the first grid is made, about.
FIRST = 120_000
# Cells as small as this are not split: what touches them is solid, metres. A ball as wide as the narrowest leak, 3 mm,
# has room for them on its way whatever way that runs.
SMALLEST = 0.75e-3
# Cells below this are not asked for planes.
PLANAR = 6e-3
REGIONS = 1 << MOST_PLANES
FACETS = MOST_PLANES * (REGIONS >> 1)


class Tree(NamedTuple):
    """The arrays of a `FreeSpace`, for kernels."""

    shape: I64
    size: float
    state: U8
    child: I32
    node: I64
    plane: I64
    planes: I64
    normals: F64
    offsets: F64


class FreeSpace:
    """Room between triangles.

    Attributes:
        low: (3,) metres, a corner of the first grid. size: metres, side of its cells. shape: cells along each axis.
        at: (n, 3) int32 place of each cell among those of its size. level: (n,) int8, how often the first were halved.
        state: (n,) uint8. child: (n,) int32 the first of its eight, −1 without.
        plane: (n, 4) int64 triangles in its planes. planes: (n,) int64. node: (n,) int64 its first node.
        openings: (m, 6) from node to node, within cells and over their faces: the two, metres wide, place in the grid's
            own frame, which begins at `low`.
        beside: (k, 3) undecided cells with what is beside them: a node and −1, or −1 and another such cell.
    """

    def __init__(self, corners: F64, largest: float) -> None:
        """
        Args:
            corners: (T, 3, 3) metres. largest: side of the first cells, metres, or less.
        """
        low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
        span = np.maximum(high - low, 8 * SMALLEST)
        wanted = min(max(float(np.prod(span) / FIRST) ** (1 / 3), 2 * SMALLEST), largest)
        self.deepest = max(int(math.log2(wanted / SMALLEST)), 1)
        self.size = wanted
        # Off the round numbers that levels are built on, and with a free cell all round.
        self.low = low - self.size * np.array([1.3819, 1.2763, 1.4142])
        self.shape = tuple(int(v) for v in np.ceil((high - self.low) / self.size).astype(np.int64) + 1)
        self.corners = np.ascontiguousarray(corners - self.low)
        normals = np.cross(self.corners[:, 1] - self.corners[:, 0], self.corners[:, 2] - self.corners[:, 0])
        self.normals = normals / np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        self.offsets = np.einsum("ij,ij->i", self.normals, self.corners[:, 0])
        x, y, z = np.meshgrid(*(np.arange(n, dtype=np.int32) for n in self.shape), indexing="ij")
        self.at = np.stack([x.ravel(), y.ravel(), z.ravel()], axis=1)
        count = len(self.at)
        starts, listed = sorted_into(self.corners, np.array(self.shape, np.int64), self.size)
        self.level = np.zeros(count, np.int8)
        self.state = np.zeros(count, np.uint8)
        self.child = np.full(count, -1, np.int32)
        self.plane = np.zeros((0, MOST_PLANES), np.int64)
        self.planes = np.zeros(0, np.int64)
        self.node = np.zeros(0, np.int64)
        self.start, self.listed = starts, listed
        self.nodes = 0
        self.openings, self.beside = np.zeros((0, 6)), np.zeros((0, 3), np.int64)
        self._looked_at(np.arange(count))

    def __len__(self) -> int:
        return len(self.at)

    def sizes(self, cells: NDArray[np.integer]) -> F64:
        """(m,) sides of cells, metres."""
        found: F64 = self.size / (1 << self.level[cells].astype(np.int64))
        return found

    def middles(self, cells: NDArray[np.integer]) -> F64:
        """(m, 3) metres, in the level's frame."""
        found: F64 = self.low + (self.at[cells] + 0.5) * self.sizes(cells)[:, None]
        return found

    @property
    def border(self) -> I64:
        """Nodes of the free cells all round."""
        first = self.level == 0
        edge = ((self.at == 0) | (self.at == np.array(self.shape) - 1)).any(axis=1)
        found: I64 = self.node[first & edge & (self.state == EMPTY)]
        return found

    def split(self, cells: I64) -> None:
        """Split undecided cells into eight each, and look at those."""
        before = len(self)
        octant = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], np.int32)
        self.state[cells] = SPLIT
        self.child[cells] = before + 8 * np.arange(len(cells), dtype=np.int32)
        self.at = np.concatenate([self.at, (2 * self.at[cells][:, None] + octant).reshape(-1, 3)])
        self.level = np.concatenate([self.level, np.repeat(self.level[cells] + 1, 8).astype(np.int8)])
        more = 8 * len(cells)
        self.state = np.concatenate([self.state, np.zeros(more, np.uint8)])
        self.child = np.concatenate([self.child, np.full(more, -1, np.int32)])
        counts = np.zeros(more, np.int64)
        first, listed = np.zeros(more + 1, np.int64), np.zeros(0, np.int64)

        def share(rows: I64) -> None:
            a, e = int(rows[0]), int(rows[-1]) + 1
            _shared_out(
                self.corners, self.at, self.level, self.size, cells[a:e], before + 8 * a, self.start, self.listed,
                counts[8 * a : 8 * e], first[8 * a :], listed,
            )  # fmt: skip

        for _ in range(2):  # counted, then written
            halves(np.arange(len(cells)), share)
            first = np.concatenate([[0], np.cumsum(counts)])
            listed = listed if len(listed) else np.empty(first[-1], np.int64)
        self.start = np.concatenate([self.start, self.start[-1] + first[1:]])
        self.listed = np.concatenate([self.listed, listed])
        self._looked_at(np.arange(before, before + more))

    def _looked_at(self, cells: I64) -> None:
        """Find out what new cells are."""
        count, before = len(cells), int(cells[0])
        plane, planes = np.zeros((count, MOST_PLANES), np.int64), np.zeros(count, np.int64)

        def judged(some: I64) -> F64:
            a, e = int(some[0]) - before, int(some[-1]) + 1 - before
            room = 4 * len(some) + 64
            while True:
                inner = np.empty((room, 6))
                made = _judged(
                    some, self.at, self.level, self.size, self.start, self.listed, self.corners, self.normals,
                    self.offsets, self.state, plane[a:e], planes[a:e], inner,
                )  # fmt: skip
                if made >= 0:
                    break
                room *= 2
            inner = inner[:made]
            inner[:, :2] += a * REGIONS
            return inner

        inner = np.concatenate(halves(cells, judged))
        state = self.state[cells]
        width = np.where(state == EMPTY, 1, np.where(state == CUT, 1 << planes, 0))
        node = self.nodes + np.concatenate([[0], np.cumsum(width)])[:-1]
        # They tell regions of cells so far.
        of = np.floor(inner[:, 0] / REGIONS).astype(np.int64)
        for column in (0, 1):
            inner[:, column] = node[of] + inner[:, column] % REGIONS
        self.nodes += int(width.sum())
        self.plane, self.planes = np.concatenate([self.plane, plane]), np.concatenate([self.planes, planes])
        self.node, self.openings = np.concatenate([self.node, node]), np.concatenate([self.openings, inner])
        self._opened(cells)

    def _opened(self, cells: I64) -> None:
        """Find out what new cells open to, and what lies beside undecided ones."""

        def across(some: I64) -> tuple[F64, I64]:
            room, more = 6 * len(some) + 1024, 3 * len(some) + 1024
            while True:
                found, beside = np.empty((room, 6)), np.empty((more, 3), np.int64)
                made, near = _across(
                    some, self.at, self.level, self.state, self.child, np.array(self.shape, np.int64), self.size,
                    self.node, self.plane, self.planes, self.normals, self.offsets, int(cells[0]), found, beside,
                )  # fmt: skip
                if made <= room and near <= more:
                    return found[:made], beside[:near]
                room, more = max(room, made), max(more, near)

        parts = halves(cells, across)
        self.openings = np.concatenate([self.openings, *(found for found, _ in parts)])
        beside = np.concatenate([near for _, near in parts])
        old = self.beside
        still = (self.state[old[:, 0]] != SPLIT) & ((old[:, 2] < 0) | (self.state[np.maximum(old[:, 2], 0)] != SPLIT))
        self.beside = np.concatenate([old[still], beside])

    @property
    def tree(self) -> Tree:
        """What kernels need to look places up."""
        return Tree(
            np.array(self.shape, np.int64), self.size, self.state, self.child, self.node, self.plane, self.planes,
            self.normals, self.offsets,
        )  # fmt: skip

    def found(self, places: F64) -> tuple[I64, I64]:
        """(n,) the smallest cell round each place, metres, −1 outside the grid; and (n,) the node that it lies in, −1
        where that is not decided."""
        cells, nodes = np.empty(len(places), np.int64), np.empty(len(places), np.int64)
        _looked_up(np.ascontiguousarray(places - self.low), self.tree, cells, nodes)
        return cells, nodes


@kernel
def _looked_up(places: F64, tree: Tree, cells: I64, nodes: I64) -> None:
    for m in range(len(places)):
        cells[m], nodes[m] = cell_at(places[m, 0], places[m, 1], places[m, 2], tree)


@inlined
def cell_at(x: float, y: float, z: float, tree: Tree) -> tuple[int, int]:
    """The smallest cell round a place of the grid's own frame, −1 outside it; and its node, −1 where undecided."""
    side = tree.size
    i, j, k = math.floor(x / side), math.floor(y / side), math.floor(z / side)
    if i < 0 or j < 0 or k < 0 or i >= tree.shape[0] or j >= tree.shape[1] or k >= tree.shape[2]:
        return -1, -1
    cell = (i * tree.shape[1] + j) * tree.shape[2] + k
    while tree.state[cell] == SPLIT:
        side *= 0.5
        i, j, k = 2 * i, 2 * j, 2 * k
        a, b, c = int(x >= (i + 1) * side), int(y >= (j + 1) * side), int(z >= (k + 1) * side)
        i, j, k = i + a, j + b, k + c
        cell = tree.child[cell] + 4 * a + 2 * b + c
    if tree.state[cell] == EMPTY:
        return cell, tree.node[cell]
    if tree.state[cell] == CUT:
        region = region_at(x, y, z, tree.normals, tree.offsets, tree.plane[cell], tree.planes[cell])
        return cell, tree.node[cell] + region
    return cell, -1


@kernel
def _shared_out(
    corners: F64, at: I32, level: NDArray[np.int8], size: float, parents: I64, before: int, start: I64, listed: I64,
    counts: I64, first: I64, out: I64,
) -> None:  # fmt: skip
    """Triangles of split cells to those of their eight that they touch: counted, or written if there is room."""
    low = np.empty(3)
    for k in range(len(parents)):
        p = parents[k]
        for octant in range(8):
            cell = before + 8 * k + octant
            side = size / (1 << level[cell])
            for a in range(3):
                low[a] = at[cell, a] * side
            made = 0
            for i in range(start[p], start[p + 1]):
                if touches(low, side, corners, listed[i]):
                    if len(out):
                        out[first[8 * k + octant] + made] = listed[i]
                    made += 1
            counts[8 * k + octant] = made


@kernel
def _judged(
    cells: I64, at: I32, level: NDArray[np.int8], size: float, start: I64, listed: I64, corners: F64, normals: F64,
    offsets: F64, state: U8, plane: I64, planes: I64, inner: F64,
) -> int:  # fmt: skip
    """What cells are, their planes, and openings between their regions, told as cell · REGIONS + region; −1 if there
    is no room for these."""
    made = 0
    low = np.empty(3)
    polygon, work = np.empty((MOST, 3)), np.empty((MOST, 3))
    pieces, sizes, room = scratch()
    found = np.empty((FACETS, 6))
    most = 1
    for k in range(len(cells)):
        most = max(most, start[cells[k] + 1] - start[cells[k]])
    group, members = np.empty(most, np.int64), np.empty(most, np.int64)
    for k in range(len(cells)):
        cell = cells[k]
        first, end = start[cell], start[cell + 1]
        if first == end:
            state[cell] = EMPTY
            continue
        state[cell] = UNDECIDED
        side = size / (1 << level[cell])
        if side < PLANAR:
            continue
        for a in range(3):
            low[a] = at[cell, a] * side
        count = planes_of(low, side, listed[first:end], normals, offsets, plane[k], group)
        if count < 0:
            continue
        opened = facets(
            low, side, listed[first:end], corners, normals, offsets, plane[k], group, count, found, polygon, work,
            members, pieces, sizes, room,
        )  # fmt: skip
        if opened < 0:
            continue
        if made + opened > len(inner):
            return -1
        state[cell], planes[k] = CUT, count
        for i in range(opened):
            for c in range(6):
                inner[made, c] = found[i, c]
            inner[made, 0] += k * REGIONS
            inner[made, 1] += k * REGIONS
            made += 1
    return made


@kernel
def _across(
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
