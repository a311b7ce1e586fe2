"""Where the light of each texel comes from, as first-order spherical harmonics, for relief on its surface.

With F = ∫ Y(ω) dω and V = ∫ Y(ω)·ω dω over what a texel sees, Y the luminance that arrives, a face that is bent to n′
by its relief gets E(n′) ≈ F/4 + V·n′/2 (bands 0 and 1 under a cosine lobe: R. Ramamoorthi and P. Hanrahan, SIGGRAPH
2001). What is kept is D = V/F, at most of length 1; so relief scales the lightmap by (1 + 2·D·n′)/(1 + 2·D·n).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.level.model import AREA_KINDS, F32, F64, I32
from ropebell.level.scene import PlacedLight
from ropebell.light.area_light import shape_of
from ropebell.light.sampling import plain_points
from ropebell.light.surface import OpenSamples, Surface, sample_point
from ropebell.light.transport import NONE, SKY, make_rays
from ropebell.light.workers import run_chunks

RAYS_PER_CHUNK = 65_536
# Rays nearly along the surface stand for so much of the sphere that one of them would drown all others.
LEAST_COSINE = 0.1
LUMINANCE = np.array([0.2126, 0.7152, 0.0722])


def gathered_moments(
    surface: Surface, samples: OpenSamples, hits: I32, leaving: F32, sky: Callable[[F32], F64], seed: int,
    workers: int, tick: Callable[[float], None],
) -> tuple[F32, F32, F32]:  # fmt: skip
    """(N,) F and (N, 3) V of what the gather rays met, and (N, 3) the normals they were shot about.

    Args:
        hits: (N, R) table of the transport stage, whose rays are made anew here.
        leaving: (N,) luminance that leaves each texel, cd/m². sky: luminance of directions (n, 3), cd/m².
    """
    count, rays = hits.shape
    total, vector = np.zeros(count, np.float32), np.zeros((count, 3), np.float32)
    normals = texel_normals(surface, samples)
    plain = plain_points(0, rays)

    def work(first: int, end: int) -> None:
        rows = np.arange(first, end, dtype=np.int32)
        rows = rows[samples.count[rows] > 0]
        origins = np.empty((len(rows) * rays, 3), np.float32)
        directions = np.empty_like(origins)
        make_rays(
            surface.vertices, surface.normals, surface.faces, surface.extent, samples.count, samples.triangle,
            samples.weights, rows, plain, seed, origins, directions,
        )  # fmt: skip
        away = np.flatnonzero(hits[rows].ravel() == SKY)
        radiance = np.zeros(len(origins), np.float32)
        radiance[away] = sky(directions[away])
        _sum_rays(hits, rows, directions, radiance, leaving, normals, total, vector)

    run_chunks(count, max(RAYS_PER_CHUNK // max(rays, 1), 1), work, workers, tick)
    return total, vector, normals


@njit(cache=True, nogil=True)
def _sum_rays(
    hits: NDArray, rows: NDArray, directions: NDArray, radiance: NDArray, leaving: NDArray, normals: NDArray,
    total: NDArray, vector: NDArray,
) -> None:  # fmt: skip
    rays = hits.shape[1]
    for m in range(len(rows)):
        i = rows[m]
        counted, f, x, y, z = 0, 0.0, 0.0, 0.0, 0.0
        for k in range(rays):
            h = hits[i, k]
            if h == NONE:
                continue
            counted += 1
            j = m * rays + k
            light = leaving[h] if h >= 0 else radiance[j]
            if light == 0.0:
                continue
            dx, dy, dz = directions[j, 0], directions[j, 1], directions[j, 2]
            cosine = max(dx * normals[i, 0] + dy * normals[i, 1] + dz * normals[i, 2], LEAST_COSINE)
            # Rays are cosine-distributed: each stands for π / (cos θ · R) steradian.
            part = light * np.pi / cosine
            f += part
            x, y, z = x + part * dx, y + part * dy, z + part * dz
        if counted:
            total[i] = f / counted
            vector[i, 0], vector[i, 1], vector[i, 2] = x / counted, y / counted, z / counted


def texel_normals(surface: Surface, samples: OpenSamples) -> F32:
    """(N, 3) float32 shading normal at each texel's first open sample, zero without one."""
    out = np.zeros((len(samples.count), 3), np.float32)
    _frames(surface.vertices, surface.normals, surface.faces, surface.extent, samples.count, samples.triangle,
            samples.weights, np.zeros_like(out), out)  # fmt: skip
    return out


def texel_places(surface: Surface, samples: OpenSamples) -> F32:
    """(N, 3) float32 where each texel's first open sample is, relative to the centre."""
    out = np.zeros((len(samples.count), 3), np.float32)
    _frames(surface.vertices, surface.normals, surface.faces, surface.extent, samples.count, samples.triangle,
            samples.weights, out, np.zeros_like(out))  # fmt: skip
    return out


@njit(cache=True, nogil=True)
def _frames(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, place: NDArray, normal: NDArray,
) -> None:  # fmt: skip
    for i in range(len(count)):
        if count[i] > 0:
            x, y, z, nx, ny, nz = sample_point(
                vertices, normals, faces, triangle[i, 0], weights[i, 0, 0], weights[i, 0, 1], extent
            )
            place[i, 0], place[i, 1], place[i, 2] = x, y, z
            normal[i, 0], normal[i, 1], normal[i, 2] = nx, ny, nz


def add_source(
    total: F32, vector: F32, texel: I32, lux: F32, toward: F64, normals: F32
) -> None:  # fmt: skip
    """Add light that comes from about one direction.

    Args:
        texel: (n,) that it lights. lux: (n,) luminance of its irradiance. toward: (n, 3) ways to it, any length.
    """
    way = toward / np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-12)
    cosine = np.maximum(np.einsum("ij,ij->i", way, normals[texel]), LEAST_COSINE)
    part = (lux / cosine).astype(np.float32)
    total[texel] += part
    vector[texel] += (part[:, None] * way).astype(np.float32)


def ways_to(light: PlacedLight, places: F32, centre: F64) -> F64:
    """(n, 3) from places, relative to the centre, to a light; the middle of those with an area."""
    if light.kind == "directional":
        return np.repeat(-light.direction[None], len(places), axis=0)
    middle = shape_of(light).mean(axis=(0, 1)) if light.kind in AREA_KINDS else light.position
    return (middle - centre) - places.astype(np.float64)


def mean_direction(total: F32, vector: F32) -> F32:
    """(N, 3) float32 D = V/F, zero where no light arrives; never longer than 1."""
    out = np.divide(vector, total[:, None], out=np.zeros_like(vector), where=total[:, None] > 0)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return (out / np.maximum(length, 1.0)).astype(np.float32)
