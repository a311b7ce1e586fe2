"""Probes: light for what moves, against closed forms and the lightmaps of the same build."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import bake, floor, level_file, meter, recipe, room
from ropebell.build.mover import Lightmapped, mover_light
from ropebell.build.pages import write_page
from ropebell.build.probe_file import PROBES, read_probes
from ropebell.build.result import open_result
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import box
from ropebell.errors import BuildError, ProjectError
from ropebell.level.brief import AddedLight, Box, Brief, LightChange, ProbeSet, Region, Sky
from ropebell.level.model import Light
from ropebell.light.harmonics import COUNT, basis, irradiance, projected
from ropebell.light.probes import MOST_PROBES, Probes, at_place, grid_positions
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import fibonacci_sphere

UP = (0.0, 1.0, 0.0)
MADE = recipe("working", density__texels_per_metre=6.0, finish__denoise=False, finish__stitch_seams=False)


def test_the_basis_is_orthonormal() -> None:
    looks = fibonacci_sphere(20_000)
    table = basis(looks)
    np.testing.assert_allclose(table.T @ table * (4 * math.pi / len(looks)), np.eye(COUNT), atol=2e-3)


@given(st.lists(st.floats(-1, 1), min_size=3, max_size=3).filter(lambda v: sum(x * x for x in v) > 0.01))
def test_even_light_and_a_hemisphere_give_what_they_must(way: list[float]) -> None:
    normal = np.array(way) / np.linalg.norm(way)
    looks = fibonacci_sphere(4000)
    even = projected(np.full((len(looks), 3), 7.0), looks, 4 * math.pi / len(looks))
    np.testing.assert_allclose(irradiance(even, normal), 7 * math.pi, rtol=5e-3)
    # Half a sphere of light about an axis: E = π·L·(1 + cos γ)/2, to which two bands are a good approximation.
    half = projected(np.repeat((looks[:, 1:2] > 0) * 1.0, 3, axis=1), looks, 4 * math.pi / len(looks))
    np.testing.assert_allclose(irradiance(half, normal), math.pi * (1 + normal[1]) / 2, atol=0.06)


def probes_of(folder: Path, b: LevelBuilder, *places: tuple[float, float, float], **request: object) -> Probes:
    brief = request.pop("brief", Brief())
    assert isinstance(brief, Brief)
    wanted = ProbeSet(placed={f"p{i}": place for i, place in enumerate(places)})
    manifest = bake(level_file(folder, b), MADE, folder / "out", brief=replace(brief, probes=wanted), **request)
    assert manifest["probes"] == {"file": PROBES, "count": len(places)}
    found = read_probes(folder / "out")
    assert found is not None and found.name == tuple(wanted.placed)
    return found


def test_a_probe_under_an_even_sky_and_in_a_furnace(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "chip", floor(0.1), "grey")
    found = probes_of(tmp_path, b, (0.0, 30.0, 0.0), sky=(4.0, 5.0, 6.0))
    for way in (UP, (0.6, 0.0, 0.8), (0.0, -1.0, 0.0)):
        np.testing.assert_allclose(irradiance(found.coefficients[0], way), np.array([4, 5, 6]) * math.pi, rtol=5e-3)
    furnace = LevelBuilder()
    furnace.material("wall", (0.6,) * 3, glow=(2.0, 1.0, 0.5))
    furnace.add("g", "room", room(4, 3, 5), "wall")
    (tmp_path / "f").mkdir()
    found = probes_of(tmp_path / "f", furnace, (1.0, 1.0, 1.0), (3.5, 2.5, 4.0))
    series = (1 - 0.6**6) / 0.4  # four bounces on the walls, and what those throw back
    for k in range(2):
        for way in (UP, (-1.0, 0.0, 0.0)):
            expected = math.pi * series * np.array([2, 1, 0.5])
            np.testing.assert_allclose(irradiance(found.coefficients[k], way), expected, rtol=0.01)


def test_lamps_reach_probes_with_their_shadows(tmp_path: Path) -> None:
    """Two bands of a single direction give its cosine lobe 1.0625 times too high at its top: ¼ + ½ + 5⁄16."""
    b = LevelBuilder()
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "floor", floor(8), "black")
    b.add("g", "wall", box((1, 0, -3), (1.2, 5, 3)), "black")
    b.light("lamp", Light("lamp", "point", (1.0, 0.5, 0.25), 90.0), at(0, 4, 0))
    b.light("spot", Light("spot", "spot", (0, 0, 1), 50.0, 9.0, 0.3, 0.5), aimed((-3, 4, 2), (-3, 0, 2)))
    b.light("sun", Light("sun", "directional", (0, 1, 0), 20.0), aimed((0, 9, 9), (0, 0, 0)))
    off = Brief(lights={"lights/sun": LightChange(enabled=False)})
    found = probes_of(tmp_path, b, (0.0, 1.0, 0.0), (3.0, 1.0, 0.0), (-3.0, 2.0, 2.0), brief=off)
    lit, shaded, below_spot = (irradiance(c, UP) for c in found.coefficients)
    np.testing.assert_allclose(lit, 1.0625 * 90 / 9 * np.array([1, 0.5, 0.25]), rtol=1e-4)
    np.testing.assert_allclose(shaded, 0, atol=1e-6)
    # The lamp, √17 m away behind, adds to what the spot brings straight from above.
    assert below_spot[2] == pytest.approx(
        1.0625 * 50 / 4 * (1 - (2 / 9) ** 4) + _lobe(90 * 0.25 / 17, 2 / math.sqrt(17)), rel=1e-3
    )
    (tmp_path / "s").mkdir()
    only_sun = Brief(lights={f"lights/{n}": LightChange(enabled=False) for n in ("lamp", "spot")})
    sun = probes_of(tmp_path / "s", b, (-3.0, 1.0, 0.0), brief=only_sun)
    toward = np.array([0, math.sqrt(0.5), math.sqrt(0.5)])
    assert irradiance(sun.coefficients[0], toward)[1] == pytest.approx(1.0625 * 20, rel=1e-4)


def _lobe(lux: float, cosine: float) -> float:
    """Two bands of a direction of so many lux on a face at an angle."""
    return lux * (0.25 + 0.5 * cosine + 0.3125 * (1.5 * cosine**2 - 0.5))


def test_a_disk_of_light_is_as_its_strength_from_afar(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "floor", floor(1), "black")
    added = Brief(
        added={"d": AddedLight("disk", (0.0, 6.0, 0.0), (0.0, -1.0, 0.0))},
        lights={"added/d": LightChange(intensity=72.0, size=0.2)},
    )
    found = probes_of(tmp_path, b, (0.0, 0.5, 0.0), (0.0, 7.0, 0.0), brief=added)
    assert irradiance(found.coefficients[0], UP)[0] == pytest.approx(1.0625 * 72 / 5.5**2, rel=0.01)
    np.testing.assert_allclose(irradiance(found.coefficients[1], (0.0, -1.0, 0.0)), 0, atol=1e-6)


def test_a_sky_picture_comes_from_its_side(tmp_path: Path) -> None:
    pixels = np.zeros((32, 64, 3), np.float32)
    pixels[8:12, 14:18] = 100.0  # a quarter turn from +Z towards −X, well above the horizon
    write_page(tmp_path / "sky.exr", pixels)
    b = LevelBuilder()
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "floor", floor(1), "black")
    for turn, side in ((0.0, (-1.0, 0.0, 0.0)), (90.0, (0.0, 0.0, -1.0))):
        folder = tmp_path / str(turn)
        folder.mkdir()
        sky = Brief(skies={"s": Sky(picture="sky.exr", turn=turn)}, sky="s")
        request = {"sky": (1.0, 1.0, 1.0), "sky_picture": tmp_path / "sky.exr", "brief": sky}
        found = probes_of(folder, b, (0.0, 5.0, 0.0), **request)
        values = {w: irradiance(found.coefficients[0], w)[0] for w in (side, tuple(-v for v in side))}
        assert values[side] > 5 * max(values[tuple(-v for v in side)], 0.01)


def test_the_grid_keeps_to_the_region_and_out_of_solids(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "room", room(6, 3, 6), "grey")
    b.add("g", "block", box((0, 0, 0), (2, 3, 2)), "grey", at(2, 0, 2))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 90.0), at(1, 2, 1))
    region = Region((Box((0.0, 0.0, 0.0), (6.0, 3.0, 6.0)),))
    brief = Brief(region=region, probes=ProbeSet(1.0, {"mine": (3.0, 1.0, 3.0)}))
    manifest = bake(level_file(tmp_path, b), MADE, tmp_path / "out", brief=brief)
    found = read_probes(tmp_path / "out")
    assert found is not None and found.name[0] == "mine", "what was placed by hand stays, even in a solid"
    grid = found.position[1:]
    assert len(grid) == 6 * 3 * 6 - 2 * 3 * 2 and manifest["probes"]["count"] == len(found)
    inside = ((grid > [2, 0, 2]) & (grid < [4, 3, 4])).all(axis=1)
    assert not inside.any() and (grid > 0).all() and (grid < [6, 3, 6]).all()
    told = [f for f in manifest["findings"] if f["kind"] == "probes-buried"]
    assert len(told) == 1 and told[0]["reason"].startswith("12 of 108")


@given(st.floats(0.2, 3.0), st.floats(0.3, 7.0))
def test_lattices_have_no_twins_and_stay_in_their_boxes(spacing: float, size: float) -> None:
    boxes = (Box((0.0, 0.0, 0.0), (size, 2.0, 3.0)), Box((size / 2, 0.0, 0.0), (size + 1, 2.0, 3.0)))
    points = grid_positions(boxes, spacing)
    assert len(np.unique(np.round(points, 9), axis=0)) == len(points) > 0
    assert (points > 0).all() and (points < [size + 1, 2.0, 3.0]).all()
    with pytest.raises(ValueError, match=f"more than {MOST_PROBES:,}"):
        grid_positions((Box((0.0, 0.0, 0.0), (100.0, 100.0, 100.0)),), 0.5)
    assert grid_positions((), spacing).shape == (0, 3)


def test_between_probes_only_those_that_see_the_place_count() -> None:
    wall = floor(4).positions[floor(4).triangles].astype(np.float64)[..., [1, 0, 2]]
    space = RaySpace(wall)
    bright, dark = np.zeros((2, COUNT, 3), np.float32)
    bright[0] = 10.0
    probes = Probes(np.array([[-1.0, 0, 0], [0.4, 0, 0]]), np.stack([bright, dark]), ("west", "east"))
    mixed, shares = at_place(probes, space, np.array([-0.2, 0, 0]))
    assert shares == [(0, 1.0)] and mixed[0, 0] == 10.0
    mixed, shares = at_place(probes, space, np.array([1.0, 0, 0]))
    assert shares == [(1, 1.0)] and not mixed.any()
    _, shares = at_place(probes, RaySpace(wall + [0, 9, 0]), np.array([0.0, 0, 0]))
    assert [i for i, _ in shares] == [1, 0] and shares[0][1] == pytest.approx(1 / 0.16 / (1 / 0.16 + 1))


def furnished(folder: Path) -> tuple[Path, Brief]:
    b = LevelBuilder()
    b.material("grey", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "grey")
    b.add("g", "panel", floor(1.5).turned_inside_out(), "grey", at(2.5, 2.9, 2.5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 120.0), at(2.5, 2.2, 2.5))
    return level_file(folder, b), Brief(probes=ProbeSet(0.0, {"low": (1.5, 0.3, 1.5), "high": (1.5, 2.0, 1.5)}))


def test_a_mover_is_lit_by_probes_or_by_what_is_below(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path, brief = furnished(tmp_path)
    bake(path, MADE, tmp_path / "out", brief=brief)
    result = open_result(tmp_path / "out")
    surfaces = Lightmapped.of(result, RaySpace(result.scene.corners))
    light = mover_light(surfaces, read_probes(tmp_path / "out"), np.array([1.5, 0.3, 1.5]))
    assert light.sources[0][0] == "low" and light.sources[0][1] > 0.99 and light.node == "g/room"
    on_floor = meter(tmp_path / "out", (1.5, 0.0, 1.5))[0].irradiance
    assert light.below is not None
    np.testing.assert_allclose(light.below, on_floor, rtol=1e-6)
    # Just above the floor a face that looks up gets about what the floor gets; a lamp's lobe is smoothed.
    np.testing.assert_allclose(light.on(UP), on_floor, rtol=0.25)
    assert main(["meter", str(tmp_path / "out"), "1.5,0.3,1.5", "1.5,-9,1.5", "--mover", "--json"]) == 0
    first, outside = json.loads(capsys.readouterr().out)["points"]
    assert first["probes"]["up"] == pytest.approx(light.on(UP).tolist()) and first["below"]["node"] == "g/room"
    assert sum(s["share"] for s in first["from"]) == pytest.approx(1.0, abs=1e-3)
    assert outside["below"] == {} and outside["from"]
    assert main(["meter", str(tmp_path / "out"), "1.5,0.3,1.5", "--mover"]) == 0
    told = capsys.readouterr().out
    assert "by probes, up" in told and "% of low" in told and "by g/room" in told


def test_no_probes_too_many_and_a_damaged_file(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path, brief = furnished(tmp_path)
    plain = bake(path, recipe("sketch"), tmp_path / "plain")
    assert plain["probes"] == {} and read_probes(tmp_path / "plain") is None
    assert main(["meter", str(tmp_path / "plain"), "1.5,0.3,1.5", "--mover"]) == 0
    assert "no probes" in capsys.readouterr().out
    with pytest.raises(BuildError, match="probes"):
        bake(path, recipe("sketch"), tmp_path / "many", brief=Brief(probes=ProbeSet(0.05)))
    bake(path, recipe("sketch"), tmp_path / "some", brief=brief)
    (tmp_path / "some" / PROBES).write_text('{"probes": [{"name": 1}]}')
    with pytest.raises(ProjectError, match="damaged"):
        read_probes(tmp_path / "some")
