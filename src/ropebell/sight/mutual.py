"""Which cell can see which: rays from places spread over each, and more of them where it is not yet decided.

First, rays from every cell in all directions: each is seen by every cell it crosses. What is seen from a cell hangs
together, so further ones are sought beside those already known, by rays from cell to cell, until no more are found. As
places lie also just round their cells, and what lies between pairs that see each other counts as seen, what is seen
only from a cell's rim is not missed; some pairs more than that are said to see each other.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, I64, U8
from ropebell.light.rays import RaySpace
from ropebell.light.workers import run_chunks
from ropebell.sight.cells import PLACES, Cells, beside_each

# Rays from each cell in all directions, and from cell to cell: first, and again where none of these came through.
ALL_ROUND, FIRST, AGAIN = 1024, 16, 56
CHUNK = 1 << 16
MOST_ROUNDS = 64
# Of the pairs around one, this share sees each other where it may be seen itself, though no ray came through.
CLOSE = 0.25


@dataclass(frozen=True, eq=False)
class Mutual:
    """Who sees whom.

    Attributes:
        cells: n of them. seen: (n, ceil(n / 8)) uint8, a bit for each pair, both ways alike. rays: that it took.
    """

    cells: Cells
    seen: U8
    rays: int

    @property
    def counts(self) -> I64:
        """(n,) how many cells each sees."""
        found: I64 = np.bitwise_count(self.seen).sum(axis=1).astype(np.int64)
        return found


def who_sees_whom(
    cells: Cells, space: RaySpace, workers: int, tick: Callable[[float], None] = lambda _: None
) -> Mutual:  # fmt: skip
    """Find out which cells see each other.

    Args:
        space: rays against what blocks sight. tick: called with the share done, may raise `Stopped`.
    """
    n = len(cells)
    seen = np.zeros((n, n), np.bool_)
    np.fill_diagonal(seen, True)
    places = (cells.places - space.centre).astype(np.float32)
    _all_round(cells, space, places, seen, workers, lambda share: tick(0.5 * share))
    seen |= seen.T
    rays = n * ALL_ROUND
    beside = beside_each(cells.number)
    done = seen.copy()  # pairs that are known to be seen, or were asked about
    rng = np.random.default_rng(2)
    for round_ in range(MOST_ROUNDS):
        wanted = _frontier(seen, done, beside)
        tick(0.5 + 0.5 * min(round_ / 8, 1.0))
        if not len(wanted):
            break
        done[wanted[:, 0], wanted[:, 1]] = done[wanted[:, 1], wanted[:, 0]] = True
        for many in (FIRST, AGAIN):
            through = _through(space, places, wanted, many, rng, workers)
            rays += len(wanted) * many
            a, b = wanted[through].T
            seen[a, b] = seen[b, a] = True
            wanted = wanted[~through]
    # Rays are a sample: what no ray came through to counts as seen if enough of what is around it is.
    seen |= _around(seen, beside) >= CLOSE
    return Mutual(cells, np.packbits(seen, axis=1), rays)


def _all_round(
    cells: Cells, space: RaySpace, places: F32, seen: NDArray[np.bool_], workers: int, tick: Callable[[float], None]
) -> None:  # fmt: skip
    """Mark what rays from each cell cross."""
    low = (cells.low - space.centre).astype(np.float64)
    directions = _directions(ALL_ROUND)

    def work(first: int, end: int) -> None:
        count = end - first
        start = np.ascontiguousarray(
            np.repeat(places[first:end], ALL_ROUND // PLACES, axis=1).reshape(-1, 3), dtype=np.float32
        )
        # Every place gets directions from all over the sphere.
        turned = directions.reshape(ALL_ROUND // PLACES, PLACES, 3).swapaxes(0, 1).reshape(-1, 3)
        way = np.ascontiguousarray(np.tile(turned, (count, 1)))
        far = space.distances(start, way)
        _crossed(start, way, far, low, cells.size, cells.number, np.repeat(np.arange(first, end), ALL_ROUND), seen)

    run_chunks(len(cells), max(CHUNK // ALL_ROUND, 1), work, workers, tick)


def _directions(count: int) -> F32:
    """(count, 3) all round, in an order in which any run of them is spread out."""
    from ropebell.light.sampling import fibonacci_sphere

    found = fibonacci_sphere(count)
    return found[np.random.default_rng(3).permutation(count)].astype(np.float32)


@kernel
def _crossed(
    start: F32, way: F32, far: F32, low: F64, size: float, number: I32, owner: I64, seen: NDArray[np.bool_]
) -> None:  # fmt: skip
    """Walk rays through the grid up to where they end (J. Amanatides, A. Woo, 1987)."""
    limit = size * (number.shape[0] + number.shape[1] + number.shape[2])
    cell, step = np.empty(3, np.int64), np.empty(3, np.int64)
    next_, apart = np.empty(3), np.empty(3)
    for m in range(len(start)):
        end = min(float(far[m]), limit)
        for c in range(3):
            p = (start[m, c] - low[c]) / size
            cell[c] = int(np.floor(p))
            d = way[m, c] / size
            step[c] = 1 if d > 0 else -1
            if abs(d) < 1e-12:
                next_[c], apart[c] = np.inf, np.inf
            else:
                next_[c], apart[c] = ((cell[c] + (1 if d > 0 else 0)) - p) / d, abs(1.0 / d)
        while True:
            if not (
                0 <= cell[0] < number.shape[0] and 0 <= cell[1] < number.shape[1] and 0 <= cell[2] < number.shape[2]
            ):
                break
            met = number[cell[0], cell[1], cell[2]]
            if met >= 0:
                seen[owner[m], met] = True
            k = 0 if next_[0] <= next_[1] and next_[0] <= next_[2] else (1 if next_[1] <= next_[2] else 2)
            if next_[k] >= end:
                break
            cell[k] += step[k]
            next_[k] += apart[k]


def _around(seen: NDArray[np.bool_], beside: I64) -> F32:
    """(n, n) of the pairs that are one step beside each pair, at either end, the share that see each other."""
    from scipy.sparse import csr_matrix  # slow to load, and only wanted here

    n = len(seen)
    links = csr_matrix((np.ones(len(beside), np.float32), (beside[:, 0], beside[:, 1])), shape=(n, n))
    near = np.empty((n, n), np.float32)
    for first in range(0, n, 512):
        part = slice(first, first + 512)
        near[:, part] = links @ seen[:, part].astype(np.float32)
    degree = np.asarray(links.sum(axis=1), np.float32).ravel()
    found: F32 = (near + near.T) / np.maximum(degree[:, None] + degree[None, :], 1.0)
    return found


def _frontier(seen: NDArray[np.bool_], done: NDArray[np.bool_], beside: I64) -> I32:
    """(m, 2) pairs, the lower first, that are not known, but one of which sees what is beside the other."""
    return np.argwhere(np.triu((_around(seen, beside) > 0) & ~done)).astype(np.int32)


def _through(
    space: RaySpace, places: F32, pairs: I32, many: int, rng: np.random.Generator, workers: int
) -> NDArray[np.bool_]:  # fmt: skip
    """(m,) whether any of so many rays comes through from one cell of a pair to the other."""
    found = np.zeros(len(pairs), np.bool_)
    choice = rng.integers(0, PLACES, (2, len(pairs), many), dtype=np.int8)

    def work(first: int, end: int) -> None:
        start = places[pairs[first:end, 0, None], choice[0, first:end]].reshape(-1, 3)
        way = places[pairs[first:end, 1, None], choice[1, first:end]].reshape(-1, 3) - start
        found[first:end] = ~space.blocked(start, way, np.ones(len(start), np.float32)).reshape(-1, many).all(axis=1)

    run_chunks(len(pairs), max(CHUNK // many, 1), work, workers, lambda _: None)
    return found
