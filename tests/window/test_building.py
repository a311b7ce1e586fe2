"""Building in the real window: how much is built, what stops it, journal, rope, table, recipes, profiles."""

from __future__ import annotations

import shutil
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from furnished import drafted
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog
from pytestqt.qtbot import QtBot
from waits import LONG, Opener, build, idle

from ropebell.app.box_grips import face_grips
from ropebell.app.notifying import notify
from ropebell.app.steps.build import BuildStep
from ropebell.app.steps.build.bench import JOURNAL, NEXT
from ropebell.app.steps.build.table import COLUMNS, LIGHT
from ropebell.app.window import Window
from ropebell.build.manifest import read_manifest
from ropebell.build.plan import plan_of
from ropebell.build.recipe import with_value
from ropebell.build.result import Outcome, open_result
from ropebell.build.scope import box_of
from ropebell.compare.ledger import ledger
from ropebell.compare.over_builds import mean_light
from ropebell.level.brief import Move


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, open_built: Opener) -> Window:
    """A small level, once built as a draft."""
    open_built("draft", partial(drafted, empty_window, qtbot))
    return empty_window


def step(window: Window) -> BuildStep:
    found = window.steps["build"]
    assert isinstance(found, BuildStep)
    return found


def pick(window: Window, *paths: str) -> None:
    names = window.desk.level.now.scene.node_names
    window.desk.selection.select_many(tuple(names.index(path) for path in paths))


def test_a_build_of_nothing_is_none_unless_it_is_wanted(window: Window, qtbot: QtBot) -> None:
    idle(window, qtbot)
    window.desk.commands.run("build.start")
    assert "Nothing to do: nothing changed since build 1" in window.notices.text and not window.desk.builds.running
    answers = next(t for t in window.desk.telling.told if t.matter == "long build").answers
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        answers[0][1]()
    idle(window, qtbot)
    assert [k.number for k in window.desk.rope.knots] == [1, 2]


def test_where_a_build_took_long_is_said_without_a_log(window: Window, qtbot: QtBot) -> None:
    told = step(window).build_bench.longest
    window.go_to_step("build")
    qtbot.waitUntil(lambda: told.isVisible(), timeout=LONG)
    found = ledger(open_result(window.desk.rope.shown.folder))
    objects, lights = (found.by(what, of_all=False)[0][0].rsplit("/", 1)[-1] for what in ("object", "light"))
    assert told.text().startswith(f"Longest objects: {objects} ") and f"Longest lights: {lights} " in told.text()


def test_the_selection_alone_is_lit_and_the_picture_says_whose_light_it_is(window: Window, qtbot: QtBot) -> None:
    s, panel = window.desk, step(window).build_bench.next
    panel.choose("selection")
    window.desk.document.edit_brief("Move", lambda b: b.__class__(moves={"things/crate": Move((0.6, 0.0, 0.0))}))
    idle(window, qtbot)
    s.selection.select(-1)
    s.commands.run("build.start")
    assert "Nothing is selected" in window.notices.text and not s.builds.running
    pick(window, "things/crate")
    build(window, qtbot)
    manifest = s.rope.shown.manifest
    assert manifest.scope.only == ("things/crate",) and [p.build for p in manifest.parts] == ["", "0002", "0001"]
    assert "Light on the level" in step(window).build_bench.summary.text()
    s.commands.run("view.whose")
    assert "bronze this build, barred build 1" in window.strip.view.text()
    picture, node = window.stage.picture, s.level.now.scene.node_names.index("things/crate")
    whose = {}
    for triangle in range(len(picture.scene)):
        middle = picture.scene.corners[triangle].mean(axis=0)
        away = picture.scene.face_normals[triangle].astype(float)
        spot = picture.spot(middle + 0.05 * away, -away, True)
        if spot is not None and spot.triangle == triangle:
            whose.setdefault(int(picture.scene.node[triangle]) == node, set()).add(spot.whose)
    assert whose == {True: {"this build"}, False: {"build 1"}}
    assert any("the rest is of earlier builds" in fact for fact in window.words._facts())
    # It says nothing of the rest: against the last whole build the level is still out of date.
    assert not s.rope.stale.fresh and s.rope.knots[-1].scope == "only 1 object"


def test_only_what_changed(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    step(window).build_bench.next.choose("changed")
    s.document.edit_brief("Move", lambda b: b.__class__(moves={"things/chest": Move((0.0, 0.0, 0.7))}))
    idle(window, qtbot)
    build(window, qtbot)
    assert s.rope.shown.manifest.scope.only == ("things/chest",)
    s.commands.run("build.start")
    qtbot.waitUntil(lambda: "Nothing to do: nothing changed since build 2" in window.notices.text, timeout=LONG)


def test_properties_alone_are_written_with_the_light_of_the_newest_build(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    bench.next.choose("selection")
    assert bench.build.text() == "Build the selection", "how long everything would take is no answer to that"
    bench.next.choose("properties")
    assert bench.build.text() == "Build properties alone"
    before = open_result(s.rope.shown.folder)
    build(window, qtbot)
    after = s.rope.shown
    assert after.manifest.scope.properties and set(after.manifest.seconds) == {"scene", "write", "total"}
    np.testing.assert_array_equal(after.total, before.total)
    assert "Lit nothing: its light is that of build 1." in bench.summary.text()
    assert s.rope.knots[-1].scope == "properties alone, lit as build 1"
    # Where a face is not what it was, the light does not fit.
    s.document.edit_brief("Move", lambda b: b.__class__(moves={"things/chest": Move((0.0, 0.0, 0.7))}))
    idle(window, qtbot)
    with qtbot.waitSignal(s.builds.ended, timeout=LONG):
        s.commands.run("build.start")
    idle(window, qtbot)
    assert "things/chest came, moved or changed since build 2" in window.notices.text


def test_the_cut_box_is_drawn_moved_by_its_grips_and_never_forgotten(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    window.go_to_step("build")
    bench.pages.show_page(NEXT)
    pick(window, "things/crate")
    bench.next.choose("box")
    whole = plan_of(s.document.project).box
    assert whole is not None and whole.low[0] == pytest.approx(0.8, abs=0.01)
    overlay = step(window).overlay()
    assert overlay.grips == tuple(face_grips(whole)) and len(overlay.lines) == 1
    step(window).grip_moved("box x1", np.full(3, 3.0), True, "g")
    assert plan_of(s.document.project).box.high[0] == 3.0
    bench.next.set_box(box_of((-0.1, -0.1, -0.1, 2.2, 3.1, 4.1)))
    assert any("the next build lights inside the cut box" in fact for fact in window.words._facts())
    # What comes while it runs is shown on what is in the box alone.
    slow = with_value(s.document.project.recipe, "light.gather_rays", 8192)
    s.document.set_recipe("Rays", with_value(slow, "density.texels_per_metre", 40.0))
    idle(window, qtbot)
    with qtbot.waitSignal(s.builds.picture, timeout=LONG) as first:
        s.commands.run("build.start")
    live = first.args[0].picture
    assert live.scene.corners[..., 0].max() < 2.21 and live.total is not None and live.total.max() > 0
    s.commands.run("build.stop")
    qtbot.waitUntil(lambda: not s.builds.running and s.settled, timeout=LONG)
    s.document.undo.undo()
    idle(window, qtbot)
    build(window, qtbot)
    manifest = s.rope.shown.manifest
    assert manifest.scope.box == box_of((-0.1, -0.1, -0.1, 2.2, 3.1, 4.1)) and manifest.sky == (0.0, 0.0, 0.0)
    assert s.rope.shown.scene.corners[..., 0].max() < 2.21
    assert any("no sun, sky or lamps from outside" in fact for fact in window.words._facts())
    s.document.undo.setIndex(0)
    assert plan_of(s.document.project).lights == "everything" and not step(window).overlay().lines


def test_stop_at_once_leaves_no_dead_build(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    before = [knot.number for knot in s.rope.knots]
    s.document.set_recipe("Rays", with_value(s.document.project.recipe, "light.gather_rays", 8192))
    s.commands.run("build.start")
    with qtbot.waitSignal(s.builds.ended, timeout=LONG) as ended:
        s.commands.run("build.stop")
    idle(window, qtbot)
    assert ended.args[1].state == "stopped"
    assert all(knot.outcome.state == "stopped" for knot in s.rope.knots if knot.number not in before)


def test_a_tripwire_stops_the_build_which_opens_on_why(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    bench.next.wire.setText("nonsense")
    bench.next.wire.returnPressed.emit()
    assert "is no condition" in bench.next.wire_words.text() and not plan_of(s.document.project).stop_when
    bench.next.wire.setText("seconds:solve>0")
    bench.next.wire.returnPressed.emit()
    assert plan_of(s.document.project).stop_when == ("seconds:solve>0",)
    s.document.set_recipe("Bounces", with_value(s.document.project.recipe, "light.bounces", 3))
    idle(window, qtbot)
    build(window, qtbot)
    assert s.rope.knots[-1].outcome.state == "tripwire" and "seconds:solve>0 was met" in window.notices.text
    s.rope.look_at(2)
    qtbot.waitUntil(lambda: bench.journal.lines.count() > 0 and s.settled, timeout=LONG)
    assert bench.pages.shown == JOURNAL
    texts = [bench.journal.lines.item(i).text() for i in range(bench.journal.lines.count())]
    assert any("seconds:solve>0" in text for text in texts)
    # Gone on with: what was finished is there.
    bench.next.wires.setCurrentRow(0)
    bench.next.remove.click()
    idle(window, qtbot)
    build(window, qtbot)
    assert {"charts", "direct", "transport"} <= set(s.rope.shown.manifest.reused)


def test_stages_alone_are_a_knot_of_their_own(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    bench.next._set("Stages", stage="charts")
    build(window, qtbot)
    assert s.rope.knots[-1].outcome.state == "stages" and s.rope.shown_number == 1
    s.rope.look_at(2)
    assert "ran some stages" in bench.heading.text()


def test_the_journal_tells_what_is_new_and_finds_words(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    s, page = window.desk, step(window).build_bench.journal
    s.document.edit_brief("Move", lambda b: b.__class__(moves={"things/chest": Move((-1.5, 0.0, 0.0))}))
    idle(window, qtbot)
    build(window, qtbot)
    step(window).build_bench.pages.show_page(JOURNAL)
    qtbot.waitUntil(lambda: page.lines.count() > 0 and s.settled, timeout=LONG)
    page.all.setChecked(True)
    texts = [page.lines.item(i).text() for i in range(page.lines.count())]
    assert any(text.startswith("Gather rays, ") for text in texts) and any("(since build 1)" in text for text in texts)
    assert any("(new)" in text and "chest" in text for text in texts), texts
    page.search.setText("rays shot")
    assert any("rays shot" in page.lines.item(i).text() for i in range(page.lines.count())) and page.lines.count() == 2
    page.save_as(tmp_path / "journal.txt")
    assert "rays shot" in (tmp_path / "journal.txt").read_text()


def test_words_pins_and_removal_are_undone(window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    s, undo = window.desk, window.desk.document.undo
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_: ("leak at the door", True))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Before", True))
    for command in ("rope.note", "rope.name", "rope.pin"):
        s.commands.run(command)
        idle(window, qtbot)
    knot = s.rope.knots[0]
    assert (knot.note, knot.title, knot.pinned) == ("leak at the door", "Before", True)
    s.commands.run("rope.remove")
    assert "pinned" in window.notices.text and knot.folder.is_dir()
    undo.undo()
    idle(window, qtbot)
    assert not s.rope.knots[0].pinned
    s.commands.run("rope.remove")
    idle(window, qtbot)
    assert s.rope.knots == [] and not knot.folder.exists() and "Undo brings it back" in window.notices.text
    undo.undo()
    idle(window, qtbot)
    assert [k.title for k in s.rope.knots] == ["Before"] and s.rope.shown_number == 1
    s.commands.run("rope.remove")
    idle(window, qtbot)
    window.close()
    assert not list(knot.folder.parent.glob(".removed-*"))


def test_everything_is_set_as_it_was_for_a_build(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    before = s.document.project
    s.document.edit_brief("Move", lambda b: b.__class__(moves={"things/chest": Move((1.0, 0.0, 0.0))}))
    s.document.set_recipe("Rays", with_value(s.document.project.recipe, "light.gather_rays", 512))
    idle(window, qtbot)
    s.commands.run("rope.recipe")
    assert s.document.project.recipe == before.recipe and s.document.project.brief.moves
    s.commands.run("rope.level")
    idle(window, qtbot)
    assert not s.document.project.brief.moves and s.rope.stale.fresh


def test_a_right_click_asks_what_can_be_done(window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    asked = []
    window.rope.asked.disconnect()
    window.rope.asked.connect(lambda number, _: asked.append(number))
    place = window.rope.places()[0][1]
    qtbot.mouseClick(window.rope, Qt.MouseButton.RightButton, pos=QPointF(30, place).toPoint())
    assert asked == [1]


def test_all_builds_in_one_table(window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    s = window.desk
    elsewhere = tmp_path / "other machine" / "0001"
    shutil.copytree(s.rope.knots[0].folder, elsewhere)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(elsewhere))
    s.commands.run("rope.take_in")
    qtbot.waitUntil(lambda: len(s.rope.knots) == 2 and s.settled, timeout=LONG)
    assert s.rope.knots[1].whose
    s.commands.run("build.table")
    table = step(window).canvas()
    assert window.canvases.currentWidget() is table and table.model.rowCount() == 2
    titles = [column.title for column in COLUMNS]
    first = [table.sorted.index(0, titles.index(name)).data() for name in ("Build", "Ended", "Lit")]
    assert first == ["2", "done", "everything"]
    table.view.sortByColumn(0, Qt.SortOrder.AscendingOrder)
    assert table.sorted.index(0, 0).data() == "1"
    table.view.clicked.emit(table.sorted.index(0, 0))
    qtbot.waitUntil(lambda: s.rope.shown_number == 1, timeout=LONG)
    for index in range(3):
        table.quantity.chosen.emit(index)
        assert [number for number, _ in table.plot._points] == [1, 2]
    # The light of everything, and of what is selected, as it is on the pages.
    table.quantity.chosen.emit(LIGHT)
    for path in ("", "things/crate"):
        pick(window, *([path] if path else []))
        qtbot.waitUntil(lambda: len(table.plot._points) == 2, timeout=LONG)
        expected = mean_light(s.rope.shown.folder, [path] if path else [])
        assert expected is not None and expected > 0
        assert [value for _, value in table.plot._points] == pytest.approx([expected, expected])
        assert (path.rsplit("/", 1)[-1] or "all surfaces") in table.about.text()
    s.commands.run("build.table")
    assert window.canvases.currentWidget() is window.stage


def test_a_note_stays_with_a_build_that_was_read_by_a_script(window: Window, qtbot: QtBot) -> None:
    """What people write lies beside the manifest and changes nothing in it."""
    knot = window.desk.rope.knots[0]
    before = read_manifest(knot.folder)
    window.knots.write("Note", note="x")
    idle(window, qtbot)
    assert read_manifest(knot.folder) == before and window.desk.rope.knots[0].note == "x"


def test_a_build_rests_and_goes_on(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    finer = with_value(with_value(s.document.project.recipe, "draft", 1), "density.texels_per_metre", 40.0)
    s.document.set_recipe("Fine", finer)
    idle(window, qtbot)
    with qtbot.waitSignal(s.builds.progress, timeout=LONG):
        s.builds.start()  # on a busy machine a build this fine is asked about first
    with qtbot.waitSignal(s.builds.rested, timeout=LONG):
        bench.rest.click()
    assert s.builds.resting and bench.rest.text() == "Go on" and "It rests" in bench.progress_words.text()
    bench.rest.click()
    assert not s.builds.resting
    bench.rest.click()
    with qtbot.waitSignal(s.builds.ended, timeout=LONG) as ended:
        bench.stop.click()  # stopped while it rests
    assert ended.args[1].state == "stopped"


def test_the_end_of_a_build_is_told_to_who_looks_elsewhere(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    told, rung = [], []
    monkeypatch.setattr("ropebell.app.notifying.notify", lambda _w, *words: told.append(words))
    window.desk.builds.ended.emit(3, Outcome("done", "Done."))
    window.desk.commands.run("window.bell")
    window.desk.builds.ended.emit(4, Outcome("failed", "The disk is full."))
    window.desk.builds.ended.emit(5, Outcome("stopped", ""))
    assert told == [
        ("Build 3 is done", "", False), ("Build 4 did not come to its end", "The disk is full.", True)
    ]  # fmt: skip
    monkeypatch.undo()
    monkeypatch.setattr(QApplication, "beep", lambda: rung.append(1))
    assert notify(window, "x", "y", True) in (True, False) and rung == [1]  # with or without a desktop
