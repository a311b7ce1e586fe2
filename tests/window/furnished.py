"""Levels that tests of the window open, and what they ask of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle, opened

from helpers import floor, level_file, room
from ropebell.app.window import Window
from ropebell.build.recipe import named, with_value
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import Brief
from ropebell.level.model import Light


def fresh_of(window: Window) -> tuple[str, ...]:
    """Objects that have no light in the picture."""
    return window.stage.picture.fresh if window.stage.picture is not None else ()


def furnished(extra: bool = False) -> LevelBuilder:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("wood", (0.3, 0.5, 0.2))
    b.material("glow", (0.8, 0.8, 0.8), glow=(400.0, 400.0, 400.0))
    b.add("house", "room", room(5, 3, 5), "wall")
    b.add("house", "rug", floor(1, 0.02), "wood", at(2.5, 0, 2.5))
    b.add("things", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "wood", at(1, 0.01, 1))
    b.add("things", "chest", box((0, 0, 0), (0.5, 0.4, 0.3)).turned_inside_out(), "wood", at(3.5, 0.01, 1))
    b.add("things", "globe", ball(0.1, 8, 10), "glow", at(4, 2, 4))
    if extra:
        b.add("things", "bench", box((0, 0, 0), (1, 0.4, 0.3)), "wood", at(1, 0.01, 3.5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 6.0), at(2, 2, 2))
    b.light("spot", Light("spot", "spot", (1, 1, 1), 60.0, 5.0, 0.2, 0.6), at(3, 2.5, 3))
    b.spot("helpers", "start", at(2.5, 0.0, 3.0))
    return b


def node(window: Window, path: str) -> int:
    return window.desk.level.now.scene.node_names.index(path)


def brief(window: Window) -> Brief:
    return window.desk.level.now.project.brief


def plain_room(folder: Path) -> Path:
    """A room with a rug and a lamp."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("crate", (0.3, 0.5, 0.2))
    b.add("g", "room", room(5, 3, 5), "wall")
    b.add("g", "rug", floor(1, 0.02), "crate", at(2.5, 0, 2.5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    return level_file(folder, b)


def draft(window: Window) -> None:
    project = window.desk.document.project
    assert project is not None
    window.desk.document.set_recipe("Draft", with_value(project.recipe, "draft", 8))


def picture(window: Window) -> np.ndarray:
    window.stage.grab_smooth()
    image = window.stage.grab().toImage()
    data = image.constBits()
    assert data is not None
    data.setsize(image.sizeInBytes())
    return np.frombuffer(data, np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)[..., :3].astype(int)


def drafted(window: Window, qtbot: QtBot, folder: Path) -> Path:
    """A room with a crate and a chest, opened, and built once as a draft."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.add("things", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "wall", at(1, 0.01, 1))
    b.add("things", "chest", box((0, 0, 0), (0.5, 0.4, 0.3)), "wall", at(2.5, 0.01, 1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 6.0), at(2, 2, 2))
    level = level_file(folder, b)
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(level)
    made = with_value(with_value(named("sketch"), "draft", 4), "light.gather_rays", 32)
    window.desk.document.set_recipe("Draft", made)
    idle(window, qtbot)
    build(window, qtbot)
    return level


def in_the_room(window: Window, qtbot: QtBot, level: Path) -> Window:
    """The window with a level open, and nothing under way."""
    opened(window, qtbot, level)
    return window
