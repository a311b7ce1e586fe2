"""The nearest point of many triangles, against looking at each of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, facing_down, floor, level_file, meter, recipe
from ropebell.demo.builder import LevelBuilder, at
from ropebell.level.model import F64, Light
from ropebell.level.nearest import NearestSurface, nearest_on


def normals(corners: F64) -> F64:
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return cross / np.linalg.norm(cross, axis=1, keepdims=True)


@pytest.mark.parametrize("far", [0.0, 1.0, 1000.0])
def test_it_is_the_nearest_of_all(far: float) -> None:
    rng = np.random.default_rng(3)
    sizes = np.exp(rng.uniform(-5, 4, 700))
    corners = rng.uniform(-20, 20, (700, 1, 3)) + sizes[:, None, None] * rng.uniform(-1, 1, (700, 3, 3))
    points = rng.uniform(-25, 25, (300, 3)) + far * rng.uniform(-1, 1, (300, 3))
    found, weights, distance = NearestSurface(corners, normals(corners)).at(points)
    every = [[nearest_on(corners, t, points, m)[0] for t in range(len(corners))] for m in range(len(points))]
    brute = np.sqrt(np.min(every, axis=1))
    np.testing.assert_allclose(distance, brute, rtol=1e-9, atol=1e-9)
    b, c = weights.T
    place = (np.stack([1 - b - c, b, c], axis=1)[..., None] * corners[found]).sum(axis=1)
    np.testing.assert_allclose(np.linalg.norm(place - points, axis=1), distance, rtol=1e-9, atol=1e-9)
    assert ((weights >= 0) & (weights <= 1)).all() and (weights.sum(axis=1) <= 1 + 1e-12).all()


def test_at_an_edge_the_face_that_looks_at_the_point_is_taken() -> None:
    # Two faces of a roof that meet at the Z axis; the point is above the left one's side of the edge.
    left = [[0, 0, 1], [0, 0, -1], [-1, -0.2, 0]]
    right = [[0, 0, -1], [0, 0, 1], [0.2, -1, 0]]
    corners = np.array([right, left], np.float64)
    surface = NearestSurface(corners, normals(corners))
    assert surface.at(np.array([[0.01, 1.0, 0.0]]))[0][0] == 1
    assert surface.at(np.array([[1.0, 0.0, 0.0]]))[0][0] == 0


def test_without_triangles_there_is_nothing_near() -> None:
    found, _, distance = NearestSurface(np.zeros((0, 3, 3)), np.zeros((0, 3))).at(np.zeros((2, 3)))
    assert found.tolist() == [-1, -1] and np.isinf(distance).all()


def test_the_meter_reads_the_nearest_surface_from_behind_and_from_afar(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.add("g", "ceiling", facing_down(4, 6.0), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 50.0), at(0, 3, 0))
    bake(level_file(tmp_path, b), recipe("sketch", draft=2))
    behind, between, above = meter(
        tmp_path / "out", (0.5, -3.0, 0.5), (0.5, 2.9, 0.5), (0.5, 9.0, 0.5), normal=None
    )  # fmt: skip
    assert (behind.node, behind.distance) == ("g/floor", pytest.approx(3.0))
    assert (between.node, between.distance) == ("g/floor", pytest.approx(2.9))
    assert (above.node, above.distance) == ("g/ceiling", pytest.approx(3.0))
    assert behind.irradiance[0] > 0
    # A normal leaves out what does not face that way, however near it is.
    (up,) = meter(tmp_path / "out", (0.5, 5.9, 0.5))
    assert (up.node, up.distance) == ("g/floor", pytest.approx(5.9))


def test_an_old_build_is_read_with_the_lamps_it_was_built_with(tmp_path: Path) -> None:
    """Its level was exported again since, with another lamp and a brighter one, and then it is gone."""

    def hall(candela: float, more: bool) -> Path:
        b = LevelBuilder()
        b.material("grey", (0.5, 0.5, 0.5))
        b.material("glow", (0.5, 0.5, 0.5), glow=(200.0, 200.0, 200.0))
        b.add("g", "floor", floor(4), "grey")
        b.add("g", "panel", facing_down(1, 2.5), "glow")
        b.light("lamp", Light("lamp", "point", (1, 1, 1), candela), at(0, 3, 0))
        if more:
            b.light("another", Light("another", "point", (1, 1, 1), 500.0), at(1, 2, 0))
        return level_file(tmp_path, b)

    bake(hall(50.0, False), recipe("sketch", draft=2), sky=(10.0, 10.0, 10.0))
    (before,) = meter(tmp_path / "out", (1.0, 0.0, 1.0))
    assert set(before.lights) == {"lights/lamp", "g/panel", "sky"}
    hall(100.0, True)
    (after,) = meter(tmp_path / "out", (1.0, 0.0, 1.0))
    for name, value in before.lights.items():
        np.testing.assert_array_equal(after.lights[name], value)
    np.testing.assert_allclose(sum(after.lights.values()), after.irradiance, rtol=1e-6)
    (tmp_path / "level.glb").unlink()
    (gone,) = meter(tmp_path / "out", (1.0, 0.0, 1.0))
    np.testing.assert_array_equal(gone.lights["lights/lamp"], before.lights["lights/lamp"])
