"""Denoising by the lightmap filter of the denoise library, chart by chart, held to what noise explains.

Only light that was gathered by rays is filtered: light of lamps has no noise, so its shadows stay as they are. And no
texel changes by more than a few times its own standard error, so where there is no noise, nothing moves, and an edge in
the light stays an edge.

Charts lie far closer on the pages than the filter looks. So each is put on a sheet of its own making: brought to a mean
of one, with its own light mirrored round it, so that what lies beyond tells the filter nothing of other charts. The
sheets hold no empty room either, which is most of what the filter would otherwise work on.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.pack import pack
from ropebell.charts.texels import Texels
from ropebell.errors import BuildError
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask, TexelIndex
from ropebell.light.surface import OpenSamples

# A texel may move by so many of its standard errors: all but a thousandth of honest noise lies within.
MOST_ERRORS = 3.0
# Charts of fewer texels tell the filter next to nothing; they are drawn towards their own mean instead. With their
# margins they would be half of what is filtered, and come out no better.
FEW_TEXELS = 25
# A chart is drawn out by half its lesser side, within these; more was tried and changed nothing.
LEAST_MARGIN, MOST_MARGIN = 2, 4
SHEET = 1024
FILTER = "RTLightmap"


@dataclass(frozen=True, eq=False)
class Layout:
    """Where texels lie, and which of them say something.

    Attributes:
        target: (N,) texel that speaks for each. open: (N,) bool, whether it stands in the open itself.
    """

    texels: Texels
    atlas: Atlas
    target: TexelIndex
    open: Mask

    @staticmethod
    def of(texels: Texels, atlas: Atlas, samples: OpenSamples) -> Layout:
        """By the samples of texels that stand in the open."""
        return Layout(texels, atlas, samples.target, samples.count > 0)


def denoised(
    field: F32, error: F32, layout: Layout, tick: Callable[[float], None], rows: I32 | None = None
) -> F32:  # fmt: skip
    """(N, 3) float32 lux with noise taken out, or (m, 3) of `rows` alone.

    Args:
        field: (N, 3) lux of gathered light, not below zero.
        error: (N, 3), or (m, 3), from `standard_error`.
        rows: (m,) ascending, all texels of some charts, None for all.
        tick: called with the share done, may raise `Stopped`.

    Raises:
        BuildError: the library refuses.
    """
    texels, atlas = layout.texels, layout.atlas
    if not len(texels):
        return field
    rows = np.arange(len(texels), dtype=np.int32) if rows is None else rows
    chart = np.ascontiguousarray(atlas.chart[texels.owner[rows]])
    whole, lit_whole = field[layout.target], layout.open[layout.target]
    field, lit = whole[rows], lit_whole[rows]
    mean = chart_means(field, chart, lit, len(atlas.rects))
    clean = towards_means(field, error, mean, chart, lit)
    sheets = Sheets.of(atlas, chart)
    level = mean @ LUMINANCE
    for number in range(sheets.count):
        tick(number / sheets.count)
        sheet = sheets.drawn(number, whole, lit_whole, level, texels, atlas)
        smooth = _filtered(sheet)
        mine = np.flatnonzero(sheets.sheet[chart] == number)
        its = chart[mine]
        x = texels.column[rows[mine]] - atlas.rects[its, 1] + sheets.x[its] + sheets.margin[its]
        y = texels.row[rows[mine]] - atlas.rects[its, 2] + sheets.y[its] + sheets.margin[its]
        clean[mine] = smooth[y, x] * level[its, None]
    tick(1.0)
    room = MOST_ERRORS * error
    found: F32 = np.maximum(field + np.clip(clean - field, -room, room), 0.0).astype(np.float32)
    return found


def towards_means(field: F32, error: F32, mean: F64, chart: I32, lit: NDArray[np.bool_]) -> F32:
    """(N, 3) float32: each texel drawn to its chart's mean by as much as noise explains their spread.

    The best linear estimate: of a spread V of which e² is noise, the share e²/V is taken away (N. Wiener, 1949).
    """
    spread, noise = (chart_means(x, chart, lit, len(mean)) for x in ((field - mean[chart]) ** 2, error**2))
    share = np.clip(np.divide(noise, spread, out=np.zeros_like(noise), where=spread > 0), 0.0, 1.0)
    drawn: F32 = (field + share[chart] * (mean[chart] - field)).astype(np.float32)
    return drawn


def load_filter() -> None:
    """Load the library, so that the first light that is finished does not wait for it."""
    _filtered(np.ones((16, 16, 3), np.float32))


def _filtered(sheet: F32) -> F32:
    import pyoidn

    try:
        found: F32 = pyoidn.denoise(sheet, hdr=True, filter_type=FILTER)
    except (RuntimeError, ValueError, TypeError) as failure:
        raise BuildError(f"denoising failed ({failure})", "", "Turn finish.denoise off") from failure
    return found


def chart_means(field: F32 | F64, chart: I32, lit: NDArray[np.bool_], charts: int) -> F64:
    """(C, 3) mean of a field over each chart's texels, of those that stand in the open."""
    count = np.maximum(np.bincount(chart, lit, minlength=charts), 1)
    return np.stack([np.bincount(chart, field[:, c] * lit, minlength=charts) / count for c in range(3)], axis=1)


@dataclass(frozen=True, eq=False)
class Sheets:
    """Where each chart lies on the sheets that are filtered.

    Attributes:
        sheet: (C,) int32, −1 for charts of few texels.
        x, y: (C,) int32 corner of its cell. margin: (C,) int32 by which it is drawn out on every side.
        count: number of sheets.
        sizes: (count, 2) int32 width and height that are in use.
    """

    sheet: I32
    x: I32
    y: I32
    margin: I32
    count: int
    sizes: I32

    @staticmethod
    def of(atlas: Atlas, chart: I32) -> Sheets:
        """Room for all charts that are filtered.

        Args:
            chart: of each texel that is.
        """
        texels = np.bincount(chart, minlength=len(atlas.rects))
        margin = np.clip(atlas.rects[:, 3:].min(axis=1) // 2, LEAST_MARGIN, MOST_MARGIN).astype(np.int32)
        cells = atlas.rects[:, 3:] + 2 * margin[:, None]
        rows = np.flatnonzero(texels >= FEW_TEXELS)
        rows = rows[np.lexsort((-cells[rows, 0], -cells[rows, 1]))]
        sheet, x, y = (np.full(len(atlas.rects), -1, np.int32) for _ in range(3))
        if not len(rows):
            return Sheets(sheet, x, y, margin, 0, np.zeros((0, 2), np.int32))
        side = max(SHEET, int(cells[rows].max()))
        places, count, _ = pack(np.ascontiguousarray(cells[rows]), side, 0)
        sheet[rows], x[rows], y[rows] = places.T
        sizes = np.zeros((count, 2), np.int32)
        np.maximum.at(sizes, places[:, 0], places[:, 1:] + cells[rows])
        return Sheets(sheet, x, y, margin, count, sizes)

    def drawn(
        self, number: int, field: F32, lit: NDArray[np.bool_], level: F64, texels: Texels, atlas: Atlas
    ) -> F32:  # fmt: skip
        """(H, W, 3) float32 one sheet, each chart over its level; one where nothing lies.

        Args:
            field: (N, 3). lit: (N,) texels to draw.
            level: (C,) what each chart is divided by; charts of 0 are left at one.
        """
        width, height = self.sizes[number]
        out = np.ones((height, width, 3), np.float32)
        rows = np.flatnonzero((self.sheet == number) & (level > 0.0)).astype(np.int32)
        _draw(rows, self.x, self.y, self.margin, atlas.rects, texels.grid, field, lit, level, out)
        return out


@kernel
def _draw(
    rows: I32, x: I32, y: I32, margin: I32, rects: I32, grid: I32, field: F32,
    lit: Mask, level: F64, out: F32,
) -> None:  # fmt: skip
    """Draw charts; gaps take the nearest texel of their row, or the nearest row, and the margins mirror what is inside,
    which looks like more of the same noise to the filter, where a drawn-out edge would look like streaks."""
    for m in range(len(rows)):
        c = rows[m]
        page, left, top, width, height = rects[c]
        g = margin[c]
        x0, y0 = x[c] + g, y[c] + g
        last_row = -1
        for j in range(height):
            last = -1
            for i in range(width):
                n = grid[page, top + j, left + i]
                if n < 0 or not lit[n]:
                    continue
                for k in range(3):
                    out[y0 + j, x0 + i, k] = field[n, k] / level[c]
                # From the texel before, or the border, up to here: each half from its nearer end.
                for fill in range(last + 1, i):
                    source = i if last < 0 or i - fill <= fill - last else last
                    out[y0 + j, x0 + fill] = out[y0 + j, x0 + source]
                last = i
            if last < 0:
                continue
            for fill in range(last + 1, width):
                out[y0 + j, x0 + fill] = out[y0 + j, x0 + last]
            for fill in range(last_row + 1, j):
                source = j if last_row < 0 or j - fill <= fill - last_row else last_row
                out[y0 + fill, x0 : x0 + width] = out[y0 + source, x0 : x0 + width]
            last_row = j
        if last_row < 0:
            continue
        for fill in range(last_row + 1, height):
            out[y0 + fill, x0 : x0 + width] = out[y0 + last_row, x0 : x0 + width]
        _mirror(out, x0, y0, width, height, g)


@kernel
def _mirror(out: F32, x0: int, y0: int, width: int, height: int, margin: int) -> None:
    """Fill the margin round a rectangle with what is inside."""
    for d in range(margin):
        near, far = min(d, width - 1), max(width - 1 - d, 0)
        out[y0 : y0 + height, x0 - 1 - d] = out[y0 : y0 + height, x0 + near]
        out[y0 : y0 + height, x0 + width + d] = out[y0 : y0 + height, x0 + far]
    left, right = x0 - margin, x0 + width + margin
    for d in range(margin):
        near, far = min(d, height - 1), max(height - 1 - d, 0)
        out[y0 - 1 - d, left:right] = out[y0 + near, left:right]
        out[y0 + height + d, left:right] = out[y0 + far, left:right]
