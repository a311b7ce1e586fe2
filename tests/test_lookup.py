"""Rays as they are made, and the texels that they meet, against plain reckoning one by one."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import KeptLayouts, floor, laid_out, room
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.same import same_texels
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene
from ropebell.light.footing import find_open_samples, texel_keys
from ropebell.light.gather_rays import lobe, make_rays
from ropebell.light.lookup import BACK, NONE, SKY, hit_records, resolve
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import plain_points, sobol
from ropebell.light.surface import Surface
from ropebell.light.transport import targets


def furnished() -> LevelBuilder:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("cloth", (0.6, 0.5, 0.4), double_sided=True)
    b.add("g", "room", room(5, 3, 5), "wall")
    b.add("g", "crate", box((0.7, 0, 2), (1.3, 0.9, 2.7)), "wall")
    b.add("g", "ball", ball(0.6, 6, 9), "wall", at(3, 1, 3))
    b.add("g", "cloth", floor(1.0, 2.0), "cloth", at(2, 0, 1))
    return b


def test_directions_of_a_texel_are_cosine_distributed_sobol_points() -> None:
    count, mine = 512, np.uint32(77)
    local, which = np.empty((3, count), np.float32), np.empty(count, np.uint32)
    lobe(plain_points(0, count), mine, 7, local, which)
    u = np.array([sobol(k, 0, mine) for k in range(count)])
    v = np.array([sobol(k, 1, mine) for k in range(count)])
    s = np.array([sobol(k, 2, mine) for k in range(count)])
    np.testing.assert_allclose(local[2], np.sqrt(1 - u), atol=3e-4)  # 24 bits of u, near 1 too
    np.testing.assert_allclose(np.hypot(local[0], local[1]), np.sqrt(u), atol=1e-6)
    turn = np.arctan2(local[1], local[0]) / (2 * math.pi) + 0.125
    away = np.abs((turn - v + 0.5) % 1.0 - 0.5)[u > 1e-4]
    assert away.max() < 1e-5
    np.testing.assert_array_equal(which, np.floor(s * 7).astype(int))
    np.testing.assert_allclose(np.linalg.norm(local, axis=0), 1.0, atol=1e-6)


def reckoned(scene: Scene, atlas: Atlas, texels: Texels, t: int, origin: np.ndarray, way: np.ndarray) -> int:
    """Texel where a ray meets triangle t, by barycentric weights in double precision; `BACK` from behind."""
    a, b, c = scene.corners[t]
    normal = np.cross(b - a, c - a)
    if normal @ way > 0 and not scene.double_sided[t]:
        return BACK
    point = origin + way * ((a - origin) @ normal) / (way @ normal)
    square = normal @ normal
    wb, wc = np.cross(point - a, c - a) @ normal / square, np.cross(b - a, point - a) @ normal / square
    x, y = (1 - wb - wc) * atlas.uv[t, 0] + wb * atlas.uv[t, 1] + wc * atlas.uv[t, 2]
    page, left, top, width, height = atlas.rects[atlas.chart[t]]
    column = min(max(int(x), left), left + width - 1)
    row = min(max(int(y), top), top + height - 1)
    return int(texels.grid[page, row, column])


def test_what_a_ray_meets_is_the_texel_under_the_point() -> None:
    scene, atlas, texels = laid_out(furnished(), 6.0)
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    rng = np.random.default_rng(8)
    origins = rng.uniform((0.2, 0.2, 0.2), (4.8, 2.8, 4.8), (3000, 3)) - space.centre
    ways = rng.normal(size=(3000, 3))
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    ways[:5] = 0.0
    origins[5:10] += 50.0
    o, d = origins.astype(np.float32), ways.astype(np.float32)
    struck = space.first_hit(o, np.where(d.any(axis=1, keepdims=True), d, np.float32(1)))
    found = np.empty((1, len(o)), np.int32)
    resolve(hit_records(surface, atlas), texels.grid, np.zeros(1, np.int32), 0, len(o), o, d, struck, found)
    assert (found[0, :5] == NONE).all() and (found[0, 5:10][struck[5:10] < 0] == SKY).all()
    wanted = [
        SKY if t < 0 else reckoned(scene, atlas, texels, t, p + space.centre, w)
        for t, p, w in zip(struck[10:], origins[10:], ways[10:])
    ]
    # Single precision may put a point on a texel's very border to the other side.
    assert (found[0, 10:] == wanted).mean() > 0.998
    assert {SKY, BACK} & set(found[0].tolist()) and (found[0] >= 0).mean() > 0.8
    both = np.empty((1, len(o)), np.int32)
    two_sided = hit_records(surface, atlas, all_two_sided=True)
    resolve(two_sided, texels.grid, np.zeros(1, np.int32), 0, len(o), o, d, struck, both)
    assert (both[0][struck >= 0][5:] != BACK).mean() > 0.99


def test_a_chart_without_area_is_its_first_corner() -> None:
    scene, atlas, texels = laid_out(furnished(), 6.0)
    space = RaySpace(scene.corners)
    uv = atlas.uv.copy()
    t = int(np.argmax(scene.areas))
    uv[t] = uv[t, 0]
    records = hit_records(Surface.of(scene, space), replace(atlas, uv=uv))
    middle = scene.corners[t].mean(axis=0) - space.centre
    way = -scene.face_normals[t].astype(np.float32)[None]
    origin = (middle - way[0]).astype(np.float32)[None]
    found = np.empty((1, 1), np.int32)
    resolve(records, texels.grid, np.zeros(1, np.int32), 0, 1, origin, way, np.array([t], np.int32), found)
    page, left, top, width, height = atlas.rects[atlas.chart[t]]
    spans = zip(uv[t, 0], (left, top), (width, height))
    column, row = (min(max(int(v), low), low + size - 1) for v, low, size in spans)
    assert found[0, 0] == texels.grid[page, row, column]


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 3), st.sampled_from([0.5, 1.5, 2.0, 3.0]), st.integers(1, 5))
def test_texels_of_charts_that_kept_their_density_are_the_same(which: int, factor: float, padding: int) -> None:
    scene = flatten(furnished().level(Path("a.glb")))
    names = np.unique(scene.node)
    changed = scene.node == names[which]
    other = replace(scene, factor=np.where(changed, factor, 1.0).astype(np.float32))
    layouts = KeptLayouts()

    def laid(s: Scene, pad: int) -> tuple[Atlas, Texels]:
        shapes = placed_shapes(s, layouts, 1, lambda _: None)
        atlas, _ = make_atlas(s, shapes, ChartSettings(6.0, 128, pad))
        return atlas, make_texels(s, atlas, 8, lambda _: None)

    (before, old), (after, new) = laid(scene, 2), laid(other, padding)
    found = same_texels(before, old, after, new)
    same = found >= 0
    assert not same[changed[new.owner]].any() and same[~changed[new.owner]].all()
    at_ = found[same]
    assert len(np.unique(at_)) == len(at_)
    for mine, theirs in ((new.owner, old.owner), (new.cover, old.cover), (new.sample_triangle, old.sample_triangle),
                         (new.sample_weights, old.sample_weights)):  # fmt: skip
        np.testing.assert_array_equal(mine[same], theirs[at_])
    names = Surface.of(scene, RaySpace(scene.corners)).names
    np.testing.assert_array_equal(texel_keys(new, after, names)[same], texel_keys(old, before, names)[at_])


def test_layouts_that_cannot_be_compared_have_nothing_in_common() -> None:
    scene, atlas, texels = laid_out(furnished(), 6.0)
    fewer, few_atlas, few_texels = laid_out(only_a_room(), 6.0)
    assert len(fewer) < len(scene)
    assert (same_texels(few_atlas, few_texels, atlas, texels) == -1).all()
    coarser = make_texels(scene, atlas, 4, lambda _: None)
    assert (same_texels(atlas, coarser, atlas, texels) == -1).all()
    np.testing.assert_array_equal(same_texels(atlas, texels, atlas, texels), np.arange(len(texels)))


def only_a_room() -> LevelBuilder:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "wall")
    return b


def test_rays_below_their_own_face_do_not_count() -> None:
    scene, atlas, texels = laid_out(furnished(), 6.0)
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    samples = find_open_samples(surface, space, texels, atlas, 1, lambda _: None)
    rows = np.flatnonzero(samples.count > 0)[::50].astype(np.int32)
    origins, ways = (np.empty((len(rows) * 16, 3), np.float32) for _ in range(2))
    make_rays(surface.ground, samples.spots, rows, plain_points(0, 16), 1, origins, ways)
    length = np.linalg.norm(ways, axis=1)
    assert set(np.round(length, 5).tolist()) <= {0.0, 1.0} and (length > 0.5).mean() > 0.95
    faces = np.array([np.repeat(surface.faces[texels.owner[i]][None], 16, axis=0) for i in rows]).reshape(-1, 3)
    assert (np.einsum("ij,ij->i", faces, ways)[length > 0.5] > -0.6).all()
    assert targets(texels, samples).shape == texels.grid.shape
    assert pytest.approx(1.0) == float(length.max())
