"""The Level, Charts and Lights steps in the real window, driven as a person would."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle

from helpers import floor, level_file, room
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.overlay import Grip, box_edges, dragged, on_screen, snapped
from ropebell.app.steps.level.objects import COLUMNS, matching, rows_of
from ropebell.app.steps.lights.table import KINDS
from ropebell.app.window import Window
from ropebell.build.mover import mover_light
from ropebell.build.recipe import with_value
from ropebell.checks import remedies
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import Brief, LightChange, Mark, Move, Pose
from ropebell.level.model import AREA_KINDS, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import prepare


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


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return level_file(tmp_path, furnished())


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, level: Path) -> Window:
    with qtbot.waitSignal(empty_window.desk.level.opened, timeout=LONG):
        empty_window.open(level)
    idle(empty_window, qtbot)
    return empty_window


def node(window: Window, path: str) -> int:
    return window.desk.level.now.scene.node_names.index(path)


def brief(window: Window) -> Brief:
    return window.desk.level.now.project.brief


def test_marks_for_many_at_once_with_undo_and_on_disk(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, window.steps["level"].bench
    bench.table.selectAll()
    assert len(s.selection.chosen) == bench.model.rowCount() == 7
    s.selection.select_many((node(window, "things/crate"), node(window, "house/rug")))
    marks = bench.details.marks
    assert marks.target.currentText() == "the 2 selected" and "crate and 1 more" in bench.details.name.text()
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        marks.role.setCurrentIndex(2)
        marks.role.activated.emit(2)
    assert {p: m.role for p, m in brief(window).marks.items()} == {"things/crate": "moving", "house/rug": "moving"}
    assert s.document.undo.undoText() == "Role of 2 objects" and s.selection.node == node(window, "things/crate")
    row = bench.model.place_of(s.selection.node)
    assert bench.model.at(row).role == "moving" and bench.model.at(row).exception
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        marks.switches["guard"].click()
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as told:
        marks.role.setCurrentIndex(0)
        marks.role.activated.emit(0)
    assert "guarded" in told.args[0].sentence and window.notices.isVisible()
    window.desk.commands.run("edit.undo")
    window.desk.commands.run("edit.undo")
    idle(window, qtbot)
    assert brief(window).marks == {}
    window.desk.commands.run("edit.redo")
    s.document.save_now()
    saved = tomllib.loads((s.document.project.folder / "project.toml").read_text())
    assert saved["marks"]["things/crate"] == {"role": "moving"}


def test_a_branch_is_marked_and_its_exceptions_are_named(window: Window, qtbot: QtBot) -> None:
    s, marks = window.desk, window.steps["level"].bench.details.marks
    s.selection.select(node(window, "things/crate"))
    marks.target.setCurrentIndex(marks.target.findText("everything below things"))
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        marks.switches["casts"].click()
    assert brief(window).branches == {"things": Mark(casts=False)}
    assert [s.level.now.scene.marks.nodes[node(window, f"things/{n}")].casts for n in ("crate", "chest")] == [
        False,
        False,
    ]
    marks.target.setCurrentIndex(0)
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        marks.switches["casts"].click()
    marks.target.setCurrentIndex(1)
    assert "1 below differ: crate" in marks.exceptions.text()


def test_editing_in_place_changes_every_selected_row(window: Window, qtbot: QtBot) -> None:
    s, model = window.desk, window.steps["level"].bench.model
    model.set_columns(list(COLUMNS))
    s.selection.select_many((node(window, "things/crate"), node(window, "things/chest")))
    column = [c.key for c in model.columns].index("density")
    index = model.index(model.place_of(node(window, "things/chest")), column)
    assert model.flags(index) & Qt.ItemFlag.ItemIsEditable
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        model.setData(index, "2,5")
    assert {p: m.density for p, m in brief(window).marks.items()} == {"things/crate": 2.5, "things/chest": 2.5}
    assert model.data(index) == "×2.5"
    assert not model.setData(index, "x") or brief(window).marks["things/crate"].density == 2.5
    window.steps["level"].bench.show_column("size", False)
    assert "size" not in window.desk.preferences.columns and "role" in window.desk.preferences.columns


def test_the_table_filters_by_what_things_are(window: Window) -> None:
    now = window.desk.level.now
    found = window.desk.findings.now
    rows = rows_of(now.level, now.scene, 10.0, (*found.new, *found.old), None, frozenset({"house/rug"}))

    def names(typed: str) -> list[str]:
        return sorted(rows[i].name for i in matching(rows, typed))

    assert names("light") == ["lamp", "spot"]
    assert names("things wood") == [] and names("things material:wood") == ["chest", "crate"]
    assert names("size>2") == ["room"] and names("texels<20 mesh") == []
    assert names("fault:inside") == ["chest"] and "chest" in names("faults>=1 mesh")
    assert names("hidden") == ["rug"] and names("emitter") == ["globe"] and names("size>x") == []


def test_twenty_thousand_objects_stay_in_the_table(window: Window, qtbot: QtBot) -> None:
    model, row = window.steps["level"].bench.model, window.steps["level"].bench.model.rows[-1]
    many = [
        replace(row, node=i, name=f"thing {i}", path=f"g/thing {i}", text=f"g/thing {i} mesh") for i in range(20_000)
    ]
    model.set_rows(many)
    assert model.rowCount() == 20_000 and model.place_of(19_999) == 19_999
    model.set_text("thing 1999")
    assert model.rowCount() == 12
    model.set_text("")
    model.sort(0, Qt.SortOrder.DescendingOrder)
    assert model.at(0).name == "thing 9999"


def test_findings_are_shown_fixed_noted_and_new_ones_stand_out(window: Window, qtbot: QtBot) -> None:
    s, checks = window.desk, window.steps["level"].bench.checks
    window.steps["level"].bench.show_page(1)
    assert "cannot be right" in checks.summary.text()
    kinds = [checks.list.item(i).text() for i in range(checks.list.count())]
    assert kinds[0] == "Inside out"
    checks.list.setCurrentRow(0)
    checks.list.itemClicked.emit(checks.list.item(0))
    assert s.selection.node == node(window, "things/chest") and window.stage.overlay.marks
    assert "faces look inward" in checks.reason.text()
    checks.known.click()
    checks.note.setText("a stage prop")
    with qtbot.waitSignal(s.findings.checked, timeout=LONG):
        checks.note.returnPressed.emit()
    assert brief(window).known == {"inside-out things/chest": "a stage prop"}
    assert s.findings.now.known[0].kind == "inside-out"
    with qtbot.waitSignal(s.findings.checked, timeout=LONG):
        checks.seen.click()
    with qtbot.waitSignal(s.findings.checked, timeout=LONG):
        s.document.edit_brief("Work", lambda b: replace(b, marks={"things/crate": Mark(work=True)}))
    assert [f.kind for f in s.findings.now.new] == ["work-object"]
    first = checks.list.item(0)
    assert first.text() == "Work object"
    checks.list.setCurrentRow(0)
    with qtbot.waitSignal(s.findings.checked, timeout=LONG):
        checks.fix.click()
    assert brief(window).marks["things/crate"].role == "left-out" and s.findings.now.new == ()
    assert s.document.undo.undoText() == "Remedy: work-object"


def test_hiding_isolating_and_finding_faces_change_nothing(window: Window, qtbot: QtBot) -> None:
    s, showing = window.desk, window.desk.showing
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.1))
    s.selection.select(node(window, "things/crate"))
    assert window.desk.commands.run("show.hide") and s.selection.hidden == {"things/crate"}
    assert window.strip.hidden.text() == "1 hidden" and window.stage.look.hidden == {node(window, "things/crate")}
    assert window.steps["level"].bench.model.at(window.steps["level"].bench.model.place_of(s.selection.node)).hidden
    # What is hidden is looked through.
    origin, direction = np.array([1.25, 2.0, 1.25]), np.array([0.0, -1.0, 0.0])
    content = window.stage.picture
    seen = content.spot(origin, direction, False, window.stage.look.hidden)
    assert s.level.now.scene.node_names[seen.node] == "house/room"
    window.desk.commands.run("show.only")
    assert "things/crate" not in s.selection.hidden and len(s.selection.hidden) == 4
    window.desk.commands.run("show.only")
    assert s.selection.hidden == frozenset()
    window.desk.commands.run("show.lights")
    assert "things/globe" not in s.selection.hidden and "house/room" in s.selection.hidden
    window.desk.commands.run("show.unlit")
    assert s.selection.hidden == {"things/globe"}
    showing.toggle_group("house")
    assert not showing.is_shown("house") and showing.is_shown("things")
    window.desk.commands.run("show.all")
    window.desk.commands.run("select.branch")
    assert {s.level.now.scene.node_names[n] for n in s.selection.chosen} == {
        "things/crate",
        "things/chest",
        "things/globe",
    }
    window.desk.commands.run("find.faces")
    finder = window.face_finder
    finder.material.setCurrentIndex(finder.material.findData("wood"))
    finder.search()
    assert finder.list.count() == 3 and "26 faces on 3 objects" in finder.summary.text()
    assert len(window.stage.overlay.lines) == 1
    finder.list.itemClicked.emit(finder.list.item(0))
    finder.dismiss()
    assert not window.stage.overlay.lines and brief(window) == Brief()


def test_a_region_is_proposed_edited_by_hand_and_saves(window: Window, qtbot: QtBot) -> None:
    s, region = window.desk, window.steps["level"].bench.region
    window.steps["level"].bench.show_page(2)
    assert region.start.text() == "Start 2.5, 0.0, 3.0"
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        region.propose.click()
    assert len(brief(window).region.boxes) == 1 and "0 %" in region.saving.text()
    region.boxes.setCurrentRow(0)
    grips = [g.name for g in window.stage.overlay.grips]
    assert "box x1" in grips and "start x" in grips
    window.stage.hands.grip_moved.emit("box x1", np.array([2.0, 1.0, 1.0]), False)
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        window.stage.hands.grip_moved.emit("box x1", np.array([3.0, 1.0, 1.0]), True)
    assert brief(window).region.boxes[0].high[0] == 3.0 and s.document.undo.undoText() == "Change a box"
    window.stage.hands.grip_moved.emit("start x", np.array([1.8, 0.0, 3.0]), True)
    assert brief(window).region.start == pytest.approx((1.0, 0.0, 3.0))
    idle(window, qtbot)
    for edge in (0, 1, 2):
        region.high.fields[edge].setValue([0.6, 0.5, 0.6][edge])
    idle(window, qtbot)
    assert "Saves" in region.saving.text() and brief(window).region.boxes[0].high == (0.6, 0.5, 0.6)
    window.desk.commands.run("stage.front")
    assert window.strip.eye.text() == "front"
    window.desk.commands.run("stage.front")
    window.stage.go(Camera((2.5, 1.6, 2.5), 0.0, 0.0))
    region.start_here.click()
    assert brief(window).region.start == (2.5, 0.02, 2.5)
    region.add.click()
    assert len(brief(window).region.boxes) == 2
    region.clear.click()
    assert brief(window).region.boxes == ()


def test_a_window_closed_right_after_an_edit_keeps_it_and_does_nothing_more(window: Window, qtbot: QtBot) -> None:
    s, region = window.desk, window.steps["level"].bench.region
    window.steps["level"].bench.show_page(2)
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        region.propose.click()
    region.boxes.setCurrentRow(0)
    # What is asked for here is still being worked out when the window goes.
    window.stage.hands.grip_moved.emit("box x1", np.array([3.0, 1.0, 1.0]), True)
    region.add.click()
    folder = s.document.project.folder
    frames = window.stage._frames
    window.close()
    s.level.rearranged.emit()
    frames.change(lambda renderer: renderer.close())
    frames.request(smooth=True)
    frames.draw_now()
    QApplication.processEvents()
    assert not s.jobs.busy and not frames.drawing
    boxes = tomllib.loads((folder / "project.toml").read_text())["region"]["boxes"]
    assert len(boxes) == 2 and boxes[0]["high"][0] == 3.0


def test_walking_stops_at_walls_and_keeps_eye_height(window: Window, qtbot: QtBot) -> None:
    stage = window.stage
    stage.go(Camera((2.5, 1.2, 3.0), 0.0, 0.0))
    window.desk.commands.run("stage.walk")
    assert (
        stage.eye.walking
        and stage.camera.eye[1] == pytest.approx(1.6, abs=0.03)
        and window.strip.eye.text() == "walking"
    )
    content = stage.picture
    camera = stage.camera
    ahead = content.walked(np.array(camera.eye), camera.right, camera.forward, 0.0, 0.5)
    assert ahead is not None and ahead[2] == pytest.approx(2.5) and ahead[1] == pytest.approx(1.6, abs=0.03)
    assert content.walked(np.array([2.5, 1.6, 0.4]), camera.right, camera.forward, 0.0, 0.5) is None
    window.desk.commands.run("stage.walk")
    assert not stage.eye.walking


def charted(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: window.steps["charts"].bench.known is not None and window.desk.settled, timeout=LONG)


def test_charts_show_density_pages_and_coordinates_before_any_build(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, window.steps["charts"].bench
    s.document.set_recipe("Padding", with_value(s.document.project.recipe, "density.padding", 2))
    window.desk.commands.run("step.charts")
    charted(window, qtbot)
    assert window.stage.look.view.id == "density" and "page of" in bench.facts.text()
    known = bench.known
    assert known.shares is not None and sum(known.shares) == pytest.approx(1.0)
    bench.show_page(2)
    assert window.canvases.currentWidget() is window.steps["charts"].pages
    s.selection.select(node(window, "things/crate"))
    assert "crate: 6 charts on page 1" in bench.sheet.chosen.text()
    # From a chart to its object: click the largest chart.
    rects = known.survey.atlas.rects
    largest = int(np.argmax(rects[:, 3] * rects[:, 4]))
    window.steps["charts"].pages.fit()
    corner = window.steps["charts"].pages._to_screen(0, rects[largest, 1] + 1.5, rects[largest, 2] + 1.5)
    qtbot.mouseClick(
        window.steps["charts"].pages, Qt.MouseButton.LeftButton, pos=QPoint(round(corner.x()), round(corner.y()))
    )
    assert s.level.now.scene.node_names[s.selection.node] == "house/room"
    assert window.steps["charts"].pages.chart_at(QPointF(-5, -5))[0] == -1
    before = s.document.project.recipe.density.texels_per_metre
    pages = known.survey.atlas.pages
    assert bench.sheet.raise_density.isVisibleTo(bench)
    bench.sheet.raise_density.click()
    charted(window, qtbot)
    assert s.document.project.recipe.density.texels_per_metre > before
    assert bench.known.survey.atlas.pages == pages  # it fills the page and opens no other
    window.desk.commands.run("step.level")
    assert window.canvases.currentWidget() is window.stage and window.stage.look.view.id == "result"
    idle(window, qtbot)


def test_all_to_test_density_and_back_from_the_bench(window: Window, qtbot: QtBot) -> None:
    s, page = window.desk, window.steps["charts"].bench.density
    window.desk.commands.run("step.charts")
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        s.document.edit_brief("Own", lambda b: replace(b, marks={"things/crate": Mark(density=1.3)}))
    own = s.level.now.scene.factor.copy()
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.all_test.click()
    assert set(s.level.now.scene.factor.tolist()) == {0.25} and page.tested.count() == 5
    s.selection.select(node(window, "things/crate"))
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.some_own.click()
    assert page.tested.count() == 4
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.all_own.click()
    np.testing.assert_array_equal(s.level.now.scene.factor, own)
    page.set_name.setText("fine crate")
    page.set_name.returnPressed.emit()
    s.document.edit_brief("Other", lambda b: replace(b, marks={"things/crate": Mark(density=9.0)}))
    page.sets.setCurrentText("fine crate")
    page.use_set.click()
    assert brief(window).marks == {"things/crate": Mark(density=1.3)}
    s.selection.select(node(window, "house/rug"))
    page.add_box.click()
    assert brief(window).density_boxes[0].name == "rug"
    page.drop_box.click()
    assert brief(window).density_boxes == ()
    idle(window, qtbot)


def test_lights_are_changed_in_bulk_moved_by_hand_added_copied_and_deleted(window: Window, qtbot: QtBot) -> None:
    s, page = window.desk, window.steps["lights"].bench.lights
    window.desk.commands.run("step.lights")
    lamp, spot = node(window, "lights/lamp"), node(window, "lights/spot")
    assert len(window.stage.overlay.marks) == 2
    s.selection.select_many((lamp, spot))
    page.form.mode.setCurrentIndex(2)
    page.form.mode.activated.emit(2)
    assert [x.mode for x in s.level.now.scene.lights] == ["live", "live"] and "2 live" in window.steps[
        "lights"
    ].bench.facts.text()
    assert "2 live lights at most" in page.overlap.text()
    s.selection.select(spot)
    names = {g.name for g in window.stage.overlay.grips}
    assert names == {"move x", "move y", "move z", "aim"} and len(window.stage.overlay.lines) >= 2
    page.snap.setCurrentIndex(3)
    page.snap.activated.emit(3)
    arm = window.stage.eye.pixel_size(np.array([3, 2.5, 3])) * 52
    window.stage.hands.grip_moved.emit("move x", np.array([3.4 + arm, 2.5, 3.0]), False)
    window.stage.hands.grip_moved.emit("move x", np.array([3.6 + arm, 2.5, 3.0]), True)
    assert brief(window).lights["lights/spot"].position == (3.5, 2.5, 3.0)
    window.stage.hands.grip_moved.emit("aim", np.array([3.5, 0.0, 3.0]), True)
    np.testing.assert_allclose(brief(window).lights["lights/spot"].direction, [0, -1, 0], atol=1e-6)
    count = s.document.undo.count()
    page.form.position.fields[1].setValue(2.0)
    assert s.document.undo.count() == count + 1 and brief(window).lights["lights/spot"].position[1] == 2.0
    page.form.new_template.setText("spots")
    page.form.new_template.returnPressed.emit()
    assert brief(window).lights["lights/spot"].template == "spots"
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.copy.click()
    qtbot.waitUntil(
        lambda: s.selection.node >= 0 and s.level.now.scene.node_names[s.selection.node].startswith("added/"),
        timeout=LONG,
    )
    page.form.template.setCurrentIndex(page.form.template.findData("spots"))
    page.form.template.activated.emit(1)
    page.form.candela.field.setValue(33.0)
    page.form.to_template.click()
    assert {x.name: x.intensity for x in s.level.now.scene.lights if x.kind == "spot"} == {
        "lights/spot": 33.0, "added/spot copy 1": 33.0,
    }  # fmt: skip
    assert page.delete.isEnabled()
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.delete.click()
    assert brief(window).added == {} and len(s.level.now.scene.lights) == 2
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        path = page.add_light("directional", (0.0, 5.0, 0.0))
    assert path == "added/directional 1" and s.level.now.scene.lights[-1].intensity == 5000.0
    idle(window, qtbot)


def test_a_value_that_cannot_be_is_told_and_changes_nothing(window: Window, qtbot: QtBot) -> None:
    s, count = window.desk, window.desk.document.undo.count()
    with qtbot.waitSignals([s.telling.said, s.document.edited], timeout=LONG):
        window.steps["lights"].bench.set_light("lights/lamp", "move", position=(float("nan"), 0.0, 0.0))
    assert "cannot be" in window.notices.text and s.document.undo.count() == count and brief(window).lights == {}
    s.selection.select(node(window, "lights/lamp"))
    form = window.steps["lights"].bench.lights.form
    form.note.setText("hangs low")
    form.note.editingFinished.emit()
    assert brief(window).lights["lights/lamp"].note == "hangs low" and s.document.undo.count() == count + 1
    form.note.editingFinished.emit()
    assert s.document.undo.count() == count + 1, "nothing new was said"
    idle(window, qtbot)


def test_held_keys_move_the_eye_and_letting_go_ends_it(window: Window, qtbot: QtBot) -> None:
    stage = window.stage
    stage.setFocus()
    before = np.array(stage.camera.eye)
    with qtbot.waitSignal(stage.camera_changed, timeout=LONG):
        qtbot.keyPress(stage, Qt.Key.Key_W)
    qtbot.keyRelease(stage, Qt.Key.Key_W)
    qtbot.waitUntil(lambda: not stage._flight.moving, timeout=LONG)
    way = np.array(stage.camera.eye) - before
    np.testing.assert_allclose(way / np.linalg.norm(way), stage.camera.forward, atol=1e-6)
    rested = np.array(stage.camera.eye)
    qtbot.keyPress(stage, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert not stage._flight.moving, "with Ctrl it is a shortcut, not a step"
    np.testing.assert_array_equal(np.array(stage.camera.eye), rested)


def test_the_words_on_a_finding_fit_the_bench_at_once(window: Window, qtbot: QtBot) -> None:
    panel = window.steps["level"].bench.checks
    window.steps["level"].bench.show_page(1)
    rows = [row for row in range(panel.list.count()) if panel.list.item(row).flags() & Qt.ItemFlag.ItemIsSelectable]
    assert len(rows) >= 2
    for row in rows:
        panel.list.setCurrentRow(row)
        if panel.finding() is None:
            continue
        assert panel.rect().contains(panel.card.geometry()), panel.finding().kind
        assert not panel.card.geometry().intersects(panel.list.geometry())
        assert panel.card.rect().contains(panel.fix.geometry()) and panel.card.rect().contains(panel.known.geometry())
        assert panel.reason.height() >= panel.reason.heightForWidth(panel.reason.width())
        for remedy in remedies.ALL:
            for words in filter(None, (remedy.words, remedy.many)):
                panel.fix.setText(words)
                panel.card.layout().activate()
                assert panel.card.minimumSizeHint().width() <= panel.width(), words


def test_only_files_of_the_project_are_taken_into_it(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    s = window.desk
    folder = s.level.now.project.folder
    assert s.document.reference(folder / "tables" / "own.csv") == str(Path("tables") / "own.csv")
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as told:
        assert s.document.reference(folder.parent / "other.csv") is None
    assert "other.csv lies outside the project" in told.args[0].sentence and str(folder) in told.args[0].sentence


def test_emitters_tables_and_skies_show_their_sources(window: Window, qtbot: QtBot) -> None:
    s, page = window.desk, window.steps["lights"].bench.emitters
    window.desk.commands.run("step.lights")
    window.steps["lights"].bench.show_page(1)
    assert [page.table.item(0, i).text() for i in range(3)] == ["glow", "400", "level"]
    s.document.project.folder.mkdir(parents=True, exist_ok=True)
    table = s.document.project.folder / "ours.csv"
    table.write_text("material,r,g,b,strength\nglow,1,1,1,900\nelsewhere,1,1,1,1\n")
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.add_table(table)
    assert [page.table.item(0, i).text() for i in range(3)] == ["glow", "900", "ours"]
    assert "1 of 2 materials" in page.tables.item(0).text()
    page.table.selectRow(0)
    assert "over level" in page.about.text()
    page.counts.click()
    assert s.level.now.scene.emitters == () and page.table.item(0, 1).text() == "no light"
    page.table.selectRow(0)
    page.reset.click()
    page.strength.field.setValue(123.0)
    assert s.level.now.scene.emitters[0].radiance[0] == pytest.approx(123.0)
    outside = s.document.project.folder.parent.parent / "x.csv"
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as told:
        page.add_table(outside)
    assert "outside the project" in told.args[0].sentence
    sky = window.steps["lights"].bench.sky
    sky.new.setText("noon")
    sky.new.returnPressed.emit()
    assert brief(window).sky == "noon" and s.document.project.sky[0] == 300.0
    sky.strength.field.setValue(2.0)
    assert s.document.project.sky[0] == 600.0 and "sky" in sky.which.accessibleName().lower()
    sky.counts.click()
    assert s.document.project.sky == (0.0, 0.0, 0.0)
    sky.which.setCurrentIndex(0)
    sky.which.activated.emit(0)
    assert brief(window).sky == "" and "noon" in brief(window).skies
    idle(window, qtbot)


def test_hybrid_lights_have_a_near_and_a_far_set(window: Window, qtbot: QtBot) -> None:
    s, page = window.desk, window.steps["lights"].bench.lights
    window.desk.commands.run("step.lights")
    assert page.blend.isHidden()
    window.desk.commands.run("stage.near")
    assert "no near set" in window.notices.text
    s.document.set_light("lights/lamp", LightChange(mode="hybrid"))
    idle(window, qtbot)
    assert not page.blend.isHidden() and page.blend.field.value() == 30.0
    page.blend.field.setValue(12.0)
    s.selection.select(node(window, "lights/lamp"))
    rings = [np.linalg.norm(line.points - [2, 2, 2], axis=1) for line in window.stage.overlay.lines if line.dashed]
    assert any(np.allclose(ring, 12.0) for ring in rings)
    window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: not window.desk.builds.running and s.rope.shown is not None, timeout=LONG)
    idle(window, qtbot)
    m, shown = s.rope.shown.manifest, s.rope.shown
    assert m.hybrid == {"lights": ["lights/lamp"], "blend_distance": 12.0} and shown.near is not None
    # The far set holds all light; the near set lacks just what the lamp does directly.
    other = shown.direct.copy()
    s.document.set_light("lights/lamp", LightChange(enabled=False))
    assert shown.total.sum() > shown.near.sum() > 0 and (shown.near <= shown.total + 1e-3).all()
    floor_texel = np.unravel_index(np.argmax((shown.total - shown.near).sum(axis=-1)), shown.total.shape[:3])
    lost = (shown.total - shown.near)[floor_texel]
    assert 0 < lost[0] <= other[floor_texel][0] * 1.01
    window.desk.commands.run("stage.near")
    idle(window, qtbot)
    assert window.picture.near and window.strip.view.text() == "result, near set"
    assert (window.stage.picture.total == shown.near).all()
    window.desk.commands.run("stage.near")
    idle(window, qtbot)
    assert not window.picture.near and (window.stage.picture.total == shown.total).all()


def test_the_game_is_shown_with_the_lights_that_it_adds_itself(window: Window, qtbot: QtBot) -> None:
    s, stage = window.desk, window.stage
    s.document.set_light("lights/lamp", LightChange(mode="hybrid"))
    idle(window, qtbot)
    build(window, qtbot)
    stage.look.halo = False
    stage.go(Camera((2.0, 1.5, 3.6), 0.0, -0.3))
    s.commands.run("stage.expose")

    def drawn(view: str) -> np.ndarray:
        s.commands.run(f"view.{view}")
        idle(window, qtbot)
        stage.grab_smooth()
        image = stage._image.convertToFormat(QImage.Format.Format_RGB888)
        bits = image.constBits()
        bits.setsize(image.sizeInBytes())
        rows = np.frombuffer(bits, np.uint8).reshape(image.height(), image.bytesPerLine())
        return rows[:, : 3 * image.width()].astype(float)

    # Near by the lamp is live; where nothing is in its way it gives what the pages have of it.
    baked, played = drawn("result"), drawn("played")
    assert "1 hybrid live within 30 m" in window.strip.view.text() and stage.picture.lamps is not None
    assert np.median(np.abs(played - baked)) <= 2 and np.quantile(np.abs(played - baked), 0.8) <= 8
    lamp = stage.picture.lamps
    assert lamp.rows(np.zeros(3), np.zeros(3))[0, 4:7] == pytest.approx(lamp.lights[0].strength)
    # What the far set holds of it is in neither the near pages nor, once it is off, in the game.
    s.document.set_light("lights/lamp", LightChange(mode="hybrid", enabled=False))
    idle(window, qtbot)
    assert "no light is live" in window.strip.view.text() and drawn("played").mean() < 0.9 * played.mean()
    # Afar the pages count alone.
    s.document.set_light("lights/lamp", LightChange(mode="hybrid"))
    s.document.edit_brief("Blend", lambda b: replace(b, blend_distance=0.01))
    idle(window, qtbot)
    assert np.median(np.abs(drawn("played") - baked)) <= 1
    # One that is only live lights what its build left dark.
    s.document.set_light("lights/lamp", LightChange(mode="live"))
    idle(window, qtbot)
    build(window, qtbot)
    dark, live = drawn("result"), drawn("played")
    assert "1 live" in window.strip.view.text() and live.mean() > 1.5 * max(dark.mean(), 1.0)
    s.commands.run("view.result")
    assert stage.picture.lamps is None


def test_noise_has_a_view_and_stands_beside_the_light_under_the_pointer(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    window.desk.commands.run("view.noise")
    assert "known once a build is done" in window.strip.view.text()
    numbers = window.steps["recipe"].bench.numbers
    assert "off" in numbers["light.noise_target"].note.text()
    numbers["light.noise_target"].field.setValue(0.1)
    assert "at most" in numbers["light.gather_rays"].note.text() and "off" not in (
        numbers["light.noise_target"].note.text()
    )
    window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: not window.desk.builds.running and s.rope.shown is not None, timeout=LONG)
    idle(window, qtbot)
    assert "10 % red" in window.strip.view.text()
    told = s.rope.shown.manifest.finish.refined
    assert told is not None and told.target == 0.1
    assert "nine in ten within" in window.steps["build"].bench.summary.text() and "of the rays were enough" in (
        window.steps["build"].bench.summary.text()
    )
    assert s.rope.stale is not None and s.rope.stale.fresh
    spot = window.stage.spot_at(QPointF(window.stage.width() / 2, window.stage.height() / 2))
    assert spot is not None and spot.noise is not None and 0 <= spot.noise < 1
    window.stage.hands.pointed.emit(spot)
    assert f"± {100 * spot.noise:.2g} %" in window.strip.value.text()


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_kind_of_light_is_added_shown_shaped_and_copied(window: Window, qtbot: QtBot, kind: str) -> None:
    s, page = window.desk, window.steps["lights"].bench.lights
    window.desk.commands.run("step.lights")
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        path = page.add_light(kind, (2.5, 2.0, 2.5))
    idle(window, qtbot)
    s.selection.select(node(window, path))
    form = page.form
    shown = {name for name in ("reach", "outer", "wide", "tall", "roll", "source_size")
             if not getattr(form, name).isHidden()}  # fmt: skip
    assert shown == {
        "point": {"reach", "source_size"}, "spot": {"reach", "outer", "source_size"}, "directional": {"source_size"},
        "rectangle": {"wide", "tall", "roll"}, "disk": {"source_size"}, "tube": {"wide", "roll", "source_size"},
    }[kind]  # fmt: skip
    assert any(m.node == s.selection.node and m.strong for m in window.stage.overlay.marks)
    if kind in AREA_KINDS:
        corners = np.concatenate([line.points for line in window.stage.overlay.lines])
        assert np.abs(corners - [2.5, 2.0, 2.5]).max() < 0.7, "its shape is drawn where it is"
    if kind in ("rectangle", "tube"):
        form.wide.field.setValue(0.8)
        form.roll.field.setValue(30.0)
        assert next(x for x in s.level.now.scene.lights if x.name == path).width == 0.8
    assert [r.kind for r in rows_of(s.level.now.level, s.level.now.scene, 10.0) if r.path == path] == [kind]
    assert matching(rows_of(s.level.now.level, s.level.now.scene, 10.0), "light") != []
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        page.copy.click()
    idle(window, qtbot)
    assert [x.kind for x in s.level.now.scene.lights].count(kind) >= 2


def test_probes_are_placed_built_and_light_what_moves(window: Window, qtbot: QtBot) -> None:
    s, page = window.desk, window.steps["lights"].bench.probes
    s.document.edit_brief("Mark", lambda b: replace(b, marks={"things/crate": Mark("moving")}))
    idle(window, qtbot)
    window.desk.commands.run("step.lights")
    window.steps["lights"].bench.show_page(3)
    assert page.by_probes.text() == "Nothing is built yet." and "No grid" in page.predicted.text()
    window.stage.go(Camera((2.5, 1.4, 4.5), 0.0, 0.0))
    page.place.click()
    assert s.document.undo.undoText() == "Place a probe" and list(brief(window).probes.placed) == ["probe 1"]
    page.spacing.field.setValue(1.5)
    assert "the whole level: no play region" in page.predicted.text() and page.predicted.text().startswith("At most")
    page.spacing.field.setValue(0.01)
    assert page.predicted.text().startswith("Too fine")
    page.spacing.field.setValue(1.5)
    names = [m.label for m in window.stage.overlay.marks]
    assert names == ["probe 1"]
    window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: not window.desk.builds.running and s.rope.shown is not None, timeout=LONG)
    idle(window, qtbot)
    window.desk.commands.run("step.lights")
    window.stage.go(Camera((2.5, 1.4, 4.4), 0.0, 0.0))
    assert "By probes: from above" in page.by_probes.text() and "%" in page.sources.text()
    assert "room" in page.by_below.text() or "rug" in page.by_below.text()
    assert len(window.stage.overlay.marks) == s.rope.shown.manifest.probes["count"] > 8
    content = window.stage.picture
    crate = np.flatnonzero(content.scene.node == node(window, "things/crate"))
    last = len(content.total) - 1
    assert last == len(s.rope.shown.total) and (content.charted.page[crate] == last).all()
    spots = [content.spot(np.array([1.25, 2.0, 1.25]), np.array([0, -1.0, 0]), True)]
    assert spots[0].node == node(window, "things/crate") and spots[0].irradiance[0] > 0
    top_by_probes = spots[0].irradiance[0]
    with qtbot.waitSignal(s.rope.looking_at, timeout=LONG):
        window.desk.commands.run("stage.movers")
    idle(window, qtbot)
    spot = window.stage.picture.spot(np.array([1.25, 2.0, 1.25]), np.array([0, -1.0, 0]), True)
    below = mover_light(window.picture.shown.surfaces, None, np.array([1.25, 0.26, 1.25])).below
    assert spot.irradiance[0] == pytest.approx(below[0], rel=1e-5) != pytest.approx(top_by_probes, rel=1e-3)
    s.document.set_light("lights/lamp", LightChange(200.0))
    page.list.setCurrentRow(0)
    page.remove.click()
    assert brief(window).probes.placed == {}


def test_a_glowing_surface_is_seen_otherwise_than_it_lights(window: Window, qtbot: QtBot) -> None:
    s, page, stage = window.desk, window.steps["lights"].bench.emitters, window.stage
    window.desk.commands.run("step.lights")
    window.steps["lights"].bench.show_page(1)
    page.table.selectRow(0)
    lit = s.level.now.scene.emitters[0].radiance.copy()
    assert page.look.field.value() == pytest.approx(400.0, rel=1e-6)
    page.set_tint((1.0, 0.2, 0.1))
    assert page.look.field.value() == pytest.approx(400.0, rel=1e-3)
    page.look.field.setValue(2000.0)
    seen = np.array(brief(window).looks["glow"])
    assert seen @ [0.2126, 0.7152, 0.0722] == pytest.approx(2000.0) and seen[1] == pytest.approx(0.2 * seen[0])
    assert stage.look.glow == brief(window).looks
    assert (s.level.now.scene.emitters[0].radiance == lit).all(), "what it is seen with lights nothing"
    page.strength.field.setValue(123.0)
    assert brief(window).looks["glow"] == pytest.approx(tuple(seen)), "light and look are set apart"
    page.as_light.click()
    assert brief(window).looks["glow"] == pytest.approx(tuple(s.level.now.scene.emitters[0].radiance))
    s.document.undo.undo()
    window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: not window.desk.builds.running and s.rope.shown is not None, timeout=LONG)
    idle(window, qtbot)
    baked = open_level(s.rope.knots[-1].folder / "level-baked.glb")
    assert next(m for m in baked.materials if m.name == "glow").emission == pytest.approx(tuple(seen), rel=1e-5)
    stage.go(Camera((4.0, 2.0, 4.9), 0.0, 0.0))
    stage.look.exposure = 1.0 / 4000.0
    middle = []
    for glow in (brief(window).looks, {"glow": (0.0, 0.0, 2000.0)}):
        stage.show_glow(glow)
        stage._frames.draw_now()
        middle.append(np.array(stage._image.pixelColor(stage.width() // 2, stage.height() // 2).getRgb()[:3]))
    assert middle[0][0] > middle[0][2] + 50 and middle[1][2] > middle[1][0] + 50


def test_a_level_exported_again_keeps_camera_selection_and_marks(window: Window, qtbot: QtBot, level: Path) -> None:
    s = window.desk
    s.document.edit_brief("Mark", lambda b: replace(b, marks={"things/crate": Mark(density=2.0)}))
    idle(window, qtbot)
    s.selection.select(node(window, "things/globe"))
    window.stage.go(Camera((1.0, 1.0, 4.0), 0.3, 0.1))
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as told:
        level_file(level.parent, furnished(extra=True))
    assert "1 added (bench)" in told.args[0].sentence and window.notices.isVisible()
    assert s.level.now.scene.node_names[s.selection.node] == "things/globe" and window.stage.camera.yaw == 0.3
    assert brief(window).marks["things/crate"].density == 2.0
    assert float(s.level.now.scene.factor[s.level.now.scene.node == node(window, "things/crate")][0]) == 2.0
    idle(window, qtbot)
    # A half-written export is told, and the level that was there stays; then it goes away and comes back.
    whole = level.read_bytes()
    with qtbot.waitSignal(s.telling.said, timeout=LONG):
        level.write_bytes(whole[: len(whole) // 2])
    assert "things/bench" in s.level.now.scene.node_names
    with qtbot.waitSignal(s.telling.said, timeout=LONG) as gone:
        level.unlink()
    assert "gone" in gone.args[0].sentence
    with qtbot.waitSignal(s.telling.said, timeout=LONG):
        level_file(level.parent, furnished())
    assert "things/bench" not in s.level.now.scene.node_names
    idle(window, qtbot)


def test_what_is_not_in_this_light_says_so(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    s.document.set_recipe("Draft", with_value(s.document.project.recipe, "draft", 8))
    s.document.edit_brief("Move", lambda b: replace(b, marks={"things/crate": Mark("left-out", poses={"x": Pose()})}))
    idle(window, qtbot)
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        window.desk.commands.run("build.start")
    idle(window, qtbot)
    assert s.rope.shown is not None and s.rope.shown_number == 1
    content = window.stage.picture
    on_crate = content.spot(np.array([1.25, 2.0, 1.25]), np.array([0.0, -1.0, 0.0]), False)
    on_floor = content.spot(np.array([2.25, 2.0, 1.75]), np.array([0.0, -1.0, 0.0]), False)
    assert on_crate.irradiance is None and on_floor.irradiance is not None
    assert s.level.now.scene.node_names[on_crate.node] == "things/crate"


# -- overlay arithmetic


@pytest.mark.parametrize(
    "camera", [Camera((0, 2, 8), 0.2, -0.1), Camera((0, 9, 0), plan=True), Camera((0, 1, 9), plan=True, side="front")]
)
def test_points_on_the_screen_lie_on_the_rays_through_them(camera: Camera) -> None:
    points = np.array([[0.5, 0.2, -1.0], [-1.0, 1.5, 0.3]])
    screen, front = on_screen(camera, points, 800, 600)
    assert front.all()
    for point, (x, y) in zip(points, screen):
        origin, direction = camera.ray(2 * x / 800 - 1, 1 - 2 * y / 600, 800 / 600)
        away = point - origin
        assert np.linalg.norm(away - direction * (away @ direction)) == pytest.approx(0, abs=1e-6)


def test_dragging_along_an_axis_follows_the_hand() -> None:
    camera = Camera((0, 1, 8), 0.0, 0.0)
    grip = Grip("x", (0.0, 1.0, 0.0), (1.0, 0.0, 0.0))
    start, now = camera.ray(0.0, 0.0, 1.0), camera.ray(0.25, 0.1, 1.0)
    moved = dragged(camera, grip, start, camera.ray(0.25, 0.0, 1.0))
    np.testing.assert_allclose(moved, [8 * 0.25 * camera.tangent, 1, 0], atol=1e-6)
    free = dragged(camera, Grip("aim", (0.0, 1.0, 0.0)), start, now)
    np.testing.assert_allclose(free, [8 * 0.25 * camera.tangent, 1 + 8 * 0.1 * camera.tangent, 0], atol=1e-6)
    assert snapped(np.array([0.13, 0.9, -0.38]), 0.25) == (0.25, 1.0, -0.5)
    assert snapped(np.array([0.1234567, 0, 0]), 0.0) == (0.123, 0.0, 0.0)
    assert len(box_edges((0, 0, 0), (1, 2, 3))) == 24


def test_rows_tell_role_page_and_predicted_texels(level: Path) -> None:
    made = prepare(
        open_level(level), Brief(marks={"things/crate": Mark("left-out")}, lights={"lights/lamp": LightChange()})
    )
    rows = {r.path: r for r in rows_of(made.level, made.scene, 10.0)}
    assert rows["things/crate"].texels == 0 and rows["things/crate"].role == "left-out"
    assert rows["house/room"].texels == (2 * (15 + 15 + 25) * 100)
    assert rows["things/globe"].kind == "emitter" and rows["lights/lamp"].kind == "point"


def test_light_is_carried_to_a_changed_level_and_what_is_new_or_gone_is_said(
    window: Window, qtbot: QtBot, level: Path
) -> None:
    s = window.desk
    s.document.set_recipe("Draft", with_value(s.document.project.recipe, "draft", 8))
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        window.desk.commands.run("build.start")
    idle(window, qtbot)
    s.document.edit_brief("Move", lambda b: replace(b, moves={"things/crate": Move((1.0, 0.0, 0.0))}))
    qtbot.waitUntil(lambda: bool(fresh_of(window)), timeout=LONG)
    assert (
        fresh_of(window) == ("things/crate",)
        and "; ".join(window.strip.state.facts) == "1 object not in this light: crate"
    )
    content = window.stage.picture
    down = np.array([0.0, -1.0, 0.0])
    assert content.spot(np.array([2.25, 2.0, 1.25]), down, False).irradiance is None
    assert content.spot(np.array([4.5, 1.0, 4.5]), down, False).irradiance is not None
    assert any(line.dashed for line in window.stage.overlay.lines), "where it was is outlined"
    window.desk.commands.run("edit.undo")
    qtbot.waitUntil(lambda: not fresh_of(window), timeout=LONG)
    idle(window, qtbot)


def test_places_and_variants_are_kept_with_the_project(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.2))
    window.desk.commands.run("place.keep")
    window.desk.commands.run("place.keep")
    assert window.places.names() == ["room", "room 2"]
    window.desk.commands.run("stage.plan")
    window.desk.commands.run("place.keep")
    window.stage.go(Camera((1.0, 1.0, 1.0), 1.0, 0.0))
    window.places.go("room")
    assert window.stage.camera.eye == (2.5, 1.6, 4.6) and not window.stage.camera.plan
    window.places.go(window.places.names()[-1])
    assert window.stage.camera.plan
    window.places.drop("room 2")
    assert "room 2" not in window.places.names()
    s.document.edit("Damage", lambda p: replace(p, rest={**p.rest, "places": {"bad": {"eye": [1]}}}))
    with qtbot.waitSignal(s.telling.said, timeout=LONG):
        window.places.go("bad")
    window.variants.keep("dark")
    s.document.edit_brief("Light", lambda b: replace(b, lights={"lights/lamp": LightChange(900.0)}))
    window.variants.keep("bright")
    window.variants.go("dark")
    assert brief(window) == Brief()
    window.variants.go("bright")
    assert brief(window).lights["lights/lamp"].intensity == 900.0
    window.desk.commands.run("edit.undo")
    assert brief(window) == Brief()
    s.document.save_now()
    saved = tomllib.loads((s.document.project.folder / "project.toml").read_text())
    assert set(saved["variants"]) == {"dark", "bright"}
    window.variants.drop("dark")
    with qtbot.waitSignal(s.telling.said, timeout=LONG):
        window.variants.go("dark")
    idle(window, qtbot)


def test_a_lamp_is_relit_while_it_is_changed_and_undo_shows_what_was_built(window: Window, qtbot: QtBot) -> None:
    s, relighter = window.desk, window.desk.relighter
    s.document.set_recipe("Draft", with_value(s.document.project.recipe, "draft", 8))
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: relighter.ready, timeout=LONG)
    spot = QPointF(window.stage.width() / 2, window.stage.height() / 2)
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.3))
    before = window.stage.spot_at(spot).irradiance.copy()
    said: list[str] = []
    relighter.relit.connect(lambda relit: said.append(relit.what if relit is not None else ""))
    with qtbot.waitSignal(relighter.relit, timeout=LONG, check_params_cb=lambda relit: relit.what.endswith("finished")):
        s.document.edit_brief("Lamp", lambda b: replace(b, lights={"lights/lamp": LightChange(800.0)}))
    # At once as it is solved; once hands rest as a build finishes it, first where one looks.
    states = ("before finishing", "finished where you look", "finished")
    assert said == [f"relit from stored rays, {state}" for state in states]
    assert window.strip.build.text() == "Build 1, relit" and "not built" in "; ".join(window.strip.state.facts)
    brighter = window.stage.spot_at(spot).irradiance.copy()
    assert brighter[0] > 1.5 * before[0]
    s.selection.select(node(window, "things/globe"))
    window.desk.commands.run("light.only")
    qtbot.waitUntil(lambda: "only the selected, finished" in "; ".join(window.strip.state.facts), timeout=LONG)
    alone = window.stage.spot_at(spot).irradiance.copy()
    assert alone[0] < before[0]
    window.desk.commands.run("light.only")
    window.desk.commands.run("light.bounce")
    qtbot.waitUntil(lambda: "bounce 0 alone" in "; ".join(window.strip.state.facts), timeout=LONG)
    relighter.set_bounce(-1)
    with qtbot.waitSignal(relighter.relit, timeout=LONG, check_params_cb=lambda relit: relit is None):
        window.desk.commands.run("edit.undo")
    np.testing.assert_allclose(window.stage.spot_at(spot).irradiance, before, rtol=1e-5)
    assert window.strip.build.text() == "Build 1, draft ⅛"
    # So do bounces, their gain and their colour, each undoable.
    for key, value, least, most in (("bounces", 0, 0.0, 0.95), ("bounce_gain", 2.0, 1.05, 9.0)):
        with qtbot.waitSignal(
            relighter.relit, timeout=LONG, check_params_cb=lambda relit: relit is not None and "finishing" in relit.what
        ):
            s.document.set_recipe("Bounces", with_value(s.document.project.recipe, f"light.{key}", value))
        assert least <= window.stage.spot_at(spot).irradiance[0] / before[0] <= most
        with qtbot.waitSignal(relighter.relit, timeout=LONG, check_params_cb=lambda relit: relit is None):
            window.desk.commands.run("edit.undo")
    assert window.steps["recipe"].bench.bounce_words.text().startswith("Of the last build's light ")
    # The build with these values shows what the stage showed before it.
    s.document.edit_brief("Lamp", lambda b: replace(b, lights={"lights/lamp": LightChange(800.0)}))
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        window.desk.commands.run("build.start")
    idle(window, qtbot)
    np.testing.assert_allclose(window.stage.spot_at(spot).irradiance, brighter, rtol=2e-3)


def test_a_sky_picture_gives_the_light_that_is_in_its_file(window: Window, qtbot: QtBot) -> None:
    """The colour of a plain sky is a radiance; as a tint of a picture it made 412,458 lx of 2,400."""
    s, page = window.desk, window.steps["lights"].bench.sky
    page.new.setText("noon")
    page._new()
    idle(window, qtbot)
    assert s.document.project is not None
    folder = s.document.project.folder
    folder.mkdir(exist_ok=True)
    (folder / "noon.hdr").write_bytes(
        b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4 +X 8\n" + bytes([128, 128, 128, 136]) * 32
    )
    page.use_picture(folder / "noon.hdr")
    idle(window, qtbot)
    assert s.document.project.sky == pytest.approx((128.5, 128.5, 128.5))
    assert page.color_word.text() == "Tint" and not page.as_file.isVisibleTo(page)
    page.strength.field.setValue(3.0)
    idle(window, qtbot)
    assert s.document.project.sky == pytest.approx((385.5, 385.5, 385.5)) and page.as_file.isVisibleTo(page)
    page.as_file.click()
    assert s.document.project.sky == pytest.approx((128.5, 128.5, 128.5))
    page.plain.click()
    assert (
        s.document.project.sky == pytest.approx((128.5, 128.5, 128.5), rel=1e-3)
        and not s.document.project.brief.sky_now.picture
    )
