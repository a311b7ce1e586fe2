"""The real window, offscreen, driven as a person would; waits are for what is wanted, never for a time."""

from __future__ import annotations

import os
import signal
import tomllib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from furnished import draft, picture, plain_room
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QKeySequence, QMouseEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle, opened

from helpers import level_file, room
from ropebell.app.commands import Command, Commands
from ropebell.app.finder import matches
from ropebell.app.keys_page import COLUMNS
from ropebell.app.preferences import Preferences, preferences_file
from ropebell.app.rope import spacing
from ropebell.app.stage.camera import Camera
from ropebell.app.steps import ORDER
from ropebell.app.window import Window
from ropebell.app.words import clock, lux, short_count
from ropebell.build import extremes
from ropebell.build.recipe import with_value
from ropebell.demo.builder import LevelBuilder, at
from ropebell.errors import BuildError, LevelError
from ropebell.level.brief import Mark
from ropebell.level.model import Light


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return plain_room(tmp_path)


@pytest.fixture
def window(empty_window: Window) -> Window:
    empty_window.desk.relighter.enabled = False  # pictures are compared; its own tests are in test_lights_step
    return empty_window


def test_build_change_a_lamp_build_again_and_step_between(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    assert window.strip.build.text() == "Level"
    draft(window)
    shares: list[float] = []
    window.desk.builds.progress.connect(lambda _s, share, _r: shares.append(share))
    build(window, qtbot)
    assert shares and shares[-1] == pytest.approx(1.0, abs=0.02)
    assert window.desk.rope.shown_number == 1 and window.stage.has_light
    assert "Build 1" in window.strip.build.text()
    # Hover: the strip names the object and its light.
    window.stage.go(Camera((2.5, 1.6, 4.5), 0.0, -0.5))
    qtbot.mouseMove(window.stage, window.stage.rect().center())
    window.stage.hands.pointed.emit(window.stage.spot_at(QPointF(window.stage.rect().center())))
    assert window.strip.where.text().startswith("g/") and "lx" in window.strip.value.text()
    # Select the lamp in the table and triple it on the bench.
    window.desk.commands.run("step.level")
    rows = [r.name for r in window.steps["level"].bench.model.rows]
    window.steps["level"].bench.table.selectRow(rows.index("lamp"))
    field = window.steps["level"].bench.details.candela.field
    assert field.isVisible() and field.value() == 80.0
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "240")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert (
        window.desk.document.project is not None
        and window.desk.document.project.lights["lights/lamp"].intensity == 240.0
    )
    qtbot.waitUntil(
        lambda: window.desk.rope.stale is not None and window.desk.rope.stale.changes == ("1 light",), timeout=LONG
    )
    assert "out of date: 1 light" in "; ".join(window.strip.state.facts)
    dim = picture(window).mean()
    build(window, qtbot)
    assert window.desk.rope.shown_number == 2
    assert window.desk.rope.shown is not None and "transport" in window.desk.rope.shown.manifest.reused
    assert picture(window).mean() > dim + 5
    # Back along the rope by key, and by clicking the knot.
    with qtbot.waitSignal(window.desk.rope.looking_at, timeout=LONG):
        window.desk.commands.run("rope.older")
    assert window.desk.rope.shown_number == 1 and "not the newest" in "; ".join(window.strip.state.facts)
    y = next(y for knot, y in window.rope.places() if knot.number == 2)
    with qtbot.waitSignal(window.desk.rope.looking_at, timeout=LONG):
        qtbot.mouseClick(window.rope, Qt.MouseButton.LeftButton, pos=QPoint(30, round(y)))
    assert window.desk.rope.shown_number == 2


def test_undo_and_redo_name_what_they_do_and_survive_on_disk(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    assert not window.desk.commands.run("edit.undo")
    s.selection.select(s.level.now.scene.node_names.index("lights/lamp"))
    slider = window.steps["level"].bench.details.candela.slider
    # One drag is one entry, however many values it passes.
    slider.sliderPressed.emit()
    slider.setSliderDown(True)
    for position in (300, 500, 700):
        slider.setValue(position)
    slider.setSliderDown(False)
    assert s.document.undo.count() == 1 and s.document.undo.undoText() == "Change lamp"
    window.steps["level"].bench.details.on.click()
    assert s.document.undo.count() == 2
    window.desk.commands.run("edit.undo")
    assert s.document.project.lights["lights/lamp"].enabled
    window.desk.commands.run("edit.undo")
    assert s.document.project.lights == {}
    window.desk.commands.run("edit.redo")
    s.document.save_now()
    saved = tomllib.loads((s.document.project.folder / "project.toml").read_text())
    assert saved["lights"]["lights/lamp"]["intensity"] == s.document.project.lights["lights/lamp"].intensity


def test_stopping_a_build_leaves_a_barred_knot_and_the_old_picture(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    draft(window)
    build(window, qtbot)
    recipe = with_value(with_value(window.desk.document.project.recipe, "draft", 1), "density.texels_per_metre", 60.0)
    window.desk.document.set_recipe("Fine", recipe)
    with qtbot.waitSignal(window.desk.builds.progress, timeout=LONG):
        window.desk.builds.start()  # on a busy machine a build this fine is asked about first
    assert window.steps["build"].bench.stop.isEnabled() and not window.steps["build"].bench.build.isEnabled()
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG) as signal_:
        qtbot.mouseClick(window.steps["build"].bench.stop, Qt.MouseButton.LeftButton)
    assert signal_.args[1].state == "stopped"
    idle(window, qtbot)
    assert [k.outcome.state for k in window.desk.rope.knots] == ["done", "stopped"]
    assert window.desk.rope.shown_number == 1 and window.stage.has_light


def test_a_density_changed_during_a_build_is_built_again_with_what_was_shot(
    window: Window, qtbot: QtBot, level: Path
) -> None:
    opened(window, qtbot, level)
    s, bench = window.desk, window.steps["build"].bench
    assert s.document.project is not None
    finer = with_value(
        with_value(s.document.project.recipe, "density.texels_per_metre", 16.0), "light.gather_rays", 1024
    )
    s.document.set_recipe("Finer", finer)
    ended: list[tuple[int, str]] = []
    window.desk.builds.ended.connect(lambda number, outcome: ended.append((number, outcome.state)))
    qtbot.mouseClick(bench.build, Qt.MouseButton.LeftButton)
    shot: list[float] = []
    window.desk.builds.progress.connect(lambda stage, share, _: shot.append(share) if stage == "transport" else None)
    qtbot.waitUntil(lambda: len(shot) >= 3, timeout=LONG)
    assert not bench.build.isEnabled() and bench.build.text() == "Building"
    s.document.edit_brief("Rug finer", lambda b: replace(b, marks={"g/rug": Mark(density=2.0)}))
    qtbot.waitUntil(lambda: bench.build.isEnabled(), timeout=LONG)
    assert bench.build.text() == "Build again with the changes"
    assert bench.plan.text().startswith("Changed since it began: marks.")
    qtbot.mouseClick(bench.build, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(ended) == 2, timeout=LONG)
    idle(window, qtbot)
    assert ended == [(1, "stopped"), (2, "done")]
    assert s.rope.shown is not None and s.rope.shown.manifest.kept.rays > 0
    assert "of the rays were there already" in bench.summary.text()
    assert not s.rope.behind and s.rope.stale is not None and s.rope.stale.fresh


def test_stop_is_the_last_word_and_a_build_that_cannot_begin_again_is_told(
    window: Window, qtbot: QtBot, level: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened(window, qtbot, level)
    finer = with_value(window.desk.document.project.recipe, "density.texels_per_metre", 60.0)
    window.desk.document.set_recipe("Fine", finer)
    for stopped in (True, False):
        with qtbot.waitSignal(window.desk.builds.progress, timeout=LONG):
            window.desk.commands.run("build.start")
        if not stopped:

            def full(*_scope: object) -> None:
                raise BuildError("no build can be begun (No space left on device)", "", "Free some space")

            monkeypatch.setattr(window.desk.builds, "start", full)
        with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
            window.desk.builds.again()
            if stopped:
                window.desk.builds.stop()
        assert not window.desk.builds.running
        idle(window, qtbot)
    assert [k.outcome.state for k in window.desk.rope.knots] == ["stopped", "stopped"]
    assert "No space left" in window.notices.text


def test_a_crashed_build_is_told_and_the_window_lives_on(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    window.desk.document.set_recipe(
        "Fine", with_value(window.desk.document.project.recipe, "density.texels_per_metre", 60.0)
    )
    with qtbot.waitSignal(window.desk.builds.progress, timeout=LONG):
        window.desk.builds.start()  # on a busy machine a build this fine is asked about first
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG) as signal_:
        os.kill(window.desk.builds.pid, signal.SIGKILL)
    assert signal_.args[1].state == "died"
    assert window.notices.isVisible() and "vanished" in window.notices.text
    idle(window, qtbot)
    draft(window)
    build(window, qtbot)
    assert [k.outcome.state for k in window.desk.rope.knots] == ["died", "done"]
    assert not window.notices.isVisible()


def test_reopening_shows_the_last_build_without_building(qtbot: QtBot, window: Window, level: Path) -> None:
    opened(window, qtbot, level)
    draft(window)
    build(window, qtbot)
    project = window.desk.document.project.folder
    window.desk.document.save_now()
    second = Window(Preferences())
    qtbot.addWidget(second)
    second.show()
    second.resize(1280, 800)
    opened(second, qtbot, project)
    qtbot.waitUntil(lambda: second.desk.rope.shown_number == 1, timeout=LONG)
    assert second.stage.has_light and second.desk.rope.stale.fresh
    assert second.desk.document.project.recipe.draft == 8
    second.close()


def test_light_appears_while_the_build_runs(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    window.desk.document.set_recipe("Rays", with_value(window.desk.document.project.recipe, "light.gather_rays", 1024))
    with qtbot.waitSignal(window.desk.builds.picture, timeout=LONG):
        window.desk.commands.run("build.start")
    assert window.stage.has_light and window.desk.builds.running
    assert "; ".join(window.strip.state.facts).startswith("rough")
    window.desk.commands.run("build.stop")
    qtbot.waitUntil(lambda: not window.desk.builds.running, timeout=LONG)


def test_troubles_are_told_in_the_window(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    (tmp_path / "bad.gltf").write_text("{")
    with qtbot.waitSignal(window.desk.telling.changed, timeout=LONG):
        window.open(tmp_path / "bad.gltf")
    assert window.notices.isVisible() and "not valid JSON" in window.notices.text
    assert "Drop a level here" in window.stage.message


def drop(window: Window, path: Path) -> bool:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    where, none = window.rect().center(), Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(where, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, none)
    window.dragEnterEvent(enter)
    if enter.isAccepted():
        window.dropEvent(QDropEvent(QPointF(where), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, none))
    return enter.isAccepted()


def test_a_build_of_another_shape_is_shown_as_it_was(window: Window, qtbot: QtBot, level: Path) -> None:
    """Without the cache, or after the level changed, a build shows the level it was made of."""
    opened(window, qtbot, level)
    draft(window)
    build(window, qtbot)
    assert window.stage.scene_shown is window.desk.level.now.scene
    folder = window.desk.document.project.folder
    window.desk.document.save_now()
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(9, 3, 5), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    level_file(level.parent, b)
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(folder)
    idle(window, qtbot)
    shown = window.stage.scene_shown
    assert shown is not window.desk.level.now.scene
    assert np.ptp(shown.corners[..., 0]) == pytest.approx(5) and "g/rug" in shown.node_names
    assert window.desk.rope.stale.changes[-1] == "level" and "out of date" in "; ".join(window.strip.state.facts)


def test_a_new_export_says_what_no_longer_counts_and_a_notice_ends_with_its_level(
    window: Window, qtbot: QtBot, level: Path, tmp_path: Path
) -> None:
    s = window.desk
    opened(window, qtbot, level)
    s.document.edit_brief("Note", lambda b: replace(b, known={"noise g/rug": "fine"}, marks={"g/rug": Mark("moving")}))
    idle(window, qtbot)
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "wall")
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as told:
        level_file(level.parent, b)
        s.level.reload()
    assert "A setting, note or fixture is for what is not there any more" in told.args[0].sentence
    idle(window, qtbot)
    lost = [f for f in (*s.findings.now.new, *s.findings.now.old) if f.kind == "unmatched-mark"]
    assert [(f.object, f.severity) for f in lost] == [("g/rug", "warning")]
    s.tell("There is no floor below.", "place")
    s.tell("The queue cannot be kept.", "queue")
    other = tmp_path / "other"
    other.mkdir()
    opened(window, qtbot, level_file(other, b))
    assert [t.matter for t in s.telling.told if t.matter in ("place", "queue")] == ["queue"]


def test_drag_and_drop_and_recent_levels(window: Window, qtbot: QtBot, level: Path, tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("x")
    assert not drop(window, tmp_path / "notes.txt")
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        assert drop(window, level)
    assert window.desk.preferences.recent == [str(level)]
    assert Preferences.load().recent == [str(level)]
    idle(window, qtbot)


def point_at_the_middle(window: Window) -> None:
    """An event of its own: the pointer of an earlier test may stand there already."""
    at, none = QPointF(window.stage.rect().center()), Qt.MouseButton.NoButton
    where = window.stage.mapToGlobal(at)
    event = QMouseEvent(QEvent.Type.MouseMove, at, where, none, none, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(window.stage, event)


def test_steps_show_their_bench_and_none_is_empty(window: Window) -> None:
    for step in (kind.id for kind in ORDER):
        window.desk.commands.run("window.bench")
        window.top.steps[step].click()
        # A bench that was folded away comes back with its step.
        assert window.bench_frame.isVisible()
        assert window.benches.currentWidget() is window.steps[step].bench
        assert window.top.steps[step].isChecked()


def test_commands_have_one_door(qtbot: QtBot) -> None:
    commands = Commands()
    happened: list[str] = []

    def fails() -> None:
        raise LevelError("it broke", "a.glb", "Mend it")

    commands.add(
        Command("a", "Alpha", lambda: happened.append("a"), "A"),
        Command("b", "Beta", fails),
        Command("c", "Gamma", lambda: happened.append("c"), enabled=lambda: False),
    )
    with pytest.raises(ValueError, match="clashes"):
        commands.add(Command("d", "Delta", lambda: None, "A"))
    assert commands.run("a") and happened == ["a"]
    with qtbot.waitSignal(commands.failed) as told:
        assert not commands.run("b")
    assert told.args == ["a.glb: it broke. Mend it."]
    assert not commands.run("c") and happened == ["a"]


def test_the_finder_finds_and_acts(window: Window, qtbot: QtBot) -> None:
    window.finder.popup()
    qtbot.keyClicks(window.finder.field, "step rec")
    assert window.finder.list.count() == 1
    qtbot.keyClick(window.finder.field, Qt.Key.Key_Return)
    assert window.step.title == "Recipe"
    assert matches("vi di", "View: direct light") and not matches("x", "View: direct light")


def test_the_bench_folds_away_in_narrow_windows(window: Window) -> None:
    window.resize(1280, 800)
    QApplication.processEvents()
    assert window.bench_frame.isVisible()
    window.resize(1024, 700)
    QApplication.processEvents()
    assert not window.bench_frame.isVisible()
    window.desk.commands.run("window.bench")
    assert window.bench_frame.isVisible()


def test_damaged_preferences_never_stop_the_start() -> None:
    preferences_file().parent.mkdir(parents=True, exist_ok=True)
    preferences_file().write_text("{broken")
    assert Preferences.load() == Preferences()
    assert preferences_file().with_suffix(".damaged.json").read_text() == "{broken"
    preferences_file().write_text('{"recent": [3, "/a"], "look": "purple"}')
    assert Preferences.load() == Preferences(["/a"], "dark")


def test_words_and_rope_spacing() -> None:
    assert [clock(s) for s in (0.4, 9, 222, 3900)] == ["0:00", "0:09", "3:42", "1:05:00"]
    assert lux(0.123) == "0.12 lx" and lux(38.24) == "38.2 lx"
    assert short_count(53_090) == "53\N{NO-BREAK SPACE}k" and short_count(1_234_567) == "1.2\N{NO-BREAK SPACE}M"
    assert spacing(1) < spacing(60) < spacing(3600) < 100


def test_a_build_of_hours_is_not_begun_by_one_press(
    window: Window, qtbot: QtBot, level: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(extremes, "LONG_SECONDS", 600.0)
    opened(window, qtbot, level)
    s = window.desk
    assert s.document.project is not None
    s.document.set_recipe("Fine", with_value(s.document.project.recipe, "density.texels_per_metre", 400.0))
    idle(window, qtbot)
    bench = window.steps["recipe"].bench
    assert "2.5 mm" in bench.numbers["density.texels_per_metre"].warning.text()
    assert s.commands.run("build.start") and not s.builds.running
    (told,) = [t for t in s.telling.told if t.matter == "long build"]
    assert told.sentence.startswith("This build takes ")
    shorter, whole = told.answers
    assert shorter[0].startswith("Build a draft ") and whole[0] == "Build it all the same"
    with qtbot.waitSignal(s.builds.started, timeout=LONG):
        shorter[1]()
    assert s.document.project.recipe.draft > 1 and not any(t.matter == "long build" for t in s.telling.told)
    with qtbot.waitSignal(s.builds.ended, timeout=LONG):
        s.commands.run("build.stop")
    # An ordinary one just begins.
    s.document.undo.undo()
    s.document.undo.undo()
    draft(window)
    with qtbot.waitSignal(s.builds.started, timeout=LONG):
        assert s.commands.run("build.start")
    with qtbot.waitSignal(s.builds.ended, timeout=LONG):
        s.commands.run("build.stop")


def test_every_key_is_on_the_page_of_hands_and_keys(window: Window, qtbot: QtBot, level: Path) -> None:
    told = window.keys.told()
    shown = [key for title, rows in told.items() if title != "Hands" for key, _ in rows]
    wanted = [QKeySequence(c.key).toString() for c in window.desk.commands.all() if c.key]
    assert sorted(shown) == sorted(wanted) and len(told["Hands"]) > 5
    assert {title for column in COLUMNS for title in column} == told.keys()
    assert not window.strip.hint.isVisible()
    opened(window, qtbot, level)
    assert "W A S D: fly" in window.strip.hint.text() and window.strip.hint.isVisible()
    window.desk.commands.run("stage.plan")
    assert "drag: shift" in window.strip.hint.text()
    point_at_the_middle(window)
    assert not window.strip.hint.isVisible()
    window.desk.commands.run("window.keys")
    assert window.keys.isVisible()
    qtbot.keyClick(window.keys, Qt.Key.Key_Escape)
    assert not window.keys.isVisible()
