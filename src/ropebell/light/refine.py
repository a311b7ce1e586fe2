"""More rays for texels whose gathered light is noisier than wanted when the stored rays are spent.

What is added here sharpens only the last step, from the solved level to each noisy texel; bounces and relight are
algebra on the stored rays.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32
from ropebell.light.certainty import Neighbours, SeenLight, colours, luminance, relative_noise, tally

MOST_WAVES = 8

Shoot = Callable[[I32, int], Iterator[tuple[slice, I32]]]
"""(m,) texels and the number of a wave to (…, R) hit tables of rays of its own, some of the texels at a time."""


@dataclass(frozen=True)
class Refined:
    """What refining did.

    Attributes:
        total, direct: (N, 3) float32 lux.
        noise: (N,) float32 of each texel as it is now, from `relative_noise`.
        texels: that were above the target. left: of them, above it still. rays: that were added.
        noise_before: of the refined texels over their light. noise_after: the same once refined.
    """

    total: F32
    direct: F32
    noise: F32
    texels: int
    left: int
    rays: int
    noise_before: float
    noise_after: float


def refined(
    total: F32, direct: F32, hits: I32, shot: I32, may: NDArray[np.bool_], seen: SeenLight, neighbours: Neighbours,
    target: float, shoot: Shoot, workers: int, tick: Callable[[float], None],
) -> Refined:  # fmt: skip
    """Shoot waves of rays at texels whose noise is above `target`.

    Args:
        hits: (N, R) the stored rays. shot: (N,) how many of them each texel has.
        may: (N,) texels that may get more.
        shoot: makes more.
        tick: called with the share done, may raise `Stopped`.
    """
    everything, light = np.arange(len(hits), dtype=np.int32), luminance(total)
    sums = tally(hits, shot, everything, seen, workers)
    noise = before = relative_noise(sums, light, neighbours, workers)
    rows = begun = np.flatnonzero((noise > target) & may).astype(np.int32)
    stored = colours(hits, begun, shot[begun], begun, seen, workers)
    brought = stored.copy()
    waves, rays = 0, 0
    while len(rows) and waves < MOST_WAVES:
        waves += 1
        tick(waves / (MOST_WAVES + 1))
        for part, fresh in shoot(rows, waves):
            some = rows[part]
            rays += fresh.size
            each = np.full(len(some), fresh.shape[1], np.int32)
            sums[some] += tally(fresh, each, some, seen, workers)
            own = np.arange(len(some), dtype=np.int32)
            brought[np.searchsorted(begun, some)] += colours(fresh, own, each, some, seen, workers)
        noise = relative_noise(sums, light, neighbours, workers)
        rows = rows[noise[rows] > target]
    tick(1.0)
    out_total, out_direct = total.copy(), direct.copy()
    if len(begun):
        change = _means(brought) - _means(stored)
        out_direct[begun] = np.maximum(direct[begun] + change[:, 3:], 0.0)
        out_total[begun] = np.maximum(total[begun] + change[:, :3] + change[:, 3:], 0.0)
    # Weighed by their light, or a few dark corners would speak for all.
    share = light[begun] / max(float(light[begun].sum()), 1e-30)
    return Refined(
        out_total, out_direct, noise, len(begun), len(rows), rays,
        float(before[begun] @ share), float(noise[begun] @ share),
    )  # fmt: skip


def _means(sums: F64) -> F64:
    mean: F64 = sums[:, :6] / np.maximum(sums[:, 6:], 1.0)
    return mean
