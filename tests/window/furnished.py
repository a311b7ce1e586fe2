"""A furnished room for tests of the steps, and what they ask of the window."""

from __future__ import annotations

from helpers import floor, room
from ropebell.app.window import Window
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
