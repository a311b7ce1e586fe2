"""The Compare step in the real window: a pair by the rope, views of it, what changed, times, advice that is applied."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from pytestqt.qtbot import QtBot
from waits import LONG, Opener, build, idle

from helpers import level_file, room
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.compare import CompareStep
from ropebell.app.steps.compare.bench import ADVICE, CHANGES, LEVEL, OBJECT, OF_SPOT, TIME, CompareBench
from ropebell.app.steps.compare.views import BESIDE, COST, FIRST, LUX, WIPE
from ropebell.app.views import RESULT
from ropebell.app.window import Window
from ropebell.build.manifest import read_manifest
from ropebell.build.recipe import named, with_value
from ropebell.compare.advised import read_taken
from ropebell.compare.ledger import beside
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.brief import LightChange
from ropebell.level.model import Light


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, open_built: Opener) -> Window:
    """A small level with a shed that nobody sees, built twice: the second time with a lamp twice as bright."""
    open_built("twice", partial(_built_twice, empty_window, qtbot))
    return empty_window


def _built_twice(empty_window: Window, qtbot: QtBot, folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.add("house", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "wall", at(1, 0, 1))
    b.add("far", "shed", box((0, 0, 0), (3, 3, 3)), "wall", at(20, 0, 20))
    b.spot("marks", "start", at(2, 0, 2))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 9.0), at(2, 2, 2))
    level = level_file(folder, b)
    with qtbot.waitSignal(empty_window.desk.level.opened, timeout=LONG):
        empty_window.open(level)
    made = with_value(with_value(named("sketch"), "light.gather_rays", 32), "density.texels_per_metre", 6.0)
    empty_window.desk.document.set_recipe("Small", made)
    idle(empty_window, qtbot)
    build(empty_window, qtbot)
    empty_window.desk.document.set_light("lights/lamp", LightChange(160.0))
    idle(empty_window, qtbot)
    build(empty_window, qtbot)
    return level


def _step(window: Window) -> CompareStep:
    found = window.steps["compare"]
    assert isinstance(found, CompareStep)
    return found


def _compared(window: Window, qtbot: QtBot) -> CompareStep:
    step = _step(window)
    qtbot.waitUntil(lambda: step.comparing.found is not None or bool(step.comparing.trouble), timeout=LONG)
    idle(window, qtbot)
    return step


def test_the_shown_build_is_compared_with_the_one_before_it_at_once(window: Window, qtbot: QtBot) -> None:
    step, done = _step(window), window.desk.rope.finished
    window.go_to_step("compare")
    assert step.comparing.pair == (done[-2], done[-1])
    _compared(window, qtbot)
    step.comparing.choose(done[-1], done[-2])
    window.go_to_step("build")
    window.go_to_step("compare")  # what was chosen stays
    assert step.comparing.pair == (done[-1], done[-2])


def test_two_knots_of_the_rope_are_compared(window: Window, qtbot: QtBot) -> None:
    s, step = window.desk, _step(window)
    done = s.rope.finished
    place = next(y for knot, y in window.rope.places() if knot.number == done[0])
    QTest.mouseClick(
        window.rope, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, QPointF(30, place).toPoint()
    )
    assert window.step is step and step.comparing.pair == (done[0], done[1])
    _compared(window, qtbot)
    bench = step.compare_bench
    assert "more light" in bench.words.text() and window.stage.look.view is WIPE
    assert window.strip.build.text() == f"Builds {done[0]} and {done[1]}"
    # The picture is parted where the line stands; left is A, which is darker.
    bench.line.setValue(25)
    assert window.stage.look.split == 0.25
    bench.line.setValue(50)
    window.stage.go(Camera((0.5, 1.5, 0.5), 2.356, 0.0))
    s.commands.run("stage.expose")
    window.stage.grab_smooth()
    image = window.stage.grab().toImage()
    middle, third = image.height() // 2, image.width() // 3
    left, right = (image.pixelColor(x, middle).lightness() for x in (third, 2 * third))
    assert right > left
    # Side by side with one camera: what lies under the pointer is the same place in both.
    bench.view.button(1).click()
    assert window.stage.look.view is BESIDE and window.stage.panes == 2
    window.stage.grab_smooth()
    image = window.stage.grab().toImage()
    half = image.width() // 2
    dark, bright = (image.pixelColor(x, middle).lightness() for x in (half // 3, half + half // 3))
    assert bright > dark
    spots = [window.stage.spot_at(QPointF(x, middle)) for x in (half // 3, half + half // 3)]
    assert spots[0] is not None and spots[1] is not None and spots[0].triangle == spots[1].triangle
    np.testing.assert_allclose(spots[0].position, spots[1].position, atol=0.02)
    # Flipping shows the one, then the other.
    s.commands.run("compare.flip")
    assert window.stage.look.view is FIRST and bench.view.button(2).isChecked()
    s.commands.run("compare.flip")
    assert window.stage.look.view is RESULT
    bench.view.button(4).click()
    assert window.stage.look.view is LUX and "from 1" in bench.scale.text() and bench.line.isHidden()
    bench.gain.setValue(3)
    assert window.stage.look.gain == 8.0 and "125 lx" in bench.scale.text()
    spot = window.stage.spot_at(QPointF(third, middle))
    assert spot is not None and spot.other is not None and spot.irradiance is not None
    words = step.words(spot)
    assert words is not None and "A 2" in words.value and "%" in words.value
    bench.worst.itemClicked.emit(bench.worst.item(0))
    # What changed, and where the time went.
    bench.pages.chosen.emit(CHANGES)
    assert [bench.changed.item(i).text() for i in range(bench.changed.count())] == [
        "lights/lamp: intensity 80 → 160"
    ]  # fmt: skip
    assert bench.warning.isHidden() and bench.causes.isHidden()
    bench.pages.chosen.emit(TIME)
    assert bench.times.item(bench.times.count() - 1).text().startswith("total: ")
    assert bench.times.item(0).text().startswith("Read the level: ")
    bench.spent.areas.resize(280, 190)
    bench.spent.areas.grab()
    bench.spent.areas.chosen.emit("house/room")
    now = s.level.now
    assert now is not None and now.scene.node_names[s.selection.node] == "house/room"
    assert sum(v for _, _, v in bench.spent.areas._places) == pytest.approx(
        sum(v for _, v in step.comparing.found.comparison.ledgers[1].by("object", of_all=False))  # type: ignore[union-attr]
    )
    # And beside what A took, as a table that sorts.
    table, rows = bench.spent.table, beside(*step.comparing.found.comparison.ledgers, "object")  # type: ignore[union-attr]
    assert table.rowCount() == len(rows) > 1
    told = {table.item(n, 0).toolTip(): (table.item(n, 1).text(), table.item(n, 2).text()) for n in range(len(rows))}
    assert told == {name: (f"{a:.2f} s", f"{b:.2f} s") for name, a, b in rows}
    table.sortByColumn(3, Qt.SortOrder.AscendingOrder)
    changes = {name: b - a for name, a, b in rows}
    listed = [changes[table.item(n, 0).toolTip()] for n in range(len(rows))]
    assert listed == sorted(listed)
    table.itemClicked.emit(table.item(0, 2))
    assert now.scene.node_names[s.selection.node] == table.item(0, 0).toolTip()
    bench.spent.of.chosen.emit(1)
    assert sum(v for _, _, v in bench.spent.areas._places) == pytest.approx(
        sum(v for _, v in step.comparing.found.comparison.ledgers[1].by("object", False, "memory_mb"))  # type: ignore[union-attr]
    )
    for of in (2, 3):
        bench.spent.of.chosen.emit(of)
        assert bench.spent.areas._places and bench.spent.none.isHidden()
    bench.spent.by.chosen.emit(2)
    assert (
        not bench.spent.areas.isVisibleTo(bench)
        and bench.spent.none.text() == "Texels of single lights: not counted apart."
    )
    bench.spent.by.chosen.emit(0)
    bench.spent.of.chosen.emit(0)
    bench.spent.map.click()
    assert window.stage.look.view is COST and "per m²" in window.strip.view.text()
    bench.view.button(0).click()
    assert window.stage.look.view is WIPE and not bench.spent.map.isChecked()
    # Its share on one object.
    bench.whose.button(OBJECT).click()
    qtbot.waitUntil(lambda: step.comparing.shares is not None, timeout=LONG)
    assert bench.causes_title.text() == "Shares of the difference on room"
    # And on the texel that is clicked.
    bench.whose.button(OF_SPOT).click()
    assert "Click a spot" in window.notices.text and step.comparing.on == "house/room"
    point = QPointF(window.stage.width() * 0.7, window.stage.height() * 0.8)
    spot = window.stage.spot_at(point)
    assert spot is not None
    window.stage.hands.pointed.emit(spot)
    window.stage.hands.picked.emit(spot.node)
    bench.whose.button(OF_SPOT).click()
    qtbot.waitUntil(lambda: step.comparing.shares is not None, timeout=LONG)
    assert bench.causes_title.text() == "Shares of the difference on this spot"
    assert any(np.allclose(m.position, spot.position) and m.label == "shares here" for m in step.overlay().marks)
    bench.whose.button(LEVEL).click()
    assert step.comparing.on == "" and bench.causes_title.text() == "Shares of the difference"
    assert bench.apart.isHidden()
    bench.swap.click()
    _compared(window, qtbot)
    assert "less light" in bench.words.text()
    # One change at a time goes to the queue, which builds it.
    s.commands.run("compare.apart")
    assert [e.title for e in s.queue.entries] == [f"Build {done[1]} with lights/lamp"]
    qtbot.waitUntil(lambda: [e.state for e in s.queue.entries] == ["done"], timeout=LONG)
    idle(window, qtbot)
    assert read_manifest(s.rope.knots[-1].folder).lights["lights/lamp"].intensity == 80.0
    # Leaving shows the build again.
    window.go_to_step("build")
    assert window.stage.look.view is RESULT and window.picture.kind != "step"


def test_advice_is_applied_undone_and_kept(window: Window, qtbot: QtBot) -> None:
    s, step = window.desk, _step(window)
    window.go_to_step("compare")
    bench = step.compare_bench
    window.go_to_step("build")
    s.commands.run("compare.advice")  # from wherever one is, its page opens
    assert window.step is step and bench.pages.shown == ADVICE
    qtbot.waitUntil(lambda: step.comparing.advice is not None, timeout=LONG)
    idle(window, qtbot)
    assert step.comparing.advice
    best = step.comparing.advice[0]
    assert best.saving > 0 and best.loss < 0.02
    titles = bench.list_rows.itemAt(0).widget()
    assert titles.text() == best.title  # type: ignore[union-attr]
    bench.list_rows.itemAt(2).widget().click()  # type: ignore[union-attr]
    idle(window, qtbot)
    project = s.document.project
    assert project is not None and project.brief.marks
    densities = [m.density for m in project.brief.marks.values() if m.density is not None]
    assert densities and np.max(densities) < 1.0
    assert [t.title for t in read_taken(project.folder)] == [best.title] and bench.taken.count() == 1
    assert titles_of(bench) != best.title
    s.document.undo.undo()
    assert s.document.project is not None and not s.document.project.brief.marks
    # What is undone is not taken, and is offered again.
    assert read_taken(project.folder) == [] and bench.taken.count() == 0
    assert titles_of(bench) == best.title


def titles_of(bench: CompareBench) -> str:
    first = bench.list_rows.itemAt(0)
    return first.widget().text() if first is not None else ""  # type: ignore[union-attr]
