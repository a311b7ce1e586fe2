"""Surfaces that glow by a picture."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, meter, recipe, room
from ropebell.build.manifest import parse_manifest
from ropebell.build.precheck import gather
from ropebell.build.project import Project
from ropebell.build.recipe import with_value
from ropebell.build.relight import Relight
from ropebell.build.result import read_pages
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import quad
from ropebell.level.brief import Brief, EmitterChange, Mark
from ropebell.level.emission_picture import emission_picture
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, prepare
from ropebell.light.pages import Filling
from ropebell.light.piercing import weights_along

RADIANCE = 1000.0
# A panel of 1 × 1 m that faces down; its picture's u runs along x, v along z.
PANEL = quad([(-0.5, 0, -0.5), (0.5, 0, -0.5), (0.5, 0, 0.5), (-0.5, 0, 0.5)])
UV = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)


def panel_over_floor(pixels: np.ndarray, black: bool = True, closed: bool = False) -> LevelBuilder:
    b = LevelBuilder()
    color = (0.0, 0.0, 0.0) if black else (0.6, 0.5, 0.4)
    b.material("floor", color)
    b.material("panel", color, glow=(RADIANCE,) * 3, glow_texture=b.picture("panel", pixels.astype(np.uint8)))
    b.add("g", "room", room(3, 2, 3) if closed else floor(4), "floor")
    b.add("g", "panel", replace(PANEL, uv=UV), "panel", at(1.5, 1.2, 1.5) if closed else at(0, 1.0, 0))
    return b


def under_rectangle(x: float, z: float, x0: float, x1: float, height: float = 1.0) -> float:
    """Irradiance per cd/m² of a rectangle x0 … x1, ±0.5 (Lambert's polygon formula)."""
    corners = [np.array([cx - x, height, cz - z]) for cx, cz in ((x0, -0.5), (x1, -0.5), (x1, 0.5), (x0, 0.5))]
    total = 0.0
    for a, b in zip(corners, [*corners[1:], corners[0]]):
        a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
        normal = np.cross(a, b)
        total += math.acos(np.clip(a @ b, -1, 1)) * normal[1] / np.linalg.norm(normal)
    return abs(total / 2)


def test_a_picture_says_where_and_in_which_colour(tmp_path: Path) -> None:
    pixels = np.zeros((8, 8, 3))
    pixels[:, :4, 0] = 255  # red for x < 0
    pixels[:, 4:, 2] = 188  # half as much blue for x > 0
    path = level_file(tmp_path, panel_over_floor(pixels))
    made = recipe("final", density__texels_per_metre=10.0, light__bounces=0, finish__denoise=False)
    manifest = bake(path, made, tmp_path / "out")
    assert manifest["emitters"]["g/panel"] == pytest.approx([500.0, 0.0, 0.5029 * 500.0], rel=2e-3)
    # Half of a texel's 64 rays go to the dark half, which leaves some per cent of noise; over 576 texels it is gone.
    places = [(0.05 + 0.1 * i, 0.05 + 0.1 * j) for i in range(-12, 12) for j in range(-12, 12)]
    lit = meter(tmp_path / "out", *[(x, 0.0, z) for x, z in places])
    red, green, blue = np.array([r.irradiance for r in lit]).T
    ratio = red / [RADIANCE * under_rectangle(x, z, -0.5, 0.0) for x, z in places]
    assert ratio.mean() == pytest.approx(1.0, abs=0.006) and ratio.std() < 0.08
    ratio = blue / [0.5029 * RADIANCE * under_rectangle(x, z, 0.0, 0.5) for x, z in places]
    assert ratio.mean() == pytest.approx(1.0, abs=0.006) and ratio.std() < 0.08
    assert (green == 0.0).all()
    assert lit[0].lights["g/panel"] == pytest.approx(lit[0].irradiance, rel=1e-3)


def test_on_the_whole_it_gives_what_its_mean_would(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    pixels = rng.integers(0, 256, (40, 30, 3))
    pictured, even = tmp_path / "pictured", tmp_path / "even"
    for folder in (pictured, even):
        folder.mkdir()
    path = level_file(pictured, panel_over_floor(pixels, closed=True))
    made = recipe("working", density__texels_per_metre=8.0, light__bounces=0, finish__denoise=False)
    # One build's mean has 0.4 % of noise, most of it from the few texels close to the panel.
    seeds = [bake(path, with_value(made, "light.seed", s), pictured / f"out-{s}")["energy"][0] for s in range(6)]
    level = open_level(path)
    scene = flatten(level)
    mean = tuple(float(v) for v in scene.emitters[0].radiance)
    assert mean == pytest.approx([RADIANCE * 0.3125] * 3, rel=0.03)
    plain = panel_over_floor(np.full((1, 1, 3), 255), closed=True)
    flat = bake(level_file(even, plain), made, even / "out",
                brief=Brief(emitters={"panel": EmitterChange(radiance=mean)}))  # fmt: skip
    assert np.mean(seeds) == pytest.approx(flat["energy"][0], rel=0.006)


def test_relight_of_a_pictured_emitter_is_as_a_build(tmp_path: Path) -> None:
    pixels = np.zeros((4, 4, 3))
    pixels[:, :2] = (255, 120, 40)
    pixels[:, 2:] = (10, 60, 255)
    path = level_file(tmp_path, panel_over_floor(pixels, black=False, closed=True))
    made = recipe("working", density__texels_per_metre=6.0, finish__denoise=False, finish__stitch_seams=False)
    project = Project(tmp_path / "p", path, "p", made)
    before = bake(path, made, tmp_path / "before", cache=project.cache)
    change = Brief(emitters={"panel": EmitterChange(radiance=(900.0, 100.0, 40.0))})
    after = bake(path, made, tmp_path / "after", cache=project.cache, brief=change)
    assert set(after["reused"]) >= {"charts", "footing", "direct", "transport"}
    level = open_level(path)
    now = gather(level, change, made, (0.0, 0.0, 0.0), ())
    fields = Relight.of(parse_manifest(before), lambda _: None).on(now)
    assert fields is not None and not fields.moved and len(fields.names) == 4
    scene = now.subject.baking
    relit = fields.light(*fields.as_set(scene, (0, 0, 0))).total
    built, _ = read_pages(tmp_path / "after", parse_manifest(after))
    shown = Filling.of(fields.layout.texels, made.padding).pages(relit, fields.layout.target)
    # The pages are half floats.
    np.testing.assert_allclose(shown[: len(built)], built, rtol=1.2e-3, atol=1e-3)
    only = fields.as_set(scene, (0, 0, 0), frozenset({"g/panel"}))[0]
    assert (only == fields.as_set(scene, (0, 0, 0))[0]).all()
    assert not fields.as_set(scene, (0, 0, 0), frozenset())[0].any()


def test_the_picture_names_the_artifact(tmp_path: Path) -> None:
    pixels = np.zeros((4, 4, 3))
    pixels[:2] = 200
    made = recipe("sketch")

    def name(picture: np.ndarray) -> str:
        return digests(Inputs(flatten(panel_over_floor(picture).level(Path("a.glb"))), made)).one(
            "direct", ("emitter", "g/panel")
        )

    assert name(pixels) == name(pixels.copy()) != name(pixels[::-1])
    # Brighter all over is a factor, no other picture.
    even = [panel_over_floor(np.full((2, 2, 3), v)).level(Path("a.glb")) for v in (80, 200)]
    assert all(flatten(level).emitters[0].picture is None for level in even)


def test_pictures_are_made_small_and_keep_their_mean() -> None:
    rng = np.random.default_rng(8)
    level = panel_over_floor(rng.integers(0, 256, (300, 517, 3))).level(Path("a.glb"))
    scene = flatten(level)
    found = emission_picture(level, level.materials[1], scene.uv0[:2], scene.uv1[:2])
    assert found is not None and found.pixels.shape == (128, 128, 3)
    # Blocks are not all of one size, so their mean is that of the pixels but for the odd ones.
    np.testing.assert_allclose(found.pixels.reshape(-1, 3).mean(axis=0), 1.0, atol=1e-6)
    blue = np.zeros((4, 4, 3))
    blue[:2, :, 2] = 255
    dark = flatten(panel_over_floor(blue).level(Path("a.glb"))).emitters[0].picture
    assert dark is not None and (dark.pixels[..., :2] == 0).all() and dark.pixels[..., 2].max() == pytest.approx(2.0)
    half = prepare(level, Brief(marks={"g/room": Mark(role="left-out")})).baking.emitters[0]
    assert half.picture is not None and len(half.picture.uv) == len(half.triangles) == 2


def test_where_a_ray_meets_a_triangle() -> None:
    rng = np.random.default_rng(4)
    for _ in range(50):
        corners = rng.normal(size=(3, 3)).astype(np.float32)
        b, c = sorted(rng.random(2))
        b, c = b, (1 - b) * c
        target = (1 - b - c) * corners[0] + b * corners[1] + c * corners[2]
        start = target + rng.normal(size=3)
        assert weights_along(corners, *start, *(target - start)) == pytest.approx((b, c), abs=1e-4)
