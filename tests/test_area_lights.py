"""Rectangles, disks and tubes of light."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, meter, recipe, room
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.checks.lights import modes
from ropebell.checks.remedies import apply_fix
from ropebell.demo.builder import LevelBuilder, at
from ropebell.level.brief import AddedLight, Brief, BriefError, LightChange
from ropebell.level.gltf_container import read_container
from ropebell.level.light_edits import with_added, with_copy, with_settings
from ropebell.level.open import open_level
from ropebell.level.placed_light import PlacedLight
from ropebell.level.prepare import prepare
from ropebell.light.area_light import candela_per_radiance, frame_of, shape_of
from small_levels import Hall

DOWN = (0.0, -1.0, 0.0)


def black_floor(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "floor", floor(4), "black")
    return level_file(folder, b)


def lit_by(folder: Path, kind: str, height: float, change: LightChange, **added: object) -> Path:
    brief = Brief(added={"a": AddedLight(kind, (0.0, height, 0.0), **added)}, lights={"added/a": change})  # type: ignore
    made = recipe("final", density__texels_per_metre=10.0, light__bounces=0, finish__denoise=False)
    bake(black_floor(folder), made, folder / "out", brief=brief)
    return folder / "out"


def lit_points(folder: Path, places: list[tuple[float, float]]) -> np.ndarray:
    """Lux at the middles of texels next to (x, z), and those middles."""
    return np.array([r.irradiance[0] for r in meter(folder, *[(x, 0.0, z) for x, z in places])])


PLACES = [(0.05, 0.05), (0.55, 0.05), (0.05, 0.95), (1.25, 0.75), (-1.45, -0.35)]


def test_a_disk_is_as_its_closed_form(tmp_path: Path) -> None:
    """Parallel disk over a point, off the axis (Foote 1915; Howell, configuration factor B-13)."""
    radius, height, candela = 0.6, 1.2, 500.0
    out = lit_by(tmp_path, "disk", height, LightChange(intensity=candela, size=radius), direction=DOWN)
    radiance = candela / (math.pi * radius**2)

    def expected(x: float, z: float) -> float:
        away = math.hypot(x, z)
        h, r = height / away, radius / away
        zz = 1 + h * h + r * r
        return math.pi * radiance * 0.5 * (1 - (1 + h * h - r * r) / math.sqrt(zz * zz - 4 * r * r))

    np.testing.assert_allclose(lit_points(out, PLACES), [expected(*p) for p in PLACES], rtol=0.01)


def test_a_rectangle_is_as_lamberts_formula_and_turns(tmp_path: Path) -> None:
    width, height, candela = 1.6, 0.5, 400.0
    change = LightChange(intensity=candela, width=width, height=height)
    radiance = candela / (width * height)

    def expected(x: float, z: float, roll: float) -> float:
        """Lambert's polygon formula for a rectangle 1 m above."""
        c, s = math.cos(roll), math.sin(roll)
        corners = [
            np.array([c * i * width / 2 - s * j * height / 2 - x, 1.0, s * i * width / 2 + c * j * height / 2 - z])
            for i, j in ((1, 1), (1, -1), (-1, -1), (-1, 1))
        ]
        total = 0.0
        for a, b in zip(corners, [*corners[1:], corners[0]]):
            a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
            normal = np.cross(a, b)
            total += math.acos(np.clip(a @ b, -1, 1)) * normal[1] / np.linalg.norm(normal)
        return abs(radiance * total / 2)

    for number, degrees in enumerate((0.0, 90.0)):
        folder = tmp_path / str(number)
        folder.mkdir()
        out = lit_by(folder, "rectangle", 1.0, replace(change, roll=degrees), direction=DOWN)
        # The frame's own right is where it is; either is a quarter turn from the other.
        right = frame_of(_placed("rectangle", roll=math.radians(degrees)))[0]
        roll = math.atan2(right[2], right[0])
        np.testing.assert_allclose(lit_points(out, PLACES), [expected(*p, roll) for p in PLACES], rtol=0.01)


def test_a_thin_tube_is_as_the_integral_along_it(tmp_path: Path) -> None:
    length, radius, height, candela = 1.4, 0.002, 1.0, 300.0
    change = LightChange(intensity=candela, width=length, size=radius)
    out = lit_by(tmp_path, "tube", height, change, direction=(0.0, 0.0, -1.0))
    axis = frame_of(_placed("tube", direction=(0.0, 0.0, -1.0)))[0]
    np.testing.assert_allclose(np.abs(axis), [1, 0, 0], atol=1e-12)
    # A line of intensity I·sin γ per length, γ from its axis: E = ∫ (I/l) sin γ cos θ / d² dx.
    x = np.linspace(-length / 2, length / 2, 20_001)

    def expected(px: float, pz: float) -> float:
        d = np.sqrt((x - px) ** 2 + height**2 + pz**2)
        sine = np.sqrt(height**2 + pz**2) / d
        return float(np.trapezoid(candela / length * sine * height / d / d**2, x))

    # A texel's own noise at 64 rays is about one per cent; over a hundred texels nothing of it may stay.
    grid = [(0.05 + 0.2 * i, 0.05 + 0.2 * j) for i in range(-5, 5) for j in range(-5, 5)]
    ratio = lit_points(out, grid) / [expected(*p) for p in grid]
    assert ratio.mean() == pytest.approx(1.0, abs=0.002) and ratio.std() < 0.013


@pytest.mark.parametrize(("kind", "size"), [("rectangle", 0.1), ("disk", 0.06), ("tube", 0.01)])
def test_from_afar_all_are_point_lights(tmp_path: Path, kind: str, size: float) -> None:
    change = LightChange(intensity=900.0, width=0.1, height=0.1, size=size)
    direction = (0.0, 0.0, -1.0) if kind == "tube" else DOWN
    out = lit_by(tmp_path, kind, 3.0, change, direction=direction)
    # A thick tube is not one: its nearest side lies nearer than its middle. A texel's own noise is
    # about one per cent, so sixteen of them, each brought to the middle.
    grid = np.array([(x, z) for x in (-0.15, -0.05, 0.05, 0.15) for z in (-0.15, -0.05, 0.05, 0.15)])
    seen = lit_points(out, [(float(x), float(z)) for x, z in grid]) * (1.0 + (grid**2).sum(axis=1) / 9.0) ** 2
    assert seen.mean() == pytest.approx(900.0 / 9.0, rel=0.01)


def _placed(kind: str, direction: tuple[float, float, float] = DOWN, **more: float) -> PlacedLight:
    where, way = np.array([1.0, 2.0, 3.0]), np.array(direction)
    made = PlacedLight("x", kind, where, way, (1, 1, 1), 1.0, None, 0.0, 0.5, size=0.3, width=1.4, height=0.7)
    return replace(made, **more)


@pytest.mark.parametrize("kind", ["rectangle", "disk", "tube"])
@pytest.mark.parametrize("direction", [DOWN, (0.0, 1.0, 0.0), (0.6, 0.0, 0.8), (-0.36, 0.48, -0.8)])
@pytest.mark.parametrize("roll", [0.0, 0.7])
def test_shapes_face_where_they_shine_and_have_their_area(
    kind: str, direction: tuple[float, float, float], roll: float
) -> None:
    light = _placed(kind, direction, roll=roll)
    shape = shape_of(light)
    cross = np.cross(shape[:, 1] - shape[:, 0], shape[:, 2] - shape[:, 0])
    areas = 0.5 * np.linalg.norm(cross, axis=1)
    normals = cross / (2 * areas[:, None])
    right, up, front = frame_of(light)
    np.testing.assert_allclose(np.stack([right, up, front]) @ np.stack([right, up, front]).T, np.eye(3), atol=1e-12)
    np.testing.assert_allclose(front, direction, atol=1e-12)
    if kind == "tube":
        outward = shape.mean(axis=1) - light.position
        assert (np.einsum("ij,ij->i", normals, outward) > 0).all()
        np.testing.assert_allclose(areas.sum(), 2 * math.pi * 0.3 * 1.4, rtol=1e-9)
        # From every side it is as wide as its strength says.
        seen = [0.5 * np.abs(cross @ (math.cos(a) * up + math.sin(a) * front)).sum() / 2 for a in np.arange(0, 6, 0.1)]
        np.testing.assert_allclose(seen, candela_per_radiance(light), rtol=4e-3)
    else:
        np.testing.assert_allclose(normals, np.repeat([direction], len(shape), axis=0), atol=1e-9)
        np.testing.assert_allclose(areas.sum(), candela_per_radiance(light), rtol=1e-9)
    low, high = shape.reshape(-1, 3).min(axis=0), shape.reshape(-1, 3).max(axis=0)
    np.testing.assert_allclose((low + high) / 2, light.position, atol=2e-3)


def test_energy_of_a_disk_in_a_closed_black_room(tmp_path: Path) -> None:
    """All its light arrives: Φ = π·I for a surface that shines evenly over its front."""
    b = LevelBuilder()
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "room", room(3, 3, 3), "black")
    brief = Brief(
        added={"a": AddedLight("disk", (1.3, 1.7, 1.6), (0.3, -0.9, 0.2))},
        lights={"added/a": LightChange(intensity=100.0, size=0.4)},
    )
    made = recipe("final", density__texels_per_metre=6.0, light__bounces=0, finish__denoise=False)
    manifest = bake(level_file(tmp_path, b), made, tmp_path / "out", brief=brief)
    walls = 6 * 3.0 * 3.0  # the energy is told as a mean over all surfaces
    assert manifest["energy"][0] * walls == pytest.approx(math.pi * 100.0, rel=0.01)
    assert manifest["lights"]["added/a"]["intensity"] == 100.0


def test_shape_names_the_artifact_and_strength_does_not(tmp_path: Path) -> None:
    level = open_level(black_floor(tmp_path))
    brief = with_added(Brief(), "r", "rectangle", (0.0, 1.0, 0.0))
    made = recipe("sketch")

    def name(**values: float) -> str:
        return digests(Inputs(prepare(level, with_settings(brief, ["added/r"], **values)).baking, made)).one(
            "direct", ("light", "added/r")
        )

    assert name(intensity=7.0) == name()
    assert len({name(), name(width=2.0), name(height=2.0), name(roll=30.0)}) == 4
    with pytest.raises(BriefError):
        with_settings(brief, ["added/r"], width=0.0)


def test_new_copied_and_exported(tmp_path: Path) -> None:
    path = black_floor(tmp_path)
    level = open_level(path)
    brief = with_added(Brief(), "t", "tube", (0.0, 1.0, 0.0))
    light = prepare(level, brief).scene.lights[0]
    assert (light.kind, light.width, light.size, light.reach) == ("tube", 1.2, 0.02, None)
    brief = with_copy(with_settings(brief, ["added/t"], roll=30.0), "t copy", light)
    twin = prepare(level, brief).scene.lights[1]
    assert twin.kind == "tube" and twin.width == 1.2 and twin.roll == pytest.approx(math.radians(30.0))
    bake(path, recipe("sketch"), tmp_path / "out", brief=brief)
    written = read_container(tmp_path / "out" / "level-baked.glb").json
    told = [n["extras"]["area_light"] for n in written["nodes"] if "extras" in n]
    assert [t["kind"] for t in told] == ["tube", "tube"] and told[0]["width"] == 1.2
    assert "KHR_lights_punctual" not in written.get("extensionsUsed", [])


def test_an_area_light_that_is_live_is_told() -> None:
    hall = Hall()
    brief = with_added(Brief(), "r", "rectangle", tuple(float(v) for v in hall.place((0.0, 3.0, 0.0))))
    for mode in ("live", "hybrid"):
        odd = with_settings(brief, ["added/r"], mode=mode)
        hits = [f for f in modes(hall.subject(odd)) if f.kind == "area-light-live"]
        assert [f.object for f in hits] == ["added/r"]
        assert not [f for f in modes(hall.subject(apply_fix(odd, hits[0]))) if f.kind == "area-light-live"]
    assert at(0, 0, 0).shape == (4, 4)
