"""Density boxes give their density to what is inside them, and to nothing else."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import bake, floor, level_file, meter, recipe
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball
from ropebell.level.box_cuts import cut_along_boxes
from ropebell.level.brief import Brief, DensityBox
from ropebell.level.model import Level, Light
from ropebell.level.prepare import flatten

PLACE = st.floats(-4.0, 4.0)
SIZE = st.floats(0.2, 4.0)


def hall(turn: float = 0.0) -> LevelBuilder:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    world = at(0.3, 0.0, -0.2)
    world[0, 0] = world[2, 2] = np.cos(turn)
    world[0, 2], world[2, 0] = np.sin(turn), -np.sin(turn)
    b.add("g", "floor", floor(6), "grey", world, uv1=True)
    b.add("g", "globe", ball(1.0, 8, 12).moved(0.5, 1.0, 0.5), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 50.0), at(0, 3, 0))
    return b


def areas(level: Level, brief: Brief) -> tuple[float, float]:
    """Square metres in all, and those with a factor."""
    scene = flatten(level, brief)
    return float(scene.areas.sum()), float(scene.areas[scene.factor > 1.5].sum())


@given(PLACE, PLACE, SIZE, SIZE, st.floats(0, 3.0))
def test_just_what_is_inside_is_finer(x: float, z: float, w: float, d: float, turn: float) -> None:
    level = hall(turn).level(Path("a.glb"))
    box = DensityBox((x, -0.5, z), (x + w, 0.005, z + d), 2.0)
    whole, finer = areas(level, Brief(density_boxes=(box,)))
    plain, _ = areas(level, Brief())
    assert whole == pytest.approx(plain, rel=1e-6)
    # The part of the turned floor in the box, by counting points; the globe touches the floor in one point only.
    grid = np.stack(np.meshgrid(*(np.arange(400) / 400 + 1 / 800,) * 2), axis=-1).reshape(-1, 2)
    points = np.array([x, z]) + grid * [w, d] - [0.3, -0.2]
    c, s = np.cos(turn), np.sin(turn)
    own = np.stack([c * points[:, 0] - s * points[:, 1], s * points[:, 0] + c * points[:, 1]], axis=1)
    inside = (np.abs(own) <= 3.0).all(axis=1).mean() * w * d
    assert finer == pytest.approx(inside, abs=0.02 * (w + d) + 0.01)


def test_normals_and_coordinates_are_carried_to_the_cuts() -> None:
    level = hall().level(Path("a.glb"))
    box = DensityBox((-0.2, 0.4, -0.3), (1.1, 1.4, 1.2), 3.0)
    cut = cut_along_boxes(level, (box,))
    scene, plain = flatten(cut), flatten(level)
    assert (len(scene) > len(plain) and cut.nodes[1].mesh != level.nodes[1].mesh) or len(cut.meshes) > len(level.meshes)
    globe = scene.node == scene.node_names.index("g/globe")
    length = np.linalg.norm(scene.normals[globe], axis=2)
    np.testing.assert_allclose(length, 1.0, atol=1e-5)
    outward = scene.corners[globe] - [0.5, 1.0, 0.5]
    assert (np.einsum("tij,tij->ti", outward, scene.normals[globe]) > 0.8).all()
    whole = plain.node == plain.node_names.index("g/globe")
    assert scene.areas[globe].sum() == pytest.approx(plain.areas[whole].sum(), rel=1e-5)
    assert (scene.areas > 0).all()


def test_a_level_without_a_face_that_crosses_stays_the_very_same() -> None:
    level = hall().level(Path("a.glb"))
    assert cut_along_boxes(level, (DensityBox((50, 50, 50), (60, 60, 60), 2.0),)) is level
    assert cut_along_boxes(level, (DensityBox((-50, -50, -50), (60, 60, 60), 2.0),)) is level


def test_a_crate_in_a_box_does_not_double_the_floor(tmp_path: Path) -> None:
    path = level_file(tmp_path, hall())
    made = recipe("sketch", density__texels_per_metre=8.0)
    plain = bake(path, made, tmp_path / "a")
    box = DensityBox((-0.6, -0.1, -0.6), (1.6, 2.1, 1.6), 2.0)
    boxed = bake(path, made, tmp_path / "b", brief=Brief(density_boxes=(box,)))
    # 4.8 m² of floor and the globe get four times the texels, 31 m² of floor do not.
    assert boxed["texels"] < 2.2 * plain["texels"]
    for place in ((2.4, 0, -2.4), (-2.0, 0, -2.0), (-0.5, 0, -0.4), (-0.7, 0, -0.4)):
        before, after = (meter(tmp_path / name, place)[0] for name in ("a", "b"))
        assert after.node == "g/floor" and after.irradiance[0] == pytest.approx(before.irradiance[0], rel=0.05)
