"""Which texels of two layouts of one level are the same: those of charts that kept their size and coordinates, wherever
on the pages they moved."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import I32


def same_texels(before: Atlas, old: Texels, after: Atlas, new: Texels, faces: I32 | None = None) -> I32:
    """(N,) int32: for each new texel the old one that stands for the very same points, −1 where there is none.

    Args:
        before, old: an earlier layout.
        after, new: the layout of now.
        faces: (T,) the old triangle that each is, −1 for new ones; None: they are the same in the same order.
    """
    found = np.full(len(new), -1, np.int32)
    fits = (faces is not None or len(before.uv) == len(after.uv)) and old.sample_triangle.shape[
        1
    ] == new.sample_triangle.shape[1]
    if fits and len(new) and len(old):
        match = _same_charts(before, after, np.arange(len(after.uv), dtype=np.int32) if faces is None else faces)
        chart = np.ascontiguousarray(after.chart[new.owner])
        _map(match, chart, after.rects, new.column, new.row, before.rects, old.grid, found)
    return found


def _same_charts(before: Atlas, after: Atlas, faces: I32) -> I32:
    """(C,) the old chart that each new one equals, −1 for none."""
    old = np.maximum(faces, 0)
    chart = before.chart[old]
    same = (faces >= 0) & (before.rects[chart, 3:] == after.rects[after.chart, 3:]).all(axis=1)
    same &= (_from_corner(before)[old] == _from_corner(after)).all(axis=(1, 2))
    count = len(after.rects)
    match = np.full(count, -1, np.int32)
    match[after.chart] = np.where(faces >= 0, chart, -1)
    # All triangles of the new chart, and of the old one no others.
    same &= match[after.chart] == chart
    whole = np.ones(count, np.bool_)
    whole[after.chart[~same]] = False
    sizes = np.bincount(after.chart, minlength=count)
    old_sizes = np.bincount(before.chart, minlength=len(before.rects))
    whole &= (match >= 0) & (old_sizes[np.maximum(match, 0)] == sizes)
    return np.where(whole, match, -1).astype(np.int32)


def _from_corner(atlas: Atlas) -> NDArray[np.float32]:
    """(T, 3, 2) texels from the chart's corner: exact, since coordinates come in steps of `atlas.STEPS`."""
    found: NDArray[np.float32] = atlas.uv - atlas.rects[atlas.chart, None, 1:3].astype(np.float32)
    return found


@kernel
def _map(
    match: I32, chart: I32, rects: I32, column: I32, row: I32, old_rects: I32,
    old_grid: I32, found: I32,
) -> None:  # fmt: skip
    for n in range(len(chart)):
        c = chart[n]
        o = match[c]
        if o >= 0:
            x, y = column[n] - rects[c, 1], row[n] - rects[c, 2]
            found[n] = old_grid[old_rects[o, 0], old_rects[o, 2] + y, old_rects[o, 1] + x]
