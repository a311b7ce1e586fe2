"""Rules of the engine, through whole builds of small levels."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, facing_down, floor, level_file, meter, recipe, room
from ropebell.build.result import open_result
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import ball, box
from ropebell.level.model import Light

SUN = Light("sun", "directional", (1, 1, 1), 100.0)


def builder(albedo: float = 0.5) -> LevelBuilder:
    b = LevelBuilder()
    b.material("m", (albedo,) * 3)
    b.material("cloth", (albedo,) * 3, double_sided=True)
    return b


def pages(folder: Path) -> np.ndarray:
    return open_result(folder).total


def busy_level() -> LevelBuilder:
    b = builder()
    b.material("glow", (0.5, 0.5, 0.5), glow=(30, 20, 10))
    b.add("g", "room", room(4, 3, 5), "m")
    b.add("g", "ball", ball(0.5, 8, 12), "m", at(2, 0.5, 2))
    b.add("g", "panel", facing_down(1, 2.9), "glow", at(2, 0, 2))
    b.light("lamp", Light("lamp", "point", (1, 0.8, 0.6), 50.0), at(1, 2, 1))
    return b


def test_the_same_for_one_worker_or_many_and_for_equal_seeds(tmp_path: Path) -> None:
    path = level_file(tmp_path, busy_level())
    for name, workers, seed in (("one", 1, 1), ("three", 3, 1), ("other", 2, 2)):
        made = recipe("sketch", limits__workers=workers, light__seed=seed)
        bake(path, made, tmp_path / name, cache=tmp_path / f"cache {name}")
    np.testing.assert_array_equal(pages(tmp_path / "one"), pages(tmp_path / "three"))
    one, other = pages(tmp_path / "one"), pages(tmp_path / "other")
    assert not np.array_equal(one, other)
    assert one.mean() == pytest.approx(other.mean(), rel=0.01)


def test_one_sided_is_black_from_behind_two_sided_shows_its_light(tmp_path: Path) -> None:
    """A sunlit sheet above a floor: the floor below gets light from it only if it is two-sided."""
    for name, material in (("one", "m"), ("two", "cloth")):
        b = builder(0.8)
        b.add("g", "floor", floor(3), "m")
        b.add("g", "sheet", floor(3), material, at(0, 0.5, 0))
        b.light("sun", SUN, aimed((0, 5, 0), (0, 0, 0)))
        bake(level_file(tmp_path, b, f"{name}.glb"), recipe("working"), tmp_path / name)
    assert meter(tmp_path / "one", (0, 0, 0))[0].irradiance[0] == 0.0
    lit = meter(tmp_path / "two", (0, 0, 0))[0]
    assert lit.direct[0] == 0.0
    assert lit.bounced[0] > 10


def test_smooth_and_faceted_balls_are_lit_without_acne(tmp_path: Path) -> None:
    """The lit side of a ball has no texel that its own surface shadows."""
    b = builder(0.0)
    b.add("g", "ball", ball(1.0, 24, 48), "m")
    b.light("sun", SUN, aimed((0, 5, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("working", density__texels_per_metre=12.0))
    angles = np.linspace(0, np.radians(70), 20)
    readings = meter(tmp_path / "out", *[(np.sin(a), np.cos(a), 0) for a in angles], normal=None)
    np.testing.assert_allclose([r.irradiance[0] for r in readings], 100 * np.cos(angles), atol=4)


def test_bounces_add_up_one_by_one(tmp_path: Path) -> None:
    path = level_file(tmp_path, busy_level())
    means, energies = [], []
    for n in (0, 1, 2, 5):
        manifest = bake(path, recipe("sketch", light__bounces=n), tmp_path / f"b{n}")
        energies.append(manifest["energy"])
        means.append(sum(manifest["energy"]))
    assert means == sorted(means)
    assert energies[1] == pytest.approx(energies[3][:2])
    assert all(a > b for a, b in zip(energies[3][1:], energies[3][2:]))


def test_averaged_texture_is_the_albedo(tmp_path: Path) -> None:
    """A fine black and white checker bounces like the linear mean of its pixels."""
    checker = (np.indices((64, 64)).sum(axis=0) % 2 * 255).astype(np.uint8)
    for name, textured in (("checker", True), ("grey", False)):
        b = LevelBuilder()
        picture = b.picture("checker", np.repeat(checker[..., None], 3, 2)) if textured else None
        b.material("m", (0.8, 0.8, 0.8) if textured else (0.4, 0.4, 0.4), texture=picture)
        b.add("g", "room", room(3, 3, 3), "m")
        b.light("lamp", Light("lamp", "point", (1, 1, 1), 50.0), at(1.5, 2, 1.5))
        bake(level_file(tmp_path, b, f"{name}.glb"), recipe("sketch"), tmp_path / name)
    checkered, grey = (meter(tmp_path / n, (1, 0, 1))[0].bounced[0] for n in ("checker", "grey"))
    assert checkered == pytest.approx(grey, rel=0.02)


def test_light_brighter_than_half_floats_is_kept(tmp_path: Path) -> None:
    b = builder()
    b.add("g", "floor", floor(2), "m")
    b.light("sun", Light("sun", "directional", (1, 1, 1), 120_000.0), aimed((0, 5, 0), (0, 0, 0)))
    manifest = bake(level_file(tmp_path, b), recipe("sketch"))
    assert manifest["pages"][0]["channels"] == "single"
    assert meter(tmp_path / "out", (0, 0, 0))[0].irradiance[0] == pytest.approx(120_000, rel=1e-3)


def test_padding_holds_light_so_that_edges_do_not_darken(tmp_path: Path) -> None:
    b = builder()
    b.add("g", "floor", floor(2), "m")
    b.light("sun", SUN, aimed((0, 5, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("working"))
    for x in (-0.999, 0.999, 0.0):
        assert meter(tmp_path / "out", (x, 0, 0.999))[0].irradiance[0] == pytest.approx(100, rel=1e-3)


def test_meter_chooses_the_side_that_was_asked_for(tmp_path: Path) -> None:
    b = builder()
    b.add("g", "slab", box((0, 0, 0), (1, 0.02, 1)), "m")
    b.light("sun", SUN, aimed((0, 5, 0), (0, 0, 0)))
    bake(level_file(tmp_path, b), recipe("working"))
    top, bottom = (meter(tmp_path / "out", (0.5, 0.01, 0.5), normal=n)[0] for n in ((0, 1, 0), (0, -1, 0)))
    assert top.irradiance[0] == pytest.approx(100, rel=1e-3)
    assert bottom.irradiance[0] == 0.0
