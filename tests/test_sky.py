"""Sky pictures as light: closed forms, shadows, colour, and what re-uses what."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from helpers import bake, floor, level_file, meter, recipe
from ropebell.build.manifest import parse_manifest
from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.relight import Relight
from ropebell.build.result import open_result
from ropebell.build.stale import stale_stages
from ropebell.demo.builder import LevelBuilder
from ropebell.demo.shapes import box
from ropebell.level.brief import Brief, Sky
from ropebell.level.open import open_level
from ropebell.light.pages import Filling
from ropebell.light.sky import SkyMap

HEIGHT, WIDTH = 128, 256


def picture(path: Path, pixels: np.ndarray) -> Path:
    head = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(head, {"RGB": np.ascontiguousarray(pixels, np.float32)}) as file:
        file.write(str(path))
    return path


def directions() -> np.ndarray:
    """(H, W, 3) middle of each pixel: the middle column along −Z, columns to its right towards +X."""
    down = np.pi * (np.arange(HEIGHT) + 0.5)[:, None] / HEIGHT
    turn = 2 * np.pi * (np.arange(WIDTH) + 0.5)[None, :] / WIDTH
    y = np.cos(down) + 0 * turn
    r = np.sin(down)
    return np.stack([-r * np.sin(turn), y, r * np.cos(turn)], axis=2)


def patch(axis: tuple[float, float, float], degrees: float, radiance: float) -> np.ndarray:
    """A disk of light on a dark sky."""
    a = np.array(axis) / np.linalg.norm(axis)
    lit = directions() @ a > math.cos(math.radians(degrees))
    return np.repeat(lit[..., None] * radiance, 3, axis=2)


def yard(folder: Path, wall: bool = True) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(8), "grey")
    if wall:
        b.add("g", "wall", box((-4, 0, -0.1), (4, 1.0, 0.0)), "grey")
    return level_file(folder, b)


def baked(level: Path, out: Path, pixels: np.ndarray, turn: float = 0.0, scale: float = 1.0, **more: object) -> dict:
    path = picture(out.with_suffix(".exr"), pixels)
    rows = np.sin(np.pi * (np.arange(HEIGHT) + 0.5) / HEIGHT)
    mean = (pixels.mean(axis=1) * rows[:, None]).sum(axis=0) / rows.sum() * scale
    brief = Brief(skies={"s": Sky(picture=path.name, turn=turn)}, sky="s")
    made = recipe("final", density__texels_per_metre=8.0, light__gather_rays=64, light__bounces=0, **more)
    sky = tuple(float(v) for v in mean)
    return bake(level, made, out, sky=sky, brief=brief, sky_picture=path)


def test_an_even_picture_is_a_uniform_sky(tmp_path: Path) -> None:
    baked(yard(tmp_path, wall=False), tmp_path / "o", np.full((HEIGHT, WIDTH, 3), [100.0, 50.0, 0.0]))
    got = meter(tmp_path / "o", (0, 0, 0))[0].irradiance
    np.testing.assert_allclose(got, [100 * np.pi, 50 * np.pi, 0], rtol=0.01)


@pytest.mark.parametrize("elevation", [30.0, 60.0, 90.0])
def test_one_bright_patch_brings_its_radiance_times_its_solid_angle(tmp_path: Path, elevation: float) -> None:
    """E = L Ω sin(elevation), and a wall keeps it off where the patch is behind it."""
    e = math.radians(elevation)
    axis = (0.0, math.sin(e), -math.cos(e))
    pixels = patch(axis, 6.0, 5000.0)
    solid = np.pi / HEIGHT * 2 * np.pi / WIDTH * np.sin(np.pi * (np.arange(HEIGHT) + 0.5) / HEIGHT)
    cosine = np.maximum(directions()[..., 1], 0)
    expected = float((pixels[..., 0] * cosine * solid[:, None]).sum())
    baked(yard(tmp_path), tmp_path / "o", pixels)
    open_, shadow = meter(tmp_path / "o", (0, 0, 3.5), (0, 0, 0.2))
    assert open_.irradiance[0] == pytest.approx(expected, rel=0.01)
    assert open_.lights["sky"][0] == pytest.approx(expected, rel=0.01)
    if elevation < 80:
        assert shadow.irradiance[0] < 0.02 * expected
    if elevation == 30.0:
        # Turned by half a turn, the light comes from the other side.
        baked(yard(tmp_path), tmp_path / "t", pixels, turn=180.0)
        behind, front = meter(tmp_path / "t", (0, 0, -0.3), (0, 0, 0.3))
        assert behind.irradiance[0] < 0.02 * expected and front.irradiance[0] == pytest.approx(expected, rel=0.01)


def test_pixels_are_sampled_as_they_are_weighed() -> None:
    rng = np.random.default_rng(2)
    sky = SkyMap.of(rng.random((16, 32, 3)).astype(np.float32) ** 4, 0.0)
    edges = np.cos(np.pi * np.arange(17) / 16)
    pixel = 2 * np.pi / 32 * (edges[:-1] - edges[1:])
    assert float((sky.density * pixel[:, None]).sum()) == pytest.approx(1.0)
    assert sky.rows[-1] == pytest.approx(1.0) and np.allclose(sky.columns[:, -1], 1.0)
    large = SkyMap.of(np.ones((1200, 2400, 3), np.float32), 0.0)
    assert large.radiance.shape == (400, 800, 3)


def test_strength_reuses_the_sampled_sky_and_relight_follows_it(tmp_path: Path) -> None:
    level = yard(tmp_path)
    pixels = patch((1, 2, -1), 20.0, 800.0) + [20.0, 30.0, 60.0]
    path = picture(tmp_path / "s.exr", pixels)
    brief = Brief(skies={"s": Sky(picture="s.exr")}, sky="s")
    made = recipe("working", density__texels_per_metre=4.0)
    one = bake(level, made, tmp_path / "a", sky=(50.0, 60.0, 90.0), brief=brief, sky_picture=path)
    two = bake(level, made, tmp_path / "b", sky=(100.0, 30.0, 0.0), brief=brief, sky_picture=path)
    assert "direct" in two["reused"] and one["digests"]["sky"] == two["digests"]["sky"] != ""
    turned = replace(brief, skies={"s": Sky(picture="s.exr", turn=90.0)})
    assert (
        bake(level, made, tmp_path / "c", sky=(50.0, 60.0, 90.0), brief=turned, sky_picture=path)["digests"]["sky"]
        != one["digests"]["sky"]
    )
    gathered = gather(open_level(level), brief, made, (100.0, 30.0, 0.0), ())
    found = Relight.of(parse_manifest(one), lambda _: None).on(gathered)
    lit = found.light(found.as_set(gathered.subject.baking, (100.0, 30.0, 0.0))[0])
    result = open_result(tmp_path / "b")
    mine = Filling.of(found.layout.texels, 2).pages(lit.total, found.layout.target)
    inside = found.layout.texels.grid >= 0
    np.testing.assert_allclose(mine[inside], result.total[inside], rtol=2e-3, atol=1e-2)


def test_projects_hand_their_picture_on_and_a_swap_is_stale(tmp_path: Path) -> None:
    level = yard(tmp_path)
    project = find_project(level)
    project.folder.mkdir()
    picture(project.folder / "noon.exr", np.full((HEIGHT, WIDTH, 3), 10.0))
    brief = Brief(skies={"noon": Sky(picture="noon.exr", strength=3.0, color=(1.0, 0.5, 0.0))}, sky="noon")
    project = replace(project, brief=brief)
    assert project.sky == pytest.approx((30.0, 15.0, 0.0), rel=1e-3)
    assert project.sky_picture == (project.folder / "noon.exr").resolve()
    assert replace(project, brief=Brief()).sky_picture is None
    made = project.recipe
    project.builds.mkdir()
    manifest = bake(
        level, made, project.builds / "0001", cache=project.cache, sky=project.sky, brief=brief,
        sky_picture=project.sky_picture,
    )  # fmt: skip
    scene = gather(open_level(level), brief, made, project.sky, ()).subject.baking
    assert stale_stages(scene, project, parse_manifest(manifest), {}).fresh
    turned = project.with_brief(skies={"noon": replace(brief.skies["noon"], turn=10.0)})
    stale = stale_stages(scene, turned, parse_manifest(manifest), {})
    assert stale.changes == ("sky",) and "direct" in stale.stages
    picture(project.folder / "noon.exr", np.full((HEIGHT, WIDTH, 3), 20.0))
    assert project.sky == pytest.approx((60.0, 30.0, 0.0), rel=1e-3)
    (project.folder / "noon.exr").unlink()
    assert project.sky == (0.0, 0.0, 0.0) and project.sky_picture is None
