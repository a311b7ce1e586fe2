"""The Level step in the real window, driven as a person would."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from furnished import brief, furnished, in_the_room, node
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDoubleSpinBox
from pytestqt.qtbot import QtBot
from waits import LONG, idle

from helpers import level_file
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.level.objects import COLUMNS, matching, rows_of
from ropebell.app.window import Window
from ropebell.checks import remedies
from ropebell.level.brief import Brief, LightChange, Mark, Move
from ropebell.level.open import open_level
from ropebell.level.prepare import prepare


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return level_file(tmp_path, furnished())


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, level: Path) -> Window:
    return in_the_room(empty_window, qtbot, level)


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


def test_each_field_of_many_changes_that_field_alone(window: Window, qtbot: QtBot) -> None:
    s, marks = window.desk, window.steps["level"].bench.details.marks
    mine = Move((0.1, 0.2, 0.0), (0.0, 30.0, 0.0))
    notes = {"things/crate": Mark(note="one"), "things/chest": Mark(note="two", density=2.0)}
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        s.document.edit_brief("Set up", lambda b: replace(b, moves={"things/crate": mine}, marks=notes))
    s.selection.select_many((node(window, "things/crate"), node(window, "things/chest")))
    shown = [field.text() for field in (*marks.shift.fields, *marks.turn.fields, marks.scale, marks.density.field)]
    assert shown == ["various", "various", "0.000", "0.00", "various", "0.00", "1.000", "various"]
    marks.note.setFocus()
    marks.note.clearFocus()
    assert brief(window).marks == notes and marks.note.placeholderText() == "various notes"

    def type_in(field: QDoubleSpinBox, text: str) -> None:
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
            qtbot.keyClick(field, Qt.Key.Key_Return)

    type_in(marks.scale, "1.5")
    assert brief(window).moves == {"things/crate": replace(mine, scale=1.5), "things/chest": Move(scale=1.5)}
    type_in(marks.shift.fields[0], "0.1")  # what one of them has already
    moves = brief(window).moves
    assert moves["things/crate"] == replace(mine, scale=1.5)
    assert moves["things/chest"] == Move((0.1, 0.0, 0.0), scale=1.5)
    assert marks.shift.fields[0].text() == "0.100" and marks.shift.fields[1].text() == "various"
    type_in(marks.density.field, "3")
    assert [m.density for m in brief(window).marks.values()] == [3.0, 3.0]
    assert [m.note for m in brief(window).marks.values()] == ["one", "two"]


def test_a_thing_is_stretched_along_one_of_its_axes_and_back(window: Window, qtbot: QtBot) -> None:
    s, marks = window.desk, window.steps["level"].bench.details.marks
    s.selection.select(node(window, "things/crate"))
    before = np.ptp(corners_of(window, "things/crate"), axis=0)
    for times in (3.0, 1.0):
        with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
            marks.stretch.fields[2].setValue(times)
        assert brief(window).moves == ({"things/crate": Move(stretch=(1.0, 1.0, times))} if times != 1.0 else {})
        now = np.ptp(corners_of(window, "things/crate"), axis=0)
        np.testing.assert_allclose(now, before * [1, 1, times], rtol=1e-6)


def corners_of(window: Window, path: str) -> np.ndarray:
    scene = window.desk.level.now.scene
    return scene.corners[scene.node == node(window, path)].reshape(-1, 3)


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


def test_rows_tell_role_page_and_predicted_texels(level: Path) -> None:
    made = prepare(
        open_level(level), Brief(marks={"things/crate": Mark("left-out")}, lights={"lights/lamp": LightChange()})
    )
    rows = {r.path: r for r in rows_of(made.level, made.scene, 10.0)}
    assert rows["things/crate"].texels == 0 and rows["things/crate"].role == "left-out"
    assert rows["house/room"].texels == (2 * (15 + 15 + 25) * 100)
    assert rows["things/globe"].kind == "emitter" and rows["lights/lamp"].kind == "point"
