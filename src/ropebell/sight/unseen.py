"""Faces that nobody can see, as nobody can be before them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F64, I64, Mask
from ropebell.level.scene import Scene
from ropebell.level.triangles import longest_squared
from ropebell.sight.sealing import INSIDE, OUTSIDE, Bodies, Flood

# Places are asked about so far off a face, and no farther apart on it, metres; so many along its longest side at most.
ON_FACE, APART, MOST_ALONG = 2e-3, 0.05, 128
# Faces are asked about together, so many places at a time.
AT_ONCE = 200_000


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


def unseen_faces(
    scene: Scene, flood: Flood, bodies: Bodies | None, tick: Callable[[], None] = lambda: None
) -> Mask:  # fmt: skip
    """(T,) faces that nobody can see, tried at places all over them: a large one may be seen in a small part alone.

    Args:
        bodies: what is beyond the inside can be seen from there, through glass, but for what lies within these; None:
            it cannot. Leaks are to be mended, and do not count. tick: called now and then, may raise `Stopped`.
    """
    along = np.clip(np.ceil(np.sqrt(longest_squared(scene.corners)) / APART), 2, MOST_ALONG).astype(np.int64)
    seen = np.zeros(len(scene), np.bool_)
    for sign in (1.0, -1.0):
        # Few places tell of most faces that they are seen; the rest is looked at closely.
        for count in (1, 2, *np.unique(along[along > 2]).tolist()):
            asked = ~seen if sign > 0 else ~seen & scene.double_sided
            rows = np.flatnonzero(asked & (along == count) if count > 2 else asked)
            shares = _shares(count)
            for part in np.array_split(rows, max(-(-len(rows) * len(shares) // AT_ONCE), 1)):
                tick()
                seen[part] = _before(scene, part, shares, sign, flood, bodies)
    return ~seen


def _before(scene: Scene, rows: I64, shares: F64, sign: float, flood: Flood, bodies: Bodies | None) -> Mask:
    """(n,) whether anybody can be before faces, or look at what is there."""
    if not len(rows):
        return np.zeros(0, np.bool_)
    off = sign * ON_FACE * scene.face_normals[rows].astype(np.float64)
    # What the flood from outside has reached is within no body.
    found = flood.any_before(scene.corners[rows], off, shares, INSIDE if bodies is None else INSIDE | OUTSIDE)
    rest = np.flatnonzero(~found)
    if bodies is not None and len(rest):
        places = (np.einsum("kc,tcx->tkx", shares, scene.corners[rows[rest]]) + off[rest, None]).reshape(-1, 3)
        _, nodes = flood.space.found(places)
        of = np.repeat(np.arange(len(rest)), len(shares))
        # Of what is decided, a region is within a body or not as a whole.
        some, first, which = np.unique(nodes, return_index=True, return_inverse=True)
        free = np.zeros(len(some), np.bool_)
        free[some >= 0] = ~bodies.hold(places[first[some >= 0]])
        found[rest[of[free[which]]]] = True
        left = np.flatnonzero((nodes < 0) & ~found[rest[of]])
        found[rest[of[left[~bodies.hold(places[left])]]]] = True
    return found


def _shares(count: int) -> F64:
    """(n, 3) of the corners in the middles of the count² equal triangles that a triangle is cut into."""
    i, j = (x.ravel() for x in np.meshgrid(np.arange(count), np.arange(count), indexing="ij"))
    upright, turned = i + j < count, i + j < count - 1
    u = np.concatenate([(i + 1 / 3)[upright], (i + 2 / 3)[turned]]) / count
    v = np.concatenate([(j + 1 / 3)[upright], (j + 2 / 3)[turned]]) / count
    return np.stack([1 - u - v, u, v], axis=1)
