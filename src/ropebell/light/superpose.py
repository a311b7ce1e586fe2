"""One solved field per source: light is linear, so any strengths and colours are a weighted sum of these.

With D_j the light that source j of unit strength brings directly and A, ρ as in `solve`, the field of source j is
F_j = Σ_b (A·ρ)^b · D_j, and any light is Σ_j s_j · F_j. Several fields are solved together: the stored hits, whose
reading is what a bounce costs, are then read once a bounce for all of them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.kernel import contracting, kernel
from ropebell.level.model import F32, F64, I32
from ropebell.light.lookup import NONE
from ropebell.light.workers import run_chunks

CHUNK = 2048
# Fields solved together: more would no longer fit beside each other in the processor's cache.
GROUP = 8


def solved_fields(
    hits: I32, units: F32, reflecting: F32, bounces: int, workers: int, tick: Callable[[float], None]
) -> F32:
    """(N, J, 3) float32: what each of J sources brings to each texel at unit strength, all bounces.

    Args:
        hits: (N, R) table of the transport stage.
        units: (N, J) direct light of each source, white; lux per unit of its strength.
        reflecting: (N, 3) from `reflectance`.
        bounces: how many.
        tick: called with the share done, may raise `Stopped`.
    """
    count, sources = units.shape
    fields = np.empty((count, sources, 3), np.float32)
    groups = [slice(first, min(first + GROUP, sources)) for first in range(0, sources, GROUP)]
    for number, group in enumerate(groups):

        def part(share: float, number: int = number) -> None:
            tick((number + share) / len(groups))

        fields[:, group] = _solved_group(hits, units[:, group], reflecting, bounces, workers, part)
    tick(1.0)
    return fields


def _solved_group(
    hits: I32, units: F32, reflecting: F32, bounces: int, workers: int, tick: Callable[[float], None]
) -> F32:
    count, sources = units.shape
    current = np.repeat(units[:, :, None], 3, axis=2).reshape(count, -1).astype(np.float32)
    total = current.copy()
    pattern = np.tile(reflecting, (1, sources)).astype(np.float32)
    for done in range(bounces):
        leaving, current = current * pattern, np.zeros_like(total)
        step = _Step(hits, leaving, current, total)
        run_chunks(count, CHUNK, step.work, workers, _part(tick, done / bounces, (done + 1) / bounces))
    return total.reshape(count, sources, 3)


@dataclass(frozen=True, eq=False)
class _Step:
    """One bounce of a group of fields."""

    hits: I32
    leaving: F32
    out: F32
    total: F32

    def work(self, first: int, end: int) -> None:
        bounce_many(self.hits, self.leaving, first, end, self.out, self.total)


def _part(tick: Callable[[float], None], low: float, high: float) -> Callable[[float], None]:
    return lambda share: tick(low + share * (high - low))


@contracting
def bounce_many(hits: I32, leaving: F32, first: int, end: int, out: F32, total: F32) -> None:
    """out[i] = mean over the counted rays of texel i of what leaves the texel they met, C channels; total += out."""
    channels = leaving.shape[1]
    for i in range(first, end):
        counted = 0
        for k in range(hits.shape[1]):
            h = hits[i, k]
            if h != NONE:
                counted += 1
            if h >= 0:
                for c in range(channels):
                    out[i, c] += leaving[h, c]
        if counted:
            scale = np.float32(1.0 / counted)
            for c in range(channels):
                out[i, c] *= scale
                total[i, c] += out[i, c]


def superposed(fields: F32, strengths: F64, workers: int) -> F32:
    """(N, 3) float32 lux: Σ_j strengths[j] · fields[:, j], summed in double precision.

    Args:
        fields: (N, J, 3) from `solved_fields`, or (N, J) white direct light.
        strengths: (J, 3) linear RGB.
    """
    out = np.empty((len(fields), 3), np.float32)
    white = fields.ndim == 2

    def work(first: int, end: int) -> None:
        if white:
            _sum_white(fields, strengths, first, end, out)
        else:
            _sum(fields, strengths, first, end, out)

    run_chunks(len(fields), 16_384, work, workers, lambda _: None)
    return out


def warm() -> None:
    """Load the kernels, so that the first relight does not wait for them."""
    hits, ones = np.zeros((1, 1), np.int32), np.ones((1, 1), np.float32)
    fields = solved_fields(hits, ones, np.ones((1, 3), np.float32), 1, 1, lambda _: None)
    for each in (fields, ones):
        superposed(each, np.ones((1, 3)), 1)


@kernel
def _sum(fields: F32, strengths: F64, first: int, end: int, out: F32) -> None:
    for i in range(first, end):
        r, g, b = 0.0, 0.0, 0.0
        for j in range(fields.shape[1]):
            r += strengths[j, 0] * fields[i, j, 0]
            g += strengths[j, 1] * fields[i, j, 1]
            b += strengths[j, 2] * fields[i, j, 2]
        out[i, 0], out[i, 1], out[i, 2] = r, g, b


@kernel
def _sum_white(fields: F32, strengths: F64, first: int, end: int, out: F32) -> None:
    for i in range(first, end):
        r, g, b = 0.0, 0.0, 0.0
        for j in range(fields.shape[1]):
            r += strengths[j, 0] * fields[i, j]
            g += strengths[j, 1] * fields[i, j]
            b += strengths[j, 2] * fields[i, j]
        out[i, 0], out[i, 1], out[i, 2] = r, g, b
