"""How wide a way is where it is narrowest: the largest ball that passes."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ropebell.kernel import dividing, kernel
from ropebell.level.model import F64, I64, U8, Mask
from ropebell.level.nearest import nearest_on
from ropebell.level.triangles import corner_bounds
from ropebell.light.workers import halves
from ropebell.sight.sealing import INSIDE, OUTSIDE

# Places along each side of the block that is looked at, and so many widths of the gap it reaches each way.
PLACES, REACH = 36, 1.8
# Of them, blocks of so many each way are looked at together.
BLOCK = 4
BLOCKS = -(-PLACES // BLOCK)
# The clearest place is sought on so many sections across the way, on so many places each way, so often more closely.
SECTIONS, ACROSS, CLOSER = 9, 9, 4
ROUND = 1.3
# By so much more of all directions one sees out at one end of a way than at the other, if it is known where it does.
SEEN_OUT = 0.05
# Looked at so often at most, until the width changes by no more.
LOOKS, SAME = 4, 0.05
# How far beside a place it is seen whether the way gets narrower, in clearances.
BESIDE = 0.25
# From so many clearances on, the narrowest place is not the one where one comes to see out.
DEEP = 2.0


def narrowest(
    corners: F64, place: F64, width: float, sides: Callable[[F64], U8], mine: Callable[[F64], Mask],
    away: Callable[[F64], F64],
) -> tuple[F64, float, I64]:  # fmt: skip
    """Where a way is narrowest, how wide the largest ball is that passes there, and triangles that it touches there.

    Args:
        corners: (T, 3, 3) metres. place: (3,) in the gap, about; width: of it, about.
        sides: of (n, 3) places, INSIDE, OUTSIDE or neither. mine: whether they are nearer to this gap than to others,
            through which a way may not lead. away: share of the rays from them that leave the level.
    """
    for _ in range(LOOKS):
        found, place, near = _looked_at(corners, place, width, sides, mine, away)
        # What was thought narrower than it is, was not looked at as a whole.
        settled = abs(found - width) <= SAME * width
        width = found
        if settled:
            break
    return place, width, near


def _looked_at(
    corners: F64, place: F64, width: float, sides: Callable[[F64], U8], mine: Callable[[F64], Mask],
    away: Callable[[F64], F64],
) -> tuple[float, F64, I64]:  # fmt: skip
    """Once about a place: clearance is known on a block of places. Of all ways over them from the inside to the outside
    at the block's rim, that with the largest least clearance is taken; and about its narrowest place the ball is sought
    that is largest across the way and smallest along it."""
    low, high = corner_bounds(corners)
    half = max(REACH * width, 4e-3)
    near = _near(corners, low, high, place, 2.0 * half)
    step = 2.0 * half / (PLACES - 1)
    clear = np.empty((PLACES, PLACES, PLACES))
    halves(np.arange(BLOCKS**3), lambda blocks: _clearance(corners, near, place - half, step, clear, blocks), BLOCKS)
    index = np.stack(np.meshgrid(*[np.arange(PLACES)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    rim = np.flatnonzero(((index == 0) | (index == PLACES - 1)).any(axis=1))
    side, here = sides(place - half + index * step), mine(place - half + index * step)
    ends = np.zeros(len(index), np.uint8)
    ends[rim] = side[rim]
    # Of places that are as clear, those in the middle first: in a slit all are.
    order = np.lexsort((((index - PLACES / 2) ** 2).sum(axis=1), -np.rint(clear.ravel() / (0.05 * step))))
    flat, at_worst, before, after = _widest_way(clear.ravel(), order, ends, side, here, PLACES)
    if not len(flat):
        return width, place, near
    way = index[flat]
    along = (index[after] - index[before]).astype(np.float64)
    least = float(clear[tuple(way[at_worst])])
    tightest = _saddle_at(corners, near, place - half + way[at_worst] * step, along, step, step)
    # The grid misses the middle of the way by less than a step; what is much wider lies beside the way.
    if tightest[3] < least:  # the search slid off to where it is narrower still, beside the way
        tightest[:3] = place - half + way[at_worst] * step
    tightest[3] = min(max(float(tightest[3]), least), least + step)
    centre, radius = tightest[:3], float(tightest[3])
    # What stands before an opening may be what is narrowest; the gap is where one comes to see out.
    points = place - half + way * step
    seen = away(np.concatenate([points, centre[None]]))
    here_too, seen = float(seen[-1]), seen[:-1]
    if here_too < seen[0] + 0.3 * (seen[-1] - seen[0]) and seen[-1] - seen[0] > SEEN_OUT:
        at = int(np.flatnonzero(seen >= 0.5 * (seen[0] + seen[-1]))[0])
        ahead = max(int(clear[tuple(way[at])] / step), 3)
        through = (way[min(at + ahead, len(way) - 1)] - way[max(at - ahead, 0)]).astype(np.float64)
        gap = _saddle_at(corners, near, points[at], through, step, 0.7 * width)
        if _is_narrow(corners, gap, through):
            centre, radius = gap[:3], float(gap[3])
        else:
            # Where a whole wall is missing a room is as narrow all along: its end is the gap. In a window, or past a
            # stone, both lie close together, and the narrowest place stays.
            if np.linalg.norm(points[at] - centre) > DEEP * radius:
                centre, radius = gap[:3], float(gap[3])
    around = _near(corners, low, high, centre, 0.3 * radius + 1e-4)
    far = np.empty(len(around))
    _to_each(corners, around, centre, far)
    return 2.0 * float(tightest[3]), centre, around[far <= radius * ROUND + 1e-4]


def _is_narrow(corners: F64, ball: F64, through: F64) -> bool:
    """Whether a way gets no narrower on either side of a place: past a gap, as outside a window, it does on one.

    Args:
        ball: (4,) place and clearance, metres. through: (3,) along the way, of any length.
    """
    ahead = BESIDE * ball[3] * through / max(float(np.linalg.norm(through)), 1e-300)
    beside = min(clearance(corners, ball[:3] - ahead), clearance(corners, ball[:3] + ahead))
    return beside >= (1.0 - SAME) * float(ball[3])


def _saddle_at(corners: F64, near: I64, place: F64, along: F64, deep: float, far: float) -> F64:
    best = np.empty(4)
    length = float(np.linalg.norm(along))
    along = along / length if length > 0 else np.array([0.0, 1.0, 0.0])
    low, high = corner_bounds(corners[near])
    few = near[_near(corners[near], low, high, place, deep + far)]
    _saddle(corners, few, place, along, deep, far, best)
    return best


def clearance(corners: F64, place: F64) -> float:
    """Metres from a place to the nearest of some triangles."""
    low, high = corner_bounds(corners)
    near = _near(corners, low, high, place, 0.0)
    far = np.empty(len(near))
    _to_each(corners, near, place, far)
    return float(far.min(initial=np.inf))


def _near(corners: F64, low: F64, high: F64, place: F64, reach: float) -> I64:
    """Triangles that can be nearest to places within reach of one."""
    gap = np.linalg.norm(np.maximum(np.maximum(low - place, place - high), 0.0), axis=1)
    nearest = np.argpartition(gap, 63)[:64] if len(gap) > 64 else np.arange(len(gap))
    far = np.empty(len(nearest))
    _to_each(corners, nearest, place, far)
    return np.flatnonzero(gap <= float(far.min(initial=np.inf)) + 2.0 * math.sqrt(3.0) * reach)


@dividing
def _clearance(corners: F64, near: I64, low: F64, step: float, clear: F64, blocks: I64) -> None:
    """Metres to the nearest of some triangles, from each place of a grid; by blocks of them, as most triangles are too
    far from any of a block."""
    point, box, part = np.empty((1, 3)), np.empty((len(near), 6)), np.empty((len(near), 6))
    _boxes(corners, near, box)
    few, gap = np.empty(len(near), np.int64), np.empty(len(near))
    side, n = clear.shape[0], (clear.shape[0] + BLOCK - 1) // BLOCK
    half = 0.5 * (BLOCK - 1) * step
    for block in blocks:
        x0, y0, z0 = block // (n * n) * BLOCK, block // n % n * BLOCK, block % n * BLOCK
        point[0, 0], point[0, 1], point[0, 2] = (
            low[0] + x0 * step + half,
            low[1] + y0 * step + half,
            low[2] + z0 * step + half,
        )
        least = np.inf
        for i in range(len(near)):
            gap[i] = _to_box(box[i], point[0])
            if gap[i] < least:
                least = min(least, nearest_on(corners, near[i], point, 0)[0])
        reach = (math.sqrt(least) + 2.0 * math.sqrt(3.0) * half) ** 2
        count = 0
        for i in range(len(near)):
            if gap[i] <= reach:
                few[count] = near[i]
                part[count] = box[i]
                count += 1
        for x in range(x0, min(x0 + BLOCK, side)):
            for y in range(y0, min(y0 + BLOCK, side)):
                for z in range(z0, min(z0 + BLOCK, side)):
                    point[0, 0], point[0, 1], point[0, 2] = low[0] + x * step, low[1] + y * step, low[2] + z * step
                    least = np.inf
                    for i in range(count):
                        if _to_box(part[i], point[0]) < least:
                            least = min(least, nearest_on(corners, few[i], point, 0)[0])
                    clear[x, y, z] = math.sqrt(least)


@kernel
def _boxes(corners: F64, near: I64, box: F64) -> None:
    for i in range(len(near)):
        for c in range(3):
            p, q, r = corners[near[i], 0, c], corners[near[i], 1, c], corners[near[i], 2, c]
            box[i, c], box[i, 3 + c] = min(p, q, r), max(p, q, r)


@kernel
def _to_box(box: F64, point: F64) -> float:
    """Square of the distance of a point to a box."""
    square = 0.0
    for c in range(3):
        away = max(box[c] - point[c], point[c] - box[3 + c], 0.0)
        square += away * away
    return square


@dividing
def _to_each(corners: F64, near: I64, place: F64, far: F64) -> None:
    point = np.empty((1, 3))
    point[0] = place
    for i in range(len(near)):
        far[i] = math.sqrt(nearest_on(corners, near[i], point, 0)[0])


@kernel
def _across(along: F64) -> tuple[F64, F64]:
    """Two unit ways across one."""
    u = np.zeros(3)
    u[np.argmin(np.abs(along))] = 1.0
    u -= np.sum(u * along) * along
    u /= math.sqrt(np.sum(u * u))
    v = np.empty(3)
    v[0] = along[1] * u[2] - along[2] * u[1]
    v[1] = along[2] * u[0] - along[0] * u[2]
    v[2] = along[0] * u[1] - along[1] * u[0]
    return u, v


@dividing
def _saddle(
    corners: F64, near: I64, centre: F64, along: F64, deep: float, widest: float, best: F64
) -> None:  # fmt: skip
    """The place across a way that is clearest, on that section where this is least; and how clear it is.

    Args:
        deep: sections are made so far each way. widest: no place is farther from the middle.
    """
    u, v = _across(along)
    point, found = np.empty((1, 3)), np.empty(2)
    best[3] = np.inf
    for s in range(SECTIONS):
        along_it = (2.0 * s / (SECTIONS - 1) - 1.0) * deep
        a0, b0, reach, here = 0.0, 0.0, widest, -1.0
        for _ in range(CLOSER):
            found[0], found[1] = a0, b0
            for i in range(ACROSS * ACROSS):
                a = a0 + (i // ACROSS / (ACROSS // 2) - 1.0) * reach
                b = b0 + (i % ACROSS / (ACROSS // 2) - 1.0) * reach
                for c in range(3):
                    point[0, c] = centre[c] + along_it * along[c] + a * u[c] + b * v[c]
                there = _clear_at(corners, near, point)
                if there > here * (1.0 + 1e-9):
                    here, found[0], found[1] = there, a, b
            a0, b0 = found[0], found[1]
            reach *= 2.0 / ACROSS
        if here < best[3]:
            best[3] = here
            for c in range(3):
                best[c] = centre[c] + along_it * along[c] + a0 * u[c] + b0 * v[c]


@dividing
def _clear_at(corners: F64, near: I64, point: F64) -> float:
    least = np.inf
    for i in range(len(near)):
        least = min(least, nearest_on(corners, near[i], point, 0)[0])
    return math.sqrt(least)


def _widest_way(
    clear: F64, order: I64, ends: U8, side: U8, here: Mask, count: int
) -> tuple[I64, int, int, int]:  # fmt: skip
    """Places from inside to outside along which the least clearance is as large as can be, none without any; which of
    them is least clear; and where it comes from and leads to, as steeply as it widens."""
    worst, before, after = _narrowest_on_way(clear, order, ends, side, here, count)
    if worst < 0 or clear[worst] <= 0.0:
        return np.zeros(0, np.int64), 0, 0, 0
    parts = []
    for value in (INSIDE, OUTSIDE):
        back, end = _steps(clear, ends, side, here, count, worst, value)
        places = [int(end)]
        while back[places[-1]] != places[-1]:
            places.append(int(back[places[-1]]))
        parts.append(np.array(places))
    way = np.concatenate([parts[0], parts[1][::-1][1:]])
    return way, len(parts[0]) - 1, _climbed(clear, before, count), _climbed(clear, after, count)


@kernel
def _climbed(clear: F64, n: int, count: int) -> int:
    """Where one comes from a place by always stepping to where it is clearest, so far as it has doubled."""
    first = clear[n]
    while clear[n] < 2.0 * first:
        x, y, z = n // (count * count), n // count % count, n % count
        best = n
        for a in range(max(x - 1, 0), min(x + 2, count)):
            for b in range(max(y - 1, 0), min(y + 2, count)):
                for c in range(max(z - 1, 0), min(z + 2, count)):
                    o = (a * count + b) * count + c
                    if clear[o] > clear[best]:
                        best = o
        if best == n:
            return n
        n = best
    return n


@kernel
def _apart(n: int, o: int, side: U8, here: Mask) -> bool:
    """Whether from one place to the next one goes through another gap."""
    return side[n] != 0 and side[o] != 0 and side[n] != side[o] and not (here[n] and here[o])


@kernel
def _next(n: int, k: int, count: int) -> int:
    """One of the six places beside one of a block, −1 beyond its rim."""
    stride = (count * count, count, 1)[k >> 1]
    along = n // stride % count + (1 if k & 1 else -1)
    return n + (stride if k & 1 else -stride) if 0 <= along < count else -1


@kernel
def _narrowest_on_way(
    clear: F64, order: I64, ends: U8, side: U8, here: Mask, count: int
) -> tuple[int, int, int]:  # fmt: skip
    """The place by which inside and outside first hang together, as places are let in from the clearest on, and the
    ones beside it on either side; −1 if they never do."""
    root = np.full(len(clear), -1, np.int64)
    holds = ends.copy()
    beside = np.empty(3, np.int64)
    for m in range(len(order)):
        n = order[m]
        root[n] = n
        beside[:] = n
        for k in range(6):
            o = _next(n, k, count)
            if o < 0:
                continue
            if root[o] < 0 or _apart(n, o, side, here):
                continue
            first = o
            while root[o] != o:
                root[o] = root[root[o]]
                o = root[o]
            if o == n:
                continue
            if holds[o] == INSIDE or holds[o] == OUTSIDE:
                beside[holds[o]] = first
            root[o] = n
            holds[n] |= holds[o]
        if holds[n] == INSIDE | OUTSIDE:
            return n, beside[INSIDE], beside[OUTSIDE]
    return -1, 0, 0


@kernel
def _steps(
    clear: F64, ends: U8, side: U8, here: Mask, count: int, begin: int, wanted: int
) -> tuple[I64, int]:  # fmt: skip
    """The place before each on shortest ways from one over those no less clear, and the first end of a side."""
    back = np.full(len(clear), -1, np.int64)
    queue = np.empty(len(clear), np.int64)
    queue[0], head, tail = begin, 0, 1
    back[begin] = begin
    while head < tail:
        n = queue[head]
        head += 1
        if ends[n] == wanted:
            return back, n
        for k in range(6):
            o = _next(n, k, count)
            if o < 0:
                continue
            if back[o] < 0 and clear[o] >= clear[begin] and not _apart(n, o, side, here):
                back[o] = n
                queue[tail] = o
                tail += 1
    return back, begin
