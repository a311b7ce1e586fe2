"""Light that reaches a surface only because a texel, or the interpolation of two, lies on both sides of a thin wall."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ropebell.checks.remedies import RAISE_DENSITY, Fix
from ropebell.checks.subject import listed, short
from ropebell.checks.walls import thicker
from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.again import Again
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding, patches
from ropebell.faults.ways import starts
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64, I32, I64, Mask

# Texels of which a neighbour is so much lighter or darker are looked at.
CONTRAST = 1.25
# What stands between is met this high above the surface, in widths of a texel: a wall, and no skirting board.
HEIGHTS = (0.3, 1.0)
# Light that is too much by this share of what is there, and by so many times the noise of both.
TOO_MUCH, ERRORS = 0.1, 3.0
# A wall is at least so many texels long; what is narrower only casts a shadow that the texel is too wide for.
LEAST_TEXELS = 3
INSIDE = 0.25
# Rays of a spot that is looked at anew, in passes: ten times as many points as a texel of a final build has.
RAYS = 512
MOST_TRIED, MOST_LOOKED = 40_000, 600
# Faces that go on into each other within this are one surface: cosine of the angle.
SMOOTH = 0.94
MOST = 30


@dataclass(frozen=True, eq=False)
class Parted:
    """Texels with something thin on them.

    Attributes:
        row: (m,) texel. side: (m, S) bool, its open samples on the side of the first. wall: (m,) triangle in between.
    """

    row: I32
    side: Mask
    wall: I32


@AFTER.detector({"light-leak": "Light leak"}, LIGHT)
def light_leaks(s: Looked) -> Iterator[Finding]:
    """Spots where light comes round something thinner than a texel."""
    lit = s.lit
    rows = _beside_other_light(lit)
    parted = _parted(lit, rows)
    excess, own, place = np.zeros(len(lit)), np.zeros(len(lit)), lit.places.copy()
    wall = np.full(len(lit), -1, np.int32)
    _straddling(s, parted, excess, own, place, wall)
    _across(s, rows, excess, own, wall)
    flagged = np.flatnonzero(excess > 0)
    if not len(flagged):
        return
    flagged = flagged[s.seen.spots(place[flagged], flagged)]
    told = 0
    for patch in patches(lit, flagged):
        if len(patch) < LEAST_TEXELS or told >= MOST:
            continue
        told += 1
        worst = int(patch[np.argmax(excess[patch])])
        walls = lit.paths(np.where(wall[patch] >= 0, lit.scene.node[np.maximum(wall[patch], 0)], -1))
        width = float(np.median(lit.pitch[patch]))
        name = lit.scene.node_names[lit.node[worst]]
        wanted = 1.0 / (3.0 * _thickness(lit, patch, wall))
        times = max(wanted * width, 2.0)
        reason = (
            f"Up to {excess[worst]:.3g} lux too much along '{listed([short(w) for w in walls]) or name}': a texel here "
            f"is {1e3 * width:.3g} mm wide and lies on both of its sides; from points on its own side it gets "
            f"{own[worst]:.3g} lux."
        )
        yield finding(
            lit, "light-leak", "warning", patch, worst, reason, "Raise the density here, or make the wall thicker",
            measure=(float(excess[worst]), "lux"), also=walls, proved=True, place=place[worst],
            fix=RAISE_DENSITY.of(name, f"{min(times, 8.0):.3g}"),
            others=_thicker(lit, patch, wall[patch], _thickness(lit, patch, wall)),
        )  # fmt: skip


def _thicker(lit: Lit, patch: I64, walls: I32, thick: float) -> list[Fix]:
    """The remedy that makes a wall between thicker, if one of them is a slab.

    Args:
        patch: (m,) texels. walls: (m,) triangle between, −1 for none. thick: metres.
    """
    between = np.unique(lit.scene.node[walls[walls >= 0]]).tolist()
    level, texel = lit.subject.level, float(np.median(lit.pitch[patch]))
    return [fix for node in between for fix in thicker(level, node, thick, texel)][:1]


def _beside_other_light(lit: Lit) -> I32:
    """(m,) open texels of which a neighbour is much lighter or darker."""
    low, high = lit.light.astype(np.float64), lit.light.astype(np.float64)
    for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (-1, -1), (1, -1), (-1, 1)):
        other = lit.beside(dx, dy)
        known = other >= 0
        value = np.where(known, lit.light[np.maximum(other, 0)], lit.light)
        low, high = np.minimum(low, value), np.maximum(high, value)
    odd = lit.open & (high > CONTRAST * low) & (high > 0.01 * lit.usual)
    rows = np.flatnonzero(odd).astype(np.int32)
    if len(rows) > MOST_TRIED:
        # The starkest first; by their ratio, or the sun outside would speak for all.
        stark = (low / np.maximum(high, 1e-30))[rows]
        rows = np.sort(rows[np.argsort(stark, kind="stable")[:MOST_TRIED]])
    return rows


def _parted(lit: Lit, rows: I32) -> Parted:
    """Of some texels those that something stands on, which parts their samples."""
    samples = lit.samples.among(rows)
    at, _, row = starts(lit, samples)
    first = np.searchsorted(row, np.arange(len(rows)))
    used = np.arange(samples.triangle.shape[1]) < samples.count[:, None]
    face = lit.surface.faces[samples.triangle[used]].astype(np.float64)
    normal = face[first][row]
    pitch = lit.pitch[rows][row]
    cut, wall = _walled(lit, at[first][row], at, normal, pitch)
    # A texel round a corner has samples that do not see each other anyway.
    cut &= np.einsum("ij,ij->i", face, normal) > SMOOTH
    column = np.arange(len(row)) - first[row]
    side = np.ones(samples.triangle.shape, np.bool_)
    side[row[cut], column[cut]] = False
    parted = (~side & used).any(axis=1)
    walls = np.full(len(rows), -1, np.int32)
    walls[row[cut]] = wall[cut]
    return Parted(rows[parted], side[parted], walls[parted])


def _walled(lit: Lit, a: F64, b: F64, normal: F64, pitch: F64) -> tuple[Mask, I32]:
    """Whether something stands between points of one surface, as high as a texel is wide, and what it is."""
    apart = np.linalg.norm(b - a, axis=1)
    cut = apart > 1e-6 * pitch
    wall = np.full(len(a), -1, np.int32)
    for height in HEIGHTS:
        rows = np.flatnonzero(cut)
        if not len(rows):
            break
        up = normal[rows] * (height * pitch[rows])[:, None]
        origin, way = (a[rows] + up).astype(np.float32), (b[rows] - a[rows]).astype(np.float32)
        # Few have anything in between, which a shadow query tells sooner.
        some = lit.space.blocked_by(origin, way, np.ones(len(rows), np.float32), lit.settings.workers)
        cut[rows[~some]] = False
        rows, origin, way, up = rows[some], origin[some], way[some], up[some]
        hit, there = _front(lit, origin, way)
        # From either side one looks at its outside: what starts inside something is no other side.
        _, back = _front(lit, (b[rows] + up).astype(np.float32), -way)
        cut[rows[~(there & back)]] = False
        wall[rows] = hit
    return cut, wall


def _front(lit: Lit, origin: F32, way: F32) -> tuple[I32, Mask]:
    """What rays meet, and whether that lies within their length and shows them its front."""
    hit, far = lit.space.first_hit(origin, way), lit.space.distances(origin, way)
    facing = np.einsum("ij,ij->i", way, lit.surface.faces[hit]) < 0
    return hit, (hit >= 0) & (far < 1.0) & (facing | lit.surface.two_sided[hit])


def from_own_side(lit: Lit, again: Again, rows: I32) -> tuple[I64, F32, F32]:
    """Of some texels those that lie on both sides of something: (m,) which, (m, 3) lux of all their points, and of
    those on the darker side alone."""
    parted = _parted(lit, rows)
    if not len(parted.row):
        return np.zeros(0, np.int64), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32)
    one, other = (lit.samples.among(parted.row).chosen(which) for which in (parted.side, ~parted.side))
    a, b = (again.of(None, samples=part, rays=RAYS) for part in (one, other))
    share = (one.count / np.maximum(one.count + other.count, 1)).astype(np.float32)[:, None]
    darker = np.where((a.value <= b.value)[:, None], a.light, b.light)
    return parted.row.astype(np.int64), share * a.light + (1.0 - share) * b.light, darker


def _straddling(s: Looked, parted: Parted, excess: F64, own: F64, place: F64, wall: I32) -> None:
    """Texels whose samples lie on both sides: what the darker side alone would get."""
    lit = s.lit
    order = np.argsort(-lit.light[parted.row], kind="stable")[:MOST_LOOKED]
    row, side, walls = parted.row[order], parted.side[order], parted.wall[order]
    if not len(row):
        return
    one, other = (lit.samples.among(row).chosen(which) for which in (side, ~side))
    a, b = (s.again.of(None, samples=part, rays=RAYS) for part in (one, other))
    light_a, light_b = a.value.astype(np.float64), b.value.astype(np.float64)
    darker = np.where(light_a <= light_b, light_a, light_b)
    whole = (light_a * one.count + light_b * other.count) / np.maximum(one.count + other.count, 1)
    too_much = whole - darker
    a_darker = light_a <= light_b
    beside = np.full(len(row), -np.inf)
    for mine, part in ((a_darker, one), (~a_darker, other)):
        at, _, which = starts(lit, part)
        middle = np.zeros((len(row), 3))
        np.add.at(middle, which, at)
        middle = middle / np.maximum(part.count, 1)[:, None] + lit.space.centre
        place[row[mine]] = middle[mine]
        beside[mine] = _on_that_side(lit, row[mine], middle[mine], row)
    too_much = np.minimum(too_much, whole - beside)
    leak = (too_much > ERRORS * _error(lit, row)) & (too_much > TOO_MUCH * whole)
    # What sees backs of faces is no side, but the inside of something.
    leak &= (a.behind < INSIDE) & (b.behind < INSIDE)
    excess[row[leak]], own[row[leak]] = too_much[leak], darker[leak]
    wall[row[leak]] = walls[leak]


def _on_that_side(lit: Lit, rows: I32 | I64, spots: F64, parted: I32 | I64) -> F64:
    """(m,) median light of the texels round some spots that nothing parts from them, themselves not parted; nothing
    where there are none.

    Where these are as light as the texel, it is dark only close by what stands there, as in the shade of its foot.
    """
    found = np.full((len(rows), 8), np.nan)
    odd = np.zeros(len(lit), np.bool_)
    odd[parted] = True
    steps = ((1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (-1, -1), (1, -1), (-1, 1))
    for number, (dx, dy) in enumerate(steps):
        other = lit.beside(dx, dy)[rows]
        known = np.flatnonzero((other >= 0) & lit.open[other] & ~odd[other])
        if not len(known):
            continue
        a, b = spots[known] - lit.space.centre, lit.places[other[known]] - lit.space.centre
        cut, _ = _walled(lit, a, b, lit.normals[rows[known]], lit.pitch[rows[known]])
        known = known[~cut]
        found[known, number] = lit.light[other[known]]
    out = np.full(len(rows), -np.inf)
    some = ~np.isnan(found).all(axis=1)
    out[some] = np.nanmedian(found[some], axis=1)
    return out


def _across(s: Looked, rows: I32, excess: F64, own: F64, wall: I32) -> None:
    """Neighbours with something thinner than a texel between: interpolation carries half of what they differ by to the
    foot of the darker side."""
    lit = s.lit
    counted = np.zeros(len(lit), np.bool_)
    counted[rows] = True
    for dx, dy in ((1, 0), (0, 1)):
        other = lit.beside(dx, dy)
        i = np.flatnonzero(counted & (other >= 0)).astype(np.int64)
        j = other[i].astype(np.int64)
        kept = lit.open[j] & (np.einsum("ij,ij->i", lit.normals[i], lit.normals[j]) > SMOOTH)
        i, j = i[kept], j[kept]
        half = 0.5 * np.abs(lit.light[i].astype(np.float64) - lit.light[j])
        darkest = np.minimum(lit.light[i], lit.light[j])
        stark = half > TOO_MUCH * (darkest + half)
        i, j = i[stark], j[stark]
        thin, met = thin_between(lit, i, j)
        i, j, met = i[thin], j[thin], met[thin]
        ratio = np.minimum(lit.light[i], lit.light[j]) / np.maximum(lit.light[i], lit.light[j])
        starkest = np.argsort(ratio, kind="stable")[:MOST_LOOKED]
        i, j, met = i[starkest], j[starkest], met[starkest]
        if not len(i):
            continue
        here, there = (s.again.of(rows, rays=RAYS) for rows in (i, j))
        a, b = here.value.astype(np.float64), there.value.astype(np.float64)
        half, darkest = 0.5 * np.abs(a - b), np.minimum(a, b)
        d = np.where(a < b, i, j)
        leak = (half > ERRORS * _error(lit, d)) & (half > TOO_MUCH * (darkest + half)) & (half > excess[d])
        beside = _on_that_side(lit, d, lit.places[d], np.concatenate([i, j]))
        leak &= darkest + 2 * half - beside > half
        leak &= (here.behind < INSIDE) & (there.behind < INSIDE)
        excess[d[leak]], own[d[leak]], wall[d[leak]] = half[leak], darkest[leak], met[leak]


def _error(lit: Lit, rows: I64 | I32) -> F64:
    """(m,) lux by which the light of two sides, gathered anew, may differ by chance."""
    finer = np.sqrt(lit.settings.gather_rays / max(RAYS, lit.settings.gather_rays))
    found: F64 = np.sqrt(2.0) * finer * lit.told_noise[rows].astype(np.float64) * lit.raw[rows]
    return found


def thin_between(lit: Lit, i: I64, j: I64) -> tuple[Mask, I32]:
    """Whether what stands between two texels is thinner than a texel, and what it is."""
    normal, pitch = lit.normals[i], lit.pitch[i]
    cut, met = _walled(lit, lit.places[i] - lit.space.centre, lit.places[j] - lit.space.centre, normal, pitch)
    return cut & (_between(lit, i, j) < pitch), met


def _between(lit: Lit, i: I64, j: I64) -> F64:
    """Metres of solid between two texels, half a texel above them."""
    up = lit.normals[i] * (HEIGHTS[0] * lit.pitch[i])[:, None] - lit.space.centre
    a, b = lit.places[i] + up, lit.places[j] + up
    way = b - a
    there = lit.space.distances(a.astype(np.float32), way.astype(np.float32)).astype(np.float64)
    back = lit.space.distances(b.astype(np.float32), (-way).astype(np.float32)).astype(np.float64)
    share = np.clip(1.0 - np.minimum(there, 1.0) - np.minimum(back, 1.0), 0.0, 1.0)
    found: F64 = share * np.linalg.norm(way, axis=1)
    return found


def _thickness(lit: Lit, patch: I64, wall: F32 | I32) -> float:
    """Metres of the walls of a patch: the smallest that lies between two of the pieces they are of."""
    welded = lit.subject.welded
    pieces = np.unique(welded.piece[wall[patch][wall[patch] >= 0]])
    if not len(pieces):
        return float(np.median(lit.pitch[patch]))
    size = welded.high[pieces] - welded.low[pieces]
    closed = welded.closed[pieces]
    flat = 2 * np.abs(welded.volume[pieces]) / np.maximum(welded.area[pieces], 1e-30)
    thin = np.where(closed, flat, np.maximum(size.min(axis=1), 1e-3 * size.max(axis=1)))
    return float(max(thin.min(), 1e-2 * np.median(lit.pitch[patch])))
