"""Whether a level is sealed: room is flooded from where players can be, and from outside, and where the two floods meet
there is a leak.

Openings are let in from the widest to the narrowest, so both floods fill the room on their own side first and meet in
the throat of each leak (a watershed by width; J. B. T. M. Roerdink, A. Meijster, "The watershed transform", 2000).
What is undecided, touches the inside and may lead outside is split, until nothing such is left.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from itertools import count

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import dividing, inlined, kernel
from ropebell.level.connected import connected
from ropebell.level.model import F64, I64, U8, Mask
from ropebell.level.nearest import nearest_on
from ropebell.light.rays import RaySpace
from ropebell.light.workers import halves
from ropebell.sight.cell import EMPTY, UNDECIDED
from ropebell.sight.free_space import FreeSpace, Tree, cell_at

INSIDE, OUTSIDE = 1, 2
# More cells than this are not made; what is then undecided is said to be so.
MOST_CELLS = 6_000_000
# Surfaces that a ray may cross on its way out.
MOST_CROSSED = 256


@dataclass(frozen=True, eq=False)
class Flood:
    """How far the floods have come.

    Attributes:
        space: its cells. openings: (m, 6) from node to node, as of `FreeSpace`. side: (nodes,) INSIDE, OUTSIDE or 0.
        met: (m,) bool, openings in which the floods meet. decided: whether nothing is left to be split.
    """

    space: FreeSpace
    openings: F64
    side: U8
    met: Mask
    decided: bool

    def sides(self, places: F64) -> U8:
        """(n,) INSIDE, OUTSIDE or 0 of places, metres; of what is undecided and may be inside, INSIDE."""
        found = np.empty(len(places), np.uint8)
        _sides(np.ascontiguousarray(places - self.space.low), self.space.tree, self.side, self._may_be_inside, found)
        return found

    def any_before(self, corners: F64, off: F64, shares: F64, sides: int) -> Mask:
        """(n,) whether any place before a triangle is on one of some sides.

        Args:
            corners: (n, 3, 3) metres. off: (n, 3) from the triangle to the places before it.
            shares: (k, 3) of the corners, where the places are. sides: INSIDE, OUTSIDE or both of them.
        """
        found = np.zeros(len(corners), np.bool_)
        begun = np.ascontiguousarray(corners + off[:, None] - self.space.low)
        _any_before(begun, shares, self.space.tree, self.side, self._may_be_inside, sides, found)
        return found

    @cached_property
    def _may_be_inside(self) -> Mask:
        """(cells,) whether one is undecided and hangs together with the inside, by others like it: what leads outside
        by such cells was split."""
        cell, node, other = self.space.beside.T
        part = connected(len(self.space), cell[other >= 0], other[other >= 0])
        inner = np.zeros(len(part), np.bool_)
        inner[part[cell[(node >= 0) & (self.side[np.maximum(node, 0)] == INSIDE)]]] = True
        found: Mask = inner[part] & (self.space.state == UNDECIDED)
        return found


@inlined
def _side_at(x: float, y: float, z: float, tree: Tree, side: U8, may_be_inside: Mask) -> int:
    cell, node = cell_at(x, y, z, tree)
    if cell < 0:
        return OUTSIDE  # off the grid
    if node >= 0:
        return int(side[node])
    return INSIDE if may_be_inside[cell] else 0


@kernel
def _sides(places: F64, tree: Tree, side: U8, may_be_inside: Mask, found: U8) -> None:
    for m in range(len(places)):
        found[m] = _side_at(places[m, 0], places[m, 1], places[m, 2], tree, side, may_be_inside)


@kernel
def _any_before(
    corners: F64, shares: F64, tree: Tree, side: U8, may_be_inside: Mask, sides: int, found: Mask
) -> None:  # fmt: skip
    for t in range(len(corners)):
        for k in range(len(shares)):
            u, v, w = shares[k, 0], shares[k, 1], shares[k, 2]
            x = u * corners[t, 0, 0] + v * corners[t, 1, 0] + w * corners[t, 2, 0]
            y = u * corners[t, 0, 1] + v * corners[t, 1, 1] + w * corners[t, 2, 1]
            z = u * corners[t, 0, 2] + v * corners[t, 1, 2] + w * corners[t, 2, 2]
            if _side_at(x, y, z, tree, side, may_be_inside) & sides:
                found[t] = True
                break


def flood(
    space: FreeSpace, seeds: F64, solid: Callable[[F64], Mask], tick: Callable[[float], None] = lambda _: None
) -> Flood:
    """Flood from inside and from outside, and split what may be a way between them.

    Args:
        seeds: (n, 3) metres, places that are inside.
        solid: of (k, 3) places, which are within a closed body.
        tick: called with the share done, may raise `Stopped`.
    """
    wide = _room(space)
    for round_ in count():
        _settle(space, seeds)
        openings = space.openings.copy()
        # From empty cell to empty cell of the first grid there is more room than the cells are wide.
        known = (openings[:, :2] < len(wide)).all(axis=1)
        a, b = openings[known, 0].astype(np.int64), openings[known, 1].astype(np.int64)
        openings[known, 2] = np.maximum(openings[known, 2], np.minimum(wide[a], wide[b]))
        inside = space.found(seeds)[1]
        inside = np.unique(inside[inside >= 0])
        most = np.zeros(space.nodes)
        np.maximum.at(
            most, np.concatenate([openings[:, 0], openings[:, 1]]).astype(np.int64), np.tile(openings[:, 2], 2)
        )
        side, root, met = _flooded(openings, most, inside, space.border)
        splittable = space.level < space.deepest
        wanted = _doubtful(space, openings, side, root, met, splittable, solid)
        # How many rounds it takes is not known; most take no more than there are sizes of cells.
        tick(min(round_ / (space.deepest + 2), 0.95))
        if not len(wanted) or len(space) + 8 * len(wanted) > MOST_CELLS:
            break
        space.split(wanted)
    return Flood(space, openings, side, met, not len(wanted))


def _settle(space: FreeSpace, seeds: F64) -> None:
    """Split cells round seeds until it is decided which node each lies in."""
    for _ in range(space.deepest):
        cells = np.unique(space.found(seeds)[0])
        cells = cells[cells >= 0]
        cells = cells[(space.state[cells] == UNDECIDED) & (space.level[cells] < space.deepest)]
        if not len(cells):
            return
        space.split(cells)


def _room(space: FreeSpace) -> F64:
    """(nodes of the first grid,) metres wide that empty cells are: twice as far as it is from their middle to the
    triangles of the nearest cell that has any."""
    from scipy.ndimage import distance_transform_edt  # slow to load, and only wanted here

    first = int(np.prod(space.shape))
    empty = (space.state[:first] == EMPTY).reshape(space.shape)
    x, y, z = distance_transform_edt(empty, return_distances=False, return_indices=True)
    nearest = (x.astype(np.int64) * space.shape[1] + y) * space.shape[2] + z
    cells = np.flatnonzero(empty.ravel())
    far, places = np.full(len(cells), np.inf), space.middles(cells) - space.low
    # The nearest cell need not have the nearest triangle; one of those that are nearest to a cell close by has.
    padded = np.pad(nearest, 1, mode="edge")
    shape = np.array(space.shape, np.int64)

    def some(rows: I64) -> None:
        _to_nearest(space.corners, space.start, space.listed, padded, shape, space.size, cells, places, rows, far)

    halves(np.arange(len(cells)), some)
    wide = np.zeros(int(space.node[cells].max(initial=-1)) + 1)
    wide[space.node[cells]] = np.maximum(2.0 * far, space.size)
    return wide


@dividing
def _to_nearest(
    corners: F64, start: I64, listed: I64, padded: I64, shape: I64, size: float, cells: I64, places: F64, rows: I64,
    far: F64,
) -> None:  # fmt: skip
    """Metres from the middles of some cells to the nearest triangle of those that are nearest to cells close by.

    Args:
        padded: (x + 2, y + 2, z + 2) the nearest cell with triangles, of each cell and one more all round.
    """
    tried = np.empty(27, np.int64)
    for m in rows:
        x, y, z = cells[m] // (shape[1] * shape[2]), cells[m] // shape[2] % shape[1], cells[m] % shape[2]
        count, best = 0, np.inf
        for k in range(27):
            # Itself first.
            k = (k + 13) % 27
            c = padded[x + k // 9, y + k // 3 % 3, z + k % 3]
            known = False
            for i in range(count):
                known = known or tried[i] == c
            if known:
                continue
            tried[count] = c
            count += 1
            square = 0.0
            for axis in range(3):
                at = (c // (shape[1] * shape[2]), c // shape[2] % shape[1], c % shape[2])[axis]
                gap = max(at * size - places[m, axis], places[m, axis] - (at + 1) * size, 0.0)
                square += gap * gap
            if square >= best:
                continue
            for i in range(start[c], start[c + 1]):
                best = min(best, nearest_on(corners, listed[i], places, m)[0])
        far[m] = math.sqrt(best)


def _flooded(openings: F64, most: F64, inside: I64, outside: I64) -> tuple[U8, I64, Mask]:
    """(nodes,) side and root of each node, and (m,) whether the floods meet in an opening.

    Args:
        most: (nodes,) width of the widest opening of each.
    """
    count = len(most)
    a, b = openings[:, 0].astype(np.int64), openings[:, 1].astype(np.int64)
    # Of openings of one width those first that lead where there is most room, or a flood would creep along a wall.
    order = np.lexsort((-np.maximum(most[a], most[b]), -openings[:, 2]))
    a, b = a[order], b[order]
    side, root, met = np.zeros(count, np.uint8), np.arange(count), np.zeros(len(order), np.bool_)
    # Outside is one, and so is inside, wherever it is seeded; what is seeded from both is outside.
    for seeds, value in ((inside, INSIDE), (outside, OUTSIDE)):
        side[seeds] = value
    _joined(a, b, side, root, met)
    found = np.zeros(len(order), np.bool_)
    found[order] = met
    return side[root], root, found


@kernel
def _joined(a: I64, b: I64, side: U8, root: I64, met: Mask) -> None:
    for m in range(len(a)):
        p, q = _top(root, a[m]), _top(root, b[m])
        if p == q:
            continue
        if side[p] != 0 and side[q] != 0 and side[p] != side[q]:
            met[m] = True
            continue
        root[q] = p
        side[p] = max(side[p], side[q])
    for n in range(len(root)):
        root[n] = _top(root, n)


@kernel
def _top(root: I64, n: int) -> int:
    while root[n] != n:
        root[n] = root[root[n]]
        n = root[n]
    return n


def _doubtful(
    space: FreeSpace, openings: F64, side: U8, root: I64, met: Mask, splittable: Mask,
    solid: Callable[[F64], Mask],
) -> I64:  # fmt: skip
    """Undecided cells that touch the inside and may lead outside, by other undecided cells or by rooms of neither."""
    cell, node, other = space.beside.T
    known = splittable[cell] & ((other < 0) | splittable[np.maximum(other, 0)])
    cell, node, other = cell[known], node[known], other[known]
    at_node = node >= 0
    touches = np.zeros((3, len(space)), np.bool_)
    for value in (INSIDE, OUTSIDE):
        touches[value, cell[at_node][side[node[at_node]] == value]] = True
    # Rooms that neither flood has reached, but bodies are no rooms.
    rooms = at_node & (side[np.maximum(node, 0)] == 0)
    free = _free(space, openings, np.unique(root[node[rooms]]), root, solid)
    rooms &= free[root[np.maximum(node, 0)]]
    # What hangs together without touching the inside: cells, then rooms.
    count = len(space)
    link = ~at_node & ~touches[INSIDE, cell] & ~touches[INSIDE, np.maximum(other, 0)]
    room = rooms & ~touches[INSIDE, cell]
    a = np.concatenate([cell[link], cell[room]])
    b = np.concatenate([other[link], count + root[node[room]]])
    part = connected(count + space.nodes, a, b)
    leads = np.zeros(len(part), np.bool_)
    leads[part[np.flatnonzero(touches[OUTSIDE] & ~touches[INSIDE])]] = True
    wanted = touches[INSIDE] & touches[OUTSIDE]
    inner = touches[INSIDE, cell]
    to_cell = inner & ~at_node & ~touches[INSIDE, np.maximum(other, 0)]
    wanted[cell[to_cell][leads[part[other[to_cell]]]]] = True
    to_room = inner & rooms
    wanted[cell[to_room][leads[part[count + root[node[to_room]]]]]] = True
    rows = np.flatnonzero(wanted)
    return rows[~_beside_leaks(space, rows, openings[met])]


def _free(
    space: FreeSpace, openings: F64, roots: I64, root: I64, solid: Callable[[F64], Mask]
) -> Mask:  # fmt: skip
    """(nodes,) by root: whether a room is no part of a closed body. One that nothing opens to is none."""
    found = np.zeros(space.nodes, np.bool_)
    place = np.full((space.nodes, 3), np.nan)
    for column in (0, 1):
        place[root[openings[:, column].astype(np.int64)]] = openings[:, 3:]
    empty = np.flatnonzero(space.state == EMPTY)
    place[root[space.node[empty]]] = space.middles(empty) - space.low
    asked = roots[np.isfinite(place[roots, 0])]
    if len(asked):
        found[asked] = ~solid(place[asked] + space.low)
    return found


def _beside_leaks(space: FreeSpace, cells: I64, leaks: F64) -> Mask:
    """Which cells lie at the rim of a leak that is known."""
    if not len(leaks) or not len(cells):
        return np.zeros(len(cells), np.bool_)
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    middles, sizes = space.middles(cells) - space.low, space.sizes(cells)
    far, nearest = cKDTree(leaks[:, 3:]).query(middles)
    found: Mask = far < 1.8 * sizes + 1.2 * np.minimum(leaks[nearest, 2], space.size)
    return found


class Bodies:
    """Closed bodies: what lies within one is no room.

    Args:
        corners: (t, 3, 3) metres, of closed surfaces that look outward alone.
    """

    def __init__(self, corners: F64) -> None:
        self._corners = corners
        self._space = RaySpace(corners) if len(corners) else None
        edge = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self._normals = edge / np.maximum(np.linalg.norm(edge, axis=1), 1e-300)[:, None]

    def hold(self, places: F64) -> Mask:
        """(n,) whether places lie within: by how many more surfaces a ray leaves than enters, most of three rays."""
        if self._space is None or not len(places):
            return np.zeros(len(places), np.bool_)
        first, second, third = np.array(
            [[0.8017, 0.2672, 0.5345], [-0.3015, 0.9045, 0.3015], [0.1826, -0.3651, -0.9129]]
        )
        found: Mask = self._left(places, first) > 0
        at_odds = np.flatnonzero(found != (self._left(places, second) > 0))
        found[at_odds] = self._left(places[at_odds], third) > 0
        return found

    def _left(self, places: F64, way: F64) -> NDArray[np.int64]:
        assert self._space is not None
        space = self._space
        balance = np.zeros(len(places), np.int64)
        rows = np.arange(len(places))
        start = (places - space.centre).astype(np.float32)
        along = way.astype(np.float32)
        nudge = np.float32(max(space.extent * 1e-6, 1e-5))
        for _ in range(MOST_CROSSED):
            if not len(rows):
                break
            hit, far = space.nearest(start[rows], np.tile(along, (len(rows), 1)))
            rows, hit, far = rows[hit >= 0], hit[hit >= 0], far[hit >= 0]
            balance[rows] += np.where(self._normals[hit] @ way > 0, 1, -1)
            start[rows] += along * (far[:, None] + nudge)
        return balance
