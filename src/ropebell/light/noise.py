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
    hits: I32, total: F32, reflecting: F32, sky: F32, workers: int, tick: Callable[[float], None],
    rays: int | None = None, rows: I32 | None = None,
) -> F32:  # fmt: skip
    """(N, 3) float32 lux, or (m, 3) of `rows` alone: standard error of the mean over a texel's rays of what they met,
    as if they were independent.

    The sequence is more even than independent rays, so the true error is smaller; this is its upper bound.

    Args:
        hits: (N, R) table of the transport stage.
        total: (N, 3) lux of all bounces. reflecting: (N, 3) from `reflectance`.
        sky: (3,) radiance in cd/m².
        rays: how many of each texel are looked at, None for all; the error that is told is that of all.
        rows: (m,) texels that are asked about, None for all.
    """
    rows = np.arange(len(hits), dtype=np.int32) if rows is None else rows
    looked = min(rays or hits.shape[1], hits.shape[1])
    fewer = math.sqrt(looked / max(hits.shape[1], 1))
    leaving = np.ascontiguousarray(total * reflecting, np.float32)
    out = np.zeros((len(rows), 3), np.float32)
    bright = (np.pi * sky).astype(np.float32)

    def work(first: int, end: int) -> None:
        _spread(hits, rows, looked, fewer, leaving, bright, first, end, out)

    run_chunks(len(rows), CHUNK, work, workers, tick)
    return out


@kernel
def _spread(
    hits: I32, rows: I32, looked: int, fewer: float, leaving: F32, sky: F32, first: int, end: int, out: F32
) -> None:  # fmt: skip
    mean, square = np.empty(3), np.empty(3)
    for i in range(first, end):
        mean[:], square[:], counted = 0.0, 0.0, 0
        for k in range(looked):
            h = hits[rows[i], k]
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
            out[i, c] = math.sqrt(max(square[c] / counted - m * m, 0.0) / (counted - 1)) * fewer
