"""Light that is uneven where the level is not: noise, blotches, patterns of sample points."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.checks.subject import short
from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.again import spread
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding, large_enough, patches
from ropebell.faults.ways import starts
from ropebell.kernel import kernel
from ropebell.level.finding import Finding, area_words
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask, PerTexel3
from ropebell.light.denoise import Layout
from ropebell.light.finishing import Gathering, without_noise
from ropebell.light.lookup import NONE, SKY
from ropebell.light.workers import run_chunks

# Share of a texel's light that is noise, and the m² of it, that are told.
NOISY, NOISY_AREA = 0.05, 0.2
# The other thing that can be done: as many rays as it takes, where it takes them.
UNTIL_SURE = ("set", "light.noise_target", str(NOISY))
# Blotches are so many texels wide; halves that differ by more, at charts that are noisy enough for it.
SIZES = (4, 8, 16, 32)
BLOTCHY, LEAST_NOISE = 0.05, 0.03
# A pattern: so much of the light goes up and down from texel to texel, in a window of so many texels a side.
PATTERN, WINDOW, TURNING = 0.1, 8, 0.7
LEAST_PATTERN = 16
MOST = 30
CHUNK = 8192
# Faces that lie in one place: what stops a shadow ray lies this near, in widths of a texel.
AT_ONCE = 0.05


@AFTER.detector({"noise": "Noise"}, LIGHT)
def noise(s: Looked) -> Iterator[Finding]:
    """Surfaces whose told noise is over 5 %."""
    lit = s.lit
    rows = np.flatnonzero(lit.open & (lit.told_noise > NOISY))
    if not len(rows):
        return
    rows = rows[s.seen.of(rows)]
    leaving = ((lit.solved.total * lit.reflecting) @ LUMINANCE.astype(np.float32)).astype(np.float32)
    for number, patch in enumerate(patches(lit, rows)):
        if number >= MOST or not large_enough(lit, patch, NOISY_AREA):
            return
        share = float(np.average(lit.told_noise[patch], weights=lit.area[patch]))
        worst = int(patch[np.argmax(lit.told_noise[patch])])
        more = int(np.ceil(lit.settings.gather_rays * lit.settings.draft * (share / NOISY) ** 2 / 64) * 64)
        source = _brought_by(lit, patch, leaving)
        reason = f"Its light is uncertain by {100 * share:.1f} % over {area_words(float(lit.area[patch].sum()))}"
        reason += f", mostly by what '{short(source)}' throws back." if source else "."
        if lit.settings.denoised:
            reason += " The filter has smoothed it; how well is not certain."
        yield finding(
            lit, "noise", "note" if lit.settings.denoised else "warning", patch, worst, reason,
            f"Raise light.gather_rays to about {more:,}", measure=(share, "share"), also=[source] if source else [],
            fix=("set", "light.gather_rays", str(more)), others=[UNTIL_SURE],
        )  # fmt: skip


def _brought_by(lit: Lit, patch: np.ndarray, leaving: F32) -> str:
    """The object whose bounced light, (N,) luminance that leaves, varies most among the rays of a patch."""
    some = spread(patch, 200)
    hits = lit.hits.table[some]
    met = hits >= 0
    value = np.where(met, leaving[np.maximum(hits, 0)], 0.0).astype(np.float64)
    excess = (value - value.mean(axis=1, keepdims=True)) ** 2
    owner = lit.node[np.maximum(hits, 0)]
    total = np.bincount(owner[met], excess[met], minlength=len(lit.scene.node_names))
    return lit.scene.node_names[int(total.argmax())] if total.any() else ""


@AFTER.detector({"blotch": "Blotches"}, LIGHT)
def blotches(s: Looked) -> Iterator[Finding]:
    """Soft stains that the filter has made of noise: two independent halves, filtered, that still differ."""
    lit = s.lit
    if not lit.settings.denoised or lit.noise is None or lit.hits.columns < 8:
        return
    noisy = lit.open & (lit.told_noise > LEAST_NOISE)
    charts = np.bincount(lit.chart[lit.open], minlength=len(lit.atlas.rects))
    many = np.bincount(lit.chart[noisy], minlength=len(lit.atlas.rects)) > 0.1 * charts
    rows = np.flatnonzero(many[lit.chart]).astype(np.int32)
    # Filtering takes longest; charts that nobody sees any of need none.
    rows = rows[np.isin(lit.chart[rows], lit.chart[rows[s.seen.of(rows)]])]
    if not len(rows):
        return
    a, b = _halves(lit, rows)
    weights = LUMINANCE.astype(np.float32)
    mean = 0.5 * (a + b) @ weights
    apart = ((a - b) @ weights) / np.maximum(mean, 0.01 * lit.usual + 1e-30)
    field = np.zeros(len(lit), np.float32)
    field[rows] = apart
    counted = np.zeros(len(lit), np.bool_)
    counted[rows] = lit.open[rows]
    worst = np.zeros(len(lit), np.float32)
    for size in SIZES:
        of, value, full = _windows(lit, field, counted, size)
        worst = np.where(full[of], np.maximum(worst, np.abs(value[of])), worst)
    flagged = np.flatnonzero(counted & (worst > BLOTCHY))
    if not len(flagged):
        return
    flagged = flagged[s.seen.of(flagged)]
    for number, patch in enumerate(patches(lit, flagged)):
        if number >= MOST or len(patch) < SIZES[0] ** 2 or not large_enough(lit, patch, NOISY_AREA):
            return
        share = float(np.average(worst[patch], weights=lit.area[patch]))
        at = int(patch[np.argmax(worst[patch])])
        severity = "note" if lit.settings.draft > 1 else "warning"
        more = int(np.ceil(lit.settings.gather_rays * lit.settings.draft * (share / BLOTCHY) ** 2 / 64) * 64)
        reason = (
            f"Two halves of its rays, filtered one by one, differ by {100 * share:.1f} %: the stains are not light."
        )
        yield finding(
            lit, "blotch", severity, patch, at, reason, f"Raise light.gather_rays to about {more:,}",
            measure=(share, "share"), fix=("set", "light.gather_rays", str(more)), others=[UNTIL_SURE], proved=True,
        )  # fmt: skip


def _halves(lit: Lit, rows: I32) -> tuple[PerTexel3, PerTexel3]:
    """Twice (m, 3) lux of some texels, of the first half of their rays and of the second, filtered.

    Either is as even as the whole. Every other ray is not: all even points of the sequence lie on one side.
    """
    leaving = np.ascontiguousarray(lit.solved.before * lit.reflecting, np.float32)
    bright = np.pi * np.array(lit.sky, np.float32)
    apart = np.zeros_like(lit.solved.total)
    shot = np.minimum(lit.hits.shot, lit.hits.columns).astype(np.int32)

    def work(first: int, end: int) -> None:
        _half_difference(lit.hits.table, rows[first:end], shot, leaving, bright, apart)

    run_chunks(len(rows), CHUNK, work, lit.settings.workers, lambda _: None)
    found = []
    by = Gathering(lit.hits.table, lit.reflecting, np.array(lit.sky, np.float32), lit.hits.columns // 2)
    for sign in (1.0, -1.0):
        light = np.maximum(lit.solved.total + np.float32(sign) * apart, 0.0)
        layout = Layout(lit.texels, lit.atlas, lit.samples.target, lit.samples.count > 0)
        lamps = np.minimum(lit.lamps, light)
        clean = without_noise(light, lamps, by, layout, lit.settings.workers, lambda _: None, rows)
        found.append(clean[lit.samples.target[rows]])
    return found[0], found[1]


@kernel
def _half_difference(table: I32, rows: I32, shot: I32, leaving: F32, sky: F32, out: F32) -> None:
    """Half of what the first half of the rays of some texels brings more than the second; with the mean of both, either
    half."""
    total, counted = np.zeros((2, 3)), np.zeros(2)
    for m in range(len(rows)):
        i = rows[m]
        total[:], counted[:] = 0.0, 0.0
        middle = (shot[i] + 1) // 2
        for k in range(shot[i]):
            h = table[i, k]
            if h == NONE:
                continue
            half = 0 if k < middle else 1
            counted[half] += 1.0
            for c in range(3):
                total[half, c] += leaving[h, c] if h >= 0 else (sky[c] if h == SKY else 0.0)
        if counted[0] > 0 and counted[1] > 0:
            for c in range(3):
                out[i, c] = 0.5 * (total[0, c] / counted[0] - total[1, c] / counted[1])


def _windows(lit: Lit, field: F32, counted: Mask, size: int) -> tuple[I32, F64, Mask]:
    """Squares of so many texels a side within charts: (N,) of each texel, the mean of a field over each, and whether
    most of it is there."""
    t = lit.texels
    rects = lit.atlas.rects[lit.chart]
    x, y = (t.column - rects[:, 1]) // size, (t.row - rects[:, 2]) // size
    key = (lit.chart.astype(np.int64) << 32) | (x.astype(np.int64) << 16) | y
    known, of = np.unique(key, return_inverse=True)
    total = np.bincount(of, field * counted, minlength=len(known))
    count = np.bincount(of, counted, minlength=len(known))
    mean = total / np.maximum(count, 1)
    return of.astype(np.int32), mean, count >= 0.75 * size**2


@AFTER.detector({"grid-light": "Pattern in the light"}, LIGHT)
def grid_light(s: Looked) -> Iterator[Finding]:
    """Light of lamps that goes up and down from texel to texel, as where faces lie in one place or rays meet their own
    face: lamps without a size have no noise, so such a pattern is of the sample points."""
    lit = s.lit
    lamps = lit.lamps @ LUMINANCE.astype(np.float32)
    total = np.zeros(len(lit))
    inner = lit.open.copy()
    for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        other = lit.beside(dx, dy)
        inner &= (other >= 0) & lit.open[np.maximum(other, 0)]
        total += np.where(other >= 0, lamps[np.maximum(other, 0)], lamps)
    # Once up, once down: the second difference is large, and its sign turns from texel to texel.
    bend = np.where(inner, lamps - total / 4, 0.0)
    turns = np.zeros(len(lit))
    for dx, dy in ((1, 0), (0, 1)):
        other = np.maximum(lit.beside(dx, dy), 0)
        turns += (bend * bend[other] < 0) & inner & inner[other]
    strong = inner & (np.abs(bend) > PATTERN * np.maximum(lit.light, 0.05 * lit.usual))
    of, share, full = _windows(lit, strong.astype(np.float32), inner, WINDOW)
    _, turning, _ = _windows(lit, (turns * strong / 2).astype(np.float32), inner, WINDOW)
    uneven = full & (share > 0.5) & (turning > TURNING * share)
    flagged = np.flatnonzero(uneven[of] & inner)
    if not len(flagged):
        return
    flagged = flagged[s.seen.of(flagged)]
    for number, patch in enumerate(patches(lit, flagged)):
        if number >= MOST or len(patch) < LEAST_PATTERN:
            return
        close = _stopped_at_once(lit, spread(patch, 64).astype(np.int32))
        if not close:
            continue  # a grating throws such a shadow
        worst = int(patch[np.argmax(np.abs(bend[patch]))])
        value = float(np.median(np.abs(bend[patch])) / max(float(np.median(lit.light[patch])), 1e-12))
        reason = (
            f"Its light goes up and down by {100 * value:.0f} % from texel to texel: '{short(close)}' lies in the same "
            f"place, so rays stop as they start."
        )
        yield finding(
            lit, "grid-light", "warning", patch, worst, reason, "Move it off by some millimetres",
            measure=(value, "share"), also=[close], proved=True,
        )  # fmt: skip


def _stopped_at_once(lit: Lit, rows: I32) -> str:
    """The object that stops most shadow rays of some texels where they start, empty where few are."""
    at, _, row = starts(lit, lit.samples.among(rows))
    found: list[np.ndarray] = []
    tried = 0
    for light in lit.scene.lights:
        sun = light.kind == "directional"
        toward = -np.asarray(light.direction) if sun else np.asarray(light.position) - lit.space.centre - at
        toward = np.broadcast_to(toward, at.shape)
        way = toward / np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-30)
        origins, ways = at.astype(np.float32), way.astype(np.float32)
        hit, far = lit.space.first_hit(origins, ways), lit.space.distances(origins, ways)
        near = (hit >= 0) & (far < AT_ONCE * lit.pitch[rows][row])
        found.append(lit.scene.node[hit[near]])
        tried += len(hit)
    met = np.concatenate(found) if found else np.zeros(0, np.int32)
    return lit.paths(met)[0] if len(met) > 0.1 * tried / max(len(lit.scene.lights), 1) else ""
