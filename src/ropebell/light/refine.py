"""More rays where they are needed: for texels whose gathered light is noisier than wanted, until it is not.

The stored rays stay as they are, since bounces and relight are algebra on them; what is added here sharpens only the
last step, from the solved level to each noisy texel.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32
from ropebell.light.lookup import NONE, SKY
from ropebell.light.workers import run_chunks

MOST_WAVES = 8
CHUNK = 4096
LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
# Columns of a tally: bounced RGB, direct RGB, luminance, its square, rays that count.
BOUNCED, DIRECT, FIRST, SECOND, COUNTED, TALLY = slice(0, 3), slice(3, 6), 6, 7, 8, 9

Shoot = Callable[[I32, int], I32]
"""(m,) texels and the number of a wave to an (m, R) hit table of fresh rays."""


@dataclass(frozen=True, eq=False)
class SeenLight:
    """What a gather ray brings, by what it met.

    Attributes:
        leaving: (N, 3) float32 lux that a ray from a texel is worth: ρ·E of the bounce before.
        sky: (3,) float32, π times the radiance of an even sky.
        emitter: (N,) int32 emitter of each texel, −1 for none. glow: (E, 3) float32, π times radiance.
        wide: (E, N) bool, emitters that a texel takes from its rays.
    """

    leaving: F32
    sky: F32
    emitter: I32
    glow: F32
    wide: NDArray[np.bool_]


@dataclass(frozen=True)
class Refined:
    """What refining did.

    Attributes:
        total, direct: (N, 3) float32 lux.
        texels: that were above the target. left: of them, above it still. rays: that were shot. noise: of the
            refined texels over their light, before and after.
    """

    total: F32
    direct: F32
    texels: int
    left: int
    rays: int
    noise: tuple[float, float]


def refined(
    total: F32, direct: F32, hits: I32, seen: SeenLight, target: float, shoot: Shoot, workers: int,
    tick: Callable[[float], None],
) -> Refined:  # fmt: skip
    """Shoot waves of rays at texels whose standard error is above `target` times their light.

    Args:
        hits: (N, R) the stored rays.
        shoot: makes fresh ones.
        tick: called with the share done, may raise `Stopped`.
    """
    everything = np.arange(len(hits), dtype=np.int32)
    first = tally(hits, everything, seen, workers)
    noise = relative_noise(first, total)
    rows = np.flatnonzero(noise > target).astype(np.int32)
    begun, sums, waves, rays = rows, first[rows], 0, 0
    before = first[rows]
    place = np.arange(len(rows))
    while len(place) and waves < MOST_WAVES:
        waves += 1
        tick(waves / (MOST_WAVES + 1))
        fresh = shoot(begun[place], waves)
        rays += fresh.size
        sums[place] += tally(fresh, begun[place], seen, workers)
        place = place[relative_noise(sums[place], total[begun[place]]) > target]
    tick(1.0)
    out_total, out_direct = total.copy(), direct.copy()
    if len(begun):
        change = _means(sums) - _means(before)
        out_direct[begun] = np.maximum(direct[begun] + change[:, DIRECT], 0.0)
        out_total[begun] = np.maximum(total[begun] + change[:, BOUNCED] + change[:, DIRECT], 0.0)
    light = np.maximum(total[begun].astype(np.float64) @ LUMINANCE, 0.0)
    # Weighed by their light, or a few dark corners would speak for all.
    share = light / max(float(light.sum()), 1e-30)
    told = (float(noise[begun] @ share), float(relative_noise(sums, total[begun]) @ share))
    return Refined(out_total, out_direct, len(begun), len(place), rays, told)


def _means(sums: F64) -> F64:
    mean: F64 = sums[:, :6] / np.maximum(sums[:, COUNTED], 1.0)[:, None]
    return mean


def relative_noise(sums: F64, total: F32) -> F64:
    """(n,) standard error of the gathered luminance over the texel's whole luminance; 0 where no light is.

    Rays are counted as if they were independent, which is an upper bound for an even sequence.
    """
    count = sums[:, COUNTED]
    mean = sums[:, FIRST] / np.maximum(count, 1.0)
    spread = np.maximum(sums[:, SECOND] / np.maximum(count, 1.0) - mean * mean, 0.0)
    error = np.sqrt(spread / np.maximum(count - 1.0, 1.0))
    light = total.astype(np.float64) @ LUMINANCE
    out: F64 = np.divide(error, light, out=np.zeros(len(light)), where=(light > 0) & (count > 1))
    return out


def tally(hits: I32, rows: I32, seen: SeenLight, workers: int) -> F64:
    """(m, 9) sums over the rays of some texels.

    Args:
        hits: (m, R) what they met. rows: (m,) the texels.
    """
    out = np.zeros((len(rows), TALLY))

    def work(first: int, end: int) -> None:
        _tally(hits, rows, seen.leaving, seen.sky, seen.emitter, seen.glow, seen.wide, LUMINANCE, first, end, out)

    run_chunks(len(rows), CHUNK, work, workers, lambda _: None)
    return out


@njit(cache=True, nogil=True)
def _tally(
    hits: NDArray, rows: NDArray, leaving: NDArray, sky: NDArray, emitter: NDArray, glow: NDArray, wide: NDArray,
    luminance: NDArray, first: int, end: int, out: NDArray,
) -> None:  # fmt: skip
    for m in range(first, end):
        i = rows[m]
        for k in range(hits.shape[1]):
            h = hits[m, k]
            if h == NONE:
                continue
            value = 0.0
            for c in range(3):
                bounced, straight = 0.0, 0.0
                if h >= 0:
                    bounced = leaving[h, c]
                    e = emitter[h]
                    if e >= 0 and wide[e, i]:
                        straight = glow[e, c]
                elif h == SKY:
                    straight = sky[c]
                out[m, c] += bounced
                out[m, 3 + c] += straight
                value += luminance[c] * (bounced + straight)
            out[m, FIRST] += value
            out[m, SECOND] += value * value
            out[m, COUNTED] += 1.0
