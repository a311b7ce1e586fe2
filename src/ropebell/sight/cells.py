"""The inside of a level in cells: small ones beside surfaces, larger ones in the open."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F64, I32
from ropebell.sight.free_space import rasterised
from ropebell.sight.sealing import INSIDE, Flood

# Cells in the open are up to so many times as wide; of each, so many places along each axis are tried.
LARGEST, TRIED = 8, 4
# Places are spread over a cell that is wider by this share, so that what is seen from just beside it counts too.
WIDER = 0.25
# Places are kept of each cell, so many.
PLACES = 32


@dataclass(frozen=True, eq=False)
class Cells:
    """Cells that players and things can be in; n of them.

    Attributes:
        low: (3,) metres, a corner of the grid. size: metres, of its smallest cells.
        number: (x, y, z) int32 cell of each, −1 outside. at, width: (n, 3) first of the smallest, (n,) how many a side.
        places: (n, PLACES, 3) metres, in the open in and just round each cell.
        inside: (n,) share of the cell that is in the open.
    """

    low: F64
    size: float
    number: I32
    at: I32
    width: I32
    places: F64
    inside: F64

    def __len__(self) -> int:
        return len(self.at)

    @property
    def middles(self) -> F64:
        """(n, 3) metres."""
        found: F64 = self.low + (self.at + 0.5 * self.width[:, None]) * self.size
        return found

    def of(self, places: F64) -> NDArray[np.int64]:
        """(m,) the cell of each place, −1 outside."""
        index = np.floor((places - self.low) / self.size).astype(np.int64)
        held = ((index >= 0) & (index < np.array(self.number.shape))).all(axis=1)
        index[~held] = 0
        return np.where(held, self.number[index[:, 0], index[:, 1], index[:, 2]], -1).astype(np.int64)


def cells_of(flood: Flood, corners: F64, size: float) -> Cells:
    """Cut the inside into cells.

    Args:
        corners: (T, 3, 3) metres, what blocks. size: of the smallest cells, metres.
    """
    low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
    step = size * LARGEST
    # A little off the round numbers that levels are built on, so that walls do not run along faces of cells.
    low = low - size * np.array([0.371, 0.297, 0.423])
    blocks = np.maximum(np.ceil((high - low) / step), 1).astype(np.int64)
    shape = blocks * LARGEST
    touched = np.zeros(int(shape.prod()), np.bool_)
    touched[rasterised(np.ascontiguousarray(corners - low), shape, size)[:, 0]] = True
    touched = touched.reshape(tuple(int(v) for v in shape))
    number = np.full(touched.shape, -1, np.int32)
    at, width = _blocks(touched)
    offsets = (np.stack(np.meshgrid(*[np.arange(TRIED)] * 3, indexing="ij"), axis=-1).reshape(-1, 3) + 0.5) / TRIED
    rng = np.random.default_rng(1)
    kept_at, kept_width, kept_places, kept_inside = [], [], [], []
    for first in range(0, len(at), 4096):
        a, w = at[first : first + 4096], width[first : first + 4096]
        spread = offsets[None] + (rng.random((len(a), len(offsets), 3)) - 0.5) / TRIED
        exact = low + (a[:, None] + spread * w[:, None, None]) * size
        grown = low + (a[:, None] + (spread * (1 + 2 * WIDER) - WIDER) * w[:, None, None]) * size
        inside = flood.sides(exact.reshape(-1, 3)).reshape(len(a), -1) == INSIDE
        around = flood.sides(grown.reshape(-1, 3)).reshape(len(a), -1) == INSIDE
        some = np.flatnonzero(inside.any(axis=1))
        for k in some:
            # Its own places first, then those just round it.
            mine = np.concatenate([exact[k][inside[k]], grown[k][around[k]]])
            order = rng.permutation(len(mine))
            kept_places.append(mine[np.resize(order, PLACES)])
        kept_at.append(a[some])
        kept_width.append(w[some])
        kept_inside.append(inside[some].mean(axis=1))
    at, width = np.concatenate(kept_at).astype(np.int32), np.concatenate(kept_width).astype(np.int32)
    for n, ((x, y, z), w) in enumerate(zip(at.tolist(), width.tolist())):
        number[x : x + w, y : y + w, z : z + w] = n
    places = np.array(kept_places).reshape(-1, PLACES, 3)
    return Cells(low, size, number, at, width, places, np.concatenate(kept_inside))


def _blocks(touched: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(n, 3) first and (n,) width of blocks: of the smallest cells, and larger ones where nothing is touched."""
    at, width = [], []
    size = LARGEST
    open_ = np.ones([s // size for s in touched.shape], np.bool_)
    while size >= 1:
        x, y, z = (s // size for s in touched.shape)
        any_ = touched.reshape(x, size, y, size, z, size).any(axis=(1, 3, 5))
        taken = open_ & (~any_ if size > 1 else True)
        found = np.argwhere(taken)
        at.append(found * size)
        width.append(np.full(len(found), size))
        open_ &= ~taken
        if size > 1:
            open_ = open_.repeat(2, axis=0).repeat(2, axis=1).repeat(2, axis=2)
        size //= 2
    return np.concatenate(at), np.concatenate(width)
