"""What is looked at is lit first."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from helpers import laid_out, level_file, recipe, room
from ropebell.app.stage.camera import Camera
from ropebell.build.journal import Journal
from ropebell.build.pipeline import build
from ropebell.build.request import Request
from ropebell.build.store import Store
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import Stopped
from ropebell.level.model import Light
from ropebell.light.direction import texel_places
from ropebell.light.footing import find_open_samples
from ropebell.light.rays import RaySpace
from ropebell.light.surface import Surface
from ropebell.light.view import View, seen_texels


def two_rooms() -> LevelBuilder:
    """A room with a pillar, and another one beside it."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "pillar", box((1.5, 0, 1.8), (2.5, 3, 2.2)), "wall")
    b.add("g", "other", room(4, 3, 4), "wall", at(6, 0, 0))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 1))
    return b


VIEW = View((2.0, 1.5, 3.8), (0.0, 0.0, -1.0), math.radians(50))


def looked_at(density: float) -> tuple:
    scene, atlas, texels = laid_out(two_rooms(), density)
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    samples = find_open_samples(surface, space, texels, atlas, 1, lambda _: None)
    return scene, texels, space, surface, samples, seen_texels(VIEW, surface, space, samples)


def test_seen_is_what_a_ray_from_the_eye_reaches() -> None:
    scene, texels, space, surface, samples, seen = looked_at(4.0)
    places = texel_places(surface, samples).astype(np.float64) + space.centre
    eye = np.array(VIEW.eye)
    pillar = (np.array([1.5, 0, 1.8]) - 1e-6, np.array([2.5, 3, 2.2]) + 1e-6)
    own_room = (places[:, 0] < 4.001) & (samples.count > 0)
    away = places - eye
    inside = own_room & (away @ np.array(VIEW.toward) > np.linalg.norm(away, axis=1) * math.cos(VIEW.half_angle))
    with np.errstate(divide="ignore", invalid="ignore"):
        t0, t1 = (pillar[0] - eye) / away, (pillar[1] - eye) / away
    near, far = np.minimum(t0, t1).max(axis=1), np.maximum(t0, t1).min(axis=1)
    hidden = (near < far) & (near < 0.99)
    of_pillar = np.array(scene.node_names)[scene.node[texels.owner]] == "g/pillar"
    clear = ~of_pillar & (samples.count > 0)
    # Samples at the very border of the pillar's shadow may fall to either side.
    assert (seen[clear] == (inside & ~hidden)[clear]).mean() > 0.995
    assert seen[of_pillar].any() and (places[of_pillar & seen][:, 2] > 2.15).all()
    assert 0.05 < seen.mean() < 0.4


def test_a_build_shoots_what_is_seen_before_the_rest(tmp_path: Path) -> None:
    level = level_file(tmp_path, two_rooms())
    made = recipe("working", density__texels_per_metre=10.0, light__gather_rays=64)
    out, cache = tmp_path / "out", tmp_path / "cache"
    out.mkdir()
    journal, seen_share = Journal(out), [0.0]

    def first_rays() -> Stopped | None:
        for place in cache.glob("*.begun"):
            found = Store(cache).unfinished(place.name.removesuffix(".begun"))
            if found is not None and (found.arrays["done"] == 8).any():
                seen_share[0] = float((found.arrays["done"] > 0).mean())
                return Stopped()
        return None

    request = Request(level, out, cache, made, view=VIEW)
    assert Request.from_json(request.to_json()) == request
    with pytest.raises(Stopped):
        build(request, journal, first_rays)
    journal.close()
    (place,) = cache.glob("*.begun")
    found = Store(cache).unfinished(place.name.removesuffix(".begun"))
    assert found is not None
    done = found.arrays["done"]
    seen = looked_at(10.0)[-1]
    shot = np.flatnonzero(done == 8)
    assert len(shot) and seen[shot].all() and not seen.all()


def test_the_camera_tells_a_cone_that_holds_its_picture() -> None:
    camera = Camera((1.0, 2.0, 3.0), yaw=0.7, pitch=-0.3)
    cone = camera.cone(1.6)
    assert cone is not None
    for x, y in ((1, 1), (-1, 1), (1, -1), (-1, -1)):
        _, direction = camera.ray(x, y, 1.6)
        assert direction @ np.array(cone.toward) >= math.cos(cone.half_angle) - 1e-9
    _, outside = camera.ray(1.1, 1.1, 1.6)
    assert outside @ np.array(cone.toward) < math.cos(cone.half_angle)
    assert Camera(plan=True).cone(1.6) is None
