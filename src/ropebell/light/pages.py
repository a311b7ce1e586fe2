"""Fields over texels as pictures of pages, with free texels filled so that interpolation reads no black."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import F32, I32, U8, TexelIndex

FREE = np.uint8(255)
# Texels round each chart are filled so far at least, so that no mip level up to the second reads black.
MIP_FILLED = 4


@dataclass(frozen=True, eq=False)
class Filling:
    """How texels fill pages: the same for every field, so it is found once.

    Attributes:
        step: (P, H, W) uint8, 0 where a texel lies, s where the free space is filled in step s, `FREE` elsewhere.
        free: (m, 3) int32 page, row and column of what is filled, in this order.
        page, row, column: (N,) int32 of each texel.
    """

    step: U8
    free: I32
    page: I32
    row: I32
    column: I32

    @staticmethod
    def of(texels: Texels, steps: int) -> Filling:
        """Filling the free space around charts so many texels far, but no less than the second mip level reads."""
        steps = max(steps, MIP_FILLED)
        step = np.where(texels.grid >= 0, np.uint8(0), FREE)
        free = [np.zeros((0, 3), np.int32)]
        for s in range(1, min(steps, int(FREE) - 1) + 1):
            found = np.empty((_mark(step, s), 3), np.int32)
            _listed(step, s, found)
            free.append(found)
        return Filling(step, np.concatenate(free), texels.page, texels.row, texels.column)

    def pages(self, field: F32, target: TexelIndex) -> F32:
        """(P, H, W, C) float32, zero where no chart is near.

        Args:
            field: (N, C) float32.
            target: (N,) texel that speaks for each texel (`OpenSamples.target`).
        """
        pages = np.zeros((*self.step.shape, field.shape[1]), np.float32)
        _fill(field, target, self.page, self.row, self.column, self.free, self.step, pages)
        return pages


def warm() -> None:
    """Load the kernels, so that the first picture of a build does not wait for them."""
    one = np.zeros(1, np.int32)
    grid = np.array([[[0, -1]]], np.int32)
    texels = Texels(one, one, one, np.zeros(1, np.float32), one, grid[0], np.zeros((1, 1, 2), np.float32), grid)
    Filling.of(texels, 1).pages(np.zeros((1, 3), np.float32), one)


@kernel
def _mark(step: U8, s: int) -> int:
    """Set the step of free places that have a neighbour filled before it; how many there are."""
    count, height, width = step.shape
    marked = 0
    for p in range(count):
        for y in range(height):
            for x in range(width):
                if step[p, y, x] < s:
                    continue
                near = False
                for ny in range(max(y - 1, 0), min(y + 2, height)):
                    for nx in range(max(x - 1, 0), min(x + 2, width)):
                        near |= step[p, ny, nx] < s
                if near:
                    step[p, y, x] = s
                    marked += 1
    return marked


@kernel
def _listed(step: U8, s: int, found: I32) -> None:
    """Page, row and column of every place of a step."""
    count, height, width = step.shape
    m = 0
    for p in range(count):
        for y in range(height):
            for x in range(width):
                if step[p, y, x] == s:
                    found[m, 0], found[m, 1], found[m, 2] = p, y, x
                    m += 1


@kernel
def _fill(
    field: F32, target: I32, page: I32, row: I32, column: I32, free: I32, step: U8, pages: F32
) -> None:  # fmt: skip
    """Write every texel's value, or that of the texel that speaks for it, to its place, then the free places: each gets
    the mean of its neighbours of earlier steps."""
    height, width, channels = pages.shape[1:]
    for n in range(len(page)):
        for c in range(channels):
            pages[page[n], row[n], column[n], c] = field[target[n], c]
    total = np.empty(channels)
    for m in range(len(free)):
        p, y, x = free[m, 0], free[m, 1], free[m, 2]
        total[:] = 0.0
        near = 0
        for ny in range(max(y - 1, 0), min(y + 2, height)):
            for nx in range(max(x - 1, 0), min(x + 2, width)):
                if step[p, ny, nx] < step[p, y, x]:
                    near += 1
                    for c in range(channels):
                        total[c] += pages[p, ny, nx, c]
        for c in range(channels):
            pages[p, y, x, c] = total[c] / near
