"""The pages a level would need, before any ray: how many, how full, how large, and how far density can rise."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.shapes import PlacedShape
from ropebell.level.model import F64, I32, Notice
from ropebell.level.scene import Scene

# Bytes of a texel on disk and on the card: half-float RGB, before any compression.
TEXEL_BYTES = 6
SEARCH_STEPS = 7
MOST_ROOM = 4.0


@dataclass(frozen=True, eq=False)
class Survey:
    """Charts laid out and packed, as they are before texels are made of them.

    Attributes:
        atlas: where every triangle lies.
        fill: share of each page that charts take.
        texels: about how many texels each node gets, (nodes,).
        pages_of: page numbers of each node that has charts, by node.
        charts_of: chart numbers of each node, by node.
        room: factor by which the level's density can rise before another page is needed; 1 for none, `MOST_ROOM`
            when more was not tried.
    """

    atlas: Atlas
    notices: tuple[Notice, ...]
    fill: tuple[float, ...]
    texels: F64
    pages_of: dict[int, tuple[int, ...]]
    charts_of: dict[int, I32]
    room: float

    @property
    def bytes(self) -> int:
        """Of all pages as half floats."""
        return self.atlas.written * self.atlas.side**2 * TEXEL_BYTES

    @property
    def waste(self) -> int:
        """Texels of the pages that no chart takes."""
        return round(sum(1 - f for f in self.fill) * self.atlas.side**2)


def survey(scene: Scene, shapes: list[PlacedShape], settings: ChartSettings) -> Survey:
    """Lay out, pack, and find how much room is left."""
    atlas, notices = make_atlas(scene, shapes, settings)
    area = atlas.rects[:, 3].astype(np.float64) * atlas.rects[:, 4]
    taken = np.bincount(atlas.rects[:, 0], area, max(atlas.pages, 1)) if len(area) else np.zeros(1)
    fill = tuple(float(v) / max(atlas.side, 1) ** 2 for v in taken[: atlas.written])
    node_of = np.zeros(len(atlas.rects), np.int64)
    node_of[atlas.chart] = scene.node
    texels = np.zeros(len(scene.node_names))
    np.add.at(texels, node_of, area)
    charts_of = {
        int(n): np.flatnonzero(node_of == n).astype(np.int32) for n in (np.unique(scene.node) if len(scene) else ())
    }
    pages_of = {
        n: tuple(int(p) for p in np.unique(atlas.rects[c, 0]) if p < atlas.written) for n, c in charts_of.items()
    }
    room = _room(scene, shapes, settings, atlas)
    return Survey(atlas, tuple(notices), fill, texels, pages_of, charts_of, room)


def _room(scene: Scene, shapes: list[PlacedShape], settings: ChartSettings, atlas: Atlas) -> float:
    """Bisection over the density: the largest factor that keeps the number and side of the pages."""
    if not len(scene):
        return 1.0

    def fits(factor: float) -> bool:
        tried, _ = make_atlas(scene, shapes, replace(settings, texels_per_metre=settings.texels_per_metre * factor))
        return (tried.pages, tried.side) == (atlas.pages, atlas.side)

    if fits(MOST_ROOM):
        return MOST_ROOM
    low, high = 1.0, MOST_ROOM
    for _ in range(SEARCH_STEPS):
        middle = (low * high) ** 0.5
        low, high = (middle, high) if fits(middle) else (low, middle)
    return low
