"""Light through surfaces with holes."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, meter, recipe
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import quad
from ropebell.level.brief import Brief, Mark
from ropebell.level.cutouts import cutouts_of, solid_pixels
from ropebell.level.model import Level, Light, Material
from ropebell.level.open import open_level
from ropebell.level.picture_lookup import CLAMP, MIRROR, REPEAT
from ropebell.level.prepare import flatten, prepare
from ropebell.light.albedo import pyramid
from ropebell.light.piercing import wrapped
from ropebell.light.rays import MOST_LAYERS, RaySpace

SKY = (100.0, 100.0, 100.0)


def holed(alpha: np.ndarray, color: int = 0) -> np.ndarray:
    """A picture of one grey with this alpha, 0 … 1."""
    return np.concatenate([np.full((*alpha.shape, 3), color), 255 * alpha[..., None]], axis=2).astype(np.uint8)


def grille_over_floor(alpha: np.ndarray, height: float, size: float = 4.0, layers: int = 1, span: float = 1.0):
    """A floor, and over it a grille of a picture laid `size` / `span` times each way."""
    b = LevelBuilder()
    b.material("floor", (0.0, 0.0, 0.0))
    b.material("grille", (0.0, 0.0, 0.0), texture=b.picture("holes", holed(alpha)), double_sided=True, holes=True)
    b.add("g", "floor", floor(1.0), "floor")
    sheet = floor(size)
    sheet = replace(sheet, uv=(sheet.positions[:, [0, 2]] / span).astype(np.float32))
    for layer in range(layers):
        b.add("g", f"grille {layer}", sheet, "grille", at(0, height * (layer + 1), 0))
    return b


def test_the_sun_shines_through_a_hole_and_nowhere_else(tmp_path: Path) -> None:
    alpha = np.ones((4, 4))
    alpha[1:3, 1:3] = 0.0  # the middle quarter: x and z from 0.25 to 0.75 of the sheet
    b = grille_over_floor(alpha, 1.0, size=2.0, span=2.0)
    b.light("sun", Light("sun", "directional", (1, 1, 1), 800.0), aimed((0, 5, 0), (0, 0, 0)))
    # Laid from the origin on, the picture's middle lies at (1, 1): the sheet is moved so that it is over the floor.
    level = b.level(Path("a.glb"))
    moved = replace(level, nodes=tuple(_shifted(n) if n.name == "grille 0" else n for n in level.nodes))
    b.level = lambda _source: moved  # type: ignore[method-assign]
    out = tmp_path / "out"
    bake(level_file(tmp_path, b), recipe("working", density__texels_per_metre=20.0), out)
    lit = meter(out, (0.0, 0.0, 0.0), (0.4, 0.0, 0.4), (-0.4, 0.0, 0.3))
    assert [r.irradiance[0] for r in lit] == pytest.approx([800.0] * 3, rel=1e-3)


def _shifted(node):
    local = node.local.copy()
    local[0, 3], local[2, 3] = -1.0, -1.0
    return replace(node, local=local, world=local)


def test_a_fine_grille_lets_its_open_share_of_the_sky_through(tmp_path: Path) -> None:
    """Half of a checker is open, and far above it nothing of the pattern is left: E = π·L/2 where the sheet fills the
    view; the sheet's rim lets the rest of the sky in, by its own form factor."""
    alpha = np.indices((2, 2)).sum(axis=0) % 2
    size, height = 8.0, 0.5
    b = grille_over_floor(alpha, height, size, span=0.05)
    out = tmp_path / "out"
    made = recipe("final", density__texels_per_metre=40.0, light__gather_rays=128, finish__denoise=False)
    bake(level_file(tmp_path, b), made, out, sky=SKY)
    # Form factor of a parallel square over a point, seen from the middle (four corners of half its side).
    x = (size / 2) / height
    corner = x / math.sqrt(1 + x * x) * math.atan(x / math.sqrt(1 + x * x)) * 2 / (2 * math.pi)
    covered = 4 * corner
    expected = math.pi * SKY[0] * (covered / 2 + 1 - covered)
    # At 128 rays a texel is good to 4 %, and a hundred and more of them, all near the middle, to 0.4 %.
    places = [(0.06 * i, 0.0, 0.06 * j) for i in range(-3, 4) for j in range(-3, 4)]
    assert np.mean([r.irradiance[0] for r in meter(out, *places)]) == pytest.approx(expected, rel=0.01)


def test_many_layers_of_nothing_are_nothing(tmp_path: Path) -> None:
    empty = np.zeros((2, 2))
    kept, gone = tmp_path / "kept", tmp_path / "gone"
    for folder in (kept, gone):
        folder.mkdir()
    made = recipe("working", density__texels_per_metre=6.0)
    path = level_file(tmp_path, grille_over_floor(empty, 0.02, layers=12))
    bake(path, made, kept, sky=SKY)
    left_out = Brief(marks={f"g/grille {i}": Mark(role="left-out") for i in range(12)})
    bake(path, made, gone, sky=SKY, brief=left_out)
    a, b = (meter(folder, (0.1, 0.0, 0.2))[0].irradiance[0] for folder in (kept, gone))
    assert a == pytest.approx(b, rel=1e-4) == pytest.approx(math.pi * SKY[0], rel=1e-3)


def strip(alpha: np.ndarray, wrap: tuple[int, int], affine: np.ndarray, uv: np.ndarray) -> Level:
    """One quad over the origin with these picture coordinates, and a floor below it."""
    b = LevelBuilder()
    use = replace(b.picture("holes", holed(alpha)), wrap=wrap, affine=affine)
    b.material("grille", (0.5, 0.5, 0.5), texture=use, holes=True)
    b.material("floor", (0.5, 0.5, 0.5))
    sheet = quad([(-1, 1, 1), (1, 1, 1), (1, 1, -1), (-1, 1, -1)])
    b.add("g", "sheet", replace(sheet, uv=uv.astype(np.float32)), "grille")
    b.add("g", "floor", floor(20), "floor")
    return b.level(Path("a.glb"))


@pytest.mark.parametrize("wrap", [(REPEAT, REPEAT), (CLAMP, MIRROR), (MIRROR, CLAMP)])
def test_rays_meet_what_the_picture_says(wrap: tuple[int, int]) -> None:
    """Against a lookup written here, for slanted rays, scaled and turned coordinates and every wrap mode."""
    rng = np.random.default_rng(5)
    alpha = (rng.random((7, 5)) > 0.5).astype(float)
    affine = np.array([[1.7, 0.4, -0.6], [-0.3, 2.1, 0.2]])
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float)
    scene = flatten(strip(alpha, wrap, affine, uv))
    assert scene.cutouts is not None and scene.cutouts.triangle.tolist() == [0, 1]
    space = RaySpace(scene.corners, None, scene.cutouts)
    target = rng.uniform(-0.99, 0.99, (4000, 2))
    through = np.stack([target[:, 0], np.ones(4000), target[:, 1]], axis=1)
    start = through + rng.uniform(-0.5, 0.5, (4000, 3)) * [1, 0, 1] + [0, 0.5, 0]
    directions = (through - start).astype(np.float32)
    origins = (start - space.centre).astype(np.float32)
    hit = space.first_hit(origins, directions)
    at_uv = np.stack([(target[:, 0] + 1) / 2, (1 - target[:, 1]) / 2], axis=1) @ affine[:, :2].T + affine[:, 2]
    pixel = []
    for value, mode, count in ((at_uv[:, 1], wrap[1], 7), (at_uv[:, 0], wrap[0], 5)):
        folded = {
            REPEAT: value - np.floor(value),
            CLAMP: np.clip(value, 0, 1),
            MIRROR: np.where(np.floor(value) % 2 == 0, value - np.floor(value), 1 - (value - np.floor(value))),
        }[mode]
        pixel.append(np.minimum((folded * count).astype(int), count - 1))
    solid = alpha[pixel[0], pixel[1]] > 0.5
    # Single precision may fall to the other side of a pixel's edge.
    assert ((scene.node[hit] == scene.node[0]) == solid).mean() > 0.998
    blocked = space.blocked(origins, directions, np.full(4000, 1.2, np.float32))
    assert (blocked == solid).mean() > 0.998
    assert space.blocked(origins, directions, np.full(4000, 10.0, np.float32)).all()
    assert not space.blocked(origins, directions, np.full(4000, 0.9, np.float32)).any()


def test_hits_keep_their_numbers_when_some_triangles_block_nothing() -> None:
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float)
    scene = flatten(strip(np.zeros((2, 2)), (REPEAT, REPEAT), np.eye(2, 3), uv))
    casts = np.array([True, False, True, True])
    space = RaySpace(scene.corners, casts, scene.cutouts)
    down = np.array([[0, -1, 0], [0, -1, 0]], np.float32)
    start = (np.array([[0.5, 2, 0.4], [-0.5, 2, -0.4]]) - space.centre).astype(np.float32)
    assert (scene.node[space.first_hit(start, down)] == scene.node[2]).all()


def test_a_way_is_blocked_where_the_first_thing_that_stops_a_ray_lies_before_its_end() -> None:
    """Sheets with holes and whole ones in any order, some of which block nothing."""
    rng = np.random.default_rng(8)
    b = LevelBuilder()
    alpha = (rng.random((6, 6)) > 0.6).astype(float)
    b.material("grille", (0, 0, 0), texture=b.picture("holes", holed(alpha)), double_sided=True, holes=True)
    b.material("whole", (0, 0, 0), double_sided=True)
    for number in range(40):
        low, size = rng.uniform(-2, 2, 3), rng.uniform(0.3, 1.5, 2)
        corners = [low, low + [size[0], 0, 0], low + [size[0], 0.3, size[1]], low + [0, 0.3, size[1]]]
        sheet = replace(quad(corners), uv=rng.uniform(-1, 2, (4, 2)).astype(np.float32))
        b.add("g", f"sheet {number}", sheet, "grille" if number % 2 else "whole")
    scene = flatten(b.level(Path("a.glb")))
    start, end = (rng.uniform(-2.5, 2.5, (20_000, 3)).astype(np.float32) for _ in range(2))
    for casts in (None, rng.random(len(scene)) > 0.2):
        space = RaySpace(scene.corners, casts, scene.cutouts)
        hit = space.first_hit(start, end - start)
        plane = scene.face_normals[hit].astype(float)
        corner = space.vertices[hit, 0].astype(float)
        far = np.einsum("ij,ij->i", corner - start, plane) / np.einsum("ij,ij->i", end - start, plane)
        expected = (hit >= 0) & (far < 1.0)
        blocked = space.blocked(start, end - start, np.ones(len(start), np.float32))
        unclear = np.abs(far - 1.0) < 1e-5
        assert (blocked == expected)[~unclear].all() and 0.1 < blocked.mean() < 0.9


def test_more_layers_than_a_ray_is_followed_through_stop_it() -> None:
    b = grille_over_floor(np.zeros((1, 1)), 0.02, layers=MOST_LAYERS + 5)
    scene = flatten(b.level(Path("a.glb")))
    space = RaySpace(scene.corners, None, scene.cutouts)
    start = (np.array([[0.1, 3.0, 0.1]]) - space.centre).astype(np.float32)
    hit = space.first_hit(start, np.array([[0, -1, 0]], np.float32))
    assert scene.node_names[scene.node[hit[0]]] == "g/grille 4"


def test_masks_follow_the_cutoff_and_whole_pictures_cost_nothing() -> None:
    alpha = np.array([[0.2, 0.6], [0.4, 1.0]])
    b = LevelBuilder()
    use = b.picture("holes", holed(alpha))
    b.material("m", (1, 1, 1), texture=use, holes=True)
    b.add("g", "floor", floor(1), "m")
    level = b.level(Path("a.glb"))
    low, high = (replace(level.materials[0], alpha_cutoff=c) for c in (0.3, 0.7))
    assert solid_pixels(level, low).tolist() == [[False, True], [True, True]]
    assert solid_pixels(level, high).tolist() == [[False, False], [False, True]]
    faint = replace(low, base_color=(1, 1, 1, 0.4))
    assert solid_pixels(level, faint).tolist() == [[False, False], [False, True]]
    assert solid_pixels(level, Material("x", base_color=(1, 1, 1, 0.1), alpha_mode="MASK")).tolist() == [[False]]
    scene = flatten(level)
    whole = replace(level, materials=(replace(low, alpha_cutoff=0.0),))
    assert cutouts_of(whole, scene.material, scene.uv0, scene.uv1) is None
    made = recipe("sketch")
    names = {digests(Inputs(flatten(replace(level, materials=(m,))), made)).one("footing") for m in (low, high)}
    assert len(names) == 2
    left = prepare(level, Brief(marks={"g/floor": Mark(role="left-out")})).baking
    assert left.cutouts is None


def test_holes_have_no_say_in_the_colour(tmp_path: Path) -> None:
    pixels = np.zeros((8, 8, 4), np.uint8)
    pixels[::2, ::2] = (188, 188, 188, 255)  # 0.5 linear; the holes are black
    b = LevelBuilder()
    b.material("leaf", (1, 1, 1), texture=b.picture("leaf", pixels), holes=True)
    b.material("plain", (0.5, 0.5, 0.5))
    b.add("g", "leaf", floor(1), "leaf", at(0, 0, 0))
    b.add("g", "wall", quad([(-1, 0, -1), (1, 0, -1), (1, 2, -1), (-1, 2, -1)]), "plain")
    path = level_file(tmp_path, b)
    read = open_level(path)
    assert read.materials[0].alpha_mode == "MASK" and read.images[0].pixels[1, 1, 3] == 0
    whole, *_, all_of_it = pyramid(read.images[0], solid_pixels(read, read.materials[0]))
    assert whole.shape == (8, 8, 3) and all_of_it[0, 0] == pytest.approx(0.5, abs=0.005)


def test_wrapping_covers_every_pixel_once() -> None:
    for mode in (REPEAT, CLAMP, MIRROR):
        assert [wrapped((i + 0.5) / 4, mode, 4) for i in range(4)] == [0, 1, 2, 3]
    assert wrapped(-0.1, REPEAT, 4) == 3 and wrapped(-0.1, CLAMP, 4) == 0 and wrapped(-0.1, MIRROR, 4) == 0
    assert wrapped(1.1, MIRROR, 4) == 3 and wrapped(1.0, CLAMP, 4) == 3
