"""Which objects close the level off from the outside: by the flood where it is known, else by rays alone."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32, Mask
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import fibonacci_sphere
from ropebell.sight.sealing import INSIDE, OUTSIDE, Flood

# So many places are asked, each in so many directions.
PLACES, LOOKS = 300, 256
# Of the rays that meet a piece of the hull, at least this share find nothing behind it, and so many in all; behind
# what merely stands before a window, fewer do.
CLOSING, LEAST_RAYS = 0.2, 6
# A ray is followed through so many faces of one object before it counts as stopped by it.
MOST_FACES = 24
# Places on an object from which it is asked whether it keeps the inside in, so far off a face, metres; and shares of
# the way straight through it.
ON_IT, ON_FACE = 400, 2e-3
ALONG = 0.999 * np.concatenate([np.geomspace(1e-3, 1.0, 12), np.linspace(0.02, 0.98, 12)])
# Bounds of an object are wider by this, metres; and so many places along each of their sides tell what is round it.
ROOM, AROUND = 5e-3, 9


def closing(scene: Scene, solid: Mask, flood: Flood) -> Mask:
    """(nodes,) whether the inside would open to the outside if an object were gone.

    From places in the inside just before its faces one looks straight through it, as far as to what is behind: if any
    of that is outside, it is a piece of the hull.

    Args:
        solid: (T,) what blocks.
    """
    found = np.zeros(len(scene.node_names), np.bool_)
    rows = np.flatnonzero(solid)
    if not len(rows):
        return found
    corners, owner = scene.corners[rows], scene.node[rows]
    space, (low, high) = RaySpace(corners), (corners.min(axis=1), corners.max(axis=1))
    rng = np.random.default_rng(5)
    nodes, first = np.unique(owner, return_index=True)
    for node, a, e in zip(nodes.tolist(), first.tolist(), np.append(first[1:], len(rows)).tolist()):
        chosen = rows[a + rng.choice(e - a, ON_IT, p=scene.areas[rows[a:e]] / scene.areas[rows[a:e]].sum())]
        places, faces = _on(scene.corners[chosen], rng), scene.face_normals[chosen].astype(np.float64)
        ends = low[a:e].min(axis=0) - ROOM, high[a:e].max(axis=0) + ROOM
        if not _near_outside(flood, ends):
            continue
        near = np.flatnonzero((low <= ends[1]).all(axis=1) & (high >= ends[0]).all(axis=1) & (owner != node))
        beside = RaySpace(corners[near])
        for sign in (1.0, -1.0):
            before = places + sign * ON_FACE * faces
            inside = flood.sides(before) == INSIDE
            start, way = before[inside], -sign * faces[inside]
            far = _far(space, beside, start, way, ends)
            looked = start[:, None] + (ALONG[None, :, None] * far[:, None, None]) * way[:, None]
            if (flood.sides(looked.reshape(-1, 3)) == OUTSIDE).any():
                found[node] = True
                break
    return found


def _near_outside(flood: Flood, ends: tuple[F64, F64]) -> bool:
    """Whether there is anything outside in or just round a box; what stands in a room is asked no further."""
    low, high = ends
    shares = (np.arange(AROUND) + 0.5) / AROUND
    lattice = np.stack(np.meshgrid(shares, shares, shares, indexing="ij"), axis=-1).reshape(-1, 3)
    grown = 0.1 * (high - low) + flood.space.size
    return bool((flood.sides(low - grown + lattice * (high - low + 2 * grown)) == OUTSIDE).any())


def _on(corners: F64, rng: np.random.Generator) -> F64:
    """(n, 3) a place on each of n triangles, even over its area."""
    u, v = rng.random((2, len(corners), 1))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = corners.swapaxes(0, 1)
    found: F64 = a + u * (b - a) + v * (c - a)
    return found


def _far(space: RaySpace, beside: RaySpace, start: F64, way: F64, ends: tuple[F64, F64]) -> F64:
    """(n,) metres to what rays meet behind an object, at most the level's extent.

    Args:
        space: everything. beside: but for the object all that reaches into its bounds, which are `ends`: what lies in
            one plane with its faces is met there, and not skipped.
        way: (n, 3) unit.
    """
    flat = np.abs(way) < 1e-12
    each = np.where(way > 0, ends[1] - start, ends[0] - start) / np.where(flat, 1.0, way)
    leave = np.clip(np.where(flat, np.inf, each).min(axis=1), 0.0, space.extent)
    along = way.astype(np.float32)
    met = beside.distances((start - beside.centre).astype(np.float32), along).astype(np.float64)
    beyond = start + leave[:, None] * way
    more = space.distances((beyond - space.centre).astype(np.float32), along).astype(np.float64)
    far = np.where(met <= leave, met, leave + more)
    return np.minimum(np.where(np.isfinite(far), far, space.extent), space.extent)


def hull_pieces(scene: Scene, space: RaySpace, eyes: F64) -> NDArray[np.bool_]:
    """(nodes,) before any flood: whether a room that sees no sky would see out if the object let sight through.

    From places spread over those that players can reach and from which no direction tried ends in the open, rays are
    followed through the first object they meet: if nothing lies behind it, it is a piece of the hull.

    Args:
        scene: what the rays of `space` meet.
        eyes: (n, 3) metres.
    """
    found = np.zeros(len(scene.node_names), np.bool_)
    if not len(eyes) or not len(scene):
        return found
    some = eyes[np.linspace(0, len(eyes) - 1, min(PLACES, len(eyes))).astype(np.int64)]
    looks = fibonacci_sphere(LOOKS).astype(np.float32)
    start = np.repeat((some - space.centre).astype(np.float32), LOOKS, axis=0)
    way = np.tile(looks, (len(some), 1))
    hit = space.first_hit(start, way)
    closed = (hit.reshape(-1, LOOKS) >= 0).all(axis=1)
    rows = np.flatnonzero(np.repeat(closed, LOOKS))
    first = scene.node[hit[rows]]
    out = _behind(scene, space, start[rows], way[rows], first) < 0
    met, escaped = np.bincount(first, minlength=len(found)), np.bincount(first[out], minlength=len(found))
    return (escaped >= LEAST_RAYS) & (escaped > CLOSING * met)


def _behind(scene: Scene, space: RaySpace, start: F32, way: F32, passed: I32) -> I32:
    """(n,) node that each ray meets behind the one it passes, -1 for none; one that does not end counts as stopped."""
    behind = passed.copy()
    rows = np.arange(len(start))
    nudge = np.float32(space.extent * 2e-5)
    for _ in range(MOST_FACES):
        if not len(rows):
            break
        far = space.distances(start[rows], way[rows])
        start[rows] += way[rows] * (far[:, None] + nudge)
        hit = space.first_hit(start[rows], way[rows])
        behind[rows] = np.where(hit >= 0, scene.node[hit], -1)
        rows = rows[behind[rows] == passed[rows]]
    return behind
