"""Leaks in the real window: built, listed, their way out drawn and followed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle

from helpers import level_file
from ropebell.app.steps.faults import FaultsStep
from ropebell.app.window import Window
from ropebell.build.recipe import named, with_value
from ropebell.build.sighting import LEAK
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.model import Light


def _level(folder: Path, high: float) -> Path:
    """A room of slabs, the west one standing so high above the floor."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    for name, low, top in (
        ("floor", (-0.2, -0.2, -0.2), (4.2, 0, 4.2)), ("ceiling", (-0.2, 3, -0.2), (4.2, 3.2, 4.2)),
        ("west", (-0.2, high, -0.2), (0, 3, 4.2)), ("east", (4, 0, -0.2), (4.2, 3, 4.2)),
        ("north", (0, 0, -0.2), (4, 3, 0)), ("south", (0, 0, 4), (4, 3, 4.2)),
    ):  # fmt: skip
        b.add("house", name, box(low, top), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.spot("helpers", "start", at(3, 0, 3))
    return level_file(folder, b)


def test_a_leak_is_listed_drawn_and_followed(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window = empty_window
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(_level(tmp_path, 0.08))
    made = with_value(with_value(named("sketch"), "light.gather_rays", 32), "sight.enabled", True)
    window.desk.document.set_recipe("Coarse, and leaks", made)
    idle(window, qtbot)
    build(window, qtbot)
    window.go_to_step("faults")
    idle(window, qtbot)
    step = window.steps["faults"]
    assert isinstance(step, FaultsStep)
    (leak,) = [f for f, _ in step.state.seen.found if f.kind == LEAK]
    assert leak.measure is not None and abs(leak.measure[0] - 0.08) < 0.003 and leak.severity == "error"
    step.state.choose(leak)
    (line,) = [one for one in step.overlay().lines if one.width > 2]
    assert np.linalg.norm(line.points - leak.place, axis=1).min() < 1e-3
    assert step.faults_bench.follow.isVisible() and step.state.asked is None
    bends = []
    for _ in range(len(line.points)):
        step.faults_bench.follow.click()
        bends.append(window.stage.camera.eye)
    assert np.allclose(bends[:-1], line.points[:-1]) and bends[-1] == bends[0]  # and round again
    toward = line.points[1] - line.points[0]
    assert window.stage.camera.forward @ toward > 0.999 * np.linalg.norm(toward)
