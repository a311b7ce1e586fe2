"""Walking, viewing, pages before a bake, sky pictures: against closed forms and by properties."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import KeptLayouts, floor
from ropebell.charts.atlas import ChartSettings, make_atlas
from ropebell.charts.mip_levels import padding_for, safe_mip
from ropebell.charts.overlap import overlap_of
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.survey import survey
from ropebell.checks.contact_kernels import clipped
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box, joined
from ropebell.errors import LevelError
from ropebell.level.brief import Box, Brief, DensityBox, Mark, Region
from ropebell.level.model import Level
from ropebell.level.prepare import prepare
from ropebell.level.scene import Scene
from ropebell.level.sky_picture import mean_radiance, read_hdr, read_sky_picture
from ropebell.level.welded import Welded
from ropebell.light.rays import RaySpace
from ropebell.sight.viewing import NEAR, view_distances, viewing
from ropebell.sight.walk import proposed_boxes, start_point, walkable


def built(
    *shapes: tuple[str, object], start: tuple[float, float, float] | None = None
) -> tuple[Level, Scene, RaySpace]:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for name, shape in shapes:
        b.add("g", name, shape, "m")  # type: ignore[arg-type]
    if start is not None:
        b.spot("helpers", "spawn point", at(*start))
    level = b.level(Path("a.glb"))
    scene = prepare(level).scene
    return level, scene, RaySpace(scene.corners)


# -- walking


def test_the_start_is_as_set_or_by_its_name() -> None:
    level, scene, _ = built(("floor", floor(4)), start=(1, 0, 1))
    assert start_point(level, scene, Brief()) == (1, 0, 1)
    assert start_point(level, scene, Brief(region=Region(start=(0, 0, 0)))) == (0, 0, 0)
    level, scene, _ = built(("restart button", floor(4)))
    assert start_point(level, scene, Brief()) is None


def test_steps_walls_low_ceilings_and_drops_decide_where_one_can_walk() -> None:
    ground = box((-10, -1, -10), (10, 0, 10))
    stairs = [box((3 + 0.4 * i, 0, 0), (3.4 + 0.4 * i, 0.3 * (i + 1), 3)) for i in range(8)]
    platform = box((6.2, 2.0, 0), (9.5, 2.4, 3))
    table = box((-4, 0, -4), (-2, 0.9, -2))
    fence = joined([box((-9, 0, 5), (9, 1.6, 5.1))])
    gap = box((-10, -9, 12), (10, -8, 20))
    _, scene, space = built(
        ("ground", ground), ("stairs", joined(stairs)), ("platform", platform), ("table", table), ("fence", fence),
        ("low", box((-9.9, 1.2, 6), (-6, 1.3, 9))), ("below", gap),
    )  # fmt: skip
    found = walkable(scene, space, (0.0, 0.0, -5.0))

    def near(x: float, y: float, z: float) -> bool:
        return bool((np.abs(found.floors - [x, y, z]) < [0.35, 0.05, 0.35]).all(axis=1).any())

    assert near(0, 0, -5) and near(-9, 0, 0)
    assert near(8, 2.4, 1.5), "up the stairs"
    assert not near(-3, 0.9, -3), "the table is too high a step"
    assert not near(-3, 0, -3), "under the table one cannot stand"
    assert near(0, 0, 8), "round the fence, which ends at 9"
    assert not near(-8, 0, 7.5), "under the low board"
    assert not (found.floors[:, 1] < -5).any(), "a drop of eight metres"
    assert len(walkable(scene, space, (0.0, 7.0, -5.0)).floors) == 0


def test_a_crack_is_stepped_over_and_a_chasm_is_not() -> None:
    for width, reached in ((0.25, True), (2.5, False)):
        _, scene, space = built(
            ("a", box((-5, -1, -3), (0, 0, 3))),
            ("b", box((width, -1, -3), (6, 0, 3))),
            ("c", box((-6, -9, -6), (7, -8, 6))),
        )
        found = walkable(scene, space, (-3.0, 0.0, 0.0))
        assert bool((found.floors[:, 0] > width + 0.5).any()) is reached


def test_proposed_boxes_are_tight_hold_all_floors_and_cut_where_it_saves() -> None:
    long_way = joined([box((0, -1, 0), (20, 0, 2)), box((18, -1, 2), (20, 0, 20))])
    _, scene, space = built(("way", long_way))
    found = walkable(scene, space, (1.0, 0.0, 1.0))
    boxes = proposed_boxes(found)
    assert 2 <= len(boxes) <= 6
    inside = np.zeros(len(found.floors), bool)
    volume = 0.0
    for b in boxes:
        inside |= ((found.floors >= b.low) & (found.floors <= b.high)).all(axis=1)
        volume += float(np.prod(np.array(b.high) - np.array(b.low)))
    assert inside.all()
    one = proposed_boxes(found, most=1)[0]
    assert volume < 0.5 * float(np.prod(np.array(one.high) - np.array(one.low)))
    assert proposed_boxes(walkable(scene, space, (1.0, 9.0, 1.0))) == ()


# -- viewing


def test_distances_are_those_of_the_nearest_eye_that_sees_the_front() -> None:
    _, scene, space = built(("floor", floor(0.2)), ("hidden", floor(0.2, -3.0)))
    eyes = np.array([[0.0, 5.0, 0.0], [0.0, 2.0, 0.0], [0.0, -1.0, 0.0]])
    found = view_distances(scene, space, eyes)
    top = scene.node == scene.node_names.index("g/floor")
    np.testing.assert_allclose(found[top], 2.0, atol=0.02)
    # The lower one is seen by the eye between the two.
    np.testing.assert_allclose(found[~top], 2.0, atol=0.02)
    assert np.isinf(view_distances(scene, space, eyes[:2])[~top]).all()
    assert np.isinf(view_distances(scene, space, np.zeros((0, 3)))).all()


def test_density_is_judged_in_proportion_to_the_distance() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for name, y in (("near", 0.0), ("far", 20.0)):
        b.add("g", name, floor(0.5).turned_inside_out() if name == "far" else floor(0.5), "m", at(0.0, y, 0.0))
    marks = {"g/far": Mark(density=0.2), "g/near": Mark(density=0.25)}
    for brief, far, near in ((Brief(), 1, 0), (Brief(marks=marks), 0, -1)):
        scene = prepare(b.level(Path("a.glb")), brief).scene
        found = viewing(scene, RaySpace(scene.corners), np.array([[0.0, 1.6, 0.0]]))
        rows = scene.node == scene.node_names.index("g/far")
        np.testing.assert_allclose(found.distance[rows], 18.4, rtol=0.01)
        assert set(found.verdict[rows].tolist()) == {far} and set(found.verdict[~rows].tolist()) == {near}
    assert pytest.approx(0.217, abs=0.001) == NEAR / 18.4


# -- pages before a bake


def test_a_survey_counts_as_the_packer_packs_and_knows_its_room() -> None:
    shapes = [(f"b{i}", box((3 * i, 0, 0), (3 * i + 1 + 0.1 * i, 1, 1))) for i in range(12)]
    _, scene, _ = built(*shapes)
    placed = placed_shapes(scene, KeptLayouts(), 1, lambda _: None)
    chosen = ChartSettings(20.0, 128, 2)
    found = survey(scene, placed, chosen)
    atlas, _ = make_atlas(scene, placed, chosen)
    assert (found.atlas.pages, found.atlas.side) == (atlas.pages, atlas.side)
    total = float((atlas.rects[:, 3].astype(float) * atlas.rects[:, 4]).sum())
    assert float(found.texels.sum()) == total == pytest.approx(sum(found.fill) * atlas.side**2)
    assert found.waste == atlas.pages * atlas.side**2 - round(total)
    assert found.bytes == atlas.pages * atlas.side**2 * 6
    for node, charts in found.charts_of.items():
        assert set(atlas.rects[charts, 0].tolist()) == set(found.pages_of[node])
    tight, _ = make_atlas(scene, placed, ChartSettings(20.0 * found.room, 128, 2))
    loose, _ = make_atlas(scene, placed, ChartSettings(20.0 * found.room * 1.03, 128, 2))
    assert tight.pages == atlas.pages < loose.pages


def test_faces_of_other_density_are_cut_into_charts_of_their_own() -> None:
    level, _, _ = built(("floor", joined([floor(2), floor(2).moved(2, 0, 0)])))
    brief = Brief(density_boxes=(DensityBox((1.5, -1, -1), (4, 1, 1), 3.0),))
    scene = prepare(level, brief).scene
    atlas, _ = make_atlas(scene, placed_shapes(scene, KeptLayouts(), 1, lambda _: None), ChartSettings(8.0, 512, 2))
    assert sorted(set(scene.factor.tolist())) == [1.0, 3.0]
    for factor in (1.0, 3.0):
        rows = scene.factor == factor
        uv = atlas.uv[rows].astype(float)
        b, c = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
        texels = 0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0]).sum()
        assert texels == pytest.approx(scene.areas[rows].sum() * (8 * factor) ** 2, rel=0.05)
        assert not set(atlas.chart[rows].tolist()) & set(atlas.chart[~rows].tolist())


@given(st.integers(0, 32))
def test_padding_advice_and_its_inverse_agree(padding: int) -> None:
    mip = safe_mip(padding)
    assert padding_for(mip) <= padding < padding_for(mip + 1)


@pytest.mark.parametrize("level", range(5))
def test_padding_keeps_charts_out_of_one_texel_of_a_level_wherever_they_lie(level: int) -> None:
    side = 2**level
    for padding in range(2 * side + 2):
        ends = np.arange(side)  # the last texel of one chart; the next begins behind the padding
        mixed = bool((ends // side == (ends + padding + 1) // side).any())
        assert mixed == (padding < padding_for(level))


# -- pieces of the checks


@settings(max_examples=60, derandomize=True, deadline=None)
@given(
    st.lists(st.floats(-1, 1), min_size=6, max_size=6), st.floats(-3, 3), st.floats(-2, 2), st.floats(-2, 2)
)  # fmt: skip
def test_overlap_of_a_triangle_with_itself_is_its_area_and_with_a_far_one_none(
    points: list[float], turn: float, x: float, y: float
) -> None:
    a = np.array(points).reshape(3, 2)
    b, c = a[1] - a[0], a[2] - a[0]
    area = 0.5 * abs(b[0] * c[1] - b[1] * c[0])
    poly, spare = np.empty((16, 2)), np.empty((16, 2))
    r = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    moved = a @ r.T + [x, y]
    if area > 1e-2:
        same, cx, cy = clipped(moved, moved[::-1].copy(), poly, spare)
        assert same == pytest.approx(area, rel=1e-5)
        np.testing.assert_allclose([cx, cy], moved.mean(axis=0), atol=1e-5)
    assert clipped(moved, moved + [9.0, 0.0], poly, spare)[0] == 0.0


def test_welding_tells_closed_pieces_their_volume_and_their_borders() -> None:
    _, scene, _ = built(
        ("two", joined([box((0, 0, 0), (1, 2, 3)), ball(0.5, 24, 48).moved(5, 0, 0)])), ("sheet", floor(2)),
        ("inside", box((9, 9, 9), (10, 10, 10)).turned_inside_out()),
    )  # fmt: skip
    sizes = np.array([4.0] * len(scene.node_names))
    found = Welded.of(scene, sizes)
    volumes = sorted(round(float(v), 2) for v, closed in zip(found.volume, found.closed) if closed)
    assert volumes == [-1.0, pytest.approx(4 / 3 * math.pi * 0.125, abs=0.01), 6.0]
    sheet = scene.node_names.index("g/sheet")
    assert (~found.closed).sum() == 1 and found.node[~found.closed].tolist() == [sheet]
    assert found.borders[scene.node == sheet].sum() == 4 and not found.borders[scene.node != sheet].any()
    assert float(found.area.sum()) == pytest.approx(float(scene.areas.sum()))


def test_overlap_of_flat_triangles() -> None:
    a = np.array([[[0, 0], [1, 0], [0, 1]]], np.float32)
    assert overlap_of(a) == (0.0, -1)
    share, worst = overlap_of(np.concatenate([a, a]))
    assert share == pytest.approx(1.0) and worst == 0
    half = np.concatenate([a, np.array([[[1, 1], [0, 1], [1, 0]]], np.float32)])
    assert overlap_of(half)[0] == 0.0


# -- sky pictures


def radiance_file(path: Path, pixels: np.ndarray, packed: bool) -> Path:
    """Write (H, W, 4) uint8 RGBE in the plain or in the run-length form, by hand."""
    height, width = pixels.shape[:2]
    out = [b"#?RADIANCE\n# by hand\nFORMAT=32-bit_rle_rgbe\n\n", f"-Y {height} +X {width}\n".encode()]
    for row in pixels:
        if not packed:
            out.append(row.tobytes())
            continue
        out.append(bytes([2, 2, width >> 8, width & 255]))
        for component in row.T:
            x = 0
            while x < width:
                run = 1
                while x + run < width and run < 127 and component[x + run] == component[x]:
                    run += 1
                if run > 2:
                    out.append(bytes([128 + run, component[x]]))
                else:
                    run = min(run, width - x)
                    out.append(bytes([run, *component[x : x + run]]))
                x += run
    path.write_bytes(b"".join(out))
    return path


@pytest.mark.parametrize("packed", [False, True])
def test_radiance_pictures_are_read_in_both_forms(tmp_path: Path, packed: bool) -> None:
    rng = np.random.default_rng(3)
    pixels = rng.integers(0, 255, (6, 20, 4)).astype(np.uint8)
    pixels[2:4] = pixels[2, 0]
    pixels[5, :, 3] = 0
    read = read_hdr(radiance_file(tmp_path / "s.hdr", pixels, packed))
    expected = (pixels[..., :3] + 0.5) * np.ldexp(1.0, pixels[..., 3:].astype(int) - 136)
    expected[5] = 0
    np.testing.assert_allclose(read, expected, rtol=1e-6)
    assert read_sky_picture(tmp_path / "s.hdr").shape == (6, 20, 3)


def test_damaged_sky_pictures_are_refused_in_a_sentence(tmp_path: Path) -> None:
    pixels = np.full((4, 16, 4), 130, np.uint8)
    good = radiance_file(tmp_path / "s.hdr", pixels, True).read_bytes()
    cases = {
        "cut": good[:-9],
        "head": good.replace(b"RADIANCE", b"RADIANT!"),
        "format": good.replace(b"_rgbe", b"_xyze"),
        "huge": good.replace(b"-Y 4 +X 16", b"-Y 99999 +X 99999"),
        "odd": good.replace(b"-Y 4 +X 16", b"+X 16 -Y 4"),
        "run": good[:60] + b"\x00" * 40,
        "empty": b"",
    }
    for name, data in cases.items():
        path = tmp_path / f"{name}.hdr"
        path.write_bytes(data)
        with pytest.raises(LevelError):
            read_sky_picture(path)
    for name in ("gone.hdr", "gone.exr", "sky.png"):
        with pytest.raises(LevelError):
            read_sky_picture(tmp_path / name)
    (tmp_path / "bad.exr").write_bytes(b"nonsense")
    with pytest.raises(LevelError, match="damaged"):
        read_sky_picture(tmp_path / "bad.exr")


def test_exr_skies_and_the_mean_over_the_sphere(tmp_path: Path) -> None:
    pixels = np.zeros((64, 128, 3), np.float32)
    pixels[:32] = [4.0, 2.0, 1.0]
    with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, {"RGB": pixels}) as file:
        file.write(str(tmp_path / "s.exr"))
    read = read_sky_picture(tmp_path / "s.exr")
    np.testing.assert_array_equal(read, pixels)
    # Half of the sphere is lit.
    np.testing.assert_allclose(mean_radiance(read), [2, 1, 0.5], rtol=1e-6)
    # A band round the pole covers little of the sphere: 1 − cos of its angle, over 2.
    cap = np.zeros((64, 128, 3), np.float32)
    cap[:8] = 1.0
    assert mean_radiance(cap)[0] == pytest.approx((1 - math.cos(math.pi / 8)) / 2, rel=2e-3)
    pixels[0, 0] = np.nan
    with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, {"RGB": pixels}) as file:
        file.write(str(tmp_path / "n.exr"))
    with pytest.raises(LevelError, match="not finite"):
        read_sky_picture(tmp_path / "n.exr")


def test_regions_hold_boxes_in_any_order() -> None:
    assert Box((1, 5, 0), (0, 2, 3)).ordered() == Box((0, 2, 0), (1, 5, 3))
