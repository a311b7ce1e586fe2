"""The Hunt step in the real window: a hunt from the condition to the applied fix, stopped, gone on with, steered."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, idle

from helpers import level_file, room
from ropebell.app.steps.hunt import HuntStep
from ropebell.app.steps.hunt.bench import EVERY, FOUND, OUTSIDE
from ropebell.app.window import Window
from ropebell.build.recipe import named, with_value
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.hunt.record import STEER
from ropebell.level.brief import Brief, Move
from ropebell.level.model import Light
from ropebell.level.prepare import flatten
from ropebell.light.arithmetic import WORKERS


def _strip_at_fault() -> tuple[LevelBuilder, str]:
    for step in range(1, 200):
        b = LevelBuilder()
        b.material("grey", (0.5, 0.5, 0.5))
        b.add("house", "room", room(4, 3, 4), "grey")
        b.add("things", "crate", box((0, 0, 0), (0.4, 0.4, 0.4)), "grey", at(1, 0.01, 1))
        strip = box((0, 0, 0), (0.55, 3e-5, 0.04)).rotated(2, 0.001 * step)
        b.add("detail", "strip", strip, "grey", at(2, 1.6, 3.9597))
        b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
        level = b.level(Path("a.glb"))
        scene = flatten(level)
        turned = flatten(level, Brief(moves={"detail/strip": Move(turn=(0.1, 0, 0))}))
        hasty = WORKERS["hasty"]
        if hasty.broken(scene.corners, scene.node).any() and not hasty.broken(turned.corners, turned.node).any():
            return b, "detail/strip"
    raise AssertionError("none is at fault")


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> Window:
    builder, _ = _strip_at_fault()
    with qtbot.waitSignal(empty_window.desk.level.opened, timeout=LONG):
        empty_window.open(level_file(tmp_path, builder))
    empty_window.desk.document.set_recipe("Draft", with_value(named("sketch"), "draft", 4))
    idle(empty_window, qtbot)
    empty_window.go_to_step("hunt")
    return empty_window


def _step(window: Window) -> HuntStep:
    found = window.steps["hunt"]
    assert isinstance(found, HuntStep)
    return found


def test_a_hunt_from_the_condition_to_the_applied_fix(window: Window, qtbot: QtBot) -> None:
    s, step = window.desk, _step(window)
    bench, hunting = step.hunt_bench, step.hunting
    assert bench.condition.text() == "" and not bench.start.isEnabled()
    bench.condition.setText("no such thing")
    bench.start.click()
    assert "no condition" in bench.wrong.text() and not hunting.running
    bench.condition.setText("nonfinite")
    bench.judge.setCurrentIndex(bench.judge.findData("hasty"))
    bench.judge.activated.emit(bench.judge.currentIndex())
    assert "unguarded" in bench.about_judge.text() and bench.command.isHidden()
    s.commands.run("hunt.start")
    assert hunting.running and bench.start.isHidden() and not bench.stop.isHidden()
    qtbot.waitUntil(lambda: len(hunting.entries) >= 2, timeout=LONG)
    assert "runs" in bench.more.text() and " in, " in bench.state.text()
    qtbot.waitUntil(lambda: not hunting.running and bool(hunting.result), timeout=LONG)
    assert hunting.result["proved"] is True and bench.pages.shown == FOUND
    assert bench.verdict.text().startswith("Proved: detail/strip")
    assert bench.proof.count() >= 3 and bench.fixes.count() >= 1
    # Where it is stands in the picture, and each run can be looked at.
    marks = [m.label for m in step.overlay().marks]
    assert marks == ["strip"] and step.overlay().lines
    before = len(step.overlay().lines)
    bench.pages.chosen.emit(1)
    bench.map.resize(280, 600)
    bench.map.grab()
    qtbot.mouseClick(bench.map, Qt.MouseButton.LeftButton, pos=QPoint(60, bench.map._tops[1] + 8))
    assert bench.map.current == 1 and len(step.overlay().lines) == before + 1
    assert "Shortest build" in bench.run_words.text()
    bench.copy.click()
    board = QApplication.clipboard()
    assert board is not None and board.text().count("\n") == len(hunting.entries) - 1
    # The least fix is one edit, which can be undone.
    best = bench.best_fix()
    assert best is not None and best["unit"] == "degrees" and "0.1 degrees" in bench.apply_words.text()
    s.commands.run("hunt.apply")
    assert s.document.project is not None
    move = s.document.project.brief.moves["detail/strip"]
    np.testing.assert_allclose(np.abs(move.turn).max(), 0.1)
    s.document.undo.undo()
    assert "detail/strip" not in s.document.project.brief.moves
    idle(window, qtbot)
    assert hunting.folder is not None and (hunting.folder / "case.html").is_file()


def test_a_hunt_is_steered_stopped_and_gone_on_with(window: Window, qtbot: QtBot) -> None:
    s, step = window.desk, _step(window)
    bench, hunting = step.hunt_bench, step.hunting
    bench.condition.setText("nonfinite")
    bench.judge.setCurrentIndex(bench.judge.findData("hasty"))
    bench.start.click()
    qtbot.waitUntil(lambda: bool(hunting.entries), timeout=LONG)
    bench.rest.click()
    assert hunting.resting and bench.rest.text() == "Go on" and bench.state.text().startswith("It rests.")
    bench.steers["trust"].click()
    assert "Select objects" in window.notices.text
    now = s.level.now
    assert now is not None and hunting.folder is not None
    s.selection.select(now.scene.node_names.index("things/crate"))
    bench.steers["trust"].click()
    wishes = json.loads((hunting.folder / STEER).read_text())
    assert wishes == {"rest": True, "trust": ["things/crate"]}
    bench.stop.click()
    qtbot.waitUntil(lambda: not hunting.running, timeout=LONG)
    runs = len(hunting.entries)
    assert hunting.cut_off and not hunting.trouble and bench.start.text() == "Go on"
    assert "goes on from there" in bench.state.text()
    bench.start.click()
    qtbot.waitUntil(lambda: not hunting.running and bool(hunting.result), timeout=LONG)
    assert hunting.result["culprit"][0]["node"] == "detail/strip" and len(hunting.entries) > runs
    # It is there when the project is opened again.
    folder = hunting.folder
    with qtbot.waitSignal(s.level.opened, timeout=LONG):
        window.open(now.project.folder)
    idle(window, qtbot)
    assert hunting.folder == folder and hunting.result["proved"] is True


def test_a_command_from_outside_and_what_it_cannot_tell(window: Window, qtbot: QtBot) -> None:
    step = _step(window)
    bench, hunting = step.hunt_bench, step.hunting
    assert bench.judge.findData(EVERY) > 0
    bench.judge.setCurrentIndex(bench.judge.findData(OUTSIDE))
    bench.judge.activated.emit(bench.judge.currentIndex())
    assert not bench.command.isHidden() and bench.as_built.isHidden()
    bench.condition.setText("nonfinite")
    bench.start.click()
    assert "status:N" in bench.wrong.text() and not hunting.running
    bench.condition.setText("status:1")
    bench.command.setText("no-such-compiler {level}")
    bench.start.click()
    qtbot.waitUntil(lambda: bool(hunting.trouble), timeout=LONG)
    assert "no program 'no-such-compiler'" in bench.state.text()
