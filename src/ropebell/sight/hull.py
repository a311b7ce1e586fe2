"""Which objects close the level off from the outside."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import fibonacci_sphere

# So many places are asked, each in so many directions.
PLACES, LOOKS = 300, 256
# Of the rays that meet a piece of the hull, at least this share find nothing behind it, and so many in all; behind
# what merely stands before a window, fewer do.
CLOSING, LEAST_RAYS = 0.2, 6
# A ray is followed through so many faces of one object before it counts as stopped by it.
MOST_FACES = 24


def hull_pieces(scene: Scene, space: RaySpace, eyes: F64) -> NDArray[np.bool_]:
    """(nodes,) whether a room that sees no sky would see out if the object let sight through.

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
