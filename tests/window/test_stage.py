"""The stage where it cannot draw."""

from __future__ import annotations

from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from helpers import floor
from ropebell.app.stage import renderer
from ropebell.app.stage.drawn import vertex_table
from ropebell.app.stage.picture import StagePicture
from ropebell.app.stage.widget import Stage
from ropebell.demo.builder import LevelBuilder
from ropebell.level.scene import flatten
from ropebell.light.rays import RaySpace


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
