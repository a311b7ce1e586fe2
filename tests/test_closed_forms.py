"""Light against closed forms, through a whole build and the light meter."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, facing_down, floor, level_file, meter, recipe, room
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import ball, box, quad
from ropebell.level.model import Light

FINAL = recipe("final", density__texels_per_metre=8.0)


def plain(albedo: float = 0.5, glow: float = 0.0) -> LevelBuilder:
    b = LevelBuilder()
    b.material("surface", (albedo,) * 3)
    b.material("glow", (0.0, 0.0, 0.0), glow=(glow,) * 3)
    return b


@pytest.mark.parametrize("scale", [0.01, 1.0, 100.0])
def test_point_light_over_a_floor(tmp_path: Path, scale: float) -> None:
    """E = I cos θ / d², at several places and level sizes."""
    b = plain()
    b.add("g", "floor", floor(6 * scale), "surface")
    b.light("lamp", Light("lamp", "point", (1.0, 0.5, 0.25), 300.0), at(0, 2 * scale, 0))
    bake(level_file(tmp_path, b), recipe("final", density__texels_per_metre=8.0 / scale))
    for x, z in [(0.0, 0.0), (1.3, 0.4), (-2.5, 2.5)]:
        square = x * x + z * z + 4
        expected = 300.0 * (2 / math.sqrt(square)) / (square * scale**2) * np.array([1, 0.5, 0.25])
        reading = meter(tmp_path / "out", (x * scale, 0, z * scale))[0]
        np.testing.assert_allclose(reading.irradiance, expected, rtol=0.01)
        np.testing.assert_allclose(reading.bounced, 0, atol=1e-9)


def test_spot_light_fades_between_its_cones(tmp_path: Path) -> None:
    b = plain()
    b.add("g", "floor", floor(8), "surface")
    spot = Light("spot", "spot", (1, 1, 1), 100.0, None, math.radians(20), math.radians(40))
    b.light("spot", spot, aimed((0, 2, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("final", density__texels_per_metre=30.0))
    for degrees in (0, 15, 30, 36, 45):
        angle = math.radians(degrees)
        fade = (math.cos(angle) - math.cos(math.radians(40))) / (
            math.cos(math.radians(20)) - math.cos(math.radians(40))
        )
        expected = 100 * math.cos(angle) ** 3 / 4 * min(max(fade, 0), 1) ** 2
        reading = meter(tmp_path / "out", (2 * math.tan(angle), 0, 0))[0]
        assert reading.irradiance[0] == pytest.approx(expected, rel=0.02, abs=0.05)


def test_reach_windows_the_inverse_square(tmp_path: Path) -> None:
    b = plain()
    b.add("g", "floor", floor(8), "surface")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 100.0, 3.0), at(0, 2, 0))
    bake(level_file(tmp_path, b), FINAL)
    below, beyond = meter(tmp_path / "out", (0, 0, 0), (3, 0, 0))
    assert below.irradiance[0] == pytest.approx(100 / 4 * (1 - (2 / 3) ** 4), rel=0.01)
    assert beyond.irradiance[0] == 0.0


def test_directional_light_and_its_shadow(tmp_path: Path) -> None:
    """E = E₀ cos θ; nothing behind a blocker; independent of where the light's node stands."""
    b = plain()
    b.add("g", "floor", floor(8), "surface")
    b.add("g", "blocker", box((1, 1, -1), (2, 1.2, 1)), "surface")
    b.light("sun", Light("sun", "directional", (1, 1, 1), 1000.0), aimed((0, -50, 0), (0, -51, 0)))
    bake(level_file(tmp_path, b), recipe("final", density__texels_per_metre=8.0, light__bounces=0))
    open_, shaded = meter(tmp_path / "out", (-2, 0, 0), (1.5, 0, 0))
    assert open_.irradiance[0] == pytest.approx(1000.0, rel=0.005)
    assert shaded.irradiance[0] == 0.0


def test_uniform_sky_over_an_open_floor(tmp_path: Path) -> None:
    b = plain()
    b.add("g", "floor", floor(4), "surface")
    bake(level_file(tmp_path, b), FINAL, sky=(10.0, 20.0, 30.0))
    reading = meter(tmp_path / "out", (0.3, 0, 0.7))[0]
    np.testing.assert_allclose(reading.irradiance, math.pi * np.array([10, 20, 30]), rtol=1e-3)


def lambert_square(side: float, height: float, x: float, z: float) -> float:
    """Irradiance per unit radiance under a square, by Lambert's polygon formula."""
    h = side / 2
    corners = np.array([(-h, height, -h), (-h, height, h), (h, height, h), (h, height, -h)]) - [x, 0, z]
    unit = corners / np.linalg.norm(corners, axis=1, keepdims=True)
    total = 0.0
    for a, b in zip(unit, np.roll(unit, -1, axis=0)):
        cross = np.cross(a, b)
        total += math.acos(a @ b) * cross[1] / np.linalg.norm(cross)
    return abs(total) / 2


@pytest.mark.parametrize("height", [0.3, 1.0, 4.0])
def test_square_emitter_over_a_floor(tmp_path: Path, height: float) -> None:
    b = plain(albedo=0.0, glow=100.0)
    b.add("g", "floor", floor(6), "surface")
    b.add("g", "panel", facing_down(2, height), "glow")
    bake(level_file(tmp_path, b), recipe("final"))
    places = [(0.0, 0.0), (0.8, 0.6), (1.6, 0.2), (-2.5, 2.0)]
    for (x, z), reading in zip(places, meter(tmp_path / "out", *[(x, 0, z) for x, z in places])):
        assert reading.irradiance[0] == pytest.approx(100 * lambert_square(2, height, x, z), rel=0.02)


def test_many_sided_emitter_far_away_is_a_point(tmp_path: Path) -> None:
    """A glowing ball of radius r brings π L r² / d² when seen whole."""
    b = plain(albedo=0.0, glow=1000.0)
    b.add("g", "floor", floor(2), "surface")
    shape = ball(0.1, 24, 48)
    b.add("g", "ball", shape, "glow", at(0, 2, 0))
    bake(level_file(tmp_path, b), FINAL)
    corners = shape.positions[shape.triangles].astype(float)
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    disk = 0.5 * np.abs(cross[:, 1]).sum() / 2  # the facets' true silhouette from below
    readings = meter(tmp_path / "out", *[(0.1 * i, 0, 0) for i in range(-3, 4)])
    expected = [1000 * disk * 2 / (4 + (0.1 * i) ** 2) ** 1.5 for i in range(-3, 4)]
    np.testing.assert_allclose(np.mean([r.irradiance[0] for r in readings]), np.mean(expected), rtol=0.02)


@pytest.mark.parametrize(
    ("albedo", "bounces"), [(0.2, 0), (0.2, 3), (0.5, 1), (0.8, 5), (0.5, "converged"), (0.9, "converged")]
)
def test_closed_furnace(tmp_path: Path, albedo: float, bounces: int | str) -> None:
    """Every wall glows with L: E = π L (1 − ρⁿ⁺¹)/(1 − ρ), and π L/(1 − ρ) converged, at every texel."""
    b = LevelBuilder()
    b.material("wall", (albedo,) * 3, glow=(2.0, 1.0, 0.5))
    b.add("g", "room", room(4, 3, 5), "wall")
    bake(level_file(tmp_path, b), recipe("final", density__texels_per_metre=4.0, light__bounces=bounces))
    series = 1 / (1 - albedo) if bounces == "converged" else (1 - albedo ** (int(bounces) + 1)) / (1 - albedo)
    for reading in meter(tmp_path / "out", (1, 0, 1), (3.9, 0, 0.1), (2, 3, 2), normal=None):
        np.testing.assert_allclose(reading.irradiance, math.pi * series * np.array([2, 1, 0.5]), rtol=0.005)


@pytest.mark.parametrize("albedo", [0.3, 0.7])
def test_integrating_sphere(tmp_path: Path, albedo: float) -> None:
    """One patch of area A_p glows in a sphere of area A: the bounced part is π L A_p/A · ρ/(1 − ρ) everywhere,
    and so is the direct part π L A_p/A. The patch reflects like the rest."""
    b = LevelBuilder()
    b.material("wall", (albedo,) * 3)
    b.material("patch", (albedo,) * 3, glow=(1000.0,) * 3)
    whole = ball(2.0, 32, 64).turned_inside_out()
    corners = whole.positions[whole.triangles].astype(float)
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    top = corners.mean(axis=1)[:, 1] > 1.9
    for name, chosen in (("wall", ~top), ("patch", top)):
        part = type(whole)(whole.positions, whole.normals, whole.uv, whole.triangles[chosen])
        b.add("g", name, part, name)
    bake(level_file(tmp_path, b), recipe("final", density__texels_per_metre=5.0))
    direct = math.pi * 1000 * areas[top].sum() / areas.sum()
    points = [(2, 0, 0), (0, -2, 0), (-1.2, -1.2, 1.1), (0.5, 0.5, -1.87)]
    readings = meter(tmp_path / "out", *points, normal=None)
    for reading in readings:
        assert reading.irradiance[0] == pytest.approx(direct / (1 - albedo), rel=0.02)
        assert reading.direct[0] == pytest.approx(direct, rel=0.03)


def two_rooms() -> LevelBuilder:
    """A lit front room and a back room that a door joins to it, without sight of the lamp."""
    b = plain(albedo=0.6)
    walls = [
        box((-0.2, 0, -0.2), (8.2, 3, 0)), box((-0.2, 0, 4), (8.2, 3, 4.2)), box((-0.2, 0, 0), (0, 3, 4)),
        box((8, 0, 0), (8.2, 3, 4)), box((4, 0, 0), (4.2, 3, 3)), box((-0.2, -0.2, -0.2), (8.2, 0, 4.2)),
        box((-0.2, 3, -0.2), (8.2, 3.2, 4.2)), box((4, 2.2, 3), (4.2, 3, 4)),
    ]  # fmt: skip
    for i, wall in enumerate(walls):
        b.add("walls", f"wall {i}", wall, "surface")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 500.0), at(1, 2, 0.5))
    return b


def test_only_bounced_light_reaches_the_back_room(tmp_path: Path) -> None:
    bake(level_file(tmp_path, two_rooms()), recipe("working"))
    front, back = meter(tmp_path / "out", (2, 0, 2), (7, 0, 0.8))
    assert front.direct[0] > 10
    assert back.direct[0] == 0.0
    assert 0.02 < back.bounced[0] < 0.5 * front.irradiance[0]


def test_no_light_at_all_outside_a_sealed_room(tmp_path: Path) -> None:
    """The solver itself never leaks: walls that touch let nothing through, at any density."""
    b = two_rooms()
    b.add("outside", "yard", floor(40, y=-0.2), "surface")
    for density in (1.0, 3.0, 9.0):
        out = tmp_path / f"out {density}"
        made = recipe("working", density__texels_per_metre=density, light__bounces=3)
        bake(level_file(tmp_path, b), made, out)
        for reading in meter(out, (-3, -0.2, 2), (-0.3, -0.2, 2), (4, -0.2, 4.4), (12, -0.2, -3)):
            assert reading.node == "outside/yard"
            assert reading.irradiance[0] == 0.0


def test_floor_under_a_wall_is_not_dark_at_its_foot(tmp_path: Path) -> None:
    """Points of a texel inside the wall do not count: the sun on the floor goes up to the wall unchanged."""
    b = plain(albedo=0.0)
    b.add("g", "floor", floor(6), "surface")
    b.add("g", "wall", box((-0.13, -0.5, -9), (0.12, 2, 9)), "surface")
    b.light("sun", Light("sun", "directional", (1, 1, 1), 100.0), aimed((0, 5, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("working", density__texels_per_metre=4.0))
    for x in (0.14, 0.2, 0.4, -0.15, -0.3):
        assert meter(tmp_path / "out", (x, 0, 0.3))[0].irradiance[0] == pytest.approx(100, rel=0.01)


def test_light_by_light_adds_up_and_matches_builds_of_one_light(tmp_path: Path) -> None:
    """The meter's split by light is exact: it equals builds with all other lights off."""
    from ropebell.level.brief import LightChange

    b = two_rooms()
    b.light("second", Light("second", "point", (0.2, 0.6, 1.0), 90.0), at(6, 2.5, 2))
    path = level_file(tmp_path, b)
    made = recipe("sketch", light__bounces=4)
    bake(path, made)
    whole = meter(tmp_path / "out", (7, 0, 2.0))[0]
    np.testing.assert_allclose(sum(whole.lights.values()), whole.irradiance, rtol=1e-6)
    for name in ("lights/lamp", "lights/second"):
        off = {other: LightChange(enabled=False) for other in whole.lights if other != name}
        bake(path, made, tmp_path / name.replace("/", "-"), lights=off)
        alone = meter(tmp_path / name.replace("/", "-"), (7, 0, 2.0))[0]
        np.testing.assert_allclose(whole.lights[name], alone.irradiance, rtol=0.01, atol=1e-3)


def test_bounced_light_takes_the_colour_of_what_it_met(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("white", (0.8, 0.8, 0.8))
    b.material("red", (0.8, 0.1, 0.1))
    b.add("g", "floor", floor(4), "white")
    b.add("g", "wall", quad([(-2, 0, 2), (-2, 0, -2), (-2, 3, -2), (-2, 3, 2)]), "red")
    b.light("sun", Light("sun", "directional", (1, 1, 1), 1000.0), aimed((3, 3, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("working"))
    near = meter(tmp_path / "out", (-1.7, 0, 0))[0]
    assert near.bounced[0] > 4 * near.bounced[1] > 0
