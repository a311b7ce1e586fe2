"""How near players can come to each face with a clear view of it, and what density that asks for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F64
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

# Within this distance the level's own density is right; beyond it, in proportion, less would do.
NEAR = 4.0
TRIES = 12
FARTHEST = 60.0
# How many times off the density that suits the distance is too low or too high.
TOO_LOW, TOO_HIGH = 0.5, 2.0


@dataclass(frozen=True, eq=False)
class Viewing:
    """For every triangle of a scene.

    Attributes:
        distance: (T,) float64 metres from the nearest eye that sees its front; infinite if none found does.
        ratio: (T,) float64 its density over the one that suits that distance; 1 is right.
    """

    distance: F64
    ratio: F64

    @property
    def verdict(self) -> NDArray[np.int8]:
        """(T,) −1 too low, 0 right, 1 too high, 2 never seen."""
        found = np.zeros(len(self.ratio), np.int8)
        found[self.ratio < TOO_LOW] = -1
        found[self.ratio > TOO_HIGH] = 1
        found[~np.isfinite(self.distance)] = 2
        return found


def view_distances(scene: Scene, space: RaySpace, eyes: F64) -> F64:
    """(T,) metres from the nearest of the eyes that sees a triangle's front, infinite if none of those tried does.

    Half of the tries go to the nearest eyes in front of the face, half to some spread over all within reach; both
    are tried by a ray to the middle and to one corner, so a face seen only through a crack may count as unseen.

    Args:
        scene: what the rays of `space` meet.
        eyes: (n, 3) metres.
    """
    best = np.full(len(scene), np.inf)
    if not len(eyes) or not len(scene):
        return best
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    middle = scene.corners.mean(axis=1)
    lift = scene.face_normals.astype(np.float64) * (space.extent * 2e-5)
    tree = cKDTree(eyes)
    _, nearest = tree.query(middle, k=min(TRIES // 2 * 4, len(eyes)), distance_upper_bound=FARTHEST)
    nearest = nearest.reshape(len(scene), -1)
    spread = np.linspace(0, len(eyes) - 1, min(TRIES // 2, len(eyes))).astype(np.int64)
    columns = [nearest[:, i] for i in range(0, nearest.shape[1], 4)]
    columns += [np.full(len(scene), i, np.int64) for i in spread]
    corner = 0.1 * middle + 0.9 * scene.corners[:, 0]
    for column in columns:
        known = column < len(eyes)
        eye = eyes[np.where(known, column, 0)]
        for target in (middle, corner):
            best = np.minimum(best, _seen_from(scene, space, eye, target + lift, known, best))
    return best


def _seen_from(scene: Scene, space: RaySpace, eye: F64, target: F64, known: NDArray[np.bool_], best: F64) -> F64:
    """(T,) distance where an eye that is nearer than the best so far sees the target, else infinite."""
    run = eye - target
    far = np.linalg.norm(run, axis=1)
    front = (np.einsum("ij,ij->i", run, scene.face_normals) > 0) | scene.double_sided
    rows = np.flatnonzero(known & front & (far < best) & (far < FARTHEST))
    out = np.full(len(scene), np.inf)
    if len(rows):
        start = (target[rows] - space.centre).astype(np.float32)
        blocked = space.blocked(start, run[rows].astype(np.float32), np.full(len(rows), 0.999, np.float32))
        out[rows[~blocked]] = far[rows[~blocked]]
    return out


def viewing(scene: Scene, space: RaySpace, eyes: F64) -> Viewing:
    """Judge every triangle's density by how near players can come to see it."""
    distance = view_distances(scene, space, eyes)
    wanted = np.minimum(1.0, NEAR / np.maximum(distance, NEAR))
    wanted = np.where(np.isfinite(distance), wanted, NEAR / FARTHEST)
    factor = scene.factor.astype(np.float64) if len(scene.factor) else np.ones(len(scene))
    return Viewing(distance, factor / wanted)
