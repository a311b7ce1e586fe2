"""Points of texel footprints as places to gather light at."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import Scene
from ropebell.light.rays import START_EXTENT, START_RELATIVE, RaySpace


@dataclass(frozen=True, eq=False)
class Surface:
    """What the kernels know of the triangles.

    Attributes:
        vertices: (T, 3, 3) float32 relative to the centre.
        normals: (T, 3, 3) float32 shading normals.
        faces: (T, 3) float32 geometric normals.
        two_sided: (T,) bool.
        extent: diagonal of the level in metres.
    """

    vertices: F32
    normals: F32
    faces: F32
    two_sided: NDArray[np.bool_]
    extent: float

    @staticmethod
    def of(scene: Scene, space: RaySpace) -> Surface:
        """The surface of a scene in the frame of its ray space."""
        sided = np.ascontiguousarray(scene.double_sided, dtype=np.bool_)
        return Surface(space.vertices, scene.normals, scene.face_normals, sided, space.extent)

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
            self.extent,
        )


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
    target: I32
    key: NDArray[np.uint32]

    def among(self, rows: I32) -> OpenSamples:
        """Those of some texels; they still speak for themselves only."""
        own = np.arange(len(rows), dtype=np.int32)
        return OpenSamples(self.count[rows], self.triangle[rows], self.weights[rows], own, self.key[rows])


@njit(cache=True, nogil=True)
def sample_point(
    vertices: NDArray, normals: NDArray, faces: NDArray, t: int, b: float, c: float, extent: float
) -> tuple:
    """Start point (lifted off the surface) and unit shading normal at weights (b, c) of triangle t."""
    a = 1.0 - b - c
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
    lift = START_RELATIVE * max(abs(px), abs(py), abs(pz)) + START_EXTENT * extent
    return px + lift * faces[t, 0], py + lift * faces[t, 1], pz + lift * faces[t, 2], nx, ny, nz
