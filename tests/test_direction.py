"""Where light comes from, for relief."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, recipe, room
from ropebell.build.forms import CHARTS
from ropebell.build.pages import read_page, write_page
from ropebell.build.store import Store
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import joined, quad
from ropebell.level.brief import AddedLight, Brief, LightChange, Sky
from ropebell.level.model import Light
from ropebell.light.direction import Patches, add_patches, add_source, mean_direction

MADE = recipe("working", density__texels_per_metre=5.0, output__directional=True, finish__denoise=False)


def directed(folder: Path, b: LevelBuilder, **request: object) -> tuple[np.ndarray, np.ndarray]:
    """Direction and light of the texels of the one page."""
    manifest = bake(level_file(folder, b), MADE, folder / "out", **request)
    page = manifest["pages"][0]
    assert page["direction"].startswith("layers/direction-")
    laid = CHARTS.of(Store(folder / "cache"), manifest["digests"]["charts"])
    assert laid is not None
    # What is filled round the charts is a mean of neighbours, and of nowhere.
    own = (laid.texels.grid[0] >= 0)[..., None]
    return own * read_page(folder / "out" / page["direction"]), own * read_page(folder / "out" / page["file"])


def plain(albedo: float = 0.0, glow: float = 0.0) -> LevelBuilder:
    b = LevelBuilder()
    b.material("surface", (albedo,) * 3, glow=(glow,) * 3)
    return b


def test_an_even_sky_comes_from_half_above(tmp_path: Path) -> None:
    """∫ ω dω over a hemisphere is half of ∫ dω, along its axis."""
    b = plain()
    b.add("g", "floor", floor(4), "surface")
    direction, light = directed(tmp_path, b, sky=(10.0, 10.0, 10.0))
    lit = light[..., 0] > 1
    # Rays nearly along the floor are held back, which lifts the mean a little.
    np.testing.assert_allclose(direction[lit].mean(axis=0), [0, 0.5, 0], atol=0.03)
    assert np.abs(direction[lit] - [0, 0.5, 0]).max() < 0.12


def test_a_lamp_comes_from_where_it_is_and_relief_follows(tmp_path: Path) -> None:
    b = plain()
    b.add("g", "floor", floor(4), "surface")
    b.light("lamp", Light("lamp", "point", (1, 0.5, 0.2), 100.0), at(1.0, 1.5, 0.0))
    direction, light = directed(tmp_path, b)
    lit = light[..., 0] > 0.5
    # Texels of the padding are means of their neighbours.
    np.testing.assert_allclose(np.linalg.norm(direction[lit], axis=1), 1.0, atol=0.01)
    # The brightest texel lies below the lamp: its light comes from straight above.
    y, x = np.unravel_index(np.argmax(light[..., 0]), light.shape[:2])
    np.testing.assert_allclose(direction[y, x], [0, 1, 0], atol=0.15)
    # Relief bent towards the lamp gets more of it, relief bent away gets less.
    d, n = direction[lit], np.array([0, 1.0, 0])
    sideways = d - d @ n[:, None] * n
    far = np.linalg.norm(sideways, axis=1) > 0.5
    bent = n + 0.3 * sideways[far]
    bent /= np.linalg.norm(bent, axis=1, keepdims=True)
    gain = (1 + 2 * (d[far] * bent).sum(axis=1)) / (1 + 2 * d[far] @ n)
    true = (d[far] * bent).sum(axis=1) / (d[far] @ n)
    assert (gain > 1).all() and (gain < true).all(), "two bands show less relief than there is, never more"


def test_in_a_furnace_it_is_half_of_each_normal(tmp_path: Path) -> None:
    b = plain(0.5, glow=2.0)
    b.add("g", "room", room(3, 3, 3), "surface")
    direction, light = directed(tmp_path, b)
    lit = light[..., 0] > 1
    lengths = np.linalg.norm(direction[lit], axis=1)
    axes = np.abs(direction[lit]).max(axis=1)
    # Bounced light alone is met by rays; every wall's own glow is part of it there.
    assert abs(lengths.mean() - 0.5) < 0.05 and (axes / lengths).mean() > 0.97


def test_suns_area_lights_emitters_and_pictures_have_their_side(tmp_path: Path) -> None:
    b = plain()
    b.material("glow", (0, 0, 0), glow=(500.0,) * 3)
    b.add("g", "floor", floor(1), "surface")
    far_panel = floor(1.0).turned_inside_out()
    b.add("g", "panel", far_panel, "glow", at(6.0, 6.0, 0.0))
    slant = math.sqrt(0.5)
    direction, light = directed(tmp_path, b)
    lit = light[..., 0] > 0.1
    np.testing.assert_allclose(direction[lit].mean(axis=0), [slant, slant, 0], atol=0.05)
    (tmp_path / "disk").mkdir()
    bare = plain()
    bare.add("g", "floor", floor(1), "surface")
    added = Brief(
        added={"d": AddedLight("disk", (0.0, 5.0, 5.0), (0.0, -slant, -slant))},
        lights={"added/d": LightChange(intensity=100.0, size=0.2)},
    )
    direction, light = directed(tmp_path / "disk", bare, brief=added)
    np.testing.assert_allclose(direction[light[..., 0] > 0.1].mean(axis=0), [0, slant, slant], atol=0.05)
    pixels = np.zeros((32, 64, 3), np.float32)
    pixels[7:9, 15:17] = 1000.0  # 45° up, a quarter turn from +Z towards −X
    write_page(tmp_path / "sky.exr", pixels)
    (tmp_path / "sky").mkdir()
    sky = Brief(skies={"s": Sky(picture="sky.exr")}, sky="s")
    direction, light = directed(
        tmp_path / "sky", bare, brief=sky, sky=(2.0, 2.0, 2.0), sky_picture=tmp_path / "sky.exr"
    )
    d = direction[light[..., 0] > 0.1]
    found = d[np.linalg.norm(d, axis=1) > 0.5].mean(axis=0)
    np.testing.assert_allclose(found / np.linalg.norm(found), [-slant, slant, 0], atol=0.12)


def test_an_emitter_that_fills_the_view_is_seen_by_rays(tmp_path: Path) -> None:
    """A huge ceiling is like an even sky: half above. Taken to be at its middle, it would come from there alone."""
    b = plain()
    b.material("glow", (0, 0, 0), glow=(50.0,) * 3)
    b.add("g", "floor", floor(1), "surface")
    b.add("g", "ceiling", floor(60).turned_inside_out(), "glow", at(9.0, 1.0, 0.0))
    direction, light = directed(tmp_path, b)
    middle = (light[..., 0] > 100) & (np.abs(direction[..., 1]) < 0.7)
    assert middle.sum() > 15
    np.testing.assert_allclose(direction[middle].mean(axis=0), [0, 0.5, 0], atol=0.06)


def test_without_light_there_is_no_direction_and_none_is_too_long() -> None:
    total, vector = np.zeros(3, np.float32), np.zeros((3, 3), np.float32)
    normals = np.repeat(np.array([[0, 1, 0]], np.float32), 3, axis=0)
    for way in ([0.0, 4.0, 0.0], [3.0, 4.0, 0.0]):
        add_source(total, vector, np.array([1, 2], np.int32), np.ones(2, np.float32), np.array([way] * 2), normals)
    found = mean_direction(total, vector)
    assert not found[0].any() and (np.linalg.norm(found, axis=1) <= 1 + 1e-6).all()
    # 1 lx straight down and 1.25 lx from 3-4-5: (0, 1, 0) + 1.25·(0.6, 0.8, 0) over 2.25.
    np.testing.assert_allclose(found[1], [0.75 / 2.25, 2.0 / 2.25, 0], atol=1e-6)
    assert mean_direction(np.array([0.5], np.float32), np.array([[3, 0, 0]], np.float32))[0] == pytest.approx([1, 0, 0])


def test_two_panels_of_one_object_are_each_where_they_are(tmp_path: Path) -> None:
    """Under one of two far panels light comes from above, not from half-way to the other."""
    b = plain()
    b.material("glow", (0.0,) * 3, glow=(100.0,) * 3)
    b.add("g", "floor", floor(10), "surface")
    left, right = (quad([(x, 1, 0.2), (x, 1, -0.2), (x + 0.4, 1, -0.2), (x + 0.4, 1, 0.2)]) for x in (-4.0, 3.6))
    b.add("g", "panels", joined([left, right]), "glow")
    direction, light = directed(tmp_path, b)
    y, x = np.unravel_index(np.argmax(light[..., 0]), light.shape[:2])
    np.testing.assert_allclose(direction[y, x], [0, 1, 0], atol=0.25)


def test_pieces_of_a_surface_bring_what_the_whole_brings() -> None:
    """Over a long strip, F and V by pieces are those of a fine sum over its points."""
    n = 400
    xs = np.linspace(-3, 3, n + 1)
    low = np.stack([xs, np.full(n + 1, 1.0), np.full(n + 1, -0.05)], axis=1)
    high = low + [0, 0, 0.1]
    corners = np.concatenate([np.stack([low[:-1], low[1:], high[1:]], 1), np.stack([low[:-1], high[1:], high[:-1]], 1)])
    patches = Patches.of(corners, both_sides=False)
    assert len(patches.area) == 64 and patches.area.sum() == pytest.approx(0.6)
    assert (np.abs(patches.normal[:, 1]) > 0.99).all()
    normal = np.array([[0, 1.0, 0]], np.float32)
    place = np.array([[1.2, 0, 0.0]], np.float32)
    if patches.normal[0, 1] > 0:  # wound to shine down
        patches = Patches.of(corners[:, ::-1], both_sides=False)
    total, vector = np.zeros(1, np.float32), np.zeros((1, 3), np.float32)
    add_patches(total, vector, np.zeros(1, np.int32), np.ones(1, np.float32), patches, place, normal)
    way = (low[:-1] + high[1:]) / 2 - place
    far = np.linalg.norm(way, axis=1, keepdims=True)
    cosine = (way / far)[:, 1:2]
    brought = cosine**2 / far**2
    part = brought / np.maximum(cosine, 0.1) / brought.sum()
    assert total[0] == pytest.approx(part.sum(), rel=0.01)
    np.testing.assert_allclose(vector[0], (part * way / far).sum(axis=0), atol=0.01)
    ball_like = Patches.of(np.concatenate([corners, corners[:, ::-1]]), both_sides=False)
    assert (ball_like.normal == 0).all()
