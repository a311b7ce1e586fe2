"""Layouts, packing and the texel table."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import floor
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.flat import flat_charts
from ropebell.charts.foretold import POWER, unwrapping
from ropebell.charts.layout import Layout, coordinate_trouble, from_file, unwrap
from ropebell.charts.overlap import overlapping_share
from ropebell.charts.pack import pack
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, footprint_areas, footprint_lattice, make_texels
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, ball, box, cylinder, joined, wheel
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene


class NoCache:
    def load(self, key: str) -> Layout | None:
        return None

    def save(self, key: str, layout: Layout) -> None:
        pass


def corners_of(shape: Shape) -> np.ndarray:
    return shape.positions[shape.triangles].astype(np.float64)


def areas3(corners: np.ndarray) -> np.ndarray:
    return 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)


def areas2(uv: np.ndarray) -> np.ndarray:
    b, c = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return 0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])


def charted(scene: Scene, settings_: ChartSettings) -> tuple[Atlas, Texels]:
    atlas, _ = make_atlas(scene, placed_shapes(scene, NoCache(), 1, lambda _: None), settings_)
    return atlas, make_texels(scene, atlas, settings_.samples, lambda _: None)


def scene_of(*shapes: Shape, places: list | None = None) -> Scene:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for i, shape in enumerate(shapes):
        b.add("g", f"part {i}", shape, "m", places[i] if places else None)
    return flatten(b.level(Path("level.glb")))


# -- packing


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(1, 40), st.integers(1, 40)), min_size=1, max_size=120),
    st.integers(0, 4),
    st.sampled_from([64, 96, 128]),
)
def test_packed_rectangles_share_no_texel_and_keep_their_padding(sizes: list, padding: int, page: int) -> None:
    rects = np.array(sizes, np.int32)
    places, pages, side = pack(rects, page, padding)
    used = np.zeros((pages, side + padding, side + padding), np.int32)
    for (p, x, y), (w, h) in zip(places, rects):
        assert padding <= x and padding <= y and x + w + padding <= side and y + h + padding <= side
        # Each rectangle with its padding to the right and below is its own.
        used[p, y : y + h + padding, x : x + w + padding] += 1
    assert used.max() == 1
    assert set(places[:, 0]) == set(range(pages))


def test_packing_fills_pages_well_and_shrinks_a_single_one() -> None:
    rng = np.random.default_rng(3)
    sizes = rng.integers(2, 24, (3000, 2)).astype(np.int32)
    sizes = sizes[np.argsort(-sizes[:, 1])]
    _, pages, side = pack(sizes, 512, 2)
    assert pages <= np.ceil(1.25 * ((sizes + 2).prod(axis=1).sum() / side**2))
    assert pack(np.array([[5, 5]], np.int32), 1024, 2)[1:] == (1, 32)
    with pytest.raises(ValueError, match="does not fit"):
        pack(np.array([[100, 3]], np.int32), 64, 2)


# -- layouts


@pytest.mark.parametrize(
    "shape",
    [box((0, 0, 0), (1, 2, 3)), ball(1.0, 10, 16), cylinder(0.5, 2, 16), wheel(1.2, 0.4, 6, 12, 0.1),
     joined([box((0, 0, 0), (1, 1, 1)), ball(0.4, 8, 12).moved(3, 0, 0)])],
    ids=["box", "ball", "cylinder", "wheel", "mixed"],
)  # fmt: skip
@pytest.mark.parametrize("size", [0.01, 1.0, 100.0])
def test_unwrapped_charts_keep_areas_and_do_not_overlap(shape: Shape, size: float) -> None:
    corners = corners_of(shape) * size
    corners = corners[areas3(corners) > 1e-12 * size**2]
    layout = unwrap(corners)
    assert layout.chart.min() == 0
    for chart in range(layout.chart_count):
        mine = layout.chart == chart
        assert areas2(layout.uv[mine].astype(float)).sum() == pytest.approx(areas3(corners[mine]).sum(), rel=0.02)
        np.testing.assert_allclose(layout.uv[mine].min(axis=(0, 1)), 0, atol=1e-5 * size)
        spread = layout.uv[mine] / layout.uv[mine].max()
        assert overlapping_share(spread) < 0.01


def test_a_box_is_six_undistorted_charts_with_edges_along_the_grid() -> None:
    corners = corners_of(box((0, 0, 0), (3, 1, 2)))
    chart, uv = flat_charts(corners)
    assert chart.max() == 5
    for number in range(6):
        extent = np.sort(uv[chart == number].reshape(-1, 2).max(axis=0))
        assert any(np.allclose(extent, pair, atol=1e-5) for pair in ([1, 3], [2, 3], [1, 2]))


def test_round_sides_stay_together() -> None:
    """A smooth cylinder is not cut into a chart per facet."""
    assert unwrap(corners_of(cylinder(0.5, 1, 24))).chart_count <= 8


def test_own_coordinates_are_kept_with_their_relative_sizes() -> None:
    corners = corners_of(joined([floor(1), floor(1).moved(3, 0, 0)]))
    quad = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], np.float32)
    uv1 = np.concatenate([quad * 0.4, quad * 0.2 + 0.7]).astype(np.float32)
    assert coordinate_trouble(uv1, corners) == ""
    layout = from_file(uv1, corners)
    assert (layout.chart_count, layout.origin) == (2, "file")
    extent = [layout.uv[layout.chart == c].max() for c in range(2)]
    assert extent[0] / extent[1] == pytest.approx(2.0, rel=1e-4)
    assert areas2(layout.uv.astype(float)).sum() == pytest.approx(2.0, rel=1e-4)


def test_unusable_coordinates_are_named() -> None:
    corners = corners_of(floor(1))
    good = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], np.float32)
    assert coordinate_trouble(good, corners) == ""
    assert coordinate_trouble(np.full_like(good, np.nan), corners) == "missing"
    assert "out of range" in coordinate_trouble(good * 2, corners)
    assert "collapsed" in coordinate_trouble(good * 0, corners)
    assert "overlapping on 100 %" in coordinate_trouble(np.stack([good[0], good[0]]), corners)


# -- atlas and texels


def test_density_holds_under_any_placement() -> None:
    """Scaled, turned and stretched instances all get the level's texels per metre."""
    unit = box((0, 0, 0), (1, 1, 1))
    stretched = np.diag([5.0, 0.5, 2.0, 1.0])
    scene = scene_of(unit, unit, unit, places=[at(0, 0, 0, 0.3, 2.0), np.eye(4), stretched])
    atlas, _ = charted(scene, ChartSettings(16.0))
    for node in np.unique(scene.node):
        mine = scene.node == node
        per_metre = np.sqrt(areas2(atlas.uv[mine].astype(float)) / scene.areas[mine])
        np.testing.assert_allclose(per_metre, 16.0, rtol=0.06)


@pytest.mark.parametrize("density", [0.7, 3.0, 11.0])
def test_every_surface_point_finds_a_texel_of_its_own_object(density: float) -> None:
    scene = scene_of(ball(1.0, 12, 18), box((3, 0, 0), (4.3, 0.21, 2.7)), wheel(1, 0.3, 6, 12, 0.1))
    atlas, texels = charted(scene, ChartSettings(density, 256, 2))
    rng = np.random.default_rng(1)
    t = rng.integers(0, len(scene), 20_000)
    w = rng.dirichlet([1, 1, 1], len(t))
    uv = np.einsum("nk,nkc->nc", w, atlas.uv[t].astype(float))
    column, row = np.floor(uv).astype(int).T
    rect = atlas.rects[atlas.chart[t]]
    column = np.clip(column, rect[:, 1], rect[:, 1] + rect[:, 3] - 1)
    row = np.clip(row, rect[:, 2], rect[:, 2] + rect[:, 4] - 1)
    found = texels.grid[rect[:, 0], row, column]
    assert (found >= 0).mean() > 0.9999
    hit = found >= 0
    assert (scene.node[texels.owner[found[hit]]] == scene.node[t[hit]]).all()


def test_texel_table_accounts_for_all_area_and_samples_lie_on_their_triangles() -> None:
    scene = scene_of(floor(3.3), ball(1.0, 10, 16).moved(5, 0, 0))
    atlas, texels = charted(scene, ChartSettings(5.0))
    assert footprint_areas(scene, texels, atlas).sum() == pytest.approx(scene.areas.sum(), rel=0.02)
    used = texels.sample_triangle >= 0
    assert used.any(axis=1).all()
    b, c = texels.sample_weights[used].T
    assert b.min() >= 0 and c.min() >= 0 and (b + c).max() <= 1 + 1e-6
    # Samples of a texel lie within its square.
    rows = np.nonzero(used)[0]
    corners = atlas.uv[texels.sample_triangle[used]].astype(float)
    at_uv = corners[:, 0] + b[:, None] * (corners[:, 1] - corners[:, 0]) + c[:, None] * (corners[:, 2] - corners[:, 0])
    offset = at_uv - np.stack([texels.column[rows], texels.row[rows]], axis=1)
    assert offset.min() > -1e-3 and offset.max() < 1 + 1e-3


def test_rectangles_are_fully_covered_up_to_their_edges() -> None:
    """Charts are stretched to whole texels, so a floor of 2.6 × 2.6 texels has no half-covered edge."""
    _, texels = charted(scene_of(floor(1.0)), ChartSettings(2.6))
    np.testing.assert_allclose(texels.cover, 1.0, atol=1e-4)


def test_a_chart_too_large_for_a_page_is_made_coarser_and_noticed() -> None:
    scene = scene_of(floor(100))
    atlas, notices = make_atlas(scene, placed_shapes(scene, NoCache(), 1, lambda _: None), ChartSettings(10, 256))
    assert [n.kind for n in notices] == ["chart-too-large"]
    assert atlas.rects[:, 3:].max() <= 252


def test_lattice_is_even_and_inside() -> None:
    for count in (1, 4, 8, 16):
        points = footprint_lattice(count)
        assert points.min() > 0 and points.max() < 1
        np.testing.assert_allclose(points.mean(axis=0), 0.5, atol=0.5 / count + 1e-9)


def test_what_unwrapping_will_cost_counts_each_curved_shape_once() -> None:
    dense, flat = ball(0.5, 24, 48), joined([box((i, 0, 0), (i + 0.5, 1, 1)) for i in range(80)])

    def work(*shapes: tuple[Shape, float]) -> float:
        b = LevelBuilder()
        b.material("m", (0.5, 0.5, 0.5))
        for number, (shape, x) in enumerate(shapes):
            b.add("g", f"thing {number}", shape, "m", at(x, 0, 0))
        return unwrapping(flatten(b.level(Path("a.glb"))))

    one = work((dense, 0.0))
    assert one == pytest.approx(len(dense.triangles) ** POWER, rel=0.05)
    assert work((dense, 0.0), (dense, 5.0), (flat, 9.0)) == pytest.approx(one)
    assert work((dense, 0.0), (ball(0.5, 30, 60), 5.0)) > 2 * one
    assert work((flat, 0.0)) == 0.0 and work((ball(0.5, 6, 8), 0.0)) == 0.0
