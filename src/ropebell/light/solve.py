"""The solve stage: light after every bounce, from stored hits.

With A the averaging of what a texel's rays met and ρ the albedo, bounce b + 1 is E_{b+1} = A·(ρ·E_b): rays are
cosine-distributed, so irradiance is π times the mean radiance met, and the radiance leaving is ρ·E/π.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import contracting, kernel
from ropebell.level.model import F32, F64, I32, LUMINANCE, HitTable, Mask, PerTexel3
from ropebell.light.arithmetic import USUAL, WORKERS, Arithmetic
from ropebell.light.lookup import NONE
from ropebell.light.settling import Settling
from ropebell.light.transport import Hits
from ropebell.light.workers import run_chunks

CHUNK = 8192
MOST_BOUNCES = 512


@dataclass(frozen=True, eq=False)
class Solution:
    """Irradiance of every texel.

    Attributes:
        direct: (N, 3) float32 lux, bounce 0: lights, emitters and sky.
        total: (N, 3) float32 lux, all bounces.
        before: (N, 3) float32 lux, all bounces but the last; nothing without bounces.
        energy: mean lux over texels that each bounce added, bounce 0 first.
        bounces: how many were computed.
        cut: mean lux that subtracting lights took below zero, and that was given back.
        lost: of each bounce, how many texels came out non-finite; they count as dark from there on.
        first_lost: (m,) int32 those texels, of whichever bounce.
    """

    direct: PerTexel3
    total: PerTexel3
    before: PerTexel3
    energy: tuple[float, ...]
    bounces: int
    cut: float = 0.0
    lost: tuple[int, ...] = ()
    first_lost: I32 = field(default_factory=lambda: np.zeros(0, np.int32))


def reflectance(albedo: PerTexel3, gain: float, saturation: float) -> PerTexel3:
    """(N, 3) albedo as bounced light sees it: blended towards its luminance, then scaled.

    Args:
        gain: 1 is physical.
        saturation: 1 keeps the colour, 0 bounces grey of the same luminance (ITU-R BT.709 weights).
    """
    grey = albedo @ LUMINANCE.astype(np.float32)
    return (gain * (grey[:, None] + saturation * (albedo - grey[:, None]))).astype(np.float32).clip(0.0)


def gathered_light(hits: Hits, sky: F32, glow: F32, emitter: I32, wide: NDArray[np.bool_], workers: int) -> F32:
    """Bounce-0 light that the gather rays themselves see: the sky, and emitters too wide for shadow rays.

    Args:
        sky: (3,) radiance in cd/m².
        glow: (E, 3) float32 radiance of each emitter.
        emitter: (N,) int32 emitter a texel belongs to, −1 for none.
        wide: (E, N) bool, emitters that a texel takes from its gather rays.

    Returns:
        (N, 3) float32 lux.
    """
    out = (np.pi * hits.sky_share())[:, None] * sky.astype(np.float32)
    rows = np.flatnonzero(wide.any(axis=0)).astype(np.int32)

    def work(first: int, end: int) -> None:
        _add_emitters(hits.table, hits.columns, hits.counted, glow, emitter, wide, rows[first:end], out)

    run_chunks(len(rows), CHUNK, work, workers, lambda share: None)
    return out


def solve(
    hits: I32, direct: F32, reflecting: F32, bounces: int | None, workers: int, tick: Callable[[float], None],
    kept_back: F32 | None = None, rays: int | None = None, worker: Arithmetic = WORKERS[USUAL],
) -> Solution:  # fmt: skip
    """Sum bounces 0 … n.

    Args:
        hits: (N, R) table of the transport stage.
        direct: (N, 3) lux.
        reflecting: (N, 3) from `reflectance`.
        bounces: n, or None: go on until all further bounces together add under 0.1 % to any texel's light; see
            `settling`.
        tick: called with the share done, may raise `Stopped`.
        kept_back: (N, 3) lux of direct light that does not go into the bounces.
        rays: the first columns of the table to look at; None: all.
        worker: how it is summed, and whether what is no number is taken out.

    Light that subtracts may leave less than nothing; what is then cut off is in `Solution.cut`. What is not finite is
    taken out before it spreads with the next bounce.
    """
    if not worker.guarded and not np.isfinite(direct).all():
        return _spoiled(hits, direct, reflecting, most=MOST_BOUNCES if bounces is None else bounces, workers=workers)
    direct, unsound = _sound(direct)
    # Rounded to single precision after each bounce where a worker has no more.
    rounded = np.float32 if worker.single else np.float64
    total, before = direct.astype(np.float64), np.zeros_like(direct)
    terms = [total.copy()] if worker.backwards else []
    current = direct if kept_back is None else _sound(direct - kept_back)[0]
    energy, lost = [_mean(direct)], [unsound]
    most = MOST_BOUNCES if bounces is None else bounces
    done = 0
    settling = None
    if bounces is None:
        settling = Settling(current, lambda light: _spread(hits, rays or hits.shape[1], light, reflecting, workers))
    while done < most:
        with np.errstate(invalid="ignore", over="ignore"):
            leaving, unsound = _sound(np.ascontiguousarray(current * reflecting))
        current = np.zeros_like(direct)
        share = done / max(min(most, 16), done + 1)
        _bounce_all(hits, rays or hits.shape[1], leaving, current, workers, tick, share)
        current, more = _sound(current)
        lost.append(np.union1d(unsound, more))
        before = np.maximum(total, 0.0).astype(np.float32)
        total = (total + current).astype(rounded).astype(np.float64)
        if worker.backwards:
            terms.append(current.astype(np.float64))
        energy.append(_mean(current))
        done += 1
        if settling is not None and settling.after(current, total):
            break
    tick(1.0)
    if terms:
        total = np.zeros_like(terms[0])
        for term in reversed(terms):
            total = (total + term).astype(rounded).astype(np.float64)
    cut = float(np.maximum(-total, 0.0).mean()) if len(total) else 0.0
    whole = np.maximum(total, 0.0).astype(np.float32)
    places = np.unique(np.concatenate(lost)).astype(np.int32)
    counts = tuple(len(rows) for rows in lost)
    return Solution(np.maximum(direct, 0.0), whole, before, tuple(energy), done, cut, counts, places)


def _spoiled(hits: I32, direct: F32, reflecting: F32, most: int, workers: int) -> Solution:
    """Light of a worker that takes out nothing: what is no number spreads with each bounce, and is black in the end."""
    first = np.flatnonzero(~np.isfinite(direct).all(axis=1)).astype(np.int32)
    total, current, lost = direct.copy(), direct, [len(first)]
    spoiled = ~np.isfinite(direct).all(axis=1)
    for _ in range(most):
        with np.errstate(invalid="ignore", over="ignore"):
            current = _spread(hits, hits.shape[1], current, reflecting, workers)
            total += current
        bad = ~np.isfinite(current).all(axis=1)
        lost.append(int(bad.sum()))
        if not (bad & ~spoiled).any():
            break  # it has reached all that it can reach
        spoiled |= bad
    sound = [np.maximum(_sound(light)[0], 0.0) for light in (direct, total, total - current)]
    energy = (_mean(sound[0]), _mean(sound[1] - sound[0]))
    return Solution(sound[0], sound[1], sound[2], energy, len(lost) - 1, 0.0, tuple(lost), first)


def _sound(light: F32) -> tuple[F32, NDArray[np.intp]]:
    """Light with what is not finite as nothing, and (m,) the texels where that was."""
    if np.isfinite(light).all():
        return light, np.zeros(0, np.intp)
    return np.nan_to_num(light, posinf=0.0, neginf=0.0), np.flatnonzero(~np.isfinite(light).all(axis=1))


def bounced_once(hits: HitTable, light: PerTexel3, reflecting: PerTexel3, workers: int) -> PerTexel3:
    """(N, 3) float32 lux of one bounce of some light."""
    return _spread(hits, hits.shape[1], light, reflecting, workers)


def _spread(hits: HitTable, rays: int, light: PerTexel3, reflecting: PerTexel3, workers: int) -> PerTexel3:
    out = np.zeros_like(light)
    leaving = np.ascontiguousarray(light * reflecting)
    _bounce_all(hits, rays, leaving, out, workers, lambda _: None, 0.0)
    return out


def _mean(field: F32) -> float:
    return float(field.mean(dtype=np.float64)) if len(field) else 0.0


def _bounce_all(
    hits: I32, rays: int, leaving: F32, out: F32, workers: int, tick: Callable[[float], None], share: float
) -> None:
    def work(first: int, end: int) -> None:
        bounce(hits, rays, leaving, first, end, out)

    run_chunks(len(hits), CHUNK, work, workers, lambda _: tick(share))


@contracting
def bounce(hits: I32, rays: int, leaving: F32, first: int, end: int, out: F32) -> None:
    """out[i] = mean over the counted ones of the first rays of texel i of what leaves the texel they met."""
    for i in range(first, end):
        r, g, b, counted = 0.0, 0.0, 0.0, 0
        for k in range(rays):
            h = hits[i, k]
            if h >= 0:
                r += leaving[h, 0]
                g += leaving[h, 1]
                b += leaving[h, 2]
            if h != NONE:
                counted += 1
        if counted:
            out[i, 0], out[i, 1], out[i, 2] = r / counted, g / counted, b / counted


@kernel
def _add_emitters(
    table: I32, columns: int, counted: I32, glow: F32, emitter: I32, wide: Mask, rows: I32,
    out: F32,
) -> None:  # fmt: skip
    """Add π times the mean radiance that the rays of the listed texels met on emitters that are wide to them."""
    for m in range(len(rows)):
        i = rows[m]
        r, g, b = 0.0, 0.0, 0.0
        for k in range(columns):
            h = table[i, k]
            if h >= 0:
                e = emitter[h]
                if e >= 0 and wide[e, i]:
                    r += glow[e, 0]
                    g += glow[e, 1]
                    b += glow[e, 2]
        if counted[i]:
            scale = np.pi / counted[i]
            out[i, 0] += scale * r
            out[i, 1] += scale * g
            out[i, 2] += scale * b


@kernel
def scatter(hits: I32, counted: I32, weight: F64, out: F64) -> None:
    """The transpose of `bounce`: out[h] += weight[i] / counted[i] for every ray of texel i that met texel h.

    Args:
        weight, out: (N, 3) float64.
        counted: (N,) int32 counted rays of each texel.
    """
    for i in range(len(hits)):
        if counted[i] == 0 or (weight[i, 0] == 0.0 and weight[i, 1] == 0.0 and weight[i, 2] == 0.0):
            continue
        r, g, b = weight[i, 0] / counted[i], weight[i, 1] / counted[i], weight[i, 2] / counted[i]
        for k in range(hits.shape[1]):
            h = hits[i, k]
            if h >= 0:
                out[h, 0] += r
                out[h, 1] += g
                out[h, 2] += b
