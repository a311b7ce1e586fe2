"""The Deliver step in the real window: what speaks against it, a package, and numbers of another machine."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QPushButton
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle, opened

from helpers import level_file, room
from ropebell.app.steps.deliver import DeliverStep
from ropebell.app.window import Window
from ropebell.build.project import find_project
from ropebell.build.recipe import named, with_value
from ropebell.demo.builder import LevelBuilder, at
from ropebell.level.brief import LightChange
from ropebell.level.model import Light


def _level(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.spot("marks", "start", at(2, 0, 2))
    return level_file(folder, b)


def _press(box: QCheckBox) -> None:
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))


def test_a_build_is_handed_over_whole_and_nothing_by_accident(
    empty_window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, s = empty_window, empty_window.desk
    opened(window, qtbot, _level(tmp_path))
    made = with_value(with_value(named("sketch"), "light.gather_rays", 32), "density.texels_per_metre", 8.0)
    s.document.set_recipe("Coarse", made)
    assert s.level.now is not None
    (lamp,) = (light.name for light in s.level.now.scene.lights)
    s.document.set_light(lamp, LightChange(work=True))
    idle(window, qtbot)
    build(window, qtbot)
    window.go_to_step("deliver")
    step = window.steps["deliver"]
    assert isinstance(step, DeliverStep)
    bench, state = step.deliver_bench, step.delivering
    qtbot.waitUntil(lambda: state.against is not None, timeout=LONG)
    assert [f.kind for f in state.left] == ["work-light"] and not bench.write.isEnabled()
    assert "1 thing to settle first" in bench.outcome.text() and "Build 1, full of" in bench.words.text()
    _press(next(b for b in bench.against.findChildren(QCheckBox) if "Work light" in b.accessibleName()))
    qtbot.waitUntil(bench.write.isEnabled, timeout=LONG)

    out = tmp_path / "handed over.zip"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(out), ""))
    qtbot.mouseClick(bench.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: state.packed is not None, timeout=LONG)
    assert out.is_file() and "It builds the same light" in bench.outcome.text() and bench.show_it.isVisible()
    # At the same place there is something now.
    qtbot.mouseClick(bench.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "there is something already" in bench.outcome.text(), timeout=LONG)

    state.write(tmp_path / "folder")
    qtbot.waitUntil(lambda: (tmp_path / "folder" / "expected.json").is_file() and not state.busy, timeout=LONG)
    numbers = str(tmp_path / "folder" / "expected.json")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (numbers, ""))
    qtbot.mouseClick(bench.hold, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: state.check is not None, timeout=LONG)
    assert bench.held.text().startswith("It agrees at all of 400 places")

    # What pages may take is a matter of the project.
    bench.most.setValue(0.01)
    qtbot.waitUntil(lambda: state.against is not None and bool(state.left), timeout=LONG)
    assert [f.kind for f in state.left] == ["too-large"] and not bench.write.isEnabled()
    s.document.save_for_build()
    assert (
        s.document.project is not None and "most_mb = 0.01" in (s.document.project.folder / "project.toml").read_text()
    )
    window.desk.commands.run("edit.undo")
    qtbot.waitUntil(lambda: state.ready, timeout=LONG)


def test_a_draft_leads_to_its_final_build(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window, s = empty_window, empty_window.desk
    level = _level(tmp_path)
    opened(window, qtbot, level)
    made = with_value(with_value(named("sketch"), "light.gather_rays", 32), "density.texels_per_metre", 6.0)
    s.document.set_recipe("Coarse", with_value(made, "draft", 2))
    idle(window, qtbot)
    build(window, qtbot)
    window.go_to_step("deliver")
    step = window.steps["deliver"]
    assert isinstance(step, DeliverStep)
    qtbot.waitUntil(lambda: step.delivering.against is not None, timeout=LONG)
    bench = step.deliver_bench
    assert [f.kind for f in step.delivering.left] == ["draft"] and not bench.against.findChildren(QCheckBox)
    final = next(b for b in bench.against.findChildren(QPushButton) if b.text() == "Build it final")
    qtbot.mouseClick(final, Qt.MouseButton.LeftButton)
    assert window.steps["build"].active and s.document.project is not None and s.document.project.recipe.draft == 1
    s.document.save_for_build()
    assert find_project(level).recipe.draft == 1
