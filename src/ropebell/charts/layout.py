"""A mesh laid flat: which chart each triangle belongs to, and where its corners lie in it.

Coordinates of a layout are in the units of the shape it was made from, so that a chart's area equals the
area of its triangles (on average over the mesh), and every chart begins at (0, 0).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import xatlas
from numpy.typing import NDArray

from ropebell.charts.flat import flat_charts
from ropebell.charts.overlap import overlapping_share
from ropebell.level.connected import connected
from ropebell.level.model import F32, F64, I32

RANGE_SLACK = 1e-3
MOST_OVERLAP = 0.01


@dataclass(frozen=True, eq=False)
class Layout:
    """Charts of one shape.

    Attributes:
        chart: (T,) int32 chart of each triangle.
        uv: (T, 3, 2) float32, shape units, each chart with its lowest corner at the origin.
        origin: `"file"` or `"unwrapped"`.
        trouble: why the file's own coordinates were not used, or an empty text.
    """

    chart: I32
    uv: F32
    origin: str
    trouble: str = ""

    @property
    def chart_count(self) -> int:
        """Number of charts."""
        return int(self.chart.max()) + 1 if len(self.chart) else 0

    def fits(self, triangles: int) -> bool:
        """Whether it can be one of a shape of so many triangles; what comes from a file need not be."""
        shapes = self.chart.shape == (triangles,) and self.uv.shape == (triangles, 3, 2)
        if not shapes or [self.chart.dtype, self.uv.dtype] != [np.int32, np.float32]:
            return False
        within = not triangles or (self.chart.min() >= 0 and self.chart.max() < triangles)
        return bool(within and np.isfinite(self.uv).all() and (self.uv >= 0).all())


def coordinate_trouble(uv1: F32, corners: F64) -> str:
    """Why a second coordinate set cannot serve as lightmap coordinates, or an empty text.

    Args:
        uv1: (T, 3, 2), NaN where missing.
        corners: (T, 3, 3) positions.
    """
    if np.isnan(uv1).any():
        return "missing"
    if uv1.min() < -RANGE_SLACK or uv1.max() > 1 + RANGE_SLACK:
        return f"out of range ({uv1.min():.2f} … {uv1.max():.2f})"
    flat, solid = np.abs(_areas2(uv1)), np.linalg.norm(_cross(corners), axis=1)
    lost = float(solid[flat < 1e-12].sum() / max(solid.sum(), 1e-300))
    if lost > 1e-3:
        return f"collapsed for {100 * lost:.0f} % of the surface"
    share = overlapping_share(uv1)
    if share > MOST_OVERLAP:
        return f"overlapping on {100 * share:.0f} % of their area"
    return ""


def from_file(uv1: F32, corners: F64) -> Layout:
    """Charts of the file's own coordinates: its islands, with the sizes relative to each other kept.

    Args:
        uv1: (T, 3, 2) valid coordinates.
        corners: (T, 3, 3) positions in shape units.
    """
    points, index = np.unique(np.round(uv1.reshape(-1, 2) * 1e6).astype(np.int64), axis=0, return_inverse=True)
    index = index.reshape(-1, 3)
    count = len(points)
    island = connected(count, index[:, :2].ravel(), index[:, 1:].ravel())
    _, chart = np.unique(island[index[:, 0]], return_inverse=True)
    scale = np.sqrt(np.linalg.norm(_cross(corners), axis=1).sum() / max(np.abs(_areas2(uv1)).sum(), 1e-300))
    return Layout(chart.astype(np.int32), _at_origin(uv1 * scale, chart), "file")


def unwrap(corners: F64, trouble: str = "") -> Layout:
    """Cut and flatten a shape: flat regions are projected as they are, the rest goes to the unwrapping library.

    Args:
        corners: (T, 3, 3) positions in shape units, none degenerate.
        trouble: kept in the layout.
    """
    chart, uv = flat_charts(corners)
    round_ = np.flatnonzero(chart < 0)
    if len(round_):
        curved_chart, curved_uv = _unwrap_curved(corners[round_])
        chart[round_], uv[round_] = curved_chart + chart.max(initial=-1) + 1, curved_uv
    return Layout(chart, uv, "unwrapped", trouble)


def needs_library(corners: F64) -> int:
    """How many triangles of a shape are not in flat regions, and so need the slow way."""
    return int((flat_charts(corners)[0] < 0).sum())


def _unwrap_curved(corners: F64) -> tuple[I32, F32]:
    """Charts and coordinates by the unwrapping library."""
    low = corners.reshape(-1, 3).min(axis=0)
    size = max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-300)
    # The library drops faces below an absolute area: shapes are brought to one size first.
    points, index = np.unique(
        ((corners.reshape(-1, 3) - low) * (100.0 / size)).astype(np.float32), axis=0, return_inverse=True
    )
    triangles = index.reshape(-1, 3).astype(np.uint32)
    atlas = xatlas.Atlas()
    atlas.add_mesh(points, triangles)
    pack = xatlas.PackOptions()
    pack.create_image, pack.rotate_charts = False, False
    atlas.generate(xatlas.ChartOptions(), pack)
    _, flat_triangles, flat = atlas.get_mesh(0)
    chart = np.full(len(triangles), -1, np.int32)
    for number in range(atlas.get_mesh_chart_count(0)):
        chart[np.asarray(atlas.get_mesh_chart(0, number).faces, dtype=np.int64)] = number
    uv = flat[flat_triangles].astype(np.float64) * [atlas.width, atlas.height]
    chart, uv = _charts_for_the_rest(chart, uv, corners)
    return chart, _at_origin(_true_size(uv, chart, corners), chart)


def _charts_for_the_rest(chart: I32, uv: F64, corners: F64) -> tuple[I32, F64]:
    """Give every triangle that the library left without a usable chart one of its own, projected flat."""
    size = np.linalg.norm(_cross(corners), axis=1)
    flat = np.abs(_areas2(uv))
    ratio = flat.sum() / max(size[chart >= 0].sum(), 1e-300)
    lost = np.flatnonzero((chart < 0) | (flat < 1e-3 * ratio * size) | ~np.isfinite(uv).all(axis=(1, 2)))
    if not len(lost):
        return chart, uv
    a, b, c = corners[lost, 0], corners[lost, 1], corners[lost, 2]
    along = np.linalg.norm(b - a, axis=1)
    x = np.einsum("ij,ij->i", c - a, b - a) / along
    y = size[lost] / along
    uv[lost] = np.stack([np.zeros((len(lost), 2)), np.stack([along, 0 * along], 1), np.stack([x, y], 1)], axis=1)
    chart[lost] = chart.max(initial=-1) + 1 + np.arange(len(lost))
    _, renumbered = np.unique(chart, return_inverse=True)
    return renumbered.astype(np.int32), uv


def _true_size(uv: F64, chart: I32, corners: F64) -> F64:
    count = int(chart.max()) + 1
    solid = np.bincount(chart, np.linalg.norm(_cross(corners), axis=1), count)
    flat = np.bincount(chart, np.abs(_areas2(uv)), count)
    return uv * np.sqrt(solid / np.maximum(flat, 1e-300))[chart][:, None, None]


def _at_origin(uv: NDArray[Any], chart: NDArray[Any]) -> F32:
    count = int(chart.max()) + 1
    low = np.full((count, 2), np.inf)
    np.minimum.at(low, np.repeat(chart, 3), uv.reshape(-1, 2))
    found: F32 = (uv - low[chart][:, None, :]).astype(np.float32)
    return found


def _cross(corners: F64) -> F64:
    return np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])


def _areas2(uv: NDArray[Any]) -> F64:
    """Twice the signed area of each flat triangle."""
    a, b, c = (uv[:, i].astype(np.float64) for i in range(3))
    return (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
