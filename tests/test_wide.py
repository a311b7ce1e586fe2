"""Light is the same wherever a level lies, and whatever lies far from it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, meter, recipe
from ropebell.checks.run import check
from ropebell.checks.subject import Subject
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.model import Light
from ropebell.level.prepare import flatten
from ropebell.light.rays import RaySpace, start_lift

FAR = (1.0, 10.0, 100.0, 1000.0)  # km
SKY = (1.0, 1.0, 1.0)


def yard(stray_km: float = 0.0, away: float = 0.0) -> LevelBuilder:
    """A floor with crates on it and a shelter over them, under a lamp; a crate lost far from it."""
    b = LevelBuilder()
    b.material("grey", (0.6, 0.6, 0.6))
    b.add("g", "floor", floor(6.0), "grey", at(away, 0.0, -away))
    for i in range(4):
        b.add("g", f"crate {i}", box((0, 0, 0), (0.6, 0.4, 0.5)), "grey", at(away - 2 + i, 0.0, 0.3 * i - away))
    b.add("g", "shelter", box((-2, 0, -2), (2, 0.1, 2)), "grey", at(away, 2.0, -away))
    b.light("lamp", Light("lamp", "point", (1.0, 1.0, 1.0), 40.0), at(away + 0.5, 1.5, 1.0 - away))
    if stray_km:
        b.add("g", "lost", box((0, 0, 0), (1, 1, 1)), "grey", at(1e3 * stray_km, 0.0, 300.0 * stray_km))
    return b


def readings(folder: Path, b: LevelBuilder, away: float = 0.0) -> np.ndarray:
    """(n,) lux at places on the floor, at the feet of crates too, and on a crate."""
    folder.mkdir()
    made = recipe("working", density__texels_per_metre=12.0, light__gather_rays=256)
    bake(level_file(folder, b), made, sky=SKY)
    floor_points = [(x, 0.0, z) for x in np.linspace(-2.7, 2.7, 10) for z in (-1.3, -0.03, 0.9, 2.1)]
    points = [*floor_points, *((-1.7 + i, 0.4, 0.25 + 0.3 * i) for i in range(4))]
    found = meter(folder / "out", *((x + away, y, z - away) for x, y, z in points))
    return np.array([float(reading.irradiance.sum()) for reading in found])


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> np.ndarray:
    return readings(tmp_path_factory.mktemp("wide") / "plain", yard())


@pytest.mark.parametrize("far", FAR)
def test_a_crate_lost_far_away_changes_nothing(tmp_path: Path, plain: np.ndarray, far: float) -> None:
    # The same triangles get the same rays: what differs is where they start, and one crate in the sky.
    assert readings(tmp_path / "lost", yard(far)) == pytest.approx(plain, rel=0.01)


@pytest.mark.parametrize("away", [1e3, 1e5])
def test_a_level_far_from_the_origin_has_the_same_light(tmp_path: Path, plain: np.ndarray, away: float) -> None:
    assert readings(tmp_path / "away", yard(away=away), away) == pytest.approx(plain, rel=0.02)


def test_rays_start_by_their_own_triangle_and_never_meet_it() -> None:
    rng = np.random.default_rng(5)
    for size, away in ((0.05, 0.0), (8.0, 30.0), (500.0, 2e3), (3.0, 1e5)):
        shape = rng.normal(size=(40, 3, 3)) * size + rng.normal(size=3) * away
        space = RaySpace(np.concatenate([shape, -shape]))
        v = space.vertices.astype(np.float64)
        normal = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
        normal /= np.linalg.norm(normal, axis=1, keepdims=True)
        which = rng.integers(0, len(v), 4000)
        b = rng.random((4000, 2))
        b = np.where(b.sum(axis=1, keepdims=True) > 1, 1 - b, b)
        edges = v[which, 1:] - v[which, :1]
        on = v[which, 0] + np.einsum("nij,ni->nj", edges, b)
        lift = start_lift(space.vertices)[which, None]
        assert (lift < 1e-3 * size + 3e-6 * 4 * away).all(), "no farther than its own place asks for"
        way = rng.normal(size=(4000, 3))
        way *= np.sign(np.einsum("ij,ij->i", way, normal[which]))[:, None]
        hit = space.first_hit((on + lift * normal[which]).astype(np.float32), way.astype(np.float32))
        assert (hit != which).all()


def test_a_spot_scaled_to_nothing_is_told_and_lights_nothing(tmp_path: Path) -> None:
    b = yard()
    gone = at(0.0, 1.9, 0.0)
    gone[:3, :3] = 0.0
    b.light("spot", Light("spot", "spot", (1.0, 1.0, 1.0), 500.0), gone)
    level = b.level(tmp_path / "level.glb")
    scene = flatten(level)
    kinds = {(f.kind, f.severity) for f in check(Subject(level, scene)) if f.object == "lights/spot"}
    assert kinds == {("light-without-direction", "error")}
    assert not next(x for x in scene.lights if x.kind == "spot").strength.any()
