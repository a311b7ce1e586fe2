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
    rays: int | None = None, looked: int | None = None, rows: I32 | None = None,
) -> F32:  # fmt: skip
    """(N, 3) float32 lux, or (m, 3) of `rows` alone: standard error of the mean over a texel's rays of what they met,
    as if they were independent.

    The sequence is more even than independent rays, so the true error is smaller; this is its upper bound.

    Args:
        hits: (N, R) table of the transport stage.
        total: (N, 3) lux of all bounces. reflecting: (N, 3) from `reflectance`.
        sky: (3,) radiance in cd/m².
        rays: columns that the light is of, None for all. looked: how many of them are looked at, None for all; the
            error that is told is that of all that a texel has.
        rows: (m,) texels that are asked about, None for all.
    """
    rows = np.arange(len(hits), dtype=np.int32) if rows is None else rows
    rays = hits.shape[1] if rays is None else rays
    looked = rays if looked is None else min(looked, rays)
    leaving = np.ascontiguousarray(total * reflecting, np.float32)
    out = np.zeros((len(rows), 3), np.float32)
    bright = (np.pi * sky).astype(np.float32)

    def work(first: int, end: int) -> None:
        _spread(hits, rows, rays, looked, leaving, bright, first, end, out)

    run_chunks(len(rows), CHUNK, work, workers, tick)
    return out


@kernel
def _spread(
    hits: I32, rows: I32, rays: int, looked: int, leaving: F32, sky: F32, first: int, end: int, out: F32
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
        # Texels may have fewer rays than others: outside the play region, or sure enough of their light.
        owned = counted
        for k in range(looked, rays):
            owned += hits[rows[i], k] != NONE
        for c in range(3):
            m = mean[c] / counted
            variance = max(square[c] / counted - m * m, 0.0) * counted / (counted - 1)
            out[i, c] = math.sqrt(variance / owned)
