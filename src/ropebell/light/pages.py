"""Fields over texels as pictures of pages, with free texels filled so that interpolation reads no black."""

from __future__ import annotations

import numpy as np

from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import F32, I32, U8


def to_pages(field: F32, texels: Texels, target: I32, steps: int) -> F32:
    """Spread a field over its pages and dilate it.

    Args:
        field: (N, C) float32.
        target: (N,) texel that speaks for each texel (`OpenSamples.target`).
        steps: how many texels far the free space around charts is filled.

    Returns:
        (P, H, W, C) float32, zero where no chart is near.
    """
    pages = np.zeros((*texels.grid.shape, field.shape[1]), np.float32)
    known = np.zeros(texels.grid.shape, np.uint8)
    _spread(field, target, texels.page, texels.row, texels.column, pages, known)
    for _ in range(steps):
        _dilate(pages, known)
    return pages


def warm() -> None:
    """Load the kernels, so that the first picture of a build does not wait for them."""
    one = np.zeros(1, np.int32)
    none = np.zeros((1, 1, 1), np.int32)
    texels = Texels(one, one, one, np.zeros(1, np.float32), one, none[0], np.zeros((1, 1, 2), np.float32), none)
    to_pages(np.zeros((1, 3), np.float32), texels, one, 1)


@kernel
def _spread(
    field: F32,
    target: I32,
    page: I32,
    row: I32,
    column: I32,
    pages: F32,
    known: U8,
) -> None:
    """Write every texel's value, or that of the texel that speaks for it, to its place."""
    for n in range(len(page)):
        known[page[n], row[n], column[n]] = 1
        for c in range(field.shape[1]):
            pages[page[n], row[n], column[n], c] = field[target[n], c]


@kernel
def _dilate(pages: F32, known: U8) -> None:
    """Fill every unknown texel that has known neighbours with their mean; known gets the new ones."""
    count, height, width, channels = pages.shape
    new = known.copy()
    total = np.empty(channels)
    for p in range(count):
        for y in range(height):
            for x in range(width):
                if known[p, y, x]:
                    continue
                total[:] = 0.0
                near = 0
                for ny in range(max(y - 1, 0), min(y + 2, height)):
                    for nx in range(max(x - 1, 0), min(x + 2, width)):
                        if known[p, ny, nx]:
                            near += 1
                            for c in range(channels):
                                total[c] += pages[p, ny, nx, c]
                if near:
                    new[p, y, x] = 1
                    for c in range(channels):
                        pages[p, y, x, c] = total[c] / near
    known[:] = new
