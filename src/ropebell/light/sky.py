"""Direct light of a sky picture, sampled in proportion to its brightness.

M. Pharr, W. Jakob, G. Humphreys, "Physically Based Rendering", 3rd ed., 14.2.4: rows by their share of the light,
pixels within a row by theirs, each pixel weighed by the solid angle that it covers.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, LUMINANCE
from ropebell.level.sky_picture import mean_radiance
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import hash32, sobol
from ropebell.light.surface import OpenSamples, Surface, sample_point
from ropebell.light.workers import run_chunks

LARGEST = 1024
CHUNK = 2048
FAR = np.float32(1e30)


@dataclass(frozen=True, eq=False)
class SkyMap:
    """A sky picture ready to be sampled.

    Attributes:
        radiance: (H, W, 3) float32, each channel with a mean of 1 over the sphere, or 0 where it is dark.
        rows: (H + 1,) float64 running share of the light by row, 0 … 1.
        columns: (H, W + 1) float64 the same within each row.
        density: (H, W) float64 per steradian at which a pixel is sampled.
        turn: radians about Y.
    """

    radiance: F32
    rows: F64
    columns: F64
    density: F64
    turn: float

    @staticmethod
    def of(picture: F32, turn: float) -> SkyMap:
        """From (H, W, 3) float32 equirectangular radiance, top row up.

        Args:
            turn: degrees about Y.
        """
        small = _shrunk(picture)
        mean = mean_radiance(small.astype(np.float32))
        even = np.divide(small, mean, out=np.zeros(small.shape), where=mean > 0)
        height, width = even.shape[:2]
        edges = np.cos(np.pi * np.arange(height + 1) / height)
        pixel = 2 * np.pi / width * (edges[:-1] - edges[1:])
        power = (even @ LUMINANCE) * pixel[:, None]
        # A floor keeps what is nearly dark from being left out where only it is seen.
        power = power + 0.02 * power.sum() / (4 * np.pi) * pixel[:, None] + 1e-30
        by_row = power.sum(axis=1)
        rows = np.append(0.0, np.cumsum(by_row) / by_row.sum())
        columns = np.concatenate([np.zeros((height, 1)), np.cumsum(power, axis=1) / by_row[:, None]], axis=1)
        return SkyMap(even.astype(np.float32), rows, columns, power / power.sum() / pixel[:, None], math.radians(turn))


def _shrunk(picture: F32) -> F64:
    """Averaged down to at most `LARGEST` columns; detail finer than a third of a degree does not show in a shadow."""
    factor = max(-(-picture.shape[1] // LARGEST), 1)
    height, width = picture.shape[0] // factor, picture.shape[1] // factor
    if height < 1 or width < 1 or factor == 1:
        return picture.astype(np.float64)
    cut = picture[: height * factor, : width * factor].astype(np.float64)
    return cut.reshape(height, factor, width, factor, 3).mean(axis=(1, 3))


def sky_seen(sky: SkyMap, directions: F32) -> F64:
    """(n, 3) radiance over its mean in some directions."""
    height, width = sky.radiance.shape[:2]
    row = np.minimum(np.arccos(np.clip(directions[:, 1], -1, 1)) / np.pi * height, height - 1).astype(np.int64)
    turn = (np.arctan2(-directions[:, 0], directions[:, 2]) - sky.turn) % (2 * np.pi)
    column = np.minimum(turn / (2 * np.pi) * width, width - 1).astype(np.int64)
    return sky.radiance[row, column].astype(np.float64)


def sky_field(
    sky: SkyMap, surface: Surface, space: RaySpace, samples: OpenSamples, rays_per_texel: int, seed: int, workers: int,
    tick: Callable[[float], None], shadowed: NDArray[np.bool_] | None = None,
) -> F32:  # fmt: skip
    """(N, 3) float32 lux per cd/m² of mean radiance, channel by channel.

    Args:
        shadowed: (N,) bool, texels that receive shadow; None: all.
    """
    count = len(samples.count)
    out = np.zeros((count, 3), np.float32)
    geometry = (surface.vertices, surface.normals, surface.faces, surface.extent)
    step = max(min(CHUNK, 65_536 // rays_per_texel), 1)

    def work(first: int, end: int) -> None:
        room = (end - first) * rays_per_texel
        origins, directions = np.empty((room, 3), np.float32), np.empty((room, 3), np.float32)
        weight, pixel, owner = np.empty(room), np.empty(room, np.int64), np.empty(room, np.int32)
        made = sky_rays(
            *geometry, samples.count, samples.triangle, samples.weights, samples.key, first, end, sky.rows,
            sky.columns, sky.density, sky.turn, rays_per_texel, seed, origins, directions, weight, pixel, owner,
        )  # fmt: skip
        blocked = space.blocked(origins[:made], directions[:made], np.full(made, FAR, np.float32))
        if shadowed is not None:
            blocked &= shadowed[owner[:made]]
        _add(made, blocked, weight, pixel, owner, sky.radiance.reshape(-1, 3), out)

    run_chunks(count, step, work, workers, tick)
    return out


@njit(cache=True, nogil=True)
def sky_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, key: NDArray, first: int, end: int, rows: NDArray, columns: NDArray, density: NDArray,
    turn: float, per_texel: int, seed: int, origins: NDArray, directions: NDArray, weight: NDArray, pixel: NDArray,
    owner: NDArray,
) -> int:  # fmt: skip
    """Rays of texels `first` … `end` toward sampled pixels of a sky; how many there are.

    Args:
        weight: what a radiance of 1 brings by the ray; pixel: index into the picture; owner: its texel.
    """
    height, width = density.shape
    made = 0
    for i in range(first, end):
        if count[i] == 0:
            continue
        mine = hash32(key[i] ^ hash32(np.uint32(seed) + np.uint32(13)))
        for k in range(per_texel):
            s = k % count[i]
            t = triangle[i, s]
            u, v = sobol(k, 0, mine), sobol(k, 1, mine)
            row = min(max(np.searchsorted(rows, u, side="right") - 1, 0), height - 1)
            share = (u - rows[row]) / max(rows[row + 1] - rows[row], 1e-300)
            column = min(max(np.searchsorted(columns[row], v, side="right") - 1, 0), width - 1)
            across = (v - columns[row, column]) / max(columns[row, column + 1] - columns[row, column], 1e-300)
            # Even over the solid angle within the pixel.
            top, bottom = math.cos(math.pi * row / height), math.cos(math.pi * (row + 1) / height)
            y = top + min(max(share, 0.0), 1.0) * (bottom - top)
            angle = 2.0 * math.pi * (column + min(max(across, 0.0), 1.0)) / width + turn
            r = math.sqrt(max(1.0 - y * y, 0.0))
            # The middle column of the picture lies along −Z, columns to the right of it towards +X.
            x, z = -r * math.sin(angle), r * math.cos(angle)
            if x * faces[t, 0] + y * faces[t, 1] + z * faces[t, 2] <= 0.0:
                continue
            px, py, pz, nx, ny, nz = sample_point(
                vertices, normals, faces, t, weights[i, s, 0], weights[i, s, 1], extent
            )
            cosine = x * nx + y * ny + z * nz
            if cosine <= 0.0:
                continue
            origins[made, 0], origins[made, 1], origins[made, 2] = px, py, pz
            directions[made, 0], directions[made, 1], directions[made, 2] = x, y, z
            weight[made] = cosine / density[row, column] / per_texel
            pixel[made], owner[made] = row * width + column, i
            made += 1
    return made


@njit(cache=True, nogil=True)
def _add(
    made: int, blocked: NDArray, weight: NDArray, pixel: NDArray, owner: NDArray, radiance: NDArray, out: NDArray
) -> None:
    for j in range(made):
        if not blocked[j]:
            for c in range(3):
                out[owner[j], c] += weight[j] * radiance[pixel[j], c]
