"""Where the light of each texel comes from, as first-order spherical harmonics, for relief on its surface.

With F = ∫ Y(ω) dω and V = ∫ Y(ω)·ω dω over what a texel sees, Y the luminance that arrives, a face that is bent to n′
by its relief gets E(n′) ≈ F/4 + V·n′/2 (bands 0 and 1 under a cosine lobe: R. Ramamoorthi and P. Hanrahan, SIGGRAPH
2001). What is kept is D = V/F, at most of length 1; so relief scales the lightmap by (1 + 2·D·n′)/(1 + 2·D·n).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32
from ropebell.level.placed_light import PlacedLight
from ropebell.light.gather_rays import make_rays
from ropebell.light.lookup import NONE, SKY
from ropebell.light.sampling import plain_points
from ropebell.light.surface import Ground, OpenSamples, Spots, Surface, sample_point
from ropebell.light.workers import run_chunks

RAYS_PER_CHUNK = 65_536
# Rays nearly along the surface stand for so much of the sphere that one of them would drown all others.
LEAST_COSINE = 0.1
# A glowing surface is looked at in so many pieces; one whose faces look to so many sides shines to all.
MOST_PATCHES = 64
ONE_WAY = 0.5


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
        make_rays(surface.ground, samples.spots, rows, plain, seed, origins, directions)
        away = np.flatnonzero(hits[rows].ravel() == SKY)
        radiance = np.zeros(len(origins), np.float32)
        radiance[away] = sky(directions[away])
        _sum_rays(hits, rows, directions, radiance, leaving, normals, total, vector)

    run_chunks(count, max(RAYS_PER_CHUNK // max(rays, 1), 1), work, workers, tick)
    return total, vector, normals


@kernel
def _sum_rays(
    hits: I32, rows: I32, directions: F32, radiance: F32, leaving: F32, normals: F32,
    total: F32, vector: F32,
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
    _frames(surface.ground, samples.spots, np.zeros_like(out), out)
    return out


def texel_places(surface: Surface, samples: OpenSamples) -> F32:
    """(N, 3) float32 where each texel's first open sample is, relative to the centre."""
    out = np.zeros((len(samples.count), 3), np.float32)
    _frames(surface.ground, samples.spots, out, np.zeros_like(out))
    return out


@kernel
def _frames(ground: Ground, spots: Spots, place: F32, normal: F32) -> None:
    for i in range(len(spots.open)):
        if spots.open[i] > 0:
            x, y, z, nx, ny, nz = sample_point(ground, spots, i, 0)
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


@dataclass(frozen=True, eq=False)
class Patches:
    """A glowing surface in some dozens of pieces.

    Attributes:
        centre: (n, 3) float64 relative to the level's centre. area: (n,) m².
        normal: (n, 3) unit, zero where a piece shines to all sides.
    """

    centre: F64
    normal: F64
    area: F64

    @staticmethod
    def of(corners: F64, both_sides: bool) -> Patches:
        """From triangles; those of a surface of very many are taken together with their neighbours along its length.

        Args:
            corners: (n, 3, 3) relative to the centre.
        """
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]) / 2
        area = np.linalg.norm(cross, axis=1)
        middle = corners.mean(axis=1)
        order = np.argsort(middle[:, int(np.argmax(np.ptp(middle, axis=0)))], kind="stable")
        starts = np.unique(np.linspace(0, len(order), min(len(order), MOST_PATCHES), endpoint=False).astype(np.int64))
        whole = np.maximum(np.add.reduceat(area[order], starts), 1e-30)
        centre = np.add.reduceat((area[:, None] * middle)[order], starts) / whole[:, None]
        facing = np.add.reduceat(cross[order], starts) / whole[:, None]
        length = np.linalg.norm(facing, axis=1, keepdims=True)
        one_way = (length > ONE_WAY) & (not both_sides)
        return Patches(centre, np.where(one_way, facing / np.maximum(length, 1e-30), 0.0), whole)


def add_patches(
    total: F32, vector: F32, texel: I32, lux: F32, patches: Patches, places: F32, normals: F32
) -> None:  # fmt: skip
    """Add light of a glowing surface, each piece by what it brings if nothing is in between.

    Args:
        texel: (n,) that it lights. lux: (n,) luminance of its irradiance.
        places, normals: (N, 3) of all texels.
    """
    _add_patches(total, vector, texel, lux.astype(np.float32), patches.centre, patches.normal, patches.area, places,
                 normals)  # fmt: skip


@kernel
def _add_patches(
    total: F32, vector: F32, texel: I32, lux: F32, centre: F64, normal: F64, area: F64,
    places: F32, normals: F32,
) -> None:  # fmt: skip
    for m in range(len(texel)):
        i = texel[m]
        whole, f, x, y, z = 0.0, 0.0, 0.0, 0.0, 0.0
        for e in range(len(area)):
            dx, dy, dz = centre[e, 0] - places[i, 0], centre[e, 1] - places[i, 1], centre[e, 2] - places[i, 2]
            square = max(dx * dx + dy * dy + dz * dz, 1e-12)
            far = np.sqrt(square)
            dx, dy, dz = dx / far, dy / far, dz / far
            leaving = -(dx * normal[e, 0] + dy * normal[e, 1] + dz * normal[e, 2])
            if normal[e, 0] == 0.0 and normal[e, 1] == 0.0 and normal[e, 2] == 0.0:
                leaving = 1.0
            cosine = dx * normals[i, 0] + dy * normals[i, 1] + dz * normals[i, 2]
            # A faint floor, so that light which only an edge of a piece brings has a direction too.
            brought = area[e] * max(leaving, 1e-4) * max(cosine, 1e-4) / square
            part = brought / max(cosine, LEAST_COSINE)
            whole += brought
            f += part
            x, y, z = x + part * dx, y + part * dy, z + part * dz
        if whole > 0.0:
            scale = lux[m] / whole
            total[i] += scale * f
            vector[i, 0] += scale * x
            vector[i, 1] += scale * y
            vector[i, 2] += scale * z


def ways_to(light: PlacedLight, places: F32, centre: F64) -> F64:
    """(n, 3) from places, relative to the centre, to a light without an area."""
    if light.kind == "directional":
        return np.repeat(-light.direction[None], len(places), axis=0)
    return (light.position - centre) - places.astype(np.float64)


def mean_direction(total: F32, vector: F32) -> F32:
    """(N, 3) float32 D = V/F, zero where no light arrives; never longer than 1."""
    out = np.divide(vector, total[:, None], out=np.zeros_like(vector), where=total[:, None] > 0)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    found: F32 = (out / np.maximum(length, 1.0)).astype(np.float32)
    return found
