"""Charts of all placed shapes at their density, packed into pages."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.layout import Layout
from ropebell.charts.pack import pack
from ropebell.charts.shapes import PlacedShape
from ropebell.level.model import F32, F64, I32, Notice
from ropebell.level.scene import Scene

# Steps of a texel: with pages of at most 2¹³ texels, 24 bits in all.
STEPS = 2048.0


@dataclass(frozen=True)
class ChartSettings:
    """What decides the size and place of charts.

    Attributes:
        texels_per_metre: density, after the draft factor.
        page_size: largest side of a page in texels.
        padding: free texels between charts.
        samples: points per texel at which its footprint is sampled, 1 … 32.
    """

    texels_per_metre: float
    page_size: int = 1024
    padding: int = 2
    samples: int = 8


@dataclass(frozen=True, eq=False)
class Atlas:
    """Where every triangle lies on the pages.

    Attributes:
        uv: (T, 3, 2) float32 page coordinates in texels; divide by `side` for 0 … 1.
        chart: (T,) int32, index into `rects`.
        rects: (C, 5) int32 — page, x, y, width, height in texels.
        pages: number of pages, those that no lightmap is written of at the end.
        side: their side in texels.
        written: how many of them are lightmaps; the rest hold surfaces that only block and bounce light.
    """

    uv: F32
    chart: I32
    rects: I32
    pages: int
    side: int
    written: int

    @property
    def page(self) -> I32:
        """(T,) int32 page of each triangle."""
        return self.rects[self.chart, 0] if len(self.chart) else np.zeros(0, np.int32)

    @property
    def lightmap(self) -> I32:
        """(T,) int32 lightmap of each triangle, −1 for those without one."""
        page = self.page
        return np.where(page < self.written, page, -1).astype(np.int32)


def make_atlas(scene: Scene, shapes: list[PlacedShape], settings: ChartSettings) -> tuple[Atlas, list[Notice]]:
    """Give every chart a whole number of texels, and a place.

    A chart's rectangle is stretched to whole texels (by less than one texel a side), so that along its
    straight edges every texel is fully covered.

    Returns:
        The atlas, and notices for meshes unwrapped or charts made coarser to fit a page.
    """
    chart = np.zeros(len(scene), np.int32)
    flat = np.zeros((len(scene), 3, 2))
    factor = scene.factor if len(scene.factor) else np.ones(len(scene), np.float32)
    count = 0
    notices: list[Notice] = []
    order: list[tuple[float, int, int]] = []
    for shape in shapes:
        span = slice(shape.first, shape.end)
        own, uv = _split_by_factor(shape.layout, factor[span])
        chart[span] = own + count
        flat[span] = uv * (shape.scale * settings.texels_per_metre)
        charts = int(own.max()) + 1 if len(own) else 0
        order.append((-float(scene.areas[span].sum()), count, count + charts))
        count += charts
        if shape.layout.trouble and shape.layout.trouble != "missing":
            text = f"Its lightmap coordinates are {shape.layout.trouble}; it is unwrapped instead."
            notices.append(Notice("lightmap-coordinates", scene.node_names[shape.node], text))
    extent = np.zeros((count, 2))
    np.maximum.at(extent, np.repeat(chart, 3), flat.reshape(-1, 2))
    largest = settings.page_size - 2 * settings.padding
    sizes = np.clip(np.ceil(extent - 0.25), 1, largest).astype(np.int32)
    for c in np.flatnonzero((extent > largest + 0.25).any(axis=1)):
        node = scene.node[np.argmax(chart == c)]
        text = f"A chart of {extent[c].max():.0f} texels is made coarser to fit a page of {settings.page_size}."
        notices.append(Notice("chart-too-large", scene.node_names[node], text))
    flat *= (sizes / np.maximum(extent, 1e-12))[chart][:, None, :]
    # Coordinates are kept in steps that single precision holds exactly at any place of a page.
    flat = np.round(flat * STEPS) / STEPS
    turned = sizes[:, 1] > sizes[:, 0]
    flat = np.where(turned[chart][:, None, None], flat[..., ::-1], flat)
    sizes[turned] = sizes[turned][:, ::-1]
    places, written, pages, side = _packed_apart(sizes, order, _bare_charts(scene, chart, count), settings)
    rects = np.concatenate([places, sizes], axis=1)
    uv = flat + places[chart][:, None, 1:]
    return Atlas(uv.astype(np.float32), chart, rects, pages, side, written), notices


def _bare_charts(scene: Scene, chart: I32, count: int) -> NDArray[np.bool_]:
    """(C,) charts of surfaces that get no lightmap."""
    bare = np.zeros(count, np.bool_)
    if len(scene.bare):
        bare[chart[scene.bare]] = True
    return bare


def _packed_apart(
    sizes: I32, order: list[tuple[float, int, int]], bare: NDArray[np.bool_], settings: ChartSettings
) -> tuple[I32, int, int, int]:
    """Places of all charts, how many pages are lightmaps, how many there are, and their side."""
    if not bare.any():
        places, pages, side = _packed(sizes, order, settings)
        return places, pages, pages, side
    places = np.zeros((len(sizes), 3), np.int32)
    ends = []
    for kind in (~bare, bare):
        rows, before = np.flatnonzero(kind), np.append(0, np.cumsum(kind))
        mine = [(key, int(before[a]), int(before[b])) for key, a, b in order if before[b] > before[a]]
        places[rows], pages, side = _packed(np.ascontiguousarray(sizes[rows]), mine, settings)
        ends.append((rows, pages, side))
    (_, written, side), (rows, more, other_side) = ends
    places[rows, 0] += written
    return places, written, written + more, max(side, other_side)


def _split_by_factor(layout: Layout, factor: F32) -> tuple[I32, F64]:
    """Charts of a layout at their density: one whose faces differ in density is cut where they do.

    Args:
        factor: (n,) factor on the level's texels per metre of each triangle.

    Returns:
        chart (n,) int32; uv (n, 3, 2) float64, each chart with its lowest corner at the origin.
    """
    uv = layout.uv.astype(np.float64)
    if not len(factor) or (factor == factor[0]).all():
        return layout.chart, uv * float(factor[0] if len(factor) else 1.0)
    keys = np.stack([layout.chart.astype(np.float64), factor.astype(np.float64)], axis=1)
    _, number = np.unique(keys, axis=0, return_inverse=True)
    chart: I32 = number.ravel().astype(np.int32)
    low = np.full((int(chart.max()) + 1, 2), np.inf)
    np.minimum.at(low, np.repeat(chart, 3), uv.reshape(-1, 2))
    return chart, (uv - low[chart][:, None, :]) * factor[:, None, None]


def _packed(sizes: I32, order: list[tuple[float, int, int]], settings: ChartSettings) -> tuple[I32, int, int]:
    """Pack large objects first and each object's charts from tall to low, so that an object stays on one page; if all
    charts from tall to low need fewer pages, that."""
    if not len(sizes):
        return pack(sizes, settings.page_size, settings.padding)
    sequence = np.concatenate(
        [first + np.argsort(-sizes[first:end, 1], kind="stable") for _, first, end in sorted(order)]
    )
    packed, pages, side = pack(np.ascontiguousarray(sizes[sequence]), settings.page_size, settings.padding)
    if pages > 1:
        by_height = np.lexsort((-sizes[:, 0], -sizes[:, 1]))
        other, fewer, other_side = pack(np.ascontiguousarray(sizes[by_height]), settings.page_size, settings.padding)
        if fewer < pages:
            packed, pages, side, sequence = other, fewer, other_side, by_height
    places = np.empty_like(packed)
    places[sequence] = packed
    return places, pages, side
