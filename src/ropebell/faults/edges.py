"""Shadow edges that texels are too wide for, light too bright for the exposure, relief that its light does not show."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.checks.subject import short
from ropebell.faults.after import AFTER, GROWS, LIGHT, Looked
from ropebell.faults.again import spread
from ropebell.faults.lit import WHITE, Lit
from ropebell.faults.patches import finding, large_enough, patches
from ropebell.level.finding import Finding
from ropebell.level.model import F64, LUMINANCE, Mask
from ropebell.sight.walk import EYE

# A shadow's edge, and the angle under which one of its texels must not be seen.
CONTRAST, WIDEST = 0.3, 0.2
# On either side of an edge the light goes on as it was: by the next texel it changes by less than this share of the
# step, and by so many texels on, both sides together, no more than that the same way; or it is the middle of a slope.
FLAT, ON = 0.5, 3
LEAST_EDGE = 3
# Of partly hidden light, three times its error with one shadow ray.
SOFT_NOISE = 1.5
# Stops over white that are clipped, and m² of them.
STOPS, CLIPPED_AREA = 3.0, 0.1
# Light is one-sided if one lamp brings more than this share of it.
ONE_SIDED, RELIEF_AREA = 0.5, 0.1
MOST = 30
# Texels whose light tells what is usual where players look.
MOST_SEEN = 20_000


@AFTER.detector({"blocky-shadow": "Blocky shadow"}, LIGHT)
def blocky_shadows(s: Looked) -> Iterator[Finding]:
    """Shadow edges drawn by texels wider than a fifth of a degree from where players can stand."""
    lit = s.lit
    jump, contrast = _edges(lit)
    rows = np.flatnonzero(jump)
    if not len(rows):
        return
    rows = rows[s.seen.of(rows)]
    far = s.seen.distance(rows)
    far = np.where(np.isfinite(far), far, EYE)
    angle = np.zeros(len(lit))
    angle[rows] = np.degrees(lit.pitch[rows] / np.maximum(far, lit.pitch[rows]))
    wide = rows[angle[rows] > WIDEST]
    for number, patch in enumerate(patches(lit, wide)):
        if number >= MOST or len(patch) < LEAST_EDGE:
            return
        worst = int(patch[np.argmax(angle[patch])])
        metres = float(lit.pitch[patch].sum())
        name = lit.scene.node_names[lit.node[worst]]
        lamp = _whose_edge(lit, patch)
        reason = (
            f"A shadow's edge of {metres:.2g} m"
            + (f" by '{short(lamp)}'" if lamp else "")
            + f" is drawn by texels {angle[worst]:.2g}° wide from where players can stand, at "
            f"{100 * contrast[worst]:.0f} % contrast."
        )
        times = min(float(angle[worst]) / WIDEST, 4.0)
        yield finding(
            lit, "blocky-shadow", "note", patch, worst, reason, "Raise the density here, or make the light softer",
            measure=(float(angle[worst]), "degrees"), also=[lamp] if lamp else [],
            fix=("raise-density", name, f"{times:.3g}"), proved=True,
        )  # fmt: skip


def _edges(lit: Lit) -> tuple[Mask, F64]:
    """(N,) bool: texels in the middle of a step of direct light, and the contrast of the whole light there."""
    found, contrast = np.zeros(len(lit), np.bool_), np.zeros(len(lit))
    light, direct = lit.light.astype(np.float64), lit.direct.astype(np.float64)
    # Where something stands on a texel, what is dark beside it is its foot, and no edge of a shadow.
    clear = lit.open & (lit.samples.count == (lit.texels.sample_triangle >= 0).sum(axis=1))
    lamps_alone = (lit.lamps[lit.samples.target] @ LUMINANCE).astype(np.float64)
    # Light of what has a size is sampled: a step of it has to stand out of its noise.
    doubt = SOFT_NOISE / np.sqrt(lit.settings.direct_samples) * np.maximum(direct - lamps_alone, 0.0)
    for dx, dy in ((1, 0), (0, 1)):
        before, after = lit.beside(-dx, -dy), lit.beside(dx, dy)
        outer, further = lit.beside(-2 * dx, -2 * dy), lit.beside(2 * dx, 2 * dy)
        known = (before >= 0) & (after >= 0) & clear & clear[before] & clear[after]
        b, a = np.maximum(before, 0), np.maximum(after, 0)
        step = light[a] - light[b]
        size = np.abs(step)
        share = size / np.maximum(np.maximum(light[a], light[b]), 1e-30)
        lamps = np.abs(direct[a] - direct[b]) >= 0.8 * size
        lamps &= size > np.hypot(doubt[a], doubt[b])
        goes_on, slope = np.zeros(len(lit)), np.zeros(len(lit))
        for way, one, other in ((-1, outer, b), (1, further, a)):
            goes_on = np.maximum(goes_on, np.where(one >= 0, np.abs(light[np.maximum(one, 0)] - light[other]), 0.0))
            far = lit.beside(way * (1 + ON) * dx, way * (1 + ON) * dy)
            more = way * np.sign(step) * (light[np.maximum(far, 0)] - light[other])
            slope += np.where(far >= 0, np.maximum(more, 0.0), 0.0)
        bright = np.maximum(light[a], light[b]) > 0.05 * lit.usual
        here = known & lamps & bright & (share > CONTRAST) & (np.maximum(goes_on, slope) < FLAT * size)
        found |= here
        contrast = np.where(here, np.maximum(contrast, share), contrast)
    return found, contrast


def _whose_edge(lit: Lit, patch: np.ndarray) -> str:
    """The light that changes most across some texels."""
    best, name = 0.0, ""
    for light, field in lit.by_light.items():
        change = 0.0
        for dx, dy in ((1, 0), (0, 1)):
            other = lit.beside(dx, dy)[patch]
            change += float(np.abs(field[patch] - field[np.maximum(other, 0)])[other >= 0].sum())
        if change > best:
            best, name = change, light
    return name


@AFTER.detector({"clipped": "Brighter than the picture"}, GROWS)
def clipped(s: Looked) -> Iterator[Finding]:
    """What is more than 3 stops over white at the exposure that is kept."""
    lit = s.lit
    white = _white(s)
    limit = 2.0**STOPS * white
    rows = np.flatnonzero(lit.counts & (lit.light > limit)) if white > 0 else np.zeros(0, np.int64)
    if not len(rows):
        return
    rows = rows[s.seen.of(rows)]
    for number, patch in enumerate(patches(lit, rows)):
        if number >= MOST or not large_enough(lit, patch, CLIPPED_AREA):
            return
        worst = int(patch[np.argmax(lit.light[patch])])
        stops = float(np.log2(lit.light[worst] / white))
        shares = {name: float(field[patch].mean()) for name, field in lit.by_light.items()}
        name = max(shares, key=lambda key: shares[key], default="")
        # Light is a sum: what is left without a lamp's direct light is known exactly.
        left = lit.light[patch] - lit.by_light[name][patch] if name else lit.light[patch]
        proved = bool((left <= limit).mean() > 0.9)
        kept = "the exposure that is kept" if lit.subject.brief.white > 0 else "an exposure for what players mostly see"
        reason = (
            f"{float(lit.area[patch].sum()):.2g} m² get up to {lit.light[worst]:.3g} lux, {stops:.1f} stops over white "
            f"at {kept}" + (f": '{short(name)}' gives most of it." if name else ".")
        )
        yield finding(
            lit, "clipped", "warning", patch, worst, reason, "Dim it, or move it away",
            measure=(stops, "stops"), also=[name] if name else [], proved=proved, fix=_dimmed(lit, name, stops),
        )  # fmt: skip


def _dimmed(lit: Lit, name: str, stops: float) -> tuple[str, ...]:
    """To bring a lamp's spot down to what is not clipped any more; emitters are left to their tables."""
    for light in lit.scene.lights:
        if light.name == name and light.intensity > 0:
            return "dim", name, f"{light.intensity * 2.0 ** (STOPS - 0.5 - stops):.4g}"
    return ()


def _white(s: Looked) -> float:
    """Lux that are white: the exposure that is kept, else `WHITE` times the median light of what players see."""
    lit = s.lit
    if lit.subject.brief.white > 0 or lit.eyes is None:
        return lit.white
    rows = np.flatnonzero(lit.counts & (lit.light > 0))
    seen = spread(rows, MOST_SEEN)
    seen = seen[s.seen.of(seen)]
    if not len(seen):
        return lit.white
    # By area: texels of a fine density are not more of what one sees.
    order = np.argsort(lit.light[seen])
    running = np.cumsum(lit.area[seen][order])
    median = float(lit.light[seen][order][np.searchsorted(running, running[-1] / 2)])
    return WHITE * median


@AFTER.detector({"relief-lost": "Relief lost"}, LIGHT)
def relief_lost(s: Looked) -> Iterator[Finding]:
    """Surfaces with a relief picture that are lit from one side, in a build that does not say from where."""
    lit = s.lit
    relief = np.array([m.relief for m in lit.scene.materials], np.bool_)
    if lit.settings.directional or not relief.any() or not len(lit):
        return
    rows = np.flatnonzero(lit.open & relief[lit.scene.material[lit.texels.owner]])
    if not len(rows) or not lit.by_light:
        return
    names = [name for name in lit.by_light if name != "sky"]
    if not names:
        return
    strongest = np.stack([lit.by_light[name][rows] for name in names])
    share = strongest.max(axis=0) / np.maximum(lit.light[rows], 1e-30)
    one_sided = rows[share > ONE_SIDED]
    if not len(one_sided):
        return
    one_sided = one_sided[s.seen.of(one_sided)]
    shares = np.zeros(len(lit))
    shares[rows] = share
    of = dict(zip(rows.tolist(), strongest.argmax(axis=0).tolist()))
    for node in np.unique(lit.node[one_sided]):
        patch = one_sided[lit.node[one_sided] == node]
        if not large_enough(lit, patch, RELIEF_AREA):
            continue
        worst = int(patch[np.argmax(shares[patch])])
        name = names[of[worst]]
        reason = (
            f"It has a relief picture and takes {100 * shares[worst]:.0f} % of its light from '{short(name)}', but the "
            f"build does not say from where light comes, so the relief shows flat."
        )
        yield finding(
            lit, "relief-lost", "note", patch, worst, reason, "Turn output.directional on",
            measure=(float(shares[worst]), "share"), also=[name], proved=True,
            fix=("set", "output.directional", "true"),
        )  # fmt: skip
