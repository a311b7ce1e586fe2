"""The texel table: what each texel of a page stands for in the level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.charts.atlas import Atlas
from ropebell.charts.raster import centroid_samples, cover, place_samples
from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import Scene


@dataclass(frozen=True, eq=False)
class Texels:
    """N texels of P pages, each with up to S points of its footprint, all on its surface.

    Attributes:
        page, column, row: (N,) int32.
        cover: (N,) float32 share of the texel's square that its chart covers, 0 … 1.
        owner: (N,) int32 triangle that covers most of it.
        sample_triangle: (N, S) int32; −1 marks unused places.
        sample_weights: (N, S, 2) float32 barycentric weights of corners 1 and 2.
        grid: (P, H, W) int32 texel index, −1 outside all charts.
    """

    page: I32
    column: I32
    row: I32
    cover: F32
    owner: I32
    sample_triangle: I32
    sample_weights: F32
    grid: I32

    def __len__(self) -> int:
        return len(self.page)


def footprint_lattice(samples: int) -> F64:
    """(samples, 2) points of the unit cell: a centred rank-1 lattice of golden ratio, even at any count."""
    i = np.arange(samples)
    golden = (np.sqrt(5.0) - 1) / 2
    return np.stack([(i + 0.5) / samples, (i * golden + 0.5 * golden + 0.15) % 1.0], axis=1)


def make_texels(scene: Scene, atlas: Atlas, samples: int, tick: Callable[[float], None]) -> Texels:
    """Lay all charts on the texel grid.

    Texels that a chart merely touches are kept, with their footprint only where the chart is, so that edge
    texels are neither lost nor lit from outside their face.

    Args:
        samples: footprint points per texel.
        tick: called with the share done, may raise `Stopped`.
    """
    shape = (max(atlas.pages, 1), atlas.side, atlas.side)
    area = np.zeros(shape, np.float32)
    owner = np.full(shape, -1, np.int32)
    step = max(len(scene) // 16, 20_000)
    for first in range(0, len(scene), step):
        cover(atlas.uv, atlas.chart, atlas.rects, area, owner, first, min(first + step, len(scene)))
        tick(0.6 * first / len(scene))
    page, row, column = (a.astype(np.int32) for a in np.nonzero(owner >= 0))
    grid = np.full(shape, -1, np.int32)
    grid[page, row, column] = np.arange(len(page), dtype=np.int32)
    owners = owner[page, row, column]
    sample_triangle = np.full((len(page), samples), -1, np.int32)
    sample_weights = np.zeros((len(page), samples, 2), np.float32)
    lattice = footprint_lattice(samples)
    place_samples(atlas.uv, atlas.chart, atlas.rects, grid, lattice, sample_triangle, sample_weights)
    centroid_samples(atlas.uv, atlas.chart, atlas.rects, owners, column, row, sample_triangle, sample_weights)
    tick(1.0)
    covered = np.minimum(area[page, row, column], 1.0)
    return Texels(page, column, row, covered, owners, sample_triangle, sample_weights, grid)


def footprint_areas(scene: Scene, texels: Texels, atlas: Atlas) -> F64:
    """(N,) float64 area in m² of the surface each texel stands for: its owner's scale times its cover."""
    flat = atlas.uv.astype(np.float64)
    b, c = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    in_texels = 0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])
    per_texel = scene.areas / np.maximum(in_texels, 1e-12)
    return per_texel[texels.owner] * texels.cover
