"""What is black where its surroundings are lit, and what glows to the eye but gives nothing."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.remedies import CAST_NO_SHADOW, MARK_MOVING, TAKE_NO_SHADOW, Fix
from ropebell.checks.shapes import turned_pieces
from ropebell.checks.subject import listed, short
from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.again import spread
from ropebell.faults.behind import back_faces
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding, patches
from ropebell.faults.ways import Way, samples_of, ways
from ropebell.kernel import kernel
from ropebell.level.emitter_table import looks_lit
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask
from ropebell.light.lookup import BACK, NONE

# Less than this share of what the surfaces in sight get in the median is black.
BLACK = 0.02
LEAST_TEXELS, LEAST_AREA = 8, 0.05
# Of a texel's rays, at least this share must meet surfaces for these to say how light it is round here.
TELLING = 0.05
# A spot whose rays mostly meet backs of faces lies inside something.
INSIDE = 0.5
# Rays that tell how light it is in sight of a texel.
RAYS = 48
# Texels of a patch that a proof computes again, and their rays.
PROVED_ON, PROVED_RAYS = 24, 256
# Of a chart, so many texels tell whether its front is hidden.
LOOKED_FIRST = 24
# Told one by one; of the rest, the largest are.
MOST = 40
# An emitter gives too little if it is less than this share of the light within this many metres.
DULL, AROUND = 0.01, 2.0
# So far along the way to a glowing surface a ray does not meet that surface itself.
SHORT_OF = 0.98
# What is lit less than this share of what is usual in the level is dark, and no measure of what is black beside it.
LIT = 1e-3


@AFTER.detector({"black-patch": "Black patch"}, LIGHT)
def black_patches(s: Looked) -> Iterator[Finding]:
    """Patches that get under 2 % of what the surfaces in sight of them get in the median."""
    lit = s.lit
    most = float(lit.light[lit.counts].max(initial=0.0))
    rows = np.flatnonzero(lit.counts & (lit.light <= BLACK * most)).astype(np.int32)
    if not len(rows) or most <= 0:
        return
    around, telling = _in_sight(lit.hits.table, rows, lit.light[rows], RAYS, lit.light, LIT * lit.usual)
    dark = (lit.samples.count[rows] > 0) & (telling >= TELLING) & (lit.light[rows] < BLACK * around)
    front = np.zeros(len(lit), np.bool_)
    front[rows[dark]] = True
    expected = np.zeros(len(lit))
    expected[rows[dark]] = around[dark]
    turned = _from_behind(s, rows[~dark], expected)
    front[front] = s.seen.of(np.flatnonzero(front))
    told = 0
    for from_front, flagged in ((False, turned), (True, front)):
        for patch in patches(lit, np.flatnonzero(flagged)):
            if len(patch) < LEAST_TEXELS and float(lit.area[patch].sum()) < LEAST_AREA:
                continue
            told += 1
            if told > MOST:
                return
            yield _of_front(s, patch, expected) if from_front else _of_back(s, patch, expected)


@kernel
def _in_sight(table: I32, rows: I32, own: F32, most: int, light: F32, least: float) -> tuple[F64, F64]:
    """(m,) median light of the surfaces that each texel's rays meet, and the share of its rays that meet any; none
    where the median is under `least` lux, or so low that the texel is not black beside it."""
    around, telling = np.zeros(len(rows)), np.zeros(len(rows))
    rays = min(most, table.shape[1])
    met = np.empty(rays, np.float32)
    for m in range(len(rows)):
        n, counted, lighter = 0, 0, 0
        for k in range(rays):
            h = table[rows[m], k]
            counted += h != NONE
            if h >= 0:
                met[n] = light[h]
                lighter += own[m] < BLACK * met[n]
                n += 1
        # Finding a median takes longer than all else here.
        if n and 2 * lighter >= n:
            around[m] = np.median(met[:n])
            telling[m] = n / counted if around[m] >= least else 0.0
    return around, telling


@kernel
def _behind(table: I32, rows: I32, most: int) -> F64:
    """(m,) share of each texel's rays that meet backs of faces."""
    found = np.zeros(len(rows))
    for m in range(len(rows)):
        counted, backs = 0, 0
        for k in range(min(most, table.shape[1])):
            h = table[rows[m], k]
            counted += h != NONE
            backs += h == BACK
        if counted:
            found[m] = backs / counted
    return found


def _from_behind(s: Looked, rows: I32, expected: F64) -> Mask:
    """(N,) bool: dark texels that are turned inside out, or buried, and whose other side is in the open and lit.

    Args:
        expected: (N,) written: what surfaces in sight of the other side get in the median.
    """
    lit = s.lit
    found = np.zeros(len(lit), np.bool_)
    if not len(rows):
        return found
    enclosed = (lit.samples.count[rows] == 0) | (_behind(lit.hits.table, rows, RAYS) >= INSIDE)
    welded = lit.subject.welded
    turned = turned_pieces(lit.subject)[welded.piece[lit.texels.owner[rows]]]
    one_sided = ~lit.scene.double_sided[lit.texels.owner[rows]]
    rows, sure = rows[one_sided], (turned | enclosed)[one_sided]
    unsure = np.flatnonzero(~sure)
    if lit.eyes is None:
        # Nobody says who looks: what faces something at arm's length of a texel is looked at from its other side.
        sure[unsure] = _pressed(lit, rows[unsure])
    else:
        # Some texels of each chart tell first whether it is worth looking at all of them.
        some = unsure[_rank(lit.chart[rows[unsure]]) < LOOKED_FIRST]
        hidden = ~s.seen.of(rows[some]) & s.seen.of(rows[some], from_behind=True)
        worth = unsure[np.isin(lit.chart[rows[unsure]], lit.chart[rows[some[hidden]]])]
        sure[worth] = ~s.seen.of(rows[worth])
    rows = rows[sure]
    rows = rows[s.seen.of(rows, from_behind=True)]
    if not len(rows):
        return found
    other = s.again.of(None, samples=samples_of(lit, rows), flipped=True, rays=32, lamps=False)
    every = np.arange(len(rows), dtype=np.int32)
    around, telling = _in_sight(other.hits, every, lit.light[rows], other.hits.shape[1], lit.light, LIT * lit.usual)
    black = (other.behind < 0.25) & (telling >= TELLING) & (lit.light[rows] < BLACK * around)
    found[rows[black]] = True
    expected[rows[black]] = around[black]
    return found


def _pressed(lit: Lit, rows: I32) -> Mask:
    """(m,) whether what a texel faces lies within two of its widths."""
    start = (
        lit.places[rows]
        - lit.space.centre
        + lit.normals[rows] * lit.surface.ground.lift[lit.texels.owner[rows]][:, None]
    )
    far = lit.space.distances(start.astype(np.float32), lit.normals[rows].astype(np.float32))
    found: Mask = far < 2.0 * lit.pitch[rows]
    return found


def _rank(owner: I32) -> NDArray[np.int64]:
    """(m,) how many of the same owner stand before each, in a shuffled order that is always the same."""
    shuffled = np.random.default_rng(1).permutation(len(owner))
    order = shuffled[np.argsort(owner[shuffled], kind="stable")]
    rank = np.empty(len(owner), np.int64)
    rank[order] = np.arange(len(owner)) - np.searchsorted(owner[order], owner[order])
    return rank


def _of_back(s: Looked, patch: NDArray[np.int64], expected: F64) -> Finding:
    lit = s.lit
    some = spread(patch, PROVED_ON).astype(np.int32)
    worst = _middle(lit, patch)
    name = lit.scene.node_names[lit.node[worst]]
    other = s.again.of(None, samples=samples_of(lit, some), flipped=True, rays=PROVED_RAYS)
    gained = other.value >= BLACK * expected[some]
    proved = bool(gained.mean() > 0.5)
    met = lit.hits.table[some]
    holders = [name for name, _ in back_faces(lit, some)] if (met == BACK).mean() > INSIDE else []
    if holders and holders[0] != name:
        cause = f"its lit side lies inside '{short(holders[0])}'"
        remedy, also = "Move it out of the solid, or turn its faces round", holders[:1]
    else:
        cause, remedy, also = "it is inside out: its faces look away from where it is seen", "Turn its faces round", []
    reason = f"{_how_dark(lit, patch, expected)}: {cause}."
    return finding(
        lit, "black-patch", "error", patch, worst, reason, remedy, measure=(float(lit.area[patch].sum()), "m²"),
        also=also, proved=proved, fix=("turn-faces", name),
    )  # fmt: skip


def _of_front(s: Looked, patch: NDArray[np.int64], expected: F64) -> Finding:
    lit = s.lit
    some = spread(patch, PROVED_ON).astype(np.int32)
    worst = _middle(lit, patch)
    wanted = BLACK * expected[some]
    to_lights = [w for w in ways(lit, lit.samples.among(some)) if _shines(lit, w.name)]
    head, measure = _how_dark(lit, patch, expected), (float(lit.area[patch].sum()), "m²")

    mine = lit.scene.node_names[lit.node[worst]]

    def told(cause: str, remedy: str, proved: bool, also: list[str], *fixes: Fix) -> Finding:
        severity = "error" if proved else "warning"
        others = [*fixes[1:], TAKE_NO_SHADOW.of(mine)] if also else fixes[1:]
        return finding(
            lit, "black-patch", severity, patch, worst, f"{head}: {cause}.", remedy, measure=measure, also=also,
            proved=proved, fix=fixes[0] if fixes else (), others=others,
        )  # fmt: skip

    for node, share in _blockers(to_lights)[:3]:
        free = s.again.of(some, without=frozenset([node]), rays=PROVED_RAYS)
        if (free.value >= wanted).mean() > 0.5:
            name = lit.scene.node_names[node]
            cause = f"'{short(name)}' keeps the light from it ({100 * share:.0f} % of the ways to lamps in reach)"
            fixes = MARK_MOVING.of(name), CAST_NO_SHADOW.of(name)
            return told(cause, "Move what blocks it, or add a light", True, [name], *fixes)
    # Rays meet all that has bounced as often as the recipe lets it: met once more, that is one bounce more.
    more = s.again.of(some, rays=PROVED_RAYS)
    if (more.value >= wanted).mean() > 0.5:
        cause = f"the light ends after {lit.settings.bounces} bounces, and one more would reach it"
        return told(cause, "Raise light.bounces", True, [], ("set", "light.bounces", str(lit.settings.bounces + 2)))
    names = [lit.scene.node_names[n] for n, _ in _blockers(to_lights)]
    return told(_no_way(to_lights, names), "Add a light here, or let one reach it", False, names[:3])


def _shines(lit: Lit, name: str) -> bool:
    return any(x.name == name and x.strength.any() for x in lit.scene.lights) or any(
        e.name == name and e.radiance.any() for e in lit.scene.emitters
    )


def _blockers(to_lights: list[Way]) -> list[tuple[int, float]]:
    """(node, share of the ways to lights in reach that it is first on), most first."""
    total: dict[int, float] = {}
    near = [w for w in to_lights if w.in_reach and w.facing]
    for way in near:
        for node, share in way.blocked_by:
            total[node] = total.get(node, 0.0) + share / len(near)
    return sorted(total.items(), key=lambda pair: -pair[1])


def _no_way(to_lights: list[Way], blockers: list[str]) -> str:
    """Why no light arrives."""
    if not to_lights:
        return "the level has no light"
    far = [w.name for w in to_lights if not w.in_reach]
    away = [w.name for w in to_lights if w.in_reach and not w.facing]
    blocked = [w.name for w in to_lights if w.in_reach and w.facing and w.open == 0.0]
    parts = []
    if blocked:
        by = f" by {listed([short(b) for b in blockers])}" if blockers else ""
        parts.append(f"{listed([short(n) for n in blocked])} blocked{by}")
    if far:
        parts.append(f"{listed([short(n) for n in far])} out of reach")
    if away:
        parts.append(f"{listed([short(n) for n in away])} behind its face")
    return f"no light has a way here: {'; '.join(parts)}" if parts else "hardly any light has a way here"


def _how_dark(lit: Lit, patch: NDArray[np.int64], expected: F64) -> str:
    mine, around = float(np.median(lit.light[patch])), float(np.median(expected[patch]))
    return f"{float(lit.area[patch].sum()):.2g} m² get {mine:.2g} lux where {around:.3g} lux are usual in sight of it"


def _middle(lit: Lit, patch: NDArray[np.int64]) -> int:
    """The texel of a patch nearest to its middle, of those that are fully covered if there are any."""
    whole = patch[lit.texels.cover[patch] > 0.9]
    patch = whole if len(whole) else patch
    places = lit.places[patch]
    return int(patch[np.argmin(((places - places.mean(axis=0)) ** 2).sum(axis=1))])


def _within_reach(lit: Lit, spots: F64, rows: NDArray[np.int64], around: float) -> NDArray[np.int64]:
    """(k,) of some texels those near some spots that could be lit from there; all that are near, if none could.

    Args:
        spots: (n, 3) metres, on a surface. rows: (m,) texels. around: metres that are near.
    """
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    places, low, high = lit.places[rows], spots.min(axis=0) - around, spots.max(axis=0) + around
    near = np.flatnonzero(((places >= low) & (places <= high)).all(axis=1))
    far, nearest = cKDTree(spots).query(places[near], distance_upper_bound=around)
    within = np.isfinite(far)
    near = near[within]
    # What lies behind a wall is lit by others, and would speak for them: a roof under the sky over a lamp indoors.
    lift = lit.surface.ground.lift[lit.texels.owner[rows[near]]][:, None]
    normals = lit.normals[rows[near]]
    way = spots[nearest[within]] - places[near]
    free = (np.einsum("ij,ij->i", way, normals) > 0) | lit.scene.double_sided[lit.texels.owner[rows[near]]]
    start = (places[near] + normals * lift - lit.space.centre).astype(np.float32)
    free[free] = ~lit.space.blocked_by(
        start[free], way[free].astype(np.float32), np.full(int(free.sum()), SHORT_OF, np.float32), lit.settings.workers
    )  # fmt: skip
    found: NDArray[np.int64] = rows[near[free]] if free.any() else rows[near]
    return found


@AFTER.detector({"dull-emitter": "Glows, but gives no light"}, LIGHT)
def dull_emitters(s: Looked) -> Iterator[Finding]:
    """Surfaces that are seen glowing but give under 1 % of the light within 2 m, or as far as they are wide."""
    lit, scene, level = s.lit, s.lit.scene, s.lit.subject.level
    glowing = np.array([looks_lit(level, m) and not level.materials[m].unlit for m in range(len(level.materials))])
    look = lit.subject.brief.emitters
    for number, material in enumerate(level.materials):
        if material.name in look and look[material.name].look is not None:
            glowing[number] = max(look[material.name].look or (0.0,)) > 0
    shown = glowing[scene.material] if len(glowing) and len(scene) else np.zeros(len(scene), np.bool_)
    if not shown.any() or not lit.counts.any():
        return
    rows = np.flatnonzero(lit.counts & ~shown[lit.texels.owner])
    owner = lit.texels.owner
    for node in np.unique(scene.node[shown]):
        mine = np.flatnonzero(shown[owner] & (lit.node == node) & lit.counts)
        if not len(mine) or not s.seen.of(mine).any():
            continue
        spots = lit.places[spread(mine, 64)]
        low, high = spots.min(axis=0), spots.max(axis=0)
        # What is larger than that shines farther, or nothing but the wall behind it would be asked.
        around = max(AROUND, float(np.linalg.norm(high - low)))
        near = _within_reach(lit, spots, rows[lit.node[rows] != node], around)
        weight = lit.area[near]
        all_light = float((lit.light[near] * weight).sum())
        if not len(near) or all_light <= 0:
            continue
        names = {e.name for e in scene.emitters if (scene.node[e.triangles] == node).any()}
        given = sum(float((lit.by_light[n][near] * weight).sum()) for n in names if n in lit.by_light)
        if given >= DULL * all_light:
            continue
        material = level.materials[int(scene.material[np.flatnonzero(shown & (scene.node == node))[0]])]
        source = lit.subject.emission.get(material.name)
        counted = source is not None and max(source.radiance) > 0 and bool(names)
        cause = (
            f"its strength, {float(np.array(source.radiance) @ LUMINANCE):.3g} cd/m² of '{material.name}', is too low"
            if counted and source is not None
            else f"'{material.name}' is not counted as an emitter"
        )
        reason = (
            f"It is seen glowing but gives {100 * given / all_light:.2g} % of the light within {around:.2g} m: {cause}."
        )
        fix = ("count-emitter", material.name) if not counted else ()
        yield finding(
            lit, "dull-emitter", "warning", mine, int(mine[len(mine) // 2]), reason,
            "Raise its strength" if counted else "Count it as an emitter", measure=(given / all_light, "share"),
            fix=fix, proved=True,
        )  # fmt: skip
