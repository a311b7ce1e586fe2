"""Nothing is cut off: every word of every bench has its room, on small screens and large ones."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QAbstractScrollArea, QApplication, QCheckBox, QLabel, QPushButton, QTableView, QWidget
from pytestqt.qtbot import QtBot
from waits import build, idle, opened

from helpers import small_demo
from ropebell.app.steps import ORDER
from ropebell.app.strip import Shortened
from ropebell.app.window import Window
from ropebell.build.recipe import named, with_value
from ropebell.demo.write import write_demo
from ropebell.level.brief import LightChange, Move

LONG = 60_000
OBJECTS = ("", "props/sack 1", "lights/hall lamp", "props/hall lamp globe")


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> Window:
    desk = empty_window.desk
    with qtbot.waitSignal(desk.level.opened, timeout=LONG):
        empty_window.open(write_demo(tmp_path / "tide-mill"))
    qtbot.waitUntil(lambda: desk.settled and desk.rope.stale is not None, timeout=LONG)
    return empty_window


def cut_off(window: Window) -> list[str]:
    """What has less room than its words take, or lies outside the window."""
    found = []
    for part in window.findChildren(QWidget):
        if not part.isVisible() or not part.width() or isinstance(part, Shortened):
            continue  # the latter shows what there is room for, and all of it in its tool tip
        words = part.text() if isinstance(part, (QLabel, QPushButton, QCheckBox)) else part.accessibleName()
        if words and isinstance(part, (QLabel, QPushButton, QCheckBox)):
            broken = isinstance(part, QLabel) and part.wordWrap()
            if not broken and part.width() < part.sizeHint().width() - 1:
                found.append(f"narrow: {words}")
            if broken and part.height() < part.heightForWidth(part.width()) - 1:
                found.append(f"low: {words}")
        if isinstance(part, QAbstractScrollArea):
            bar = part.horizontalScrollBar()
            if bar is not None and bar.maximum() > 0:
                found.append(f"too wide: {words or type(part).__name__}")
        corner = part.mapTo(window, QPoint(part.width(), part.height()))
        if corner.x() > window.width() + 1:
            found.append(f"beyond the window: {words or type(part).__name__}")
        elif corner.y() > window.height() + 1 and not _scrolled(part, window):
            found.append(f"below the window: {words or type(part).__name__}")
    return found


def _scrolled(part: QWidget, window: Window) -> bool:
    above = part.parentWidget()
    while above is not None and above is not window:
        if isinstance(above, QAbstractScrollArea):
            return True
        above = above.parentWidget()
    return False


def test_nothing_is_cut_off(window: Window, qtbot: QtBot) -> None:
    assert window.desk.level.now is not None
    number = {"": -1} | {name: i for i, name in enumerate(window.desk.level.now.scene.node_names)}
    for size, objects in (((1024, 700), OBJECTS), ((1280, 800), OBJECTS[:2]), ((1920, 1080), OBJECTS[:1])):
        window.resize(*size)
        for step in (kind.id for kind in ORDER):
            window.go_to_step(step)
            bench = window.steps[step].bench
            pages = getattr(sys.modules[type(bench).__module__], "PAGES", ("",))
            for page in range(len(pages)):
                if hasattr(bench, "show_page"):
                    bench.show_page(page)
                for name in objects:
                    window.desk.selection.select(number[name])
                    qtbot.waitUntil(lambda: window.desk.settled, timeout=LONG)
                    for _ in range(4):  # words that are broken anew move what is below them
                        QApplication.processEvents()
                    assert not cut_off(window), (size, step, page, name)


def test_the_strip_has_room_for_what_is_true_of_an_old_build_on_a_small_screen(
    empty_window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    window, desk = empty_window, empty_window.desk
    opened(window, qtbot, small_demo(tmp_path / "hall"))
    desk.document.set_recipe("Coarse", with_value(with_value(named("sketch"), "draft", 8), "light.gather_rays", 64))
    idle(window, qtbot)
    build(window, qtbot)
    assert desk.level.now is not None
    (lamp,) = (light.name for light in desk.level.now.scene.lights)
    desk.document.set_light(lamp, LightChange(900.0))
    desk.document.edit_brief("Move", lambda b: replace(b, moves={"hall/crate 1": Move((0.5, 0.0, 0.0))}))
    desk.document.set_recipe("Other bounces", with_value(named("sketch"), "light.bounces", 2))
    idle(window, qtbot)
    strip = window.strip
    assert strip.exposure.isVisible() and strip.state.facts
    for size in ((1280, 800), (1024, 700), (1280, 800)):
        window.resize(*size)
        window.go_to_step("build" if size[0] < 1100 else "deliver")  # which opens its bench, where that is folded away
        for _ in range(4):
            QApplication.processEvents()
        assert not cut_off(window), size
        assert strip.state.width() >= 0.9 * strip.state.sizeHint().width(), strip.state.facts


def test_every_word_of_the_object_table_has_its_room_in_one_level_after_another(
    empty_window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    window = empty_window
    table = window.steps["level"].bench.findChild(QTableView)
    assert table is not None
    small = tmp_path / "shed.obj"
    small.write_text("o floor\nv 0 0 0\nv 0 0 2\nv 2 0 2\nf 1 2 3\n")
    for level in (small, write_demo(tmp_path / "tide-mill"), small):
        opened(window, qtbot, level)
        QApplication.processEvents()
        for column in range(3):
            assert table.sizeHintForColumn(column) <= table.columnWidth(column), (level, column)
