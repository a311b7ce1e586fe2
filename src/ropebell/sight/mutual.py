"""Which cell can see which: rays from places spread over each, and more of them where it is not yet decided.

First, rays from every cell in all directions: each is seen by every cell it crosses. What is seen from a cell hangs
together, so further ones are sought beside those already known, by rays from cell to cell, until no more are found. As
places lie also just round their cells, and what lies between pairs that see each other counts as seen, what is seen
only from a cell's rim is not missed; some pairs more than that are said to see each other.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import inlined, kernel
from ropebell.level.model import F32, F64, I32, I64, U8
from ropebell.light.rays import RaySpace
from ropebell.light.workers import run_chunks
from ropebell.sight.cells import PLACES, Cells, beside_each

# Rays from each cell in all directions, and from cell to cell where it is not yet known.
ALL_ROUND, BETWEEN = 1024, 72
CHUNK = 1 << 16
# Of each pair of cells so many triangles between them are remembered: what one ray met stops most others.
REMEMBERED = 8
# A ray counts as stopped by a remembered triangle only if it meets it so far from its rim, as a share of its size.
RIM = 1e-5
MOST_ROUNDS = 64
# Of the pairs around one, this share sees each other where it may be seen itself, though no ray came through; from this
# share on so many more rays are asked before it is said that it is not.
CLOSE, NEARLY, DOUBTFUL = 0.25, 0.1, 288


@dataclass(frozen=True, eq=False)
class Mutual:
    """Who sees whom.

    Attributes:
        cells: n of them. seen: (n, ceil(n / 8)) uint8, a bit for each pair, both ways alike.
        asked: (n,) rays that each cell took, of those between two half each. tracing: seconds in the ray library.
    """

    cells: Cells
    seen: U8
    asked: F64
    tracing: float

    @property
    def rays(self) -> int:
        """That it took."""
        return round(float(self.asked.sum()))

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
    traced: list[float] = []
    _all_round(cells, space, places, seen, workers, lambda share: tick(0.5 * share), traced)
    seen |= seen.T
    asked = np.full(n, float(ALL_ROUND))
    beside = beside_each(cells.number)
    done = seen.copy()  # pairs that are known to be seen, or were asked about
    for round_ in range(MOST_ROUNDS):
        wanted = _frontier(seen, done, beside)
        begun = 0.5 + 0.5 * min(round_ / 8, 1.0)
        tick(begun)
        if not len(wanted):
            break
        done[wanted[:, 0], wanted[:, 1]] = done[wanted[:, 1], wanted[:, 0]] = True
        # A round may take long: whoever wants to stop is not made to wait for its end.
        through, took = any_through(space, places, wanted, round_, workers, traced, partial(_still, tick, begun))
        _book(asked, wanted, took)
        a, b = wanted[through].T
        seen[a, b] = seen[b, a] = True
    # Rays are a sample: where much of what is around a pair is seen, more of them are asked, and where enough of it is,
    # it counts as seen though no ray came through.
    wanted = np.argwhere(np.triu((_around(seen, beside) >= NEARLY) & ~seen)).astype(np.int32)
    still = partial(_still, tick, 1.0)
    through, took = any_through(space, places, wanted, MOST_ROUNDS, workers, traced, still, DOUBTFUL)
    _book(asked, wanted, took)
    a, b = wanted[through].T
    seen[a, b] = seen[b, a] = True
    seen |= _around(seen, beside) >= CLOSE
    return Mutual(cells, np.packbits(seen, axis=1), asked, sum(traced) / workers)


def _book(asked: F64, pairs: I32, took: I32) -> None:
    """Write rays between cells down to both."""
    for end in (0, 1):
        asked += np.bincount(pairs[:, end], 0.5 * took, len(asked))


def _still(tick: Callable[[float], None], share: float, _of_round: float) -> None:
    """How many rounds there will be is not known."""
    tick(share)


def _all_round(
    cells: Cells, space: RaySpace, places: F32, seen: NDArray[np.bool_], workers: int, tick: Callable[[float], None],
    traced: list[float],
) -> None:  # fmt: skip
    """Mark what rays from each cell cross.

    Args:
        traced: gets the seconds of each call to the ray library.
    """
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
        begun = time.perf_counter()
        far = space.distances(start, way)
        traced.append(time.perf_counter() - begun)
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


def any_through(
    space: RaySpace, places: F32, pairs: I32, seed: int, workers: int, traced: list[float],
    tick: Callable[[float], None] = lambda _: None, count: int = BETWEEN,
) -> tuple[NDArray[np.bool_], I32]:  # fmt: skip
    """(m,) whether any of some rays comes through from one cell of a pair to the other, and (m,) how many were asked.

    A pair's rays are asked one after the other until one comes through; what stopped one is tried first at those after
    it. Most pairs are parted by a wall of few triangles, so that few rays go through the tree of all of them.

    Args:
        places: (n, PLACES, 3) metres from the middle of `space`, in and round each cell. pairs: (m, 2) cells.
        traced: gets the seconds of each call to the ray library. tick: called with the share done, may raise `Stopped`.
        count: rays of a pair, at most.
    """
    found, took = np.zeros(len(pairs), np.bool_), np.zeros(len(pairs), np.int32)

    def work(first: int, end: int) -> None:
        mine = pairs[first:end]
        its = np.random.default_rng((seed, first)).integers(0, PLACES, (len(mine), count, 2), dtype=np.int8)
        known, stopped_by = np.zeros((len(mine), REMEMBERED), np.int32), np.zeros(len(mine), np.int32)
        next_, rows = np.zeros(len(mine), np.int32), np.arange(len(mine))
        while len(rows):
            start, way = np.empty((len(rows), 3), np.float32), np.empty((len(rows), 3), np.float32)
            open_ = np.empty(len(rows), np.bool_)
            _not_stopped(space.vertices, places, mine, its, rows, known, stopped_by, next_, start, way, open_)
            rows = rows[open_]
            begun = time.perf_counter()
            met = space.first_within(start[open_], way[open_], np.ones(len(rows), np.float32))
            traced.append(time.perf_counter() - begun)
            found[first + rows[met < 0]] = True
            rows, met = rows[met >= 0], met[met >= 0]
            known[rows, stopped_by[rows] % REMEMBERED] = met
            stopped_by[rows] += 1
            next_[rows] += 1
        # The one that came through counts, too.
        took[first:end] = next_ + found[first:end]

    run_chunks(len(pairs), CHUNK // 4, work, workers, tick)
    return found, took


@kernel
def _not_stopped(
    corners: F32, places: F32, pairs: I32, choice: NDArray[np.int8], rows: I64, known: I32, count: I32, next_: I32,
    start: F32, way: F32, open_: NDArray[np.bool_],
) -> None:  # fmt: skip
    """Go on to the next ray of some pairs that no remembered triangle stops.

    Args:
        known, count: triangles that are remembered of each pair, and how many there were. next_: the ray to begin with,
            afterwards the one that was found.
        start, way: (rows, 3) where it begins and leads. open_: (rows,) whether there was one.
    """
    for k in range(len(rows)):
        m = rows[k]
        a, b = pairs[m, 0], pairs[m, 1]
        held = min(count[m], known.shape[1])
        open_[k] = False
        while next_[m] < choice.shape[1]:
            p, q = choice[m, next_[m], 0], choice[m, next_[m], 1]
            x, y, z = float(places[a, p, 0]), float(places[a, p, 1]), float(places[a, p, 2])
            dx, dy, dz = places[b, q, 0] - x, places[b, q, 1] - y, places[b, q, 2] - z
            stopped = False
            for i in range(held):
                t = known[m, i]
                if _meets(corners[t], x, y, z, dx, dy, dz):
                    # What stops one ray stops the next ones, too.
                    known[m, i] = known[m, 0]
                    known[m, 0] = t
                    stopped = True
                    break
            if not stopped:
                open_[k] = True
                start[k, 0], start[k, 1], start[k, 2] = x, y, z
                way[k, 0], way[k, 1], way[k, 2] = dx, dy, dz
                break
            next_[m] += 1


@inlined
def _meets(corner: F32, x: float, y: float, z: float, dx: float, dy: float, dz: float) -> bool:
    """Whether a segment goes through a triangle, off its rim (T. Möller, B. Trumbore, "Fast, minimum storage
    ray-triangle intersection", 1997)."""
    cx, cy, cz = float(corner[0, 0]), float(corner[0, 1]), float(corner[0, 2])
    ax, ay, az = corner[1, 0] - cx, corner[1, 1] - cy, corner[1, 2] - cz
    bx, by, bz = corner[2, 0] - cx, corner[2, 1] - cy, corner[2, 2] - cz
    px, py, pz = dy * bz - dz * by, dz * bx - dx * bz, dx * by - dy * bx
    det = ax * px + ay * py + az * pz
    if det == 0.0:
        return False
    inverse = 1.0 / det
    sx, sy, sz = x - cx, y - cy, z - cz
    u = (sx * px + sy * py + sz * pz) * inverse
    if u < RIM or u > 1.0 - RIM:
        return False
    qx, qy, qz = sy * az - sz * ay, sz * ax - sx * az, sx * ay - sy * ax
    v = (dx * qx + dy * qy + dz * qz) * inverse
    if v < RIM or u + v > 1.0 - RIM:
        return False
    along = (bx * qx + by * qy + bz * qz) * inverse
    return bool(RIM < along < 1.0 - RIM)
