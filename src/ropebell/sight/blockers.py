"""What each sight blocker costs and what it hides; which of them would be better left out, and which must never be."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32, I64, Mask
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.sight.cells import cells_of_each
from ropebell.sight.mutual import Mutual

# Pairs of cells that are asked what hides them, or would, and rays of each; rays by which the cost of an object is
# timed, and how often.
SAMPLED, RAYS, SHOWN, TIMED, TRIES = 40_000, 4, 16, 30_000, 3
# An object is proposed if it hides no more of all pairs, and has at least this share of the triangles.
HIDES, SHARE = 0.002, 0.002
MOST, LOOKED_AT = 12, 14
# A ray is followed through so many faces of one object.
MOST_FACES = 64


@dataclass(frozen=True)
class Cost:
    """What an object takes of finding out who sees whom, and what it does for it; or would, if it blocked.

    Attributes:
        node: its path. triangles: how many it has. rays: that end on it, about. seconds: of the ray library that those
            take. cells: how many more there are because of it. hides: share of all pairs of cells that would see each
            other without it. hull: whether the inside would open to the outside without it.
    """

    node: str
    triangles: int
    rays: int
    seconds: float
    cells: int
    hides: float
    hull: bool


@dataclass(frozen=True)
class Candidate:
    """An object that may as well not block sight.

    Attributes:
        node: its path. triangles: how many it has. seconds: of who sees whom that it takes. hides: as of `Cost`.
        cells: how many fewer there are without it.
    """

    node: str
    triangles: int
    seconds: float
    hides: float
    cells: int = 0


def blockers_of(
    scene: Scene, solid: Mask, hiding: Mask, hull: Mask, passing: Mask, mutual: Mutual,
    tick: Callable[[float], None] = lambda _: None,
) -> tuple[list[Cost], list[Cost], list[Candidate]]:  # fmt: skip
    """What each object costs, the dearest first; what those would do that a mark lets sight through; and candidates for
    exclusion, best first: those that save most and hide next to nothing, no piece of the hull.

    Args:
        solid: (T,) what closes the hull. hiding: (T,) what of it hides what is behind it. hull: (nodes,) its pieces.
        passing: (nodes,) what a mark lets sight through. tick: called with the share done, may raise `Stopped`.
    """
    many = len(scene.node_names)
    counts = np.bincount(scene.node[solid], minlength=many)
    if not len(mutual.cells) or not counts.any():
        return [], [], []
    whole = RaySpace(scene.corners[hiding])
    pairs, start, way = _rays(mutual, whole, False, RAYS)
    owner = scene.node[np.flatnonzero(hiding)]
    met = whole.first_hit(start, way)
    first = np.where(met >= 0, owner[np.maximum(met, 0)], -1)
    ending = np.bincount(first[first >= 0], minlength=many) / max(len(first), 1)
    hides = _hidden_by(mutual, whole, owner, pairs, first, start, way, many)
    told = solid | passing[scene.node]
    cells = cells_of_each(mutual.cells, scene.corners[told], scene.node[told], counts > 0, tick)
    let_through = _passing(scene, passing, cells, whole, mutual)
    names = scene.node_names
    costs = [
        Cost(
            names[n], int(counts[n]), round(mutual.rays * float(ending[n])), mutual.tracing * float(ending[n]),
            int(cells[n]), float(hides[n]), bool(hull[n]),
        )
        for n in np.flatnonzero(counts).tolist()
    ]  # fmt: skip
    costs.sort(key=lambda c: (-c.seconds, -c.triangles))
    large = np.flatnonzero((counts >= max(SHARE * counts.sum(), 2)) & ~hull)
    large = large[np.argsort(-counts[large], kind="stable")][:LOOKED_AT]
    nodes = large[hides[large] <= HIDES]
    if not len(nodes):
        return costs, let_through, []
    # What each saves is lost in the noise of a busy machine: they are timed together, and share by their triangles.
    saved = mutual.tracing * _saved(whole, RaySpace(scene.corners[hiding & ~np.isin(scene.node, nodes)]), start, way)
    seconds = saved * counts[nodes] / counts[nodes].sum()
    found = [
        Candidate(names[n], int(counts[n]), float(s), float(hides[n]), int(cells[n]))
        for n, s in zip(nodes.tolist(), seconds)
    ]
    return costs, let_through, sorted(found, key=lambda b: (-b.triangles, b.hides))[:MOST]


def _passing(scene: Scene, passing: Mask, cells: I64, space: RaySpace, mutual: Mutual) -> list[Cost]:
    """What each object would do that a mark lets sight through: cells more, and what it would hide.

    Args:
        passing: (nodes,) which. cells: (nodes,) that each makes. space: rays against what hides.
    """
    counts, nodes = np.bincount(scene.node, minlength=len(passing)), np.flatnonzero(passing).tolist()
    if not nodes:
        return []
    pairs, start, way = _rays(mutual, space, True, SHOWN)
    free = ~space.blocked(start, way, np.ones(len(start), np.float32))
    pairs, start, way = pairs[free], start[free], way[free]
    of_pair = np.bincount(pairs)
    seen, found = 1.0 - _hidden_share(mutual), []
    for node in nodes:
        own = RaySpace(scene.corners[scene.node == node])
        begun = (start + (space.centre - own.centre)).astype(np.float32)
        met = np.bincount(pairs[own.blocked(begun, way, np.ones(len(way), np.float32))], minlength=len(of_pair))
        hides = seen * float(((met == of_pair) & (of_pair > 0)).sum()) / max(int((of_pair > 0).sum()), 1)
        found.append(Cost(scene.node_names[node], int(counts[node]), 0, 0.0, int(cells[node]), hides, False))
    return sorted(found, key=lambda c: (-c.hides, -c.triangles))


def _hidden_by(
    mutual: Mutual, space: RaySpace, owner: I32, pairs: I64, first: I32, start: F32, way: F32, count: int
) -> F64:  # fmt: skip
    """(count,) share of all pairs of cells that each object alone hides.

    Args:
        pairs, first: (m,) of which pair each ray is, and the object that it meets first, −1 for none.
    """
    rows = np.flatnonzero(first >= 0)
    free = rows[_free_but_for(space, owner, first[rows], start[rows], way[rows])]
    shown = np.unique(pairs[free] * count + first[free]) % count
    asked = max(int(pairs.max(initial=-1)) + 1, 1)
    return _hidden_share(mutual) * np.bincount(shown, minlength=count) / asked


def _rays(mutual: Mutual, space: RaySpace, seeing: bool, each: int) -> tuple[I64, F32, F32]:
    """Rays between cells that see each other, or do not: (m,) which pair, counted from 0, and from where to where."""
    rng = np.random.default_rng(4)
    n = len(mutual.cells)
    a, b = rng.integers(0, n, (2, 8 * SAMPLED))
    wanted = (a != b) & ((mutual.seen[a, b >> 3] >> (7 - (b & 7)) & 1) == seeing)
    a, b = a[wanted][:SAMPLED], b[wanted][:SAMPLED]
    places = (mutual.cells.places - space.centre).astype(np.float32)
    choice = rng.integers(0, places.shape[1], (2, len(a), each))
    start = places[a[:, None], choice[0]].reshape(-1, 3)
    way = places[b[:, None], choice[1]].reshape(-1, 3) - start
    return np.repeat(np.arange(len(a)), each), np.ascontiguousarray(start), np.ascontiguousarray(way)


def _free_but_for(space: RaySpace, owner: I32, node: I32, start: F32, way: F32) -> NDArray[np.bool_]:
    """(n,) whether a ray meets nothing but its object on its way: it is followed through its faces.

    Args:
        owner: (t,) node of each triangle of `space`. node: (n,) object of each ray. way: (n, 3) as long as the rays.
    """
    free = np.ones(len(start), np.bool_)
    rows, at = np.arange(len(start)), np.zeros(len(start), np.float32)
    nudge = np.float32(space.extent * 2e-6) / np.maximum(np.linalg.norm(way, axis=1), 1e-30).astype(np.float32)
    for _ in range(MOST_FACES):
        if not len(rows):
            break
        begun = start[rows] + way[rows] * at[rows, None]
        met, far = space.nearest(begun, way[rows])
        at[rows] += far + nudge[rows]
        on = (met >= 0) & (at[rows] <= 1.0)
        its = owner[np.maximum(met, 0)] == node[rows]
        free[rows[on & ~its]] = False
        rows = rows[on & its]
    free[rows] = False  # so many faces that it is not known
    return free


def _hidden_share(mutual: Mutual) -> float:
    """Share of all pairs of cells that do not see each other."""
    n = len(mutual.cells)
    return 1.0 - float(mutual.counts.sum() - n) / max(n * (n - 1), 1)


def _saved(whole: RaySpace, without: RaySpace, start: F32, way: F32) -> float:
    """Share of the time for some rays that is saved without some objects; each the best of tries in turn."""
    some, ones = slice(0, TIMED), np.ones(min(TIMED, len(start)), np.float32)
    best = [np.inf, np.inf]
    for _ in range(TRIES):
        for k, space in enumerate((whole, without)):
            begin = time.perf_counter()
            space.blocked(start[some], way[some], ones)
            best[k] = min(best[k], time.perf_counter() - begin)
    return max(1.0 - best[1] / max(best[0], 1e-9), 0.0)
