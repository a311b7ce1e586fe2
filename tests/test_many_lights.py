"""Lights that reach few texels are tried on few, and light just as before."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import KeptLayouts, bake, level_file, meter, recipe, room
from ropebell.charts.atlas import ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import make_texels
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.brief import AddedLight, Brief, LightChange
from ropebell.level.placed_light import PlacedLight
from ropebell.level.prepare import flatten
from ropebell.light.direct import light_field
from ropebell.light.footing import find_open_samples
from ropebell.light.near import TexelBlocks, _curve
from ropebell.light.rays import RaySpace
from ropebell.light.surface import OpenSamples, Surface


def hall() -> LevelBuilder:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.6, 0.6))
    b.add("g", "room", room(9, 3, 7), "wall")
    for i in range(4):
        b.add("g", f"crate {i}", box((0, 0, 0), (0.6, 0.8, 0.5)), "wall", at(1 + 2 * i, 0, 2 + i, turn=0.3 * i))
    return b


@pytest.fixture(scope="module")
def parts() -> tuple[Surface, RaySpace, OpenSamples]:
    scene = flatten(hall().level(Path("a.glb")))
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    atlas, _ = make_atlas(scene, placed_shapes(scene, KeptLayouts(), 1, lambda _: None), ChartSettings(6.0))
    texels = make_texels(scene, atlas, 4, lambda _: None)
    return surface, space, find_open_samples(surface, space, texels, atlas, 1, lambda _: None)


@pytest.mark.parametrize("size", [0.0, 0.2])
@pytest.mark.parametrize("reach", [0.05, 1.0, 2.5, 40.0])
@pytest.mark.parametrize("kind", ["point", "spot"])
def test_the_field_is_the_same_bit_for_bit(
    parts: tuple[Surface, RaySpace, OpenSamples], kind: str, reach: float, size: float
) -> None:
    surface, space, samples = parts
    near = TexelBlocks.of(surface, samples)
    rng = np.random.default_rng(3)
    shadowed = rng.random(len(samples.count)) > 0.2
    for place in rng.uniform([0.1, 0.1, 0.1], [8.9, 2.9, 6.9], (6, 3)):
        light = PlacedLight("x", kind, place, np.array([0.6, -0.8, 0.0]), (1, 1, 1), 1.0, reach, 0.2, 0.9, size=size)
        fields = [light_field(light, surface, space, samples, 1, lambda _: None, 8, 5, shadowed, n)
                  for n in (None, near)]  # fmt: skip
        assert (fields[0].texel == fields[1].texel).all() and (fields[0].value == fields[1].value).all()


def test_few_texels_are_tried_and_none_in_reach_is_missed(parts: tuple[Surface, RaySpace, OpenSamples]) -> None:
    surface, space, samples = parts
    near = TexelBlocks.of(surface, samples)
    open_ = np.flatnonzero(samples.count > 0)
    weights = samples.weights[open_, 0].astype(float)
    corners = surface.vertices[samples.triangle[open_, 0]].astype(float)
    full = np.stack([1 - weights.sum(axis=1), weights[:, 0], weights[:, 1]], axis=1)
    first = np.einsum("nc,nck->nk", full, corners)
    for place in ([1.0, 1.0, 1.0], [8.5, 0.2, 6.8], [4.5, 1.5, 3.5]):
        position = np.array(place) - space.centre
        found = near.within(position, 1.0)
        inside = open_[np.linalg.norm(first - position, axis=1) < 1.0]
        assert np.isin(inside, found).all() and len(found) < 0.2 * len(open_)
        assert (np.diff(found) > 0).all()
    assert len(near.within(np.array([1e4, 0, 0]), 5.0)) == 0
    assert (near.within(np.zeros(3), 1e4) == open_).all()
    assert sorted(near.order.tolist()) == open_.tolist()


def test_nothing_open_reaches_nothing(parts: tuple[Surface, RaySpace, OpenSamples]) -> None:
    surface, _, samples = parts
    closed = replace(samples, count=np.zeros_like(samples.count))
    assert len(TexelBlocks.of(surface, closed).within(np.zeros(3), 10.0)) == 0


def test_neighbours_on_the_curve_are_neighbours_in_space() -> None:
    grid = np.stack(np.meshgrid(*[np.arange(8.0)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    order = np.argsort(_curve(grid), kind="stable")
    # Blocks of 64 of the curve are cubes of 4 × 4 × 4.
    for block in grid[order].reshape(-1, 64, 3):
        assert (np.ptp(block, axis=0) == 3).all()
    assert len(_curve(np.zeros((0, 3)))) == 0


def test_a_level_of_many_lamps_is_as_the_sum_of_them(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    places = rng.uniform([0.5, 1.0, 0.5], [8.5, 2.8, 6.5], (60, 3))
    added = {f"l{i}": AddedLight("point", tuple(map(float, p))) for i, p in enumerate(places)}
    lights = {f"added/l{i}": LightChange(intensity=20.0, reach=1.8) for i in range(60)}
    path = level_file(tmp_path, hall())
    made = recipe("sketch", density__texels_per_metre=6.0, light__bounces=0)
    bake(path, made, tmp_path / "all", brief=Brief(added=added, lights=lights))
    spot = (4.5, 0.0, 3.5)
    away = np.linalg.norm(places - spot, axis=1)
    window = np.clip(1 - (away / 1.8) ** 4, 0, 1)
    expected = (20.0 * places[:, 1] / away**3 * window).sum()
    assert meter(tmp_path / "all", spot)[0].irradiance[0] == pytest.approx(expected, rel=0.02)
