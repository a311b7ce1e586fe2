"""How sure each texel's light is: what its gather rays say in two halves, pooled with its neighbours.

The two halves of a scrambled sequence are two samples of their own, so half their difference tells the error of the
whole. One difference alone is a poor guess of its own spread, and small charts have few neighbours. So the guess is
drawn to another: the spread of the single rays, as if they were independent, less by what evenness gains in the level
as a whole (empirical Bayes; B. Efron and C. Morris, "Data analysis using Stein's estimator", JASA 70, 1975).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask
from ropebell.light.lookup import NONE, SKY
from ropebell.light.workers import run_chunks

CHUNK = 4096
# Columns of a tally, all of luminance: sum of what has bounced, sum of all, sum of squares, squared rays times squared
# half difference; and the rays that count.
BOUNCED, FIRST, SECOND, SPREAD, COUNTED, TALLY = 0, 1, 2, 3, 4, 5
# What single rays say counts as much as the half differences of so many texels.
PRIOR = 8.0
# Neighbours that are pooled lie so many texels to either side.
REACH = 2
# A texel whose own halves differ by more than so many times the wanted error is not sure, whatever its neighbours say.
OWN = 2.0
# Light below this share of the level's mean is not asked to be as sure, in proportion, as it is.
DARKEST = 0.01


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

    @cached_property
    def luminances(self) -> tuple[F32, float, F32]:
        """(N,), one, and (E,) float32: the luminance of `leaving`, `sky` and `glow`."""
        weights = LUMINANCE.astype(np.float32)
        return self.leaving @ weights, float(self.sky @ weights), self.glow @ weights

    @cached_property
    def any_wide(self) -> NDArray[np.bool_]:
        """(N,) whether a texel takes any emitter from its rays."""
        found: NDArray[np.bool_] = np.any(self.wide, axis=0)
        return found


@dataclass(frozen=True, eq=False)
class Neighbours:
    """Where texels lie, and of which chart they are: neighbours are pooled within a chart only.

    Attributes:
        page, column, row, chart: (N,) int32. grid: (P, H, W) int32 texel index, −1 outside all charts.
    """

    page: I32
    column: I32
    row: I32
    chart: I32
    grid: I32


def relative_noise(sums: F64, light: F64, neighbours: Neighbours, workers: int) -> F32:
    """(N,) float32 standard error of each texel's gathered luminance over its whole luminance, of which no less than
    `DARKEST` of the level's mean is taken; 0 for texels without rays.

    Args:
        sums: (N, 5) from `tally`. light: (N,) luminance of all of each texel's light, lux.
    """
    n = neighbours
    plain = np.zeros(len(sums))
    many = sums[:, COUNTED] > 1
    rays = sums[many, COUNTED]
    # As of one ray, like the half differences below.
    plain[many] = np.maximum(sums[many, SECOND] - sums[many, FIRST] ** 2 / rays, 0.0) / (rays - 1.0)
    gain = float((sums[many, SPREAD] / rays).sum()) / max(float(plain.sum()), 1e-30)
    plain *= min(gain, 1.0)
    lit = sums[:, COUNTED] > 1
    floor = DARKEST * float(light[lit].mean()) if lit.any() else 0.0
    error = np.zeros(len(sums), np.float32)

    def work(first: int, end: int) -> None:
        _pool(sums, plain, n.page, n.column, n.row, n.chart, n.grid, first, end, error)

    run_chunks(len(sums), CHUNK, work, workers, lambda _: None)
    out: F32 = np.divide(error, np.maximum(light, floor), out=np.zeros_like(error), where=light + floor > 0)
    return out


@kernel
def _pool(
    sums: F64, plain: F64, page: I32, column: I32, row: I32, chart: I32, grid: I32,
    first: int, end: int, error: F32,
) -> None:  # fmt: skip
    for i in range(first, end):
        rays = sums[i, COUNTED]
        if rays < 2:
            continue
        spread, many = PRIOR * plain[i], PRIOR
        for y in range(max(row[i] - REACH, 0), min(row[i] + REACH + 1, grid.shape[1])):
            for x in range(max(column[i] - REACH, 0), min(column[i] + REACH + 1, grid.shape[2])):
                j = grid[page[i], y, x]
                if j >= 0 and chart[j] == chart[i] and sums[j, COUNTED] >= 2:
                    # As of one ray, since neighbours may have been given more or fewer.
                    spread += sums[j, SPREAD] / sums[j, COUNTED]
                    many += 1.0
        own = sums[i, SPREAD] / (rays * rays)
        error[i] = np.sqrt(max(spread / (many * rays), own / (OWN * OWN)))


def tally(hits: I32, shot: I32, rows: I32, seen: SeenLight, workers: int) -> F64:
    """(m, 5) sums over the rays of some texels; those of several tables may be added.

    Args:
        hits: (m, R) what they met. shot: (m,) int32 the rays of each, the first so many. rows: (m,) the texels.
    """
    out = np.zeros((len(rows), TALLY))
    worth, sky, glow = seen.luminances

    def work(first: int, end: int) -> None:
        _tally(hits, shot, rows, worth, sky, seen.emitter, glow, seen.wide, seen.any_wide, first, end, out)

    run_chunks(len(rows), CHUNK, work, workers, lambda _: None)
    return out


@kernel
def _tally(
    hits: I32, shot: I32, rows: I32, worth: F32, sky: float, emitter: I32, glow: F32,
    wide: Mask, any_wide: Mask, first: int, end: int, out: F64,
) -> None:  # fmt: skip
    sums, counted = np.zeros(2), np.zeros(2)
    for m in range(first, end):
        i, rays = rows[m], shot[m]
        middle, bounced, square = (rays + 1) // 2, 0.0, 0.0
        for half in range(2):
            total, many = 0.0, 0
            for k in range(half * middle, rays if half else middle):
                h = hits[m, k]
                if h == NONE:
                    continue
                many += 1
                value = 0.0
                if h >= 0:
                    value = worth[h]
                    bounced += value
                    if any_wide[i] and emitter[h] >= 0 and wide[emitter[h], i]:
                        value += glow[emitter[h]]
                elif h == SKY:
                    value = sky
                total += value
                square += value * value
            sums[half], counted[half] = total, many
        both = counted[0] + counted[1]
        out[m, BOUNCED], out[m, FIRST], out[m, SECOND], out[m, COUNTED] = bounced, sums[0] + sums[1], square, both
        if counted[0] > 0 and counted[1] > 0:
            difference = 0.5 * (sums[0] / counted[0] - sums[1] / counted[1])
            out[m, SPREAD] = both * both * difference * difference


def colours(hits: I32, at: I32, shot: I32, rows: I32, seen: SeenLight, workers: int) -> F64:
    """(m, 7) sums over the rays of some texels: RGB of bounced and of direct light, and the rays that count.

    Args:
        hits: (n, R). at: (m,) where in it the texels are. shot: (m,) the rays of each. rows: (m,) the texels.
    """
    out = np.zeros((len(rows), 7))

    def work(first: int, end: int) -> None:
        _colours(hits, at, shot, rows, seen.leaving, seen.sky, seen.emitter, seen.glow, seen.wide, first, end, out)

    run_chunks(len(rows), CHUNK, work, workers, lambda _: None)
    return out


@kernel
def _colours(
    hits: I32, at: I32, shot: I32, rows: I32, leaving: F32, sky: F32, emitter: I32,
    glow: F32, wide: Mask, first: int, end: int, out: F64,
) -> None:  # fmt: skip
    for m in range(first, end):
        i = rows[m]
        for k in range(shot[m]):
            h = hits[at[m], k]
            if h == NONE:
                continue
            out[m, 6] += 1.0
            for c in range(3):
                if h >= 0:
                    out[m, c] += leaving[h, c]
                    if emitter[h] >= 0 and wide[emitter[h], i]:
                        out[m, 3 + c] += glow[emitter[h], c]
                elif h == SKY:
                    out[m, 3 + c] += sky[c]


def luminance(light: F32) -> F64:
    """(n,) luminance of (n, 3) lux, not below zero."""
    found: F64 = np.maximum(light.astype(np.float64) @ LUMINANCE, 0.0)
    return found
