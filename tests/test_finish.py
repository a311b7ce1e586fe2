"""Finishing: noise and its bound, occlusion against true distances, seams along shared edges."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from helpers import UP, bake, floor, laid_out, level_file, meter, recipe, room
from ropebell.build.meter import Meter
from ropebell.build.result import open_result
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box, quad
from ropebell.level.model import Light
from ropebell.light.denoise import Layout, Sheets, chart_means, denoised, towards_means
from ropebell.light.footing import find_open_samples
from ropebell.light.noise import standard_error
from ropebell.light.occlusion import occlusion, texel_places
from ropebell.light.rays import RaySpace
from ropebell.light.seams import MOST_PARTNERS, _overlaps, find_seams
from ropebell.light.surface import Surface
from ropebell.light.transport import Gather, empty_hits


def lit_room(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.7, 0.7, 0.7))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "block", box((0, 0, 0), (0.7, 1.1, 0.6)), "wall", at(1.5, 0, 1.5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 300.0), at(0.7, 2.5, 0.7))
    return level_file(folder, b)


def test_denoising_takes_noise_out_and_leaves_lamp_shadows(tmp_path: Path) -> None:
    path = lit_room(tmp_path)
    many = recipe("working", density__texels_per_metre=8.0, light__gather_rays=1024)
    few = recipe("working", density__texels_per_metre=8.0, light__gather_rays=16)
    clean = recipe("working", density__texels_per_metre=8.0, light__gather_rays=16, finish__denoise=True)
    for name, made in (("true", many), ("noisy", few), ("clean", clean)):
        bake(path, made, tmp_path / name)
    true, noisy, denoised = (open_result(tmp_path / n) for n in ("true", "noisy", "clean"))
    inside = true.total[..., 0] > 0
    error = [float(np.sqrt(np.mean((r.total - true.total)[inside] ** 2))) for r in (noisy, denoised)]
    assert error[1] < 0.75 * error[0]
    # Not biased, and direct light is exactly what it was.
    assert denoised.total[inside].mean() == pytest.approx(noisy.total[inside].mean(), rel=0.01)
    np.testing.assert_array_equal(denoised.direct, noisy.direct)
    for result in (denoised, noisy):
        told = result.manifest.finish.noise
        assert told is not None and 0 < told.half_within < told.most_within < 0.5


def test_the_standard_error_of_known_rays() -> None:
    hits = np.array([[0, 1, 0, 1], [2, 2, 2, -3], [-1, -2, -1, -2], [-3, -3, -3, -3]], np.int32)
    total = np.array([[1, 1, 1], [3, 3, 3], [5, 5, 5], [0, 0, 0]], np.float32)
    found = standard_error(hits, total, np.full((4, 3), 0.5, np.float32), np.ones(3, np.float32), 1, lambda _: None)
    # 0.5 and 1.5 twice each: standard deviation 0.5, over the root of n − 1.
    np.testing.assert_allclose(found[0], 0.5 / math.sqrt(3), rtol=1e-6)
    np.testing.assert_allclose(found[1], 0, atol=1e-6)
    np.testing.assert_allclose(found[2], math.pi / 2 / math.sqrt(3), rtol=1e-6)
    np.testing.assert_allclose(found[3], 0)
    # Told from some of the rays, it is that of all that a texel has, which may be fewer than another has.
    many = np.array([[0, 1, 0, 1, 0, 1, 0, 1], [0, 1, 0, 1, 0, 1, -3, -3]], np.int32)
    part = standard_error(
        many, total, np.full((4, 3), 0.5, np.float32), np.ones(3, np.float32), 1, lambda _: None, looked=4
    )
    np.testing.assert_allclose(part[:, 0], [math.sqrt(0.25 * 4 / 3 / n) for n in (8, 6)], rtol=1e-6)
    early = standard_error(
        many, total, np.full((4, 3), 0.5, np.float32), np.ones(3, np.float32), 1, lambda _: None, rays=4
    )
    np.testing.assert_allclose(early[:, 0], 0.5 / math.sqrt(3), rtol=1e-6)


def test_occlusion_is_that_of_the_true_distances(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("wall", (0.7, 0.7, 0.7))
    b.add("g", "room", room(3, 3, 3), "wall")
    scene, atlas, texels = laid_out(b, 8.0)
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    samples = find_open_samples(surface, space, texels, atlas, 1, lambda _: None)
    hits = empty_hits(len(texels), 256)
    gather = Gather.of(surface, space, texels, atlas, samples, 1)
    gather.shoot(gather.rows, (0, 256), hits, 2, lambda _: None)
    places = texel_places(scene, samples.triangle, samples.weights, samples.count)
    found = occlusion(hits, places, 1.0, 2, lambda _: None)
    rng = np.random.default_rng(1)
    for wanted in ((1.5, 0.0, 1.5), (0.3, 0.0, 1.5), (0.2, 0.0, 0.2)):
        i = int(np.argmin(np.linalg.norm(places - wanted, axis=1)))
        u, v = rng.random((2, 40_000))
        r, turn = np.sqrt(u), 2 * np.pi * v
        directions = np.stack([r * np.cos(turn), np.sqrt(1 - u), r * np.sin(turn)], axis=1)
        # In a box the distance along a ray is that to the nearest of its six planes.
        with np.errstate(divide="ignore"):
            t = np.where(directions > 0, (3 - places[i]) / directions, -places[i] / directions)
        t[:, 1] = np.where(directions[:, 1] > 0, (3 - places[i][1]) / directions[:, 1], np.inf)
        expected = np.maximum(1 - t.min(axis=1) / 1.0, 0).mean()
        assert found[i] == pytest.approx(expected, abs=0.02)


def test_occlusion_darkens_corners_and_no_middles(tmp_path: Path) -> None:
    path = lit_room(tmp_path)
    plain = recipe("working", density__texels_per_metre=8.0)
    dark = recipe("working", density__texels_per_metre=8.0, occlusion__enabled=True, occlusion__radius=0.4)
    half = recipe(
        "working", density__texels_per_metre=8.0, occlusion__enabled=True, occlusion__radius=0.4,
        occlusion__strength=0.5,
    )  # fmt: skip
    for name, made in (("plain", plain), ("dark", dark), ("half", half)):
        bake(path, made, tmp_path / name)
    middle, corner = (3.0, 0, 3.0), (3.93, 0, 3.93)
    before, after, less = (meter(tmp_path / n, middle, corner) for n in ("plain", "dark", "half"))
    assert after[0].irradiance[0] == pytest.approx(before[0].irradiance[0], rel=0.01)
    lost = 1 - after[1].irradiance[0] / before[1].irradiance[0]
    assert lost > 0.3
    assert 1 - less[1].irradiance[0] / before[1].irradiance[0] == pytest.approx(lost / 2, rel=0.05)


def split_floor() -> LevelBuilder:
    """A floor of two objects that meet along x = 0, at odd sizes so that their texels do not."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "left", quad([(-1.37, 0, 1), (0, 0, 1), (0, 0, -1), (-1.37, 0, -1)]), "m")
    b.add("g", "right", quad([(0, 0, 1), (1.91, 0, 1), (1.91, 0, -1), (0, 0, -1)]), "m")
    b.add("g", "wall", quad([(-1.37, 1, -1), (-1.37, 0, -1), (0, 0, -1), (0, 1, -1)]), "m")
    return b


def test_seams_are_found_where_faces_go_on_smoothly_and_closed_by_little(tmp_path: Path) -> None:
    scene, atlas, texels = laid_out(split_floor(), 6.0)
    seams = find_seams(scene, atlas, texels, lambda _: None)
    # One edge of 2 m at six texels a metre; the edges to the wall are creases.
    assert 12 <= seams.points <= 36
    smooth = np.ones((len(texels), 3), np.float32)
    np.testing.assert_allclose(seams.steps(smooth), 0, atol=1e-9)
    np.testing.assert_allclose(seams.closed(smooth), smooth, atol=1e-6)
    owner = scene.node[texels.owner]
    names = scene.node_names
    field = np.where((owner == names.index("g/left"))[:, None], 1.0, 1.2).astype(np.float32).repeat(3, axis=1)
    closed = seams.closed(field)
    assert np.abs(seams.steps(field)).mean() == pytest.approx(0.2, rel=1e-5)
    assert np.abs(seams.steps(closed)).mean() < 0.04
    # Only texels beside the seam move, and none beyond what was on either side.
    moved = np.abs(closed - field).max(axis=1) > 1e-4
    assert 0 < moved.sum() < 0.35 * len(field)
    assert closed.min() > 0.95 and closed.max() < 1.25
    assert (seams.closed(np.zeros_like(field)) == 0).all()


@pytest.mark.parametrize("turn", [0.0, 0.7])
@pytest.mark.parametrize("split", [-0.4, 0.31])
def test_seams_close_where_a_long_edge_meets_short_ones(split: float, turn: float) -> None:
    """No corner of the long edge is where the short ones meet; each point of it has one partner all the same."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    place = at(3.0, 0.5, -2.0, turn)
    b.add("g", "left", quad([(-1.37, 0, 1), (0, 0, 1), (0, 0, -1), (-1.37, 0, -1)]), "m", place)
    b.add("g", "near", quad([(0, 0, 1), (1.91, 0, 1), (1.91, 0, split), (0, 0, split)]), "m", place)
    b.add("g", "far", quad([(0, 0, split), (1.1, 0, split), (1.1, 0, -1.3), (0, 0, -1.3)]), "m", place)
    # On the same line, but on the same side of it, or a step up: no seam.
    b.add("g", "over", quad([(-1, 0.3, 1), (0, 0.3, 1), (0, 0.3, -1), (-1, 0.3, -1)]), "m", place)
    b.add("g", "wall", quad([(0, 0, 1), (0, 0, -1), (0, 1, -1), (0, 1, 1)]), "m", place)
    scene, atlas, texels = laid_out(b, 6.0)
    seams = find_seams(scene, atlas, texels, lambda _: None)
    owner, names = scene.node[texels.owner], scene.node_names
    level = np.zeros(len(names))
    level[[names.index(f"g/{n}") for n in ("left", "near", "far", "over", "wall")]] = 1.0, 1.2, 1.3, 5.0, 9.0
    field = level[owner][:, None].astype(np.float32).repeat(3, axis=1)
    steps = np.abs(seams.steps(field))[:, 0]
    # The long edge against each short one, and the short ones against each other; nothing else.
    assert {round(float(s), 3) for s in np.unique(steps.round(3))} == {0.1, 0.2, 0.3}
    along = [(steps.round(3) == s).sum() for s in (0.2, 0.3)]
    assert along[0] / along[1] == pytest.approx((1 - split) / (split + 1), rel=0.25)
    closed = seams.closed(field)
    assert np.abs(seams.steps(closed)).mean() < 0.2 * steps.mean()
    np.testing.assert_array_equal(closed[owner == names.index("g/over")], 5.0)


@pytest.mark.parametrize("stray", [0.0, 1e3, 1e5])
def test_a_stray_crate_far_away_makes_no_seams_of_what_is_a_step(stray: float) -> None:
    """What lies in one place is told by the level, not by the farthest thing in it."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "left", quad([(-2, 0, 2), (0, 0, 2), (0, 0, -2), (-2, 0, -2)]), "m")
    b.add("g", "near", quad([(0, 0, 2), (2, 0, 2), (2, 0, 0.5), (0, 0, 0.5)]), "m")
    b.add("g", "step", quad([(0, 0.05, 0.5), (2, 0.05, 0.5), (2, 0.05, -2), (0, 0.05, -2)]), "m")
    if stray:
        b.add("g", "stray", box((0, 0, 0), (1, 1, 1)), "m", at(stray, 0, 0))
    scene, atlas, texels = laid_out(b, 4.0)
    seams = find_seams(scene, atlas, texels, lambda _: None)
    level = np.array([{"g/left": 1.0, "g/near": 1.2, "g/step": 5.0}.get(name, 9.0) for name in scene.node_names])
    field = level[scene.node[texels.owner]][:, None].astype(np.float32).repeat(3, axis=1)
    np.testing.assert_allclose(np.abs(seams.steps(field)), 0.2, rtol=1e-5)
    assert seams.points >= 8


@pytest.mark.parametrize("thick", [0.02, 0.15, 0.6])
def test_light_does_not_creep_under_a_wall_that_stands_on_a_joint(tmp_path: Path, thick: float) -> None:
    """Two floors in one plane, a lamp over one of them, a wall on the line where they meet for half of its length."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "left", quad([(-2, 0, 2), (0, 0, 2), (0, 0, -2), (-2, 0, -2)]), "m")
    b.add("g", "right", quad([(0, 0, 2), (2, 0, 2), (2, 0, -2), (0, 0, -2)]), "m")
    b.add("g", "wall", box((-thick / 2, 0, 0), (thick / 2, 3, 2)), "m")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 100.0), at(-1, 1.5, 1))
    path = level_file(tmp_path, b)
    lux = {}
    for stitched in (False, True):
        made = recipe("working", density__texels_per_metre=6.0, light__gather_rays=16, finish__stitch_seams=stitched)
        manifest = bake(path, made, tmp_path / f"{stitched}")
        reader = Meter(open_result(tmp_path / f"{stitched}"))
        spots = np.array([(thick / 2 + 0.1, 0.0, z) for z in (0.4, 1.0, 1.6)])
        lux[stitched] = [r.irradiance[0] for r in reader.read_many(spots, np.array(UP))]
    np.testing.assert_allclose(lux[True], lux[False], rtol=1e-3, atol=1e-3)
    # Where nothing stands on it, the joint is a seam all the same.
    assert manifest["finish"]["seams"]["points"] >= 12


def test_things_stacked_by_the_thousand_do_not_cost_their_square() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for number in range(800):
        b.add("g", f"crate {number}", box((0, 0, 0), (1, 1, 1)), "m")
    scene, atlas, texels = laid_out(b, 2.0)
    edges = 3 * len(scene)
    assert find_seams(scene, atlas, texels, lambda _: None).points < edges * MOST_PARTNERS
    line, start = np.zeros(20_000, np.int64), np.zeros(20_000)
    first, second = _overlaps(line, start, start + 1.0, 1e-6)
    assert len(first) <= 20_000 * MOST_PARTNERS and np.bincount(first).max() == MOST_PARTNERS and (first < second).all()


def test_seams_of_round_things_close_in_a_build(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("m", (0.6, 0.6, 0.6))
    b.add("g", "ball", ball(1.0, 16, 24), "m")
    path = level_file(tmp_path, b)
    made = recipe("working", density__texels_per_metre=6.0, light__gather_rays=32, finish__stitch_seams=True)
    manifest = bake(path, made, tmp_path / "o", sky=(100.0, 100.0, 100.0))
    seams = manifest["finish"]["seams"]
    assert seams["points"] > 50 and seams["step_after"] < 0.4 * seams["step_before"] + 1e-3


def two_plates(density: float = 8.0) -> tuple:
    b = LevelBuilder()
    b.material("wall", (0.7, 0.7, 0.7))
    b.add("g", "left", floor(4), "wall")
    b.add("g", "right", floor(4), "wall", at(6, 0, 0))
    b.add("g", "chip", floor(0.3), "wall", at(0, 1, 0))
    scene, atlas, texels = laid_out(b, density)
    space = RaySpace(scene.corners)
    samples = find_open_samples(Surface.of(scene, space), space, texels, atlas, 1, lambda _: None)
    return Layout.of(texels, atlas, samples), np.array(scene.node_names)[scene.node[texels.owner]]


def test_denoising_is_chart_by_chart(tmp_path: Path) -> None:
    """What lies beside a chart on the page, however bright, is nothing to it."""
    layout, name = two_plates()
    rng = np.random.default_rng(4)
    noisy = np.maximum(10.0 + 2.0 * rng.standard_normal((len(name), 3)), 0.0).astype(np.float32)
    error = np.full_like(noisy, 2.0)
    left, right = name == "g/left", name == "g/right"
    plain = denoised(noisy, error, layout, lambda _: None)
    for factor in (1e-3, 1e3):
        other = noisy.copy()
        other[right] *= np.float32(factor)
        found = denoised(other, error, layout, lambda _: None)
        np.testing.assert_allclose(found[left], plain[left], rtol=1e-3)
    # Other noise there is other noise beyond the margin: the filter's guess of what is noise may move by a hair.
    other = noisy.copy()
    other[right] = 0.0
    found = denoised(other, error, layout, lambda _: None)
    change = found[left] - plain[left]
    assert np.sqrt(np.square(change).mean()) < 0.03 * 2.0 and abs(change.mean()) < 0.01 * 2.0
    assert plain[left].std() < 0.35 * noisy[left].std()
    assert plain[left].mean() == pytest.approx(noisy[left].mean(), rel=0.01)
    # Where no noise is known of, nothing moves.
    still = denoised(noisy, np.zeros_like(noisy), layout, lambda _: None)
    np.testing.assert_array_equal(still, noisy)


def test_small_charts_are_drawn_to_their_mean_as_far_as_noise_goes() -> None:
    layout, name = two_plates()
    texels, atlas = layout.texels, layout.atlas
    chip = name == "g/chip"
    assert 1 < chip.sum() < 16
    chart = atlas.chart[texels.owner]
    rng = np.random.default_rng(4)
    field = np.zeros((len(texels), 3), np.float32)
    lit = np.ones(len(texels), np.bool_)
    field[chip] = 5.0 + rng.standard_normal((int(chip.sum()), 3))
    mean = chart_means(field, chart, lit, len(atlas.rects))
    for noise, left in ((10.0, 0.0), (0.0, 1.0)):
        error = np.full_like(field, noise)
        found = towards_means(field, error, mean, chart, lit)
        assert found[chip].std(axis=0) == pytest.approx(left * field[chip].std(axis=0), abs=1e-5)
    half = np.broadcast_to(field[chip].std(axis=0) / np.sqrt(2), field.shape).astype(np.float32)
    found = towards_means(field, half, mean, chart, lit)
    assert found[chip].std(axis=0) == pytest.approx(0.5 * field[chip].std(axis=0), rel=1e-3)


def test_sheets_hold_every_chart_with_its_own_light_mirrored_round_it() -> None:
    layout, name = two_plates()
    texels, atlas = layout.texels, layout.atlas
    chart = atlas.chart[texels.owner]
    lit = np.ones(len(texels), np.bool_)
    lit[np.flatnonzero(name == "g/left")[5]] = False
    field = np.random.default_rng(1).random((len(texels), 3)).astype(np.float32)
    level = np.ones(len(atlas.rects))
    sheets = Sheets.of(atlas, chart)
    assert (sheets.sheet >= 0).sum() == 2 and sheets.count == 1
    drawn = sheets.drawn(0, field, lit, level, texels, atlas)
    for c in np.flatnonzero(sheets.sheet == 0):
        width, height = atlas.rects[c, 3:]
        g, x, y = sheets.margin[c], sheets.x[c], sheets.y[c]
        cell = drawn[y : y + height + 2 * g, x : x + width + 2 * g]
        inside = cell[g : g + height, g : g + width]
        np.testing.assert_array_equal(cell, np.pad(inside, ((g, g), (g, g), (0, 0)), mode="symmetric"))
        for n in np.flatnonzero((chart == c) & lit):
            at_ = texels.row[n] - atlas.rects[c, 2], texels.column[n] - atlas.rects[c, 1]
            np.testing.assert_array_equal(inside[at_], field[n])
