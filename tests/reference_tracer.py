"""A brute-force path tracer, written apart from the engine: same ray library, nothing else shared.

Plain random numbers, rejection-sampled directions, every path followed bounce by bounce with the light gathered at
every vertex. Slow and simple on purpose.
"""

from __future__ import annotations

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore import EmbreeDevice
from embreex.rtcore_scene import EmbreeScene


class Reference:
    """One-sided grey or coloured diffuse triangles, point lights, a uniform sky.

    Args:
        corners: (T, 3, 3); albedo: (T, 3).
        lights: list of (position, (3,) candela).
        sky: (3,) cd/m².
    """

    def __init__(self, corners: np.ndarray, albedo: np.ndarray, lights: list, sky: tuple = (0, 0, 0)) -> None:
        self.corners, self.albedo, self.lights, self.sky = corners, albedo, lights, np.array(sky, float)
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.normals = cross / np.linalg.norm(cross, axis=1, keepdims=True)
        self._device = EmbreeDevice()
        self._scene = EmbreeScene(self._device)
        flat = corners.reshape(-1, 3).astype(np.float32)
        TriangleMesh(self._scene, flat, np.arange(len(flat), dtype=np.int32).reshape(-1, 3))

    def irradiance(
        self, point: tuple, normal: tuple, paths: int, bounces: int, seed: int
    ) -> tuple[np.ndarray, np.ndarray]:
        """Mean and standard error of the irradiance at a surface point, each (3,) lux."""
        rng = np.random.default_rng(seed)
        n = np.repeat(np.array(normal, float)[None], paths, 0)
        at = np.repeat(np.array(point, float)[None], paths, 0) + 1e-4 * n
        weight = np.ones((paths, 3))
        total = np.zeros((paths, 3))
        alive = np.ones(paths, bool)
        for bounce in range(bounces + 1):
            total[alive] += weight[alive] * self._direct(at[alive], n[alive])
            direction = self._cosine(n, rng)
            hit, distance = self._hit(at, direction)
            leaves = alive & (hit < 0)
            total[leaves] += weight[leaves] * np.pi * self.sky
            alive &= hit >= 0
            alive &= np.einsum("ij,ij->i", self.normals[hit], direction) < 0
            if bounce == bounces or not alive.any():
                break
            at = at + direction * distance[:, None]
            n = self.normals[hit]
            at += 1e-4 * n
            weight *= self.albedo[hit]
        return total.mean(axis=0), total.std(axis=0) / np.sqrt(paths)

    def _direct(self, at: np.ndarray, n: np.ndarray) -> np.ndarray:
        out = np.zeros((len(at), 3))
        for position, candela in self.lights:
            to = np.array(position, float) - at
            square = (to**2).sum(axis=1)
            cosine = np.einsum("ij,ij->i", to, n) / np.sqrt(square)
            _, distance = self._hit(at, to)
            seen = (cosine > 0) & (distance > 1)
            out[seen] += (cosine[seen] / square[seen])[:, None] * np.array(candela)
        return out

    def _hit(self, at: np.ndarray, direction: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        origins, rays = at.astype(np.float32), direction.astype(np.float32)
        found = self._scene.run(origins, rays, output=1)
        return found["primID"], found["tfar"].astype(float)

    @staticmethod
    def _cosine(n: np.ndarray, rng: np.random.Generator) -> np.ndarray:
        """A point on the unit sphere about the normal's tip gives a cosine-distributed direction."""
        ball = rng.normal(size=n.shape)
        direction = n + ball / np.linalg.norm(ball, axis=1, keepdims=True)
        return direction / np.maximum(np.linalg.norm(direction, axis=1, keepdims=True), 1e-9)
