"""How uncertain each texel's gathered light is, from the spread of what its rays met."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, I32
from ropebell.light.lookup import NONE, SKY
from ropebell.light.workers import run_chunks

CHUNK = 8192


def standard_error(
    hits: I32, total: F32, reflecting: F32, sky: F32, workers: int, tick: Callable[[float], None]
) -> F32:
    """(N, 3) float32 lux: standard error of the mean over a texel's rays of what they met, as if they were independent.

    The sequence is more even than independent rays, so the true error is smaller; this is its upper bound.

    Args:
        hits: (N, R) table of the transport stage.
        total: (N, 3) lux of all bounces. reflecting: (N, 3) from `reflectance`.
        sky: (3,) radiance in cd/m².
    """
    leaving = np.ascontiguousarray(total * reflecting, np.float32)
    out = np.zeros_like(leaving)
    bright = (np.pi * sky).astype(np.float32)

    def work(first: int, end: int) -> None:
        _spread(hits, leaving, bright, first, end, out)

    run_chunks(len(hits), CHUNK, work, workers, tick)
    return out


@kernel
def _spread(hits: I32, leaving: F32, sky: F32, first: int, end: int, out: F32) -> None:
    mean, square = np.empty(3), np.empty(3)
    for i in range(first, end):
        mean[:], square[:], counted = 0.0, 0.0, 0
        for k in range(hits.shape[1]):
            h = hits[i, k]
            if h == NONE:
                continue
            counted += 1
            for c in range(3):
                v = leaving[h, c] if h >= 0 else (sky[c] if h == SKY else 0.0)
                mean[c] += v
                square[c] += v * v
        if counted < 2:
            continue
        for c in range(3):
            m = mean[c] / counted
            out[i, c] = math.sqrt(max(square[c] / counted - m * m, 0.0) / (counted - 1))
