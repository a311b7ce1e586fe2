"""Points of texel footprints as places to gather light at."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, U32, TexelIndex
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace, start_lift


class Ground(NamedTuple):
    """Triangles, as kernels take them.

    Attributes:
        vertices: (T, 3, 3) relative to the centre. normals: (T, 3, 3) shading normals. faces: (T, 3) geometric ones.
        lift: (T,) metres that rays start off their triangle.
    """

    vertices: F32
    normals: F32
    faces: F32
    lift: F32


class Spots(NamedTuple):
    """Where rays of texels start, as kernels take it; the fields are those of `OpenSamples`, `open` is its `count`."""

    open: I32
    triangle: I32
    weights: F32
    key: U32


@dataclass(frozen=True, eq=False)
class Surface:
    """What the kernels know of the triangles.

    Attributes:
        vertices: (T, 3, 3) float32 relative to the centre.
        normals: (T, 3, 3) float32 shading normals.
        faces: (T, 3) float32 geometric normals.
        two_sided: (T,) bool.
    """

    vertices: F32
    normals: F32
    faces: F32
    two_sided: NDArray[np.bool_]

    @cached_property
    def ground(self) -> Ground:
        """The same for kernels."""
        return Ground(self.vertices, self.normals, self.faces, start_lift(self.vertices))

    @cached_property
    def names(self) -> NDArray[np.uint64]:
        """(T,) names each triangle by all that rays which start from it depend on, wherever in a list it stands."""
        parts = (self.vertices.reshape(-1, 9), self.normals.reshape(-1, 9), self.two_sided[:, None].astype(np.float32))
        return named_rows(np.concatenate(parts, axis=1))

    @staticmethod
    def of(scene: Scene, space: RaySpace) -> Surface:
        """The surface of a scene in the frame of its ray space."""
        sided = np.ascontiguousarray(scene.double_sided, dtype=np.bool_)
        return Surface(space.vertices, scene.normals, scene.face_normals, sided)

    def with_shapes(self, corners: F64) -> Surface:
        """With more triangles behind its own, one-sided, which no ray meets.

        Args:
            corners: (n, 3, 3) relative to the centre.
        """
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        face = (cross / np.linalg.norm(cross, axis=1, keepdims=True)).astype(np.float32)
        return Surface(
            np.concatenate([self.vertices, corners.astype(np.float32)]),
            np.concatenate([self.normals, np.repeat(face[:, None], 3, axis=1)]),
            np.concatenate([self.faces, face]),
            np.concatenate([self.two_sided, np.zeros(len(face), np.bool_)]),
        )


def named_rows(rows: F32) -> NDArray[np.uint64]:
    """(n,) 64 mixed bits of each row's own, by the finisher of SplitMix64 (Steele, Lea, Flood 2014,
    doi:10.1145/2660193.2660195).

    Args:
        rows: (n, k) float32.
    """
    found = np.zeros(len(rows), np.uint64)
    for column in np.ascontiguousarray(rows).view(np.uint32).T.astype(np.uint64):
        found = (found ^ column) + np.uint64(0x9E3779B97F4A7C15)
        found = (found ^ (found >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        found = (found ^ (found >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        found ^= found >> np.uint64(31)
    return found


@dataclass(frozen=True, eq=False)
class OpenSamples:
    """Footprint samples that stand in the open, the open ones of each texel first.

    Attributes:
        count: (N,) int32 open samples, 0 … S.
        triangle: (N, S) int32.
        weights: (N, S, 2) float32.
        target: (N,) int32: the texel that speaks for this one — itself where it has open samples, else the
            nearest such texel of its chart.
        key: (N,) uint32 what makes each texel's rays its own, wherever on the pages it lies.
    """

    count: I32
    triangle: I32
    weights: F32
    target: TexelIndex
    key: U32

    @property
    def spots(self) -> Spots:
        """The same for kernels."""
        return Spots(self.count, self.triangle, self.weights, self.key)

    def among(self, rows: I32) -> OpenSamples:
        """Those of some texels; they still speak for themselves only."""
        own = np.arange(len(rows), dtype=np.int32)
        return OpenSamples(self.count[rows], self.triangle[rows], self.weights[rows], own, self.key[rows])

    def chosen(self, which: NDArray[np.bool_]) -> OpenSamples:
        """Some of the open samples of each texel.

        Args:
            which: (N, S) bool.
        """
        which = which & (np.arange(which.shape[1]) < self.count[:, None])
        order = np.argsort(~which, axis=1, kind="stable")
        triangle, weights = (
            np.take_along_axis(self.triangle, order, 1),
            np.take_along_axis(self.weights, order[..., None], 1),
        )
        count = which.sum(axis=1).astype(np.int32)
        return OpenSamples(count, np.ascontiguousarray(triangle), np.ascontiguousarray(weights), self.target, self.key)


@kernel
def sample_point(ground: Ground, spots: Spots, i: int, s: int) -> tuple[float, float, float, float, float, float]:
    """Start point, lifted off the surface, and unit shading normal of a texel's sample."""
    t, b, c = spots.triangle[i, s], spots.weights[i, s, 0], spots.weights[i, s, 1]
    a = 1.0 - b - c
    vertices, normals, faces, lift = ground.vertices, ground.normals, ground.faces, ground.lift[t]
    px = a * vertices[t, 0, 0] + b * vertices[t, 1, 0] + c * vertices[t, 2, 0]
    py = a * vertices[t, 0, 1] + b * vertices[t, 1, 1] + c * vertices[t, 2, 1]
    pz = a * vertices[t, 0, 2] + b * vertices[t, 1, 2] + c * vertices[t, 2, 2]
    nx = a * normals[t, 0, 0] + b * normals[t, 1, 0] + c * normals[t, 2, 0]
    ny = a * normals[t, 0, 1] + b * normals[t, 1, 1] + c * normals[t, 2, 1]
    nz = a * normals[t, 0, 2] + b * normals[t, 1, 2] + c * normals[t, 2, 2]
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length > 1e-6:
        nx, ny, nz = nx / length, ny / length, nz / length
    else:
        nx, ny, nz = faces[t, 0], faces[t, 1], faces[t, 2]
    return px + lift * faces[t, 0], py + lift * faces[t, 1], pz + lift * faces[t, 2], nx, ny, nz
