"""What each sight blocker costs and what it hides; which of them would be better left out, and which must never be."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32, I64
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.sight.mutual import Mutual
from ropebell.sight.sealing import INSIDE, OUTSIDE, Bodies, Flood

# Hidden pairs of cells that are asked what hides them, and rays of each; rays by which the cost of an object is timed,
# and how often.
SAMPLED, RAYS, TIMED, TRIES = 40_000, 4, 30_000, 3
# An object is proposed if it hides no more of all pairs, and has at least this share of the triangles.
HIDES, SHARE = 0.002, 0.002
MOST, LOOKED_AT = 12, 14
# Places on an object from which it is asked whether it keeps the inside in.
ON_IT, BEHIND = 400, 24
# A ray is followed through so many faces of one object.
MOST_FACES = 64
# Places are asked about so far off a face, metres.
ON_FACE = 2e-3


@dataclass(frozen=True)
class Blocker:
    """An object that may as well not block sight.

    Attributes:
        node: of the scene. triangles: how many it has. hides: share of all pairs of cells that would see each other
            without it. seconds: of who sees whom that it takes.
    """

    node: int
    triangles: int
    hides: float
    seconds: float


def blockers_of(
    scene: Scene, solid: NDArray[np.bool_], hiding: NDArray[np.bool_], flood: Flood, mutual: Mutual, took: float,
    tick: Callable[[float], None] = lambda _: None,
) -> list[Blocker]:  # fmt: skip
    """Candidates for exclusion, best first: those that save most and hide next to nothing, no piece of the hull.

    Args:
        solid: (T,) what closes the hull. hiding: (T,) what of it hides what is behind it.
        took: seconds that it took to find out who sees whom.
    """
    counts = np.bincount(scene.node[solid], minlength=len(scene.node_names))
    large = np.flatnonzero(counts >= max(SHARE * counts.sum(), 2))
    large = large[np.argsort(-counts[large], kind="stable")][:LOOKED_AT]
    if not len(large) or not len(mutual.cells):
        return []
    whole = RaySpace(scene.corners[hiding])
    pairs, start, way = _hidden(mutual, whole)
    owner = scene.node[np.flatnonzero(hiding)]
    met = whole.first_hit(start, way)
    first = np.where(met >= 0, owner[np.maximum(met, 0)], -1)
    share = _hidden_share(mutual)
    found = []
    for number, node in enumerate(large.tolist()):
        tick(number / len(large))
        others = scene.node != node
        mine = np.flatnonzero(first == node)
        free = mine[_free_but_for(whole, owner, node, start[mine], way[mine])]
        hides = share * len(np.unique(pairs[free])) / max(int(pairs.max(initial=-1)) + 1, 1)
        if hides > HIDES:
            continue
        without = RaySpace(scene.corners[hiding & others])
        rest = without if np.array_equal(solid, hiding) else RaySpace(scene.corners[solid & others])
        if is_hull(scene, solid & ~others, rest, flood):
            continue
        seconds = took * _saved(whole, without, start, way)
        found.append(Blocker(node, int(counts[node]), float(hides), float(seconds)))
    # By triangles: seconds of so few rays are as unsteady as the machine is busy.
    found.sort(key=lambda b: (-b.triangles, b.hides))
    return found[:MOST]


def _hidden(mutual: Mutual, space: RaySpace) -> tuple[I64, F32, F32]:
    """Rays between cells that do not see each other: (m,) which pair, counted from 0, and from where to where."""
    rng = np.random.default_rng(4)
    n = len(mutual.cells)
    a, b = rng.integers(0, n, (2, 8 * SAMPLED))
    unseen = (mutual.seen[a, b >> 3] >> (7 - (b & 7)) & 1) == 0
    a, b = a[unseen][:SAMPLED], b[unseen][:SAMPLED]
    places = (mutual.cells.places - space.centre).astype(np.float32)
    choice = rng.integers(0, places.shape[1], (2, len(a), RAYS))
    start = places[a[:, None], choice[0]].reshape(-1, 3)
    way = places[b[:, None], choice[1]].reshape(-1, 3) - start
    return np.repeat(np.arange(len(a)), RAYS), np.ascontiguousarray(start), np.ascontiguousarray(way)


def _free_but_for(space: RaySpace, owner: I32, node: int, start: F32, way: F32) -> NDArray[np.bool_]:
    """(n,) whether a ray meets nothing but an object on its way: it is followed through its faces.

    Args:
        owner: (t,) node of each triangle of `space`. way: (n, 3) as long as the rays.
    """
    free = np.ones(len(start), np.bool_)
    rows, at = np.arange(len(start)), np.zeros(len(start), np.float32)
    nudge = np.float32(space.extent * 2e-6) / np.maximum(np.linalg.norm(way, axis=1), 1e-30).astype(np.float32)
    for _ in range(MOST_FACES):
        if not len(rows):
            break
        begun = start[rows] + way[rows] * at[rows, None]
        met, far = space.first_hit(begun, way[rows]), space.distances(begun, way[rows])
        at[rows] += far + nudge[rows]
        on = (met >= 0) & (at[rows] <= 1.0)
        its = owner[np.maximum(met, 0)] == node
        free[rows[on & ~its]] = False
        rows = rows[on & its]
    free[rows] = False  # so many faces that it is not known
    return free


def _hidden_share(mutual: Mutual) -> float:
    """Share of all pairs of cells that do not see each other."""
    n = len(mutual.cells)
    return 1.0 - float(mutual.counts.sum() - n) / max(n * (n - 1), 1)


def _saved(whole: RaySpace, without: RaySpace, start: F32, way: F32) -> float:
    """Share of the time for some rays that is saved without an object; each the best of tries in turn."""
    some, ones = slice(0, TIMED), np.ones(min(TIMED, len(start)), np.float32)
    best = [np.inf, np.inf]
    for _ in range(TRIES):
        for k, space in enumerate((whole, without)):
            begin = time.perf_counter()
            space.blocked(start[some], way[some], ones)
            best[k] = min(best[k], time.perf_counter() - begin)
    return max(1.0 - best[1] / max(best[0], 1e-9), 0.0)


def is_hull(scene: Scene, mine: NDArray[np.bool_], without: RaySpace, flood: Flood) -> bool:
    """Whether the inside would open to the outside if an object were gone.

    From places in the inside just before its faces one looks straight through it, as far as to what is behind: if that
    is outside, it is a piece of the hull.

    Args:
        mine: (T,) its triangles. without: rays against all else that blocks.
    """
    rows = np.flatnonzero(mine)
    places, faces = _spread(scene.corners[rows], scene.face_normals[rows].astype(np.float64))
    for sign in (1.0, -1.0):
        before = places + sign * ON_FACE * faces
        inside = flood.sides(before) == INSIDE
        start, way = before[inside], -sign * faces[inside]
        if not len(start):
            continue
        extent = float(np.linalg.norm(scene.corners.max(axis=(0, 1)) - scene.corners.min(axis=(0, 1))))
        far = without.distances((start - without.centre).astype(np.float32), way.astype(np.float32)).astype(np.float64)
        far = np.minimum(np.where(np.isfinite(far), far, extent), extent)
        along = np.concatenate([np.geomspace(1e-3, 1.0, BEHIND // 2), np.linspace(0.02, 0.98, BEHIND // 2)])
        looked = start[:, None] + (along[None, :, None] * far[:, None, None]) * way[:, None]
        if (flood.sides(looked.reshape(-1, 3)) == OUTSIDE).any():
            return True
    return False


def _spread(corners: F64, normals: F64) -> tuple[F64, F64]:
    """(m, 3) places spread over triangles, and the normals there."""
    rng = np.random.default_rng(5)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    chosen = rng.choice(len(corners), ON_IT, p=area / area.sum())
    u, v = rng.random((2, ON_IT))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = corners[chosen].swapaxes(0, 1)
    return a + u[:, None] * (b - a) + v[:, None] * (c - a), normals[chosen]


def opens_view(scene: Scene, glass: NDArray[np.bool_], flood: Flood, bodies: Bodies) -> bool:
    """Whether one can see beyond the inside through what can be looked through: it is inside on one side, on the other
    neither that nor within a body.

    Args:
        glass: (T,) what can be looked through.
    """
    rows = np.flatnonzero(glass)
    if not len(rows):
        return False
    places, step = scene.corners[rows].mean(axis=1), ON_FACE * scene.face_normals[rows].astype(np.float64)
    inside, beyond = np.zeros(len(rows), np.bool_), np.zeros(len(rows), np.bool_)
    for spot in (places + step, places - step):
        within = flood.sides(spot) == INSIDE
        inside |= within
        beyond |= ~within & ~bodies.hold(spot)
    # A pane has two faces: behind the one may be glass yet.
    nodes = scene.node[rows]
    return bool(np.isin(nodes[inside], nodes[beyond]).any())


def unseen_faces(scene: Scene, flood: Flood, bodies: Bodies | None) -> NDArray[np.bool_]:
    """(T,) faces that nobody can see, as nobody can be before them: tried at the middle and near the corners.

    Args:
        bodies: what is beyond the inside can be seen from there, through glass, but for what lies within these; None:
            it cannot. Leaks are to be mended, and do not count.
    """
    middle = scene.corners.mean(axis=1)
    normals = scene.face_normals.astype(np.float64)
    seen = np.zeros(len(scene), np.bool_)
    for spot in (middle, *(0.9 * scene.corners[:, k] + 0.1 * middle for k in range(3))):
        for sign in (1.0, -1.0):
            asked = ~seen if sign > 0 else ~seen & scene.double_sided
            rows = np.flatnonzero(asked)
            places = spot[rows] + sign * ON_FACE * normals[rows]
            inside = flood.sides(places) == INSIDE
            seen[rows] = inside
            if bodies is not None:
                seen[rows[~inside]] = ~bodies.hold(places[~inside])
    return ~seen
