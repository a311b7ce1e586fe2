"""The proof of a fault, to be seen: its texels as they were built, and computed again with the suspected cause taken
away and nothing else."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.account.between_texels import FINER, read_between
from ropebell.checks.subject import listed, short
from ropebell.faults.again import Again
from ropebell.faults.leaks import from_own_side, thin_between
from ropebell.faults.lit import Lit
from ropebell.faults.ways import samples_of
from ropebell.level.finding import Finding
from ropebell.level.model import F32, I64, LUMINANCE, Mask

# Texels of a page that are looked at, along each side; rays of one that is computed again for its noise.
SIDE, MANY = 28, 4096
Found = tuple[str, I64, F32, F32]
"""In words what is otherwise, (m,) texels, and (m, 3) lux of them as they are and then."""


@dataclass(frozen=True, eq=False)
class Proof:
    """A piece of a page, twice.

    Attributes:
        what: is otherwise in the second, in words. before, after: (H, W, 3) float32 lux, NaN where no texel is.
        at: row and column of the fault's worst texel. changed: (H, W) bool, where it is another.
    """

    what: str
    before: F32
    after: F32
    at: tuple[int, int]
    changed: Mask

    @property
    def values(self) -> tuple[float, float]:
        """Lux, luminance, of the worst texel before and after."""
        before, after = (float(x[self.at] @ LUMINANCE) for x in (self.before, self.after))
        return before, after


def proof_of(lit: Lit, finding: Finding) -> Proof | None:
    """The proof of a finding, where taking its cause away can be computed on the spot; None where it cannot.

    Args:
        lit: looked through for faults.
    """
    rows = _texels(lit, finding)
    if not len(rows):
        return None
    worst = int(rows[np.linalg.norm(lit.places[rows] - np.array(finding.place), axis=1).argmin()])
    window = _window(lit, worst)
    mine = np.intersect1d(rows, window[window >= 0])
    found = next((f for f in (how(lit, finding, mine) for how in WAYS) if f is not None), None)
    if found is None:
        return _carried(lit, window, worst) if finding.kind == "light-leak" else None
    what, texels, as_is, then = found
    held, number = window >= 0, np.maximum(window, 0)
    pictures = []
    for value in (as_is, then):
        light = lit.total[lit.samples.target].astype(np.float32)
        light[texels] = value
        pictures.append(np.where(held[..., None], light[number], np.float32(np.nan)))
    row, column = np.argwhere(window == worst)[0]
    changed = held & np.isin(window, texels)
    return Proof(what, pictures[0], pictures[1], (int(row), int(column)), changed)


def _texels(lit: Lit, finding: Finding) -> I64:
    """Texels that show a finding: of those found in this build the one that it is, or is nearest to."""
    if finding.place is None or finding.page is None:
        return np.zeros(0, np.int64)
    alike = [(f, rows) for f, rows in lit.shown if (f.kind, f.object) == (finding.kind, finding.object) and f.place]
    if not alike:
        return np.zeros(0, np.int64)
    return min(alike, key=lambda pair: math.dist(pair[0].place or (), finding.place or ()))[1]


def _window(lit: Lit, worst: int) -> I64:
    """(H, W) texels of a page round one, of its own chart, −1 where there is none; no more than the chart needs."""
    t = lit.texels
    height, width = t.grid.shape[1:]
    row, column = (
        int(np.clip(v - SIDE // 2, 0, max(n - SIDE, 0)))
        for v, n in ((int(t.row[worst]), height), (int(t.column[worst]), width))
    )
    found: I64 = t.grid[t.page[worst], row : row + SIDE, column : column + SIDE].astype(np.int64)
    found[lit.chart[np.maximum(found, 0)] != lit.chart[worst]] = -1
    rows, columns = (np.flatnonzero((found >= 0).any(axis=axis)) for axis in (1, 0))
    return found[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]


def _turned(lit: Lit, finding: Finding, rows: I64) -> Found | None:
    """Inside out, or buried: from the other side of its faces."""
    if finding.kind != "black-patch" or finding.fix[:1] != ("turn-faces",):
        return None
    samples = samples_of(lit, rows.astype(np.int32))
    again = Again(lit)
    as_is, then = (again.of(None, samples=samples, flipped=flipped).light for flipped in (False, True))
    return "from its other side", rows, as_is, then


def _without_blockers(lit: Lit, finding: Finding, rows: I64) -> Found | None:
    """Dark because something stands in the way of all light: without that."""
    names = {name: n for n, name in enumerate(lit.scene.node_names)}
    blockers = frozenset(names[path] for path in finding.also if path in names)
    if finding.kind != "black-patch" or not finding.proved or not blockers:
        return None
    again, samples = Again(lit), samples_of(lit, rows.astype(np.int32))
    as_is, then = (again.of(None, samples=samples, without=gone).light for gone in (frozenset[int](), blockers))
    what = f"without the shadow of {listed([short(path) for path in finding.also if path in names])}"
    return what, rows, as_is, then


def _own_side(lit: Lit, finding: Finding, rows: I64) -> Found | None:
    """A leak: from points on the dark side alone."""
    if finding.kind != "light-leak":
        return None
    texels, as_is, then = from_own_side(lit, Again(lit), rows.astype(np.int32))
    return ("from its own side", texels, as_is, then) if len(texels) else None


def _without_lamp(lit: Lit, finding: Finding, rows: I64) -> Found | None:
    """Too bright: without what gives most; light is a sum."""
    if finding.kind != "clipped" or not finding.also or finding.also[0] not in lit.by_light:
        return None
    as_is = lit.total[lit.samples.target[rows]].astype(np.float32)
    left = 1.0 - lit.by_light[finding.also[0]][rows] / np.maximum(as_is @ LUMINANCE.astype(np.float32), 1e-30)
    return f"without {short(finding.also[0])}", rows, as_is, as_is * np.maximum(left, 0.0)[:, None]


def _more_rays(lit: Lit, finding: Finding, rows: I64) -> Found | None:
    """Noise, or what a filter made of it: with so many rays that there is none."""
    mine = rows[lit.samples.count[rows] > 0]
    if finding.kind not in ("noise", "blotch") or not len(mine):
        return None
    as_is = lit.total[lit.samples.target[mine]].astype(np.float32)
    return f"with {MANY:,} rays", mine, as_is, Again(lit).of(mine, rays=MANY).light


def _carried(lit: Lit, window: I64, worst: int) -> Proof | None:
    """A leak between texels, none of which is to blame: as a game reads the page, between its texels, and as it would
    if nothing were carried past what stands between two of them."""
    held, number = window >= 0, np.maximum(window, 0)
    light = lit.total[lit.samples.target].astype(np.float64)[number]
    right, down = (_parted(lit, a, b) for a, b in ((window[:, :-1], window[:, 1:]), (window[:-1], window[1:])))
    before, after = read_between(light, held, right, down)
    gone = np.nan_to_num((before - after) @ LUMINANCE)
    row_, column_ = np.argwhere(window == worst)[0]
    # Where most was carried to, in or beside the worst texel.
    near = np.zeros(gone.shape, np.bool_)
    near[max((row_ - 1) * FINER, 0) : (row_ + 2) * FINER, max((column_ - 1) * FINER, 0) : (column_ + 2) * FINER] = True
    y, x = np.unravel_index(int(np.where(near, gone, -np.inf).argmax()), gone.shape)
    if gone[y, x] <= 0:
        return None
    return Proof("not carried past it", before, after, (int(y), int(x)), np.abs(gone) > 1e-3 * float(gone.max()))


def _parted(lit: Lit, a: I64, b: I64) -> Mask:
    """Whether something thinner than a texel stands between texels and their neighbours."""
    found = np.zeros(a.shape, np.bool_)
    both = (a >= 0) & (b >= 0)
    if both.any():
        found[both] = thin_between(lit, a[both], b[both])[0]
    return found


WAYS: tuple[Callable[[Lit, Finding, I64], Found | None], ...] = (
    _turned, _without_blockers, _own_side, _without_lamp, _more_rays,
)  # fmt: skip
