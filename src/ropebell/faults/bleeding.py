"""Texels that show light of another chart, mixed in by mip levels.

Two surfaces never share texels here: coordinates that overlap are not used, and `check` names them.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.charts.mip_levels import padding_for
from ropebell.checks.subject import short
from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding
from ropebell.level.finding import Finding
from ropebell.level.model import F64, I32, I64, LUMINANCE

# Another chart's share of a texel of the mip level, and how far that takes its light off, that are seen.
MIXED, OFF = 0.05, 0.05
ERRORS = 3.0
MOST = 40


@AFTER.detector({"chart-bleed": "Another chart's light"}, LIGHT)
def chart_bleed(s: Looked) -> Iterator[Finding]:
    """Texels that another chart is mixed into at the mip level that is asked for."""
    lit = s.lit
    if lit.pages is None:
        return
    side = 1 << lit.settings.mip
    mixed, change, other = (np.zeros(len(lit)), np.zeros(len(lit)), np.full(len(lit), -1, np.int32))
    for page in range(lit.atlas.written):
        _bleed_of(lit, page, side, mixed, change, other)
    flagged = np.flatnonzero((mixed > MIXED) & (change > np.maximum(OFF, ERRORS * lit.told_noise)) & lit.open)
    if not len(flagged):
        return
    flagged = flagged[s.seen.of(flagged)]
    needed = padding_for(lit.settings.mip)
    for patch in _of_objects(lit, flagged)[:MOST]:
        worst = int(patch[np.argmax(change[patch])])
        names = [lit.scene.node_names[lit.node[other[worst]]]]
        reason = (
            f"At mip level {lit.settings.mip} up to {100 * mixed[worst]:.0f} % of a texel is of '{short(names[0])}', "
            f"which takes its light {100 * change[worst]:.0f} % off: {lit.settings.padding} texels of padding are too "
            f"few."
        )
        yield finding(
            lit, "chart-bleed", "note", patch, worst, reason, f"Raise density.padding to {needed} or more",
            measure=(float(mixed[worst]), "share"), also=names, proved=True,
            fix=("set", "density.padding", str(needed * lit.settings.draft)),
        )  # fmt: skip


def _of_objects(lit: Lit, rows: I64) -> list[I64]:
    """Borders of all charts of an object as one, largest first."""
    groups = [rows[lit.node[rows] == node] for node in np.unique(lit.node[rows])]
    return sorted(groups, key=lambda g: -float(lit.area[g].sum()))


def _bleed_of(lit: Lit, page: int, side: int, mixed: F64, change: F64, other: I32) -> None:
    """Look at one page: share of each texel that is another chart's, how far that takes it off, and whose it is."""
    grid = lit.texels.grid[page]
    height, width = (n - n % side for n in grid.shape)
    rows = np.flatnonzero((lit.texels.page == page) & (lit.texels.column < width) & (lit.texels.row < height))
    assert lit.pages is not None
    shown = lit.pages[page, :height, :width] @ LUMINANCE.astype(np.float32)
    blocks = shown.reshape(height // side, side, width // side, side).mean(axis=(1, 3))
    block = (lit.texels.row[rows] // side) * (width // side) + lit.texels.column[rows] // side
    # One entry for every chart in every block.
    key = block.astype(np.int64) * (len(lit.atlas.rects) + 1) + lit.chart[rows]
    known, first, number, counts = np.unique(key, return_index=True, return_inverse=True, return_counts=True)
    of_block = block[first]
    whole = np.bincount(of_block, counts, minlength=blocks.size)
    foreign = (whole[of_block] - counts) / side**2
    light = lit.light[rows].astype(np.float64)
    own = np.bincount(number, light) / counts
    away = np.abs(blocks.ravel()[of_block] - own) / np.maximum(own, 1e-3 * lit.usual + 1e-30)
    several = np.flatnonzero(foreign > 0)
    if not len(several):
        return
    mixed[rows], change[rows] = foreign[number], away[number]
    # Whose it is: any texel of another chart in the same block.
    starts_at = np.searchsorted(of_block, of_block)
    last = np.searchsorted(of_block, of_block, side="right") - 1
    partner = np.where(np.arange(len(known)) == starts_at, last, starts_at)
    other[rows] = rows[first[partner]][number]
