"""The stage where it cannot draw."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from pytestqt.qtbot import QtBot

from helpers import floor
from ropebell.app.stage import renderer
from ropebell.app.stage.backdrop import backdrop_of
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.drawn import Charted, vertex_table
from ropebell.app.stage.overlay import Mark, Overlay, seen_overlay
from ropebell.app.stage.picture import StagePicture
from ropebell.app.stage.widget import Stage
from ropebell.app.steps.faults.views import LUX
from ropebell.app.views import COMMON
from ropebell.demo.builder import LevelBuilder
from ropebell.demo.shapes import box
from ropebell.level.brief import Sky
from ropebell.level.prepare import flatten
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_seen


def test_without_egl_one_sentence_says_so_and_nothing_else_fails(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(**_: object) -> None:
        raise Exception("libEGL.so.1 not detected in system")  # as the library does

    monkeypatch.setattr(renderer.moderngl, "create_context", refuse)
    stage = Stage()
    qtbot.addWidget(stage)
    stage.resize(400, 300)
    stage.show()
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    level = b.level(Path("a.glb"))
    scene = flatten(level)
    space = RaySpace(scene.corners)
    told: list[str] = []
    stage._frames.failed.connect(told.append)
    with qtbot.waitSignal(stage._frames.failed, timeout=10_000):
        stage.show_picture(StagePicture(level, scene, space, vertex_table(scene, space, None)))
    stage.grab_smooth()
    for _ in range(5):
        stage.show_picture(StagePicture(level, scene, space, vertex_table(scene, space, None)))
        stage.redraw()
    assert len(told) == 1 and "libegl1" in told[0] and "libEGL.so.1" in stage.trouble
    picture = stage.grab().toImage()
    assert len({picture.pixel(x, 150) for x in range(400)} | {picture.pixel(x, 145) for x in range(400)}) > 1
    stage.close_renderer()


def test_the_sky_is_seen_behind_a_lit_level_where_it_stands(qtbot: QtBot, tmp_path: Path) -> None:
    pixels = np.zeros((32, 64, 3), np.float32)
    pixels[:, 32:48], pixels[:, 48:], pixels[:, :16], pixels[:, 16:32] = (4, 0, 0), (0, 4, 0), (0, 0, 4), (4, 4, 0)
    pixels[:4] = 4.0
    file = tmp_path / "sky.exr"
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    OpenEXR.File(header, {"RGB": pixels}).write(str(file))
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(0.5, -3.0), "grey")
    level = b.level(Path("a.glb"))
    scene = flatten(level)
    space = RaySpace(scene.corners)
    stage = Stage()
    qtbot.addWidget(stage)
    stage.resize(320, 240)
    stage.show()
    charted = Charted(np.zeros((2, 3, 2), np.float32), np.zeros(2, np.int32), 4)
    bare = StagePicture(level, scene, space, vertex_table(scene, space, charted), charted)
    light = np.ones((1, 4, 4, 3), np.float32)
    lit = replace(bare.lit(light, None), sky=backdrop_of(Sky(picture="sky.exr"), file, (0.0, 0.0, 0.0)))

    def middle(camera: Camera) -> tuple[int, ...]:
        stage.go(camera)
        stage.grab_smooth()
        at = stage._image.pixelColor(stage._image.width() // 2, stage._image.height() // 2)
        return tuple(v > 128 for v in at.getRgb()[:3])

    for turn in (0.0, 70.0):
        stage.show_picture(replace(lit, sky=backdrop_of(Sky(picture="sky.exr", turn=turn), file, (0.0, 0.0, 0.0))))
        light = SkyMap.of(pixels, turn)
        for yaw, pitch in ((-0.7, 0.1), (0.7, 0.0), (2.2, -0.2), (-2.2, 0.3), (0.1, 1.5), (3.0, 0.0)):
            camera = Camera((0.0, 0.0, 0.0), yaw, pitch)
            lights = sky_seen(light, np.array([camera.forward], np.float32))[0]
            assert middle(camera) == tuple(bool(v > 0) for v in lights), "seen where it gives light from"
    assert middle(Camera((0.0, 0.0, 0.0), 0.0, 1.5)) == (True, True, True)
    stage.look.sky = False
    assert middle(Camera((0.0, 0.0, 0.0), 0.7)) == (False, False, False)
    stage.look.sky = True
    stage.show_picture(bare)
    assert middle(Camera((0.0, 0.0, 0.0), 0.7)) == (False, False, False), "surfaces without light have none"
    assert backdrop_of(Sky(), None, (0.0, 0.0, 0.0)) is None
    stage.close_renderer()


def test_what_shines_glows_round_it_in_the_picture_of_light_alone(qtbot: QtBot) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.material("lamp", (0.2, 0.2, 0.2), glow=(4.0, 2.0, 0.4))
    b.add("g", "wall", floor(20), "grey")
    b.add("g", "lamp", box((-0.9, 0.1, -0.9), (0.9, 0.2, 0.9)), "lamp")
    level = b.level(Path("a.glb"))
    scene = flatten(level)
    space = RaySpace(scene.corners)
    stage = Stage((*COMMON, LUX))
    qtbot.addWidget(stage)
    stage.resize(320, 240)
    stage.show()
    charted = Charted(np.zeros((len(scene), 3, 2), np.float32), np.zeros(len(scene), np.int32), 4)
    bare = StagePicture(level, scene, space, vertex_table(scene, space, charted), charted)
    stage.show_picture(bare.lit(np.full((1, 4, 4, 3), 0.2, np.float32), None))
    stage.go(Camera((0.0, 8.0, 0.0), 0.0, -1.5))

    def row() -> np.ndarray:
        stage.grab_smooth()
        drawn = stage._image
        at = [drawn.pixelColor(x, drawn.height() // 2).getRgb()[:3] for x in range(drawn.width() // 2)]
        return np.array(at, dtype=float)

    glowing = row()
    stage.look.halo = False
    plain = row()
    more = glowing - plain
    edge = int(np.flatnonzero(plain[:, 0] > 200)[0])
    assert (more >= -1).all() and more[edge - 3, 0] > 5 and more[edge - 3, 0] > more[edge - 3, 2]
    assert (np.diff(more[: edge - 3, 0]) >= -1.5).all() and more[edge - 3, 0] > 4 * max(more[2, 0], 1.0)
    # No number is read from it, and views that measure have none.
    stage.look.view = LUX
    measured = row()
    stage.look.halo = True
    np.testing.assert_array_equal(row(), measured)
    stage.close_renderer()


def test_marks_of_faults_are_not_seen_through_walls(qtbot: QtBot) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "near", box((-1, 0, -3.2), (1, 2, -3)), "grey")
    b.add("g", "far", box((-1, 0, -6.2), (1, 2, -6)), "grey")
    level = b.level(Path("a.glb"))
    scene = flatten(level)
    space = RaySpace(scene.corners)
    picture = StagePicture(level, scene, space, vertex_table(scene, space, None))
    eye = Camera((0.0, 1.0, 0.0), 0.0, 0.0)
    places = np.array([[0.2, 1.0, -3.0], [0.2, 1.0, -6.0], [0.0, 5.0, -6.0]])
    assert picture.in_sight(eye, places, frozenset()).tolist() == [True, False, True]
    near, far = (scene.node_names.index(f"g/{name}") for name in ("near", "far"))
    assert picture.in_sight(eye, places, frozenset({near})).all()
    beyond = np.array([[0.2, 1.0, -7.0]])
    hidden = (frozenset(), frozenset({near}), frozenset({far}), frozenset({near, far}))
    assert [bool(picture.in_sight(eye, beyond, h)[0]) for h in hidden] == [False, False, False, True]
    assert picture.in_sight(replace(eye, plan=True), places, frozenset()).all()
    stage = Stage()
    qtbot.addWidget(stage)
    stage.go(eye)
    stage.show_picture(picture)
    stage.lay_over(Overlay(marks=tuple(
        Mark((float(x), float(y), float(z)), "fault noise", name, through=name == "chosen")
        for (x, y, z), name in zip(places[[0, 1, 1]], ("before", "behind", "chosen"))
    )))  # fmt: skip
    assert [m.label for m in seen_overlay(stage.overlay, stage.picture, stage.camera, stage.look.hidden).marks] == [
        "before",
        "chosen",
    ]
    stage.close_renderer()
