"""The inside of a level in cells: small ones beside surfaces, larger ones in the open."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.brief import SightBox
from ropebell.level.model import F64, I32, I64, Mask
from ropebell.sight.rasterised import rasterised
from ropebell.sight.sealing import INSIDE, Flood

# Cells in the open are up to so many times as wide; so many are looked at together.
LARGEST, AT_ONCE = 8, 2048
# In boxes of their own the smallest are halved so often at most.
MOST_HALVED = 3
# Where places are tried along each axis of a cell: evenly, or mostly along its rim.
EVEN, AT_RIM = np.array([0.125, 0.375, 0.625, 0.875]), np.array([0.006, 0.03, 0.1, 0.3, 0.5, 0.7, 0.9, 0.97, 0.994])
# Places are spread over a cell that is wider by this share, so that what is seen from just beside it counts too.
WIDER = 0.25
# Places are kept of each cell, so many.
PLACES = 32
# Where less of a cell and of all beside it is in the open, cells are too large.
NARROW = 0.3


@dataclass(frozen=True, eq=False)
class Cells:
    """Cells that players and things can be in; n of them.

    Attributes:
        low: (3,) metres, a corner of the grid. size: metres, of its places, as wide as its smallest cells.
        number: (x, y, z) int32 cell of each, −1 outside. at, width: (n, 3) first of the smallest, (n,) how many a side.
        places: (n, PLACES, 3) metres, in the open in and just round each cell.
        inside: (n,) share of the cell that is in the open.
        least: (x, y, z) int8, how often a smallest cell is halved in each place to be the smallest there.
        largest: how many of the smallest the largest is wide.
    """

    low: F64
    size: float
    number: I32
    at: I32
    width: I32
    places: F64
    inside: F64
    least: NDArray[np.int8]
    largest: int

    def __len__(self) -> int:
        return len(self.at)

    @property
    def middles(self) -> F64:
        """(n, 3) metres."""
        found: F64 = self.low + (self.at + 0.5 * self.width[:, None]) * self.size
        return found

    @property
    def narrow(self) -> I64:
        """Cells that hardly fit where they are: little of them, or of anything beside them, is in the open."""
        beside = beside_each(self.number)
        most = self.inside.copy()
        np.maximum.at(most, beside[:, 0], self.inside[beside[:, 1]])
        return np.flatnonzero(most < NARROW)


def cells_of(flood: Flood, corners: F64, size: float, finer: Sequence[SightBox] = ()) -> Cells:
    """Cut the inside into cells.

    Args:
        corners: (T, 3, 3) metres, what blocks. size: of the smallest cells, metres. finer: where they are smaller.
    """
    low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
    step = size * LARGEST
    # A little off the round numbers that levels are built on, so that walls do not run along faces of cells.
    low = low - size * np.array([0.371, 0.297, 0.423])
    blocks = np.maximum(np.ceil((high - low) / step), 1).astype(np.int64)
    halved = max((halvings(size, box) for box in finer), default=0)
    size /= 1 << halved
    shape = blocks * (LARGEST << halved)
    touched = np.zeros(int(shape.prod()), np.bool_)
    touched[rasterised(np.ascontiguousarray(corners - low), shape, size)[:, 0]] = True
    touched = touched.reshape(tuple(int(v) for v in shape))
    number = np.full(touched.shape, -1, np.int32)
    least = np.full(touched.shape, halved, np.int8)
    for box in finer:
        first, end = ((np.array(v) - low) / size for v in (box.low, box.high))
        first, end = (np.clip(v, 0, shape).astype(np.int64) for v in (np.floor(first), np.ceil(end)))
        part = tuple(slice(a, b) for a, b in zip(first, end))
        least[part] = np.minimum(least[part], halved - halvings(size * (1 << halved), box))
    at, width, smallest = _blocks(touched, least, LARGEST << halved)
    rng = np.random.default_rng(1)
    held, places, inside = _tried(flood, low, size, at, width, EVEN, rng)
    # Of a cell beside these there may be a sliver inside, along its faces and in its corners.
    near = np.zeros(touched.shape, np.bool_)
    for (x, y, z), w in zip(at[held].tolist(), width[held].tolist()):
        near[max(x - 1, 0) : x + w + 1, max(y - 1, 0) : y + w + 1, max(z - 1, 0) : z + w + 1] = True
    missed = np.ones(len(at), np.bool_)
    missed[held] = False
    missed &= smallest & near[at[:, 0], at[:, 1], at[:, 2]]
    rest = np.flatnonzero(missed)
    more, at_more, inside_more = _tried(flood, low, size, at[rest], width[rest], AT_RIM, rng)
    chosen = np.concatenate([held, rest[more]])
    first_of, sides = at[chosen].astype(np.int32), width[chosen].astype(np.int32)
    for n, ((x, y, z), w) in enumerate(zip(first_of.tolist(), sides.tolist())):
        number[x : x + w, y : y + w, z : z + w] = n
    return Cells(
        low, size, number, first_of, sides, np.concatenate([places, at_more]), np.concatenate([inside, inside_more]),
        least, LARGEST << halved,
    )  # fmt: skip


def cells_of_each(
    cells: Cells, corners: F64, owner: I32, blocks: Mask, tick: Callable[[float], None] = lambda _: None
) -> I64:  # fmt: skip
    """(n,) how many cells more there are with each object than without: where nothing else is, they are larger.

    Args:
        corners: (T, 3, 3) metres, what blocks, or would. owner: (T,) object of each. blocks: (n,) which objects do.
        tick: called with the share done, may raise `Stopped`.
    """
    count = len(blocks)
    shape, step = np.array(cells.number.shape, np.int64), cells.largest
    pairs = rasterised(np.ascontiguousarray(corners - cells.low), shape, cells.size)
    # Each object once in each place, and the places that one alone touches.
    both = np.unique(pairs[:, 0] * count + owner[pairs[:, 1]])
    place, node = both // count, both % count
    touching = np.bincount(place[blocks[node]], minlength=int(shape.prod()))
    touched = (touching > 0).reshape(cells.number.shape)
    alone = touching[place] == blocks[node]
    place, node = place[alone], node[alone]
    at = np.stack(np.unravel_index(place, cells.number.shape), axis=1)
    block = np.ravel_multi_index((at // step).T, tuple(int(v) for v in shape // step))
    more = np.zeros(count, np.int64)
    order = np.lexsort((block, node))
    ends = np.flatnonzero(np.diff(node[order], append=-1) | np.diff(block[order], append=-1)) + 1
    for first, end in zip(np.concatenate([[0], ends[:-1]]).tolist(), ends.tolist()):
        tick(first / len(order))
        mine = order[first:end]
        corner = at[mine[0]] // step * step
        part = tuple(slice(int(a), int(a) + step) for a in corner)
        held = cells.number[part] >= 0
        if not held.any():
            continue
        numbers = []
        for there in (True, False):
            with_or_without = touched[part].copy()
            with_or_without[tuple((at[mine] - corner).T)] = there
            numbers.append(_held(with_or_without, held, cells.least[part], step))
        more[node[mine[0]]] += numbers[0] - numbers[1]
    return more


def _held(touched: Mask, held: Mask, least: NDArray[np.int8], size: int) -> int:
    """Into how many blocks a part is cut that hold anything of the inside."""
    at, width, _ = _blocks(touched, least, size)
    return sum(bool(held[x : x + w, y : y + w, z : z + w].any()) for (x, y, z), w in zip(at.tolist(), width.tolist()))


def _tried(
    flood: Flood, low: F64, size: float, at: I64, width: I64, along: F64, rng: np.random.Generator
) -> tuple[I64, F64, F64]:  # fmt: skip
    """Blocks that have anything inside: (m,) which, (m, PLACES, 3) places in and just round each, and (m,) the share of
    what was tried.

    Args:
        along: where places are tried along each axis, as shares of a block.
    """
    lattice = np.stack(np.meshgrid(along, along, along, indexing="ij"), axis=-1).reshape(-1, 3)
    held, places, share = [np.zeros(0, np.int64)], [np.zeros((0, PLACES, 3))], [np.zeros(0)]
    for first in range(0, len(at), AT_ONCE):
        a, w = at[first : first + AT_ONCE, None], width[first : first + AT_ONCE, None, None]
        moved = lattice[None] + (rng.random((len(a), len(lattice), 3)) - 0.5) * (0.8 * along[0])
        exact = low + (a + moved * w) * size
        grown = low + (a + (moved * (1 + 2 * WIDER) - WIDER) * w) * size
        inside = flood.sides(exact.reshape(-1, 3)).reshape(len(a), len(lattice)) == INSIDE
        some = np.flatnonzero(inside.any(axis=1))
        around = flood.sides(grown[some].reshape(-1, 3)).reshape(len(some), len(lattice)) == INSIDE
        for k, near in zip(some, around):
            mine = np.concatenate([exact[k][inside[k]], grown[k][near]])
            places.append(mine[np.resize(rng.permutation(len(mine)), PLACES)][None])
        held.append(first + some)
        share.append(inside[some].mean(axis=1))
    return np.concatenate(held), np.concatenate(places), np.concatenate(share)


def beside_each(number: I32) -> I64:
    """(m, 2) cells that touch over a face, both ways, by the first."""
    found = []
    for axis in range(3):
        a = np.moveaxis(number, axis, 0)[:-1].ravel()
        b = np.moveaxis(number, axis, 0)[1:].ravel()
        kept = (a >= 0) & (b >= 0) & (a != b)
        found.append(np.stack([a[kept], b[kept]], axis=1))
    pairs = np.unique(np.concatenate(found), axis=0).astype(np.int64)
    both = np.concatenate([pairs, pairs[:, ::-1]])
    return both[np.argsort(both[:, 0], kind="stable")]


def halvings(size: float, box: SightBox) -> int:
    """How often cells of a size are halved in a box."""
    return min(max(math.ceil(math.log2(size / box.cell) - 1e-6), 0), MOST_HALVED)


def _blocks(touched: Mask, least: NDArray[np.int8], size: int) -> tuple[I64, I64, Mask]:
    """(n, 3) first, (n,) width of blocks, and whether they are the smallest there: of the smallest cells, and larger
    ones where nothing is touched.

    Args:
        least: how often one is halved in each cell to be the smallest. size: of the largest.
    """
    at, width, smallest = [], [], []
    open_ = np.ones([s // size for s in touched.shape], np.bool_)
    while size >= 1:
        x, y, z = (s // size for s in touched.shape)
        any_ = touched.reshape(x, size, y, size, z, size).any(axis=(1, 3, 5))
        last = size <= 1 << least.reshape(x, size, y, size, z, size).min(axis=(1, 3, 5)).astype(np.int64)
        taken = open_ & (~any_ | last)
        found = np.argwhere(taken)
        at.append(found * size)
        width.append(np.full(len(found), size))
        smallest.append(last[taken])
        open_ &= ~taken
        if size > 1:
            open_ = open_.repeat(2, axis=0).repeat(2, axis=1).repeat(2, axis=2)
        size //= 2
    return np.concatenate(at), np.concatenate(width), np.concatenate(smallest)
