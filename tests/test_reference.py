"""The engine against the brute-force path tracer: rooms with blockers, coloured walls, several lights, sky."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, meter, recipe, room
from reference_tracer import Reference
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box, quad
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

COLORS = {"white": (0.75, 0.75, 0.75), "red": (0.7, 0.1, 0.1), "green": (0.1, 0.6, 0.2)}
LIGHTS = [((1.0, 2.4, 1.2), (120.0, 100.0, 80.0)), ((3.2, 1.2, 3.4), (10.0, 20.0, 60.0))]
POINTS = [(0.7, 0.0, 3.1), (2.0, 0.0, 2.9), (3.3, 0.0, 0.6), (1.2, 0.0, 2.2), (3.6, 0.0, 3.7)]


def furnished() -> LevelBuilder:
    """A closed room with a red and a green wall, a table and a pillar."""
    b = LevelBuilder()
    for name, color in COLORS.items():
        b.material(name, color)
    b.add("g", "room", room(4, 3, 4), "white")
    b.add("g", "red wall", quad([(0.01, 0, 4), (0.01, 0, 0), (0.01, 3, 0), (0.01, 3, 4)]), "red")
    b.add("g", "green wall", quad([(3.99, 0, 0), (3.99, 0, 4), (3.99, 3, 4), (3.99, 3, 0)]), "green")
    b.add("g", "table", box((1.4, 0.8, 1.0), (2.6, 0.9, 2.0)), "white")
    b.add("g", "pillar", box((2.5, 0, 2.4), (2.8, 3, 2.7)), "white")
    for i, (position, candela) in enumerate(LIGHTS):
        strength = max(candela)
        color = (candela[0] / strength, candela[1] / strength, candela[2] / strength)
        b.light(f"lamp {i}", Light(f"lamp {i}", "point", color, strength), at(*position))
    return b


def reference_of(path: Path, sky: tuple = (0, 0, 0), lights: list = LIGHTS) -> Reference:
    level = open_level(path)
    scene = flatten(level)
    albedo = np.array([m.base_color[:3] for m in level.materials])[scene.material]
    return Reference(scene.corners, albedo, lights, sky)


@pytest.mark.parametrize("bounces", [0, 1, 4])
def test_closed_room_with_blockers_and_coloured_walls(tmp_path: Path, bounces: int) -> None:
    """Point by point within the noise of both and the width of a texel; on the mean, no bias."""
    path = level_file(tmp_path, furnished())
    bake(path, recipe("final", density__texels_per_metre=16.0, light__bounces=bounces))
    reference = reference_of(path)
    readings = meter(tmp_path / "out", *POINTS)
    ours, theirs, errors = [], [], []
    for i, (point, reading) in enumerate(zip(POINTS, readings)):
        mean, error = reference.irradiance(point, (0, 1, 0), 40_000, bounces, seed=i)
        np.testing.assert_allclose(reading.irradiance, mean, atol=float(4 * error.max() + 0.03 * mean.max()))
        ours.append(reading.irradiance)
        theirs.append(mean)
        errors.append(error)
    bias = np.mean(ours, axis=0) / np.mean(theirs, axis=0) - 1
    assert np.abs(bias).max() < 0.015 + 2 * np.max(np.mean(errors, axis=0) / np.mean(theirs, axis=0))


def test_mean_over_a_floor_has_no_bias(tmp_path: Path) -> None:
    """The average of all texels of the floor against points strewn over it."""
    path = level_file(tmp_path, furnished())
    bake(path, recipe("working", density__texels_per_metre=8.0, light__bounces=3))
    rng = np.random.default_rng(0)
    places = [(x, 0.0, z) for x, z in rng.uniform(0.05, 3.95, (150, 2)) if not (2.4 < x < 2.9 and 2.3 < z < 2.8)]
    readings = meter(tmp_path / "out", *places)
    reference = reference_of(path)
    theirs = [reference.irradiance(p, (0, 1, 0), 800, 3, seed=i)[0] for i, p in enumerate(places)]
    np.testing.assert_allclose(np.mean([r.irradiance for r in readings], axis=0), np.mean(theirs, axis=0), rtol=0.02)


def test_sky_through_a_window(tmp_path: Path) -> None:
    """Light that comes in through an opening, and on from there."""
    b = LevelBuilder()
    b.material("white", (0.7, 0.7, 0.7))
    walls = [
        box((-0.2, -0.2, -0.2), (4.2, 0, 4.2)), box((-0.2, 3, -0.2), (4.2, 3.2, 4.2)),
        box((-0.2, 0, -0.2), (0, 3, 4.2)),
        box((4, 0, -0.2), (4.2, 3, 4.2)), box((0, 0, 4), (4, 3, 4.2)), box((0, 0, -0.2), (1.2, 3, 0)),
        box((2.8, 0, -0.2), (4, 3, 0)), box((1.2, 0, -0.2), (2.8, 1, 0)), box((1.2, 2.4, -0.2), (2.8, 3, 0)),
    ]  # fmt: skip
    for i, wall in enumerate(walls):
        b.add("g", f"wall {i}", wall, "white")
    path = level_file(tmp_path, b)
    bake(path, recipe("final", density__texels_per_metre=8.0, light__bounces=4), sky=(100.0, 110.0, 130.0))
    reference = reference_of(path, (100, 110, 130), [])
    points = [(2.0, 0.0, 1.5), (0.6, 0.0, 0.6), (3.2, 0.0, 3.2)]
    for i, (point, reading) in enumerate(zip(points, meter(tmp_path / "out", *points))):
        mean, error = reference.irradiance(point, (0, 1, 0), 60_000, 4, seed=i)
        np.testing.assert_allclose(reading.irradiance, mean, atol=float(4 * error.max() + 0.04 * mean.max()))
