"""Which texels a light can reach at all, so that a level of a thousand lamps does not try each on each texel."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, I64
from ropebell.light.surface import OpenSamples, Surface

# Texels that are told apart together; small enough to be compact, large enough to be few.
BLOCK = 64


@dataclass(frozen=True, eq=False)
class TexelBlocks:
    """Texels in blocks of neighbours in space.

    Attributes:
        order: (N,) int32 texels along a space-filling curve; a block is `BLOCK` of them.
        low, high: (blocks, 3) float32 bounds of all footprint samples of a block, relative to the centre.
        texel_low, texel_high: (N, 3) float32 the same of each texel; empty (high below low) without open samples.
    """

    order: I32
    low: F32
    high: F32
    texel_low: F32
    texel_high: F32

    @staticmethod
    def of(surface: Surface, samples: OpenSamples) -> TexelBlocks:
        """Of all texels of a level."""
        count = len(samples.count)
        low, high = np.full((count, 3), np.inf, np.float32), np.full((count, 3), -np.inf, np.float32)
        _bounds(surface.vertices, samples.count, samples.triangle, samples.weights, low, high)
        open_ = np.flatnonzero(samples.count > 0)
        middle = (low[open_] + high[open_]) / 2
        order = open_[np.argsort(_curve(middle), kind="stable")].astype(np.int32)
        starts = np.arange(0, len(order), BLOCK)
        if not len(order):
            return TexelBlocks(order, low[:0], high[:0], low, high)
        return TexelBlocks(
            order, np.minimum.reduceat(low[order], starts), np.maximum.reduceat(high[order], starts), low, high
        )

    def members(self, blocks: I64) -> I32:
        """(m,) int32 texels of some blocks."""
        rows = (blocks[:, None] * BLOCK + np.arange(BLOCK)).ravel()
        found: I32 = self.order[rows[rows < len(self.order)]]
        return found

    def within(self, position: F64, reach: float) -> I32:
        """(m,) int32 texels, ascending, some of whose footprint may lie within `reach` metres of a position.

        Args:
            position: (3,) relative to the centre.
        """
        near = np.flatnonzero(_gap(self.low, self.high, position) <= reach)
        texels = self.members(near)
        return np.sort(texels[_gap(self.texel_low[texels], self.texel_high[texels], position) <= reach])


def _gap(low: F32, high: F32, position: F64) -> F64:
    """(n,) metres from a position to boxes."""
    out: F64 = np.linalg.norm(np.maximum(np.maximum(low - position, position - high), 0.0), axis=1)
    return out


def _curve(points: NDArray[Any]) -> NDArray[np.uint64]:
    """(n,) place of each point along a Z-order curve (G. M. Morton, 1966), 16 bits an axis."""
    if not len(points):
        return np.zeros(0, np.uint64)
    low = points.min(axis=0)
    cell = ((points - low) / max(float(np.ptp(points, axis=0).max()), 1e-30) * 65535).astype(np.uint64)
    code = np.zeros(len(points), np.uint64)
    for axis in range(3):
        spread = cell[:, axis]
        for shift, mask in ((32, 0xFFFF00000000FFFF), (16, 0x00FF0000FF0000FF), (8, 0xF00F00F00F00F00F),
                            (4, 0x30C30C30C30C30C3), (2, 0x9249249249249249)):  # fmt: skip
            spread = (spread | (spread << np.uint64(shift))) & np.uint64(mask)
        code |= spread << np.uint64(axis)
    return code


@kernel
def _bounds(vertices: F32, count: I32, triangle: I32, weights: F32, low: F32, high: F32) -> None:
    for i in range(len(count)):
        for s in range(count[i]):
            t, b, c = triangle[i, s], weights[i, s, 0], weights[i, s, 1]
            a = 1.0 - b - c
            for axis in range(3):
                at = a * vertices[t, 0, axis] + b * vertices[t, 1, axis] + c * vertices[t, 2, axis]
                low[i, axis] = min(low[i, axis], at)
                high[i, axis] = max(high[i, axis], at)
