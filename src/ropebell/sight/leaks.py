"""Every leak of a level: the way out, its narrowest place, and the pieces round it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ropebell.level.connected import connected
from ropebell.level.model import F64, I64, Mask
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import fibonacci_sphere
from ropebell.sight.sealing import INSIDE, OUTSIDE, Flood
from ropebell.sight.throat import clearance, narrowest

# An opening whose largest ball is narrower is none, metres.
TIGHT = 1e-3
# Directions in which a place looks out.
LOOKS = 256
# Places between two gaps that tell whether they are one, those first that tell most.
BETWEEN = (1 / 2, 1 / 4, 3 / 4, *(k / 16 for k in range(1, 16) if k % 4))
# Openings of a gap that are this wide, as a share of the widest, are all as good as that.
WIDE = 0.9
# Directions across a way in which its rim is looked for, as far as so many times its width.
# A way may be askew to a gap by an angle of this cosine.
ACROSS, BESIDE, ASKEW = 64, 2.0, 0.6
# A way out is straightened so often, from the second time on with more places on it.
STRAIGHTENED = 3


@dataclass(frozen=True, eq=False)
class Leak:
    """A way out.

    Attributes:
        trail: (n, 3) metres, from inside to outside the level; each place sees the next.
        place: (3,) where it is narrowest. width: metres, of the largest ball that passes.
        triangles: (t,) that stand round the gap.
    """

    trail: F64
    place: F64
    width: float
    triangles: I64


def leaks_of(
    flood: Flood, seeds: F64, corners: F64, space: RaySpace, tick: Callable[[float], None] = lambda _: None
) -> list[Leak]:
    """All leaks, the widest first.

    Args:
        flood: how far inside and outside come.
        seeds: (n, 3) metres, what is inside; trails begin at the first.
        corners: (T, 3, 3) what blocks; space: rays against it.
    """
    rows, label = _gaps(flood)
    if not len(rows):
        return []
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    tree = cKDTree(flood.openings[rows, 3:])
    first = np.array([_foremost(flood.openings[rows], np.flatnonzero(label == k)) for k in np.unique(label)])
    gaps = first[np.argsort(-flood.openings[rows[first], 2])]
    ways = _Ways(flood, seeds)
    found: list[Leak] = []
    for number, gap in enumerate(gaps):
        tick(number / len(gaps))
        # A long slit is many gaps, each of which takes as long to measure as a hole.
        rough = flood.space.low + flood.openings[rows[gap], 3:]
        if any(_one_opening(corners, rough, leak.width, leak) for leak in found):
            continue
        trail, at = ways.through(int(rows[gap]))

        def mine(places: F64, gap: int = int(gap)) -> Mask:
            return np.asarray(label[tree.query(places - flood.space.low)[1]] == label[gap], np.bool_)

        about = float(flood.openings[rows[gap], 2])
        place, width, near = narrowest(corners, trail[at], about, flood.sides, mine, partial(escaping, space))
        if width < TIGHT:
            continue
        trail[at] = place
        if not any(_one_opening(corners, place, width, leak) for leak in found):
            way = straightened(space, trail, at)
            round_ = np.concatenate([near, _rim(space, place, way, width)])
            found.append(Leak(way, place, width, round_[np.sort(np.unique(round_, return_index=True)[1])]))
    return sorted(found, key=lambda leak: -leak.width)


def _rim(space: RaySpace, place: F64, way: F64, width: float) -> I64:
    """(n,) triangles that bound a gap beside its narrowest ball: those that one sees from there across the way.

    Args:
        place: (3,) of the gap, one of the way's. way: (m, 3) the way out. width: metres, of the ball.
    """
    at = int(np.linalg.norm(way - place, axis=1).argmin())
    along = way[min(at + 1, len(way) - 1)] - way[max(at - 1, 0)]
    along = along / max(float(np.linalg.norm(along)), 1e-300)
    # A way may go through a gap askew; across the gap itself its rim is nearest.
    steps = np.stack(np.meshgrid(*[(-1.0, 0.0, 1.0)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    steps = steps[np.abs(steps).sum(axis=1) > 0]
    steps /= np.linalg.norm(steps, axis=1)[:, None]
    turn, best, found = 2.0 * np.pi * (np.arange(ACROSS) + 0.5) / ACROSS, np.inf, np.zeros(0, np.int64)
    start = np.tile((place - space.centre).astype(np.float32), (ACROSS, 1))
    for axis in (along, *steps[steps @ along > ASKEW]):
        u = np.cross(axis, np.eye(3)[np.abs(axis).argmin()])
        u /= max(float(np.linalg.norm(u)), 1e-300)
        looks = np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * np.cross(axis, u)
        hit, far = space.nearest(start, looks.astype(np.float32))
        mean = float(np.minimum(np.where(hit >= 0, far, np.inf), BESIDE * width).mean())
        if mean < best:
            best, found = mean, hit[(hit >= 0) & (far <= BESIDE * width)].astype(np.int64)
    return found


def _one_opening(corners: F64, place: F64, width: float, leak: Leak) -> bool:
    """Whether from a gap to a leak one stays in the same slit or hole: it neither closes nor widens on the way."""
    for share in BETWEEN:
        clear = clearance(corners, place + share * (leak.place - place))
        if not 0.3 * min(width, leak.width) <= clear <= 0.75 * max(width, leak.width):
            return False
    return True


def _gaps(flood: Flood) -> tuple[I64, I64]:
    """(m,) openings in which the floods meet, and which gap each is of: those are of one that share a node, or have
    nodes beside each other."""
    rows = np.flatnonzero(flood.met)
    pairs = flood.openings[:, :2].astype(np.int64)
    ends = np.unique(pairs[rows])
    number = np.full(flood.space.nodes, -1, np.int64)
    number[ends] = np.arange(len(ends))
    a, b = number[pairs[:, 0]], number[pairs[:, 1]]
    beside = (a >= 0) & (b >= 0)
    return rows, connected(len(ends), a[beside], b[beside])[a[rows]].astype(np.int64)


def _foremost(openings: F64, mine: I64) -> int:
    """Of some openings one of the widest, and of these the one in their middle: a slit is told by its middle."""
    wide = mine[openings[mine, 2] >= WIDE * openings[mine, 2].max()]
    places = openings[wide, 3:]
    return int(wide[((places - np.median(places, axis=0)) ** 2).sum(axis=1).argmin()])


class _Ways:
    """Shortest ways through cells, from the seeds and to the border."""

    def __init__(self, flood: Flood, seeds: F64) -> None:
        self._flood = flood
        space = flood.space
        self._pairs = flood.openings[:, :2].astype(np.int64)
        self._middle = self._middles()
        # The first of those in one node.
        self._seed = {n: p for n, p in zip(space.found(seeds)[1].tolist()[::-1], seeds[::-1]) if n >= 0}
        self._first = int(next((n for n in space.found(seeds)[1] if n >= 0), 0))
        self._back = {
            INSIDE: self._tree(INSIDE, np.array([self._first])),
            OUTSIDE: self._tree(OUTSIDE, space.border),
        }

    def _middles(self) -> F64:
        """(nodes, 3) mean of each node's openings."""
        count = np.bincount(self._pairs.ravel(), minlength=self._flood.space.nodes)
        total = np.stack([
            np.bincount(self._pairs.ravel(), np.repeat(self._flood.openings[:, 3 + c], 2), len(count)) for c in range(3)
        ], axis=1)  # fmt: skip
        found: F64 = total / np.maximum(count, 1)[:, None]
        return found

    def _tree(self, side: int, roots: I64) -> tuple[NDArray[np.int32], I64, I64]:
        """What node comes before each on the way from the roots, through nodes of one side; and the pairs of nodes that
        open to each other, as ascending numbers, with the opening of each."""
        from scipy.sparse import coo_matrix  # slow to load, and only wanted here
        from scipy.sparse.csgraph import dijkstra

        f = self._flood
        rows = np.flatnonzero((f.side[self._pairs] == side).all(axis=1))
        a, b = self._pairs[rows, 0], self._pairs[rows, 1]
        place = f.openings[rows, 3:]
        length = np.linalg.norm(place - self._middle[a], axis=1) + np.linalg.norm(place - self._middle[b], axis=1)
        low, high = np.minimum(a, b), np.maximum(a, b)
        # Of several openings between the same two, the shortest.
        order = np.lexsort((length, high, low))
        low, high, length, rows = low[order], high[order], length[order], rows[order]
        first = np.ones(len(rows), np.bool_)  # of none there is no first
        first[1:] = (low[1:] != low[:-1]) | (high[1:] != high[:-1])
        low, high, length, rows = low[first], high[first], length[first] + 1e-9, rows[first]
        graph = coo_matrix((length, (low, high)), shape=(f.space.nodes, f.space.nodes)).tocsr()
        _, back, _ = dijkstra(graph, directed=False, indices=roots, return_predecessors=True, min_only=True)
        return back, low * f.space.nodes + high, rows

    def through(self, gap: int) -> tuple[F64, int]:
        """(n, 3) a way from a seed through an opening to the border, and which of its places is in the opening."""
        f = self._flood
        a, b = (int(n) for n in self._pairs[gap])
        if f.side[a] != INSIDE:
            a, b = b, a
        to_gap, seed = self._back_from(INSIDE, a)
        beyond, border = self._back_from(OUTSIDE, b)
        here = f.openings[gap, 3:][None]
        inside = np.concatenate([to_gap[::-1], here])
        trail = np.concatenate([inside, beyond, self._middle[border][None]]) + f.space.low
        start = self._seed.get(seed)
        if start is not None:
            trail = np.concatenate([start[None], trail])
        return trail, len(trail) - len(beyond) - 2

    def _back_from(self, side: int, node: int) -> tuple[F64, int]:
        """(n, 3) openings from a node back to its root, and the root."""
        back, pairs, opening = self._back[side]
        nodes = [node]
        while back[nodes[-1]] >= 0:
            nodes.append(int(back[nodes[-1]]))
        a, b = np.array(nodes[:-1], np.int64), np.array(nodes[1:], np.int64)
        at = np.searchsorted(pairs, np.minimum(a, b) * self._flood.space.nodes + np.maximum(a, b))
        return self._flood.openings[opening[at], 3:], nodes[-1]


def straightened(space: RaySpace, trail: F64, keep: int) -> F64:
    """(m, 3) the same way with the bends left out that it can do without, but for one place."""
    before, after = (_shortened(space, part) for part in (trail[: keep + 1], trail[keep:]))
    for _ in range(STRAIGHTENED - 1):
        before, after = (_shortened(space, _denser(part)) for part in (before, after))
    return np.concatenate([before, after[1:]])


def _denser(points: F64) -> F64:
    """With a place in the middle of each stretch, so that corners can be cut."""
    if len(points) < 3:
        return points
    out = np.empty((2 * len(points) - 1, 3))
    out[::2], out[1::2] = points, 0.5 * (points[:-1] + points[1:])
    return out


def _shortened(space: RaySpace, points: F64) -> F64:
    kept, at = [0], 0
    while at < len(points) - 1:
        seen = sees(space, np.repeat(points[at][None], len(points) - at - 1, axis=0), points[at + 1 :])
        seen[0] = True
        at += int(np.flatnonzero(seen)[-1]) + 1
        kept.append(at)
    return points[kept]


def escaping(space: RaySpace, places: F64) -> F64:
    """(n,) share of the rays from each place that leave the level."""
    looks = fibonacci_sphere(LOOKS).astype(np.float32)
    start = np.repeat((places - space.centre).astype(np.float32), LOOKS, axis=0)
    hit = space.first_hit(start, np.tile(looks, (len(places), 1)))
    found: F64 = (hit.reshape(-1, LOOKS) < 0).mean(axis=1)
    return found


def sees(space: RaySpace, a: F64, b: F64) -> Mask:
    """(n,) whether places see each other."""
    start = (a - space.centre).astype(np.float32)
    way = (b - space.centre).astype(np.float32) - start
    found: Mask = ~space.blocked(start, way, np.ones(len(a), np.float32))
    return found
