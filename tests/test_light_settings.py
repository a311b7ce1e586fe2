"""What lights and marks mean for the light: size, disk, share, colour, subtraction, switches; by closed forms."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, events, floor, level_file, meter, recipe, room
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import box
from ropebell.level.brief import Box as RegionBox
from ropebell.level.brief import Brief, LightChange, Mark, Region
from ropebell.level.model import Light

FINAL = {"light__gather_rays": 16, "light__direct_samples": 256}


def lit_floor(folder: Path, light: Light, place: np.ndarray, *more: tuple[str, object]) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(8), "grey")
    for name, shape in more:
        b.add("g", name, shape, "grey")  # type: ignore[arg-type]
    b.light("l", light, place)
    return level_file(folder, b)


@pytest.mark.parametrize("radius", [0.05, 0.3, 0.9])
def test_a_ball_of_light_over_a_floor(tmp_path: Path, radius: float) -> None:
    """As long as all of the ball is above the horizon, its light is that of a point: E = I cos θ / d²."""
    path = lit_floor(tmp_path, Light("l", "point", (1, 1, 1), 100.0), at(0, 1.5, 0))
    brief = Brief(lights={"lights/l": LightChange(size=radius)})
    bake(path, recipe("final", light__bounces=0, **FINAL), tmp_path / "o", brief=brief)
    for x in (0.0, 1.0, 2.5):
        expected = 100 * 1.5 / ((x + 0.025) ** 2 + 0.025**2 + 1.5**2) ** 1.5
        got = meter(tmp_path / "o", (x + 0.025, 0, 0.025))[0].irradiance[0]
        assert got == pytest.approx(expected, rel=0.01)


@pytest.mark.parametrize("disk", [0.27, 4.0])
def test_a_sun_with_a_disk_brings_what_a_sun_does_and_its_shadow_is_half_at_the_edge(
    tmp_path: Path, disk: float
) -> None:
    """E = E₀ cos θ; where the geometric shadow of an edge ends, half of the disk is seen."""
    wall = box((-4, 0, -0.1), (4, 1.0, 0.0))
    sun = Light("l", "directional", (1, 1, 1), 1000.0)
    path = lit_floor(tmp_path, sun, aimed((0, 9, -9), (0, 0, 0)), ("wall", wall))
    brief = Brief(lights={"lights/l": LightChange(size=disk)})
    made = recipe("final", light__bounces=0, **FINAL)
    bake(path, made, tmp_path / "o", brief=brief)
    open_, edge, dark = meter(tmp_path / "o", (0, 0, 3), (0.025, 0, 1.0), (0, 0, 0.3))
    assert open_.irradiance[0] == pytest.approx(1000 / math.sqrt(2), rel=0.01)
    assert edge.irradiance[0] == pytest.approx(500 / math.sqrt(2), rel=0.12)
    assert dark.irradiance[0] == 0.0
    if disk > 1:
        # The penumbra on the floor: from where the lower rim to where the upper rim of the disk clears the edge.
        low, high = (1 / math.tan(math.radians(45 + s * disk)) for s in (1, -1))
        inside, outside = meter(tmp_path / "o", (0.025, 0, low + 0.03), (0.025, 0, high - 0.03))
        assert 0 < inside.irradiance[0] < 0.35 * open_.irradiance[0]
        assert 0.65 * open_.irradiance[0] < outside.irradiance[0] < open_.irradiance[0]


def in_a_room(folder: Path, brief: Brief, name: str, color: tuple[float, float, float] = (0.8, 0.3, 0.3)) -> Path:
    b = LevelBuilder()
    b.material("wall", color)
    b.material("other", (0.6, 0.6, 0.6))
    b.material("glow", (0.5, 0.5, 0.5), glow=(50.0, 50.0, 50.0))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "block", box((1.6, 0, 1.6), (2.4, 1.0, 2.4)), "other")
    b.light("a", Light("a", "point", (1, 1, 1), 100.0), at(0.8, 2.2, 0.8))
    b.light("b", Light("b", "point", (1, 1, 1), 100.0), at(0.8, 2.2, 0.8))
    path = level_file(folder, b)
    made = recipe("working", density__texels_per_metre=6.0, light__bounces=6)
    bake(path, made, folder / name, brief=brief)
    return folder / name


def test_share_and_colour_in_the_bounces(tmp_path: Path) -> None:
    off = {"lights/b": LightChange(enabled=False)}
    full = meter(in_a_room(tmp_path, Brief(lights=off), "full"), (3.2, 0, 1.0))[0]
    for share in (0.0, 0.5, 2.0):
        brief = Brief(lights={**off, "lights/a": LightChange(share=share)})
        got = meter(in_a_room(tmp_path, brief, f"s{share}"), (3.2, 0, 1.0))[0]
        np.testing.assert_allclose(got.direct, full.direct, rtol=1e-3)
        np.testing.assert_allclose(got.bounced, share * full.bounced, rtol=2e-3, atol=0.02)
        np.testing.assert_allclose(got.lights["lights/a"], got.irradiance, rtol=2e-3)
    red = Brief(lights={**off, "lights/a": LightChange(color=(1.0, 0.2, 0.2), saturation=0.0)})
    grey = meter(in_a_room(tmp_path, red, "grey", (0.5, 0.5, 0.5)), (3.2, 0, 1.0))[0]
    assert grey.direct[0] > 4 * grey.direct[1]
    np.testing.assert_allclose(grey.bounced, grey.bounced.mean(), rtol=5e-3)


def test_lights_that_subtract_take_away_and_never_below_nothing(tmp_path: Path) -> None:
    half = Brief(lights={"lights/b": LightChange(40.0, subtracts=True)})
    alone = Brief(lights={"lights/b": LightChange(enabled=False)})
    place = (3.2, 0, 1.0)
    whole, less = (meter(in_a_room(tmp_path, b, n), place)[0] for b, n in ((alone, "whole"), (half, "less")))
    np.testing.assert_allclose(less.irradiance, 0.6 * whole.irradiance, rtol=3e-3)
    assert less.lights["lights/b"][0] < 0
    dark = in_a_room(tmp_path, Brief(lights={"lights/b": LightChange(300.0, subtracts=True)}), "dark")
    assert meter(dark, place)[0].irradiance[0] == 0.0
    energy = next(e for e in events(dark) if e["event"] == "energy")
    assert energy["cut_below_zero"] > 0
    assert next(e for e in events(tmp_path / "whole") if e["event"] == "energy")["cut_below_zero"] == 0


def test_objects_that_add_no_bounced_light_cast_none_and_receive_no_shadow(tmp_path: Path) -> None:
    plain = in_a_room(tmp_path, Brief(), "plain")
    shadow, lit = (3.2, 0, 3.2), (0.8, 0, 3.0)
    before = meter(plain, shadow, lit)
    # A black room bounces nothing at all.
    quiet = in_a_room(tmp_path, Brief(marks={n: Mark(bounces=False) for n in ("g/room", "g/block")}), "quiet")
    np.testing.assert_allclose(meter(quiet, lit)[0].bounced, 0, atol=1e-3)
    np.testing.assert_allclose(meter(quiet, lit)[0].direct, before[1].direct, rtol=1e-3)
    # Without its shadow: E = Σ I cos θ / d² behind the block too.
    expected = 200 * 2.2 / ((2.4**2) * 2 + 2.2**2) ** 1.5
    assert before[0].direct[0] < 0.2 * expected
    ghost = in_a_room(tmp_path, Brief(marks={"g/block": Mark(casts=False)}), "ghost")
    assert meter(ghost, shadow)[0].direct[0] == pytest.approx(expected, rel=0.02)
    assert meter(ghost, (2.0, 1.0, 2.0))[0].direct[0] > 1, "it is lit itself all the same"
    bright = in_a_room(tmp_path, Brief(marks={"g/room": Mark(receives=False)}), "bright")
    assert meter(bright, shadow)[0].direct[0] == pytest.approx(expected, rel=0.02)


def test_fewer_rays_outside_the_region_and_the_same_light(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "near", floor(4), "grey")
    b.add("g", "far", floor(4).moved(9, 0, 0), "grey")
    path = level_file(tmp_path, b)
    region = Region((RegionBox((-2, -1, -2), (2, 2, 2)),), outside=4.0)
    made = recipe("working", light__gather_rays=256, light__bounces=1)
    manifest = bake(path, made, tmp_path / "o", sky=(100.0, 100.0, 100.0), brief=Brief(region=region))
    from ropebell.build.store import Store

    hits = Store(tmp_path / "cache").get(manifest["digests"]["transport"])
    counted = hits.arrays["counted"]
    # A quarter of 256 outside, to the ray.
    assert set(np.unique(counted).tolist()) == {64, 256}
    near, far = meter(tmp_path / "o", (0, 0, 0), (9, 0, 0))
    assert near.irradiance[0] == pytest.approx(100 * math.pi, rel=0.01)
    assert far.irradiance[0] == pytest.approx(100 * math.pi, rel=0.01)
