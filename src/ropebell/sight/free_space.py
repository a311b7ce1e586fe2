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
from ropebell.sight.cell import CUT, EMPTY, MOST_PLANES, SPLIT, UNDECIDED, facets, planes_of, region_at, touches
from ropebell.sight.cell_faces import across
from ropebell.sight.polygons import MOST, scratch
from ropebell.sight.rasterised import sorted_into

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

        def opened(some: I64) -> tuple[F64, I64]:
            room, more = 6 * len(some) + 1024, 3 * len(some) + 1024
            while True:
                found, beside = np.empty((room, 6)), np.empty((more, 3), np.int64)
                made, near = across(
                    some, self.at, self.level, self.state, self.child, np.array(self.shape, np.int64), self.size,
                    self.node, self.plane, self.planes, self.normals, self.offsets, int(cells[0]), found, beside,
                )  # fmt: skip
                if made <= room and near <= more:
                    return found[:made], beside[:near]
                room, more = max(room, made), max(more, near)

        parts = halves(cells, opened)
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
