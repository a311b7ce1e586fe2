"""Direct light of a sky picture, sampled in proportion to its brightness.

M. Pharr, W. Jakob, G. Humphreys, "Physically Based Rendering", 3rd ed., 14.2.4: rows by their share of the light,
pixels within a row by theirs, each pixel weighed by the solid angle that it covers.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, LUMINANCE, Mask
from ropebell.level.sky_picture import mean_radiance
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import hash32, sobol
from ropebell.light.shadow_rays import ShadowRays, put
from ropebell.light.surface import Ground, OpenSamples, Spots, Surface, sample_point
from ropebell.light.workers import run_chunks

LARGEST = 1024
CHUNK = 2048
FAR = np.float32(1e30)


class SkyChances(NamedTuple):
    """How a sky is sampled, as kernels take it; the fields are those of `SkyMap`."""

    rows: F64
    columns: F64
    density: F64
    turn: float


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
    found: F64 = cut.reshape(height, factor, width, factor, 3).mean(axis=(1, 3))
    return found


def sky_seen(sky: SkyMap, directions: F32) -> F64:
    """(n, 3) radiance over its mean in some directions."""
    height, width = sky.radiance.shape[:2]
    row = np.minimum(np.arccos(np.clip(directions[:, 1], -1, 1)) / np.pi * height, height - 1).astype(np.int64)
    turn = (np.arctan2(-directions[:, 0], directions[:, 2]) - sky.turn) % (2 * np.pi)
    column = np.minimum(turn / (2 * np.pi) * width, width - 1).astype(np.int64)
    found: F64 = sky.radiance[row, column].astype(np.float64)
    return found


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
    chances = SkyChances(sky.rows, sky.columns, sky.density, sky.turn)
    step = max(min(CHUNK, 65_536 // rays_per_texel), 1)

    def work(first: int, end: int) -> None:
        room = (end - first) * rays_per_texel
        rays = ShadowRays.of(room)
        made = sky_rays(surface.ground, samples.spots, first, end, chances, rays_per_texel, seed, rays)
        blocked = space.blocked(rays.origins[:made], rays.directions[:made], np.full(made, FAR, np.float32))
        if shadowed is not None:
            blocked &= shadowed[rays.owner[:made]]
        _add(made, blocked, rays, sky.radiance.reshape(-1, 3), out)

    run_chunks(count, step, work, workers, tick)
    return out


@kernel
def sky_rays(
    ground: Ground, spots: Spots, first: int, end: int, sky: SkyChances, per_texel: int, seed: int, rays: ShadowRays
) -> int:
    """Rays of texels `first` … `end` toward sampled pixels of a sky; how many there are.

    Args:
        rays: written; `value` is what a radiance of 1 brings by a ray, `source` the pixel it goes to.
    """
    rows, columns, density = sky.rows, sky.columns, sky.density
    height, width = density.shape
    made = 0
    for i in range(first, end):
        if spots.open[i] == 0:
            continue
        mine = hash32(spots.key[i] ^ hash32(np.uint32(seed) + np.uint32(13)))
        for k in range(per_texel):
            s = k % spots.open[i]
            t = spots.triangle[i, s]
            u, v = sobol(k, 0, mine), sobol(k, 1, mine)
            row = min(max(np.searchsorted(rows, u, side="right") - 1, 0), height - 1)
            share = (u - rows[row]) / max(rows[row + 1] - rows[row], 1e-300)
            column = min(max(np.searchsorted(columns[row], v, side="right") - 1, 0), width - 1)
            across = (v - columns[row, column]) / max(columns[row, column + 1] - columns[row, column], 1e-300)
            # Even over the solid angle within the pixel.
            top, bottom = math.cos(math.pi * row / height), math.cos(math.pi * (row + 1) / height)
            y = top + min(max(share, 0.0), 1.0) * (bottom - top)
            angle = 2.0 * math.pi * (column + min(max(across, 0.0), 1.0)) / width + sky.turn
            r = math.sqrt(max(1.0 - y * y, 0.0))
            # The middle column of the picture lies along −Z, columns to the right of it towards +X.
            x, z = -r * math.sin(angle), r * math.cos(angle)
            if x * ground.faces[t, 0] + y * ground.faces[t, 1] + z * ground.faces[t, 2] <= 0.0:
                continue
            px, py, pz, nx, ny, nz = sample_point(ground, spots, i, s)
            cosine = x * nx + y * ny + z * nz
            if cosine <= 0.0:
                continue
            put(rays, made, px, py, pz, x, y, z)
            rays.value[made] = cosine / density[row, column] / per_texel
            rays.source[made], rays.owner[made] = row * width + column, i
            made += 1
    return made


@kernel
def _add(made: int, blocked: Mask, rays: ShadowRays, radiance: F32, out: F32) -> None:
    for j in range(made):
        if not blocked[j]:
            for c in range(3):
                out[rays.owner[j], c] += rays.value[j] * radiance[rays.source[j], c]
