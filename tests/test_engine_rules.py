"""Rules of the engine, through whole builds of small levels."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, events, facing_down, floor, level_file, meter, recipe, room
from ropebell.build.result import open_result
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import ball, box
from ropebell.level.model import Light
from ropebell.light.solve import solve

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


def test_what_is_not_finite_stays_where_it_is_and_is_counted() -> None:
    rng = np.random.default_rng(3)
    hits = rng.integers(-1, 50, (50, 16)).astype(np.int32)
    direct, albedo = np.ones((50, 3), np.float32), np.full((50, 3), 0.5, np.float32)
    whole = solve(hits, np.where(np.arange(50)[:, None] == 7, np.float32(0), direct), albedo, 3, 1, lambda _: None)
    direct[7, 1] = np.nan
    direct[7, [0, 2]] = 0.0
    found = solve(hits, direct, albedo, 3, 1, lambda _: None)
    assert found.lost == (1, 0, 0, 0) and found.first_lost.tolist() == [7]
    assert whole.lost == (0, 0, 0, 0) and not len(whole.first_lost)
    np.testing.assert_array_equal(found.total, whole.total)
    albedo[9] = np.inf
    spread = solve(hits, np.ones((50, 3), np.float32), albedo, 3, 1, lambda _: None)
    assert np.isfinite(spread.total).all() and spread.first_lost.tolist() == [9]


BROKEN = """mtllib broken.mtl
v -2 0 -2\nv -2 0 2\nv 2 0 2\nv 2 0 -2
v 0 0 0\nv 0 0 0\nv 1 0 0\nv 1e-38 1e-39 0\nv 3e-39 0 1e-38
v -1 2 -1\nv 1 2 -1\nv 1 2 1\nv -1 2 1
vn 0 0 0\nvn 0 1 0
o floor\nusemtl grey\nf 1//1 2//1 3//1 4//1
o again\nusemtl grey\nf 1//2 2//2 3//2 4//2
o thread\nusemtl grey\nf 5//2 6//2 7//2
o speck\nusemtl grey\nf 5//2 8//2 9//2
o panel\nusemtl glow\nf 10 11 12 13
"""


def test_broken_geometry_gives_light_or_is_named(tmp_path: Path) -> None:
    """Faces without area, normals without length, two floors in one, denormal corners: all others are lit right."""
    (tmp_path / "broken.mtl").write_text("newmtl grey\nKd 0.5 0.5 0.5\nnewmtl glow\nKd 0 0 0\nKe 10 10 10\n")
    (tmp_path / "broken.obj").write_text(BROKEN)
    (tmp_path / "sound.mtl").write_text((tmp_path / "broken.mtl").read_text())
    sound = BROKEN.replace("vn 0 0 0\n", "vn 0 1 0\n").replace("broken.mtl", "sound.mtl")
    for name in ("again", "thread", "speck"):
        at_ = sound.index(f"o {name}")
        sound = sound[:at_] + sound[sound.index("\no ", at_) + 1 :]
    (tmp_path / "sound.obj").write_text(sound)
    made = recipe("working", density__texels_per_metre=5.0, light__bounces=2)
    for name in ("broken", "sound"):
        bake(tmp_path / f"{name}.obj", made, tmp_path / name, sky=(1.0, 1.0, 1.0))
        assert np.isfinite(pages(tmp_path / name)).all()
    broken = bake(tmp_path / "broken.obj", made, tmp_path / "broken again", sky=(1.0, 1.0, 1.0))
    named = {(f["kind"], f["object"]) for f in broken["findings"]}
    assert {("degenerate", "thread"), ("coplanar", "floor")} <= named
    for place in ((0.3, 0.0, 0.4), (-1.5, 0.0, 1.2)):
        ours, theirs = (meter(tmp_path / n, place)[0].irradiance for n in ("broken", "sound"))
        np.testing.assert_allclose(ours, theirs, rtol=0.08)
    energies = [e for e in events(tmp_path / "broken") if e["event"] == "energy"]
    assert energies[0]["not_finite"] == [0] * len(energies[0]["bounces"])


def test_lights_on_and_in_surfaces_give_finite_light(tmp_path: Path) -> None:
    b = busy_level()
    b.light("in the floor", Light("in the floor", "point", (1, 1, 1), 50.0), at(1, 0, 1))
    b.light("in a corner", Light("in a corner", "point", (1, 1, 1), 50.0), at(0, 0, 0))
    b.light("faint", Light("faint", "point", (1e-40, 1, 1), 1e-40), at(2, 1, 2))
    b.light("along", Light("along", "directional", (1, 1, 1), 10.0), aimed((0, 1, 0), (1, 1, 0)))
    bake(level_file(tmp_path, b), recipe("working", density__texels_per_metre=5.0), tmp_path / "out")
    found = pages(tmp_path / "out")
    assert np.isfinite(found).all() and (found >= 0).all() and found.max() > 1.0
    (energy,) = [e for e in events(tmp_path / "out") if e["event"] == "energy"]
    assert not any(energy["not_finite"])
