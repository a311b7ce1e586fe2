"""The Faults step in the real window: from a fault to its place, its account, its remedy, and the build after it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot
from waits import LONG, Opener, build, idle

from helpers import level_file, room
from ropebell.app.fault_shapes import SHAPES, fault_path
from ropebell.app.places import cameras
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.faults import FaultsStep
from ropebell.app.steps.faults.account_view import MOST_GIVING, rows_of
from ropebell.app.steps.faults.finding_list import FINDING
from ropebell.app.steps.faults.scale import BOX, LEVEL, SEEN, SELECTION
from ropebell.app.steps.faults.state import cost_in_words
from ropebell.app.window import Window
from ropebell.app.words import luminance, short_count
from ropebell.build.estimate import estimate
from ropebell.build.recipe import named, with_value
from ropebell.build.remedied import read_tried
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.faults.run import TITLES
from ropebell.level.brief import LightChange
from ropebell.level.finding import Finding
from ropebell.level.model import Light
from ropebell.light.spread import Spread


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, open_built: Opener) -> Window:
    """A room with a chest that is inside out, built."""
    open_built("inside-out", partial(_built_once, empty_window, qtbot))
    empty_window.go_to_step("faults")
    idle(empty_window, qtbot)
    return empty_window


def _built_once(empty_window: Window, qtbot: QtBot, folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.add("things", "chest", box((0, 0, 0), (0.8, 0.6, 0.6)).turned_inside_out(), "wall", at(1, 0.01, 1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.spot("helpers", "start", at(3, 0, 3))
    level = level_file(folder, b)
    with qtbot.waitSignal(empty_window.desk.level.opened, timeout=LONG):
        empty_window.open(level)
    made = with_value(named("sketch"), "light.gather_rays", 32)
    empty_window.desk.document.set_recipe("Coarse", made)
    idle(empty_window, qtbot)
    build(empty_window, qtbot)
    return level


def step(window: Window) -> FaultsStep:
    found = window.steps["faults"]
    assert isinstance(found, FaultsStep)
    return found


def listed(window: Window) -> list[Finding]:
    rows = step(window).faults_bench.list
    found = [rows.item(row).data(FINDING) for row in range(rows.count())]
    return [f for f in found if f is not None]


def test_from_a_fault_to_its_remedy_and_the_build_that_mends_it(window: Window, qtbot: QtBot) -> None:
    s, bench, state = window.desk, step(window).faults_bench, step(window).state
    chest = next(f for f in listed(window) if f.kind == "black-patch")
    assert chest.object == "things/chest" and chest.proved
    row = next(r for r in range(bench.list.count()) if bench.list.item(r).data(FINDING) == chest)
    at_ = bench.list.visualItemRect(bench.list.item(row)).center()
    with qtbot.waitSignal(state.accounted, timeout=LONG):
        qtbot.mouseClick(bench.list.viewport(), Qt.MouseButton.LeftButton, pos=at_)
    qtbot.waitUntil(lambda: state.account is not None and state.verdict is not None, timeout=LONG)
    assert state.account is not None and state.account.node == "things/chest"
    assert "inside out" in bench.verdict.text() and "Proved" in bench.verdict.text()
    # And the proof is to be seen: black as built, lit from its other side.
    assert bench.proof.isVisible() and state.proof is not None and state.proof.what == "from its other side"
    assert state.proof.values[1] > 10 * state.proof.values[0] and "As built" in bench.proof.accessibleDescription()
    drawn, (row_, column) = bench.proof.grab().toImage(), state.proof.at
    half = (drawn.width() - 10) // 2
    texel = half / max(state.proof.before.shape[:2])
    x, y = (column + 0.5) * texel, int((row_ + 0.5) * texel)
    dark, light = (drawn.pixelColor(int(x + offset), y).lightness() for offset in (0, half + 10))
    assert light > dark + 40
    marks = step(window).overlay().marks
    assert any(m.shape == "fault black-patch" and m.strong for m in marks)
    # The mark lies in the picture, at the fault.
    place = next(m.position for m in marks if m.strong)
    assert np.linalg.norm(np.array(place) - window.stage.eye.at) < 6.0
    assert bench.fix.text() == "Turn its faces round"
    qtbot.waitUntil(lambda: "Costs next to nothing" in bench.history.text(), timeout=LONG)
    bench.fix.click()
    assert s.document.project.brief.marks["things/chest"].turned is True
    assert "The remedy is applied" in window.notices.text
    idle(window, qtbot)
    build(window, qtbot)
    assert "The remedy is applied" not in window.notices.text, "it was over when the build began"
    assert not [f for f in listed(window) if f.kind == "black-patch"]
    assert [f.object for f in state.seen.gone if f.kind == "black-patch"] == ["things/chest"]
    s.document.undo.undo()
    assert "things/chest" not in s.document.project.brief.marks


def test_what_else_can_be_done_is_offered_with_what_it_costs(window: Window, qtbot: QtBot) -> None:
    s, bench, state = window.desk, step(window).faults_bench, step(window).state
    chest = next(f for f in listed(window) if f.kind == "black-patch")
    ways = ("set", "light.gather_rays", "256"), ("set", "light.noise_target", "0.01")
    state.choose(replace(chest, kind="noise", fix=ways[0], others=ways[1:]))
    first, second = bench.others
    assert first.isVisible() and not second.isVisible() and first.act.text() == "Or set noise target to 0.01"
    qtbot.waitUntil(lambda: "A build then takes" in first.words.text(), timeout=LONG)
    first.act.click()
    assert s.document.project.recipe.light.noise_target == 0.01
    assert "The remedy is applied" in window.notices.text
    (tried,) = read_tried(s.document.project.folder)
    assert tried.remedy == "Set noise target to 0.01" and tried.finding.kind == "noise"
    state.choose(chest)
    assert not first.isVisible(), "what is inside out is turned round, and that is all"


def test_any_spot_gives_account_of_its_light(window: Window, qtbot: QtBot) -> None:
    state, bench = step(window).state, step(window).faults_bench
    spot = window.stage.spot_at(QPointF(window.stage.width() / 2, window.stage.height() * 0.8))
    assert spot is not None
    window.stage.hands.pointed.emit(spot)
    window.stage.hands.picked.emit(spot.node)
    qtbot.waitUntil(lambda: state.verdict is not None, timeout=LONG)
    account = state.account
    assert account is not None and np.allclose(account.spot.position, spot.position, atol=0.2)
    rows = rows_of(account, state.light_names)
    assert sum(r.value for r in rows) == pytest.approx(luminance(account.shown), rel=0.05)
    assert bench.ledger.isVisibleTo(bench) and bench.ledger.height() >= 36 * len(rows)
    u, v = (int(x) for x in account.spot.uv)
    told = bench.facts.text()
    assert told.startswith(f"Page {account.spot.page + 1}, texel {u}, {v}; {account.density:.3g} texels/m")
    assert f"± {100 * account.noise:.2g} %" in told and account.giving[0].node.rsplit("/", 1)[-1] in told
    # Where it takes its light from is drawn, and what would make it otherwise is one press, undoable.
    ends = [g.places for g in account.giving[:MOST_GIVING]]
    drawn = [line for line in step(window).overlay().lines if line.pairs]
    assert [len(line.points) for line in drawn] == [2 * sum(len(e) for e in ends)]
    assert np.allclose(drawn[0].points[0::2], account.spot.position) and np.allclose(drawn[0].points[1], ends[0][0])
    assert bench.what_ifs.isVisibleTo(bench)
    denser = next(one for one in state.what_if if one.what == "twice as dense")
    acts = {b.accessibleName(): b for b in bench.what_ifs.findChildren(QPushButton)}
    marks = window.desk.document.project.brief.marks
    acts[f"Do so: {denser.what}"].click()
    assert window.desk.document.project.brief.marks[account.node].density == 2.0
    assert "Twice as dense: done" in window.notices.text
    # What is lit to check it is the surface that is looked at, also where a lamp is changed.
    window.desk.document.undo.undo()
    brighter = next(one for one in state.what_if if one.what == "lamp a stop brighter")
    state.make_so(brighter)
    assert window.desk.document.project.brief.lights["lights/lamp"].intensity == 160.0
    told = next(t for t in window.desk.telling.told if t.matter == "remedy")
    light_only = next(act for title, act in told.answers if title.startswith("Light only"))
    assert light_only.args[0].only == (account.node,)  # type: ignore[attr-defined]
    rays = next(one for one in state.what_if if one.what.endswith("rays"))
    state.make_so(rays)
    assert window.desk.document.project.recipe.gather_rays == 2048
    told = next(t for t in window.desk.telling.told if t.matter == "remedy")
    assert [title for title, _ in told.answers] == ["Build"]
    window.desk.document.undo.undo()
    window.desk.document.undo.undo()
    assert window.desk.document.project.brief.marks == marks
    # Of one build there is nothing to compare; of two there is.
    qtbot.waitUntil(lambda: bool(state.past), timeout=LONG)
    assert set(state.past) == {1} and not bench.past.isVisibleTo(bench)
    window.desk.document.set_light("lights/lamp", LightChange(intensity=160.0))
    idle(window, qtbot)
    build(window, qtbot)
    with qtbot.waitSignal(state.accounted, timeout=LONG):
        state.ask(tuple(float(v) for v in spot.position))
    qtbot.waitUntil(lambda: len(state.past) == 2, timeout=LONG)
    assert state.past[2] == pytest.approx(2.0 * state.past[1], rel=0.02)
    assert bench.past.isVisibleTo(bench) and [n for n, _ in bench.past.plot._points] == [1, 2]
    with qtbot.waitSignal(window.desk.rope.looking_at, timeout=LONG):
        bench.past.plot.chosen.emit(1)


def test_what_is_known_keeps_its_note_and_is_not_counted(window: Window, qtbot: QtBot) -> None:
    s, bench, state = window.desk, step(window).faults_bench, step(window).state
    chest = next(f for f in listed(window) if f.kind == "black-patch")
    before = bench.title.text()
    state.choose(chest)
    bench.known.click()
    qtbot.keyClicks(bench.note, "a dark chest is meant")
    qtbot.keyClick(bench.note, Qt.Key.Key_Return)
    assert [note for key, note in s.document.project.brief.known.items()] == ["a dark chest is meant"]
    assert dict(state.seen.found)[chest] == "known" and bench.title.text() != before
    assert "a dark chest is meant" in bench.history.text() and bench.known.text() == "No longer known"
    bench.known.click()
    assert not s.document.project.brief.known and dict(state.seen.found)[chest] != "known"


def test_keys_step_through_the_faults_and_a_setting_is_a_remedy(window: Window, qtbot: QtBot) -> None:
    state = step(window).state
    found = [f for f, known in state.seen.found if known != "known"]
    window.desk.commands.run("faults.next")
    assert state.chosen == found[0]
    window.desk.commands.run("faults.previous")
    assert state.chosen == found[-1]
    setting = next(f for f in found if f.fix and f.fix[0] == "set")
    state.remedy(setting)
    key = setting.fix[1].split(".")
    assert str(getattr(getattr(window.desk.document.project.recipe, key[0]), key[1])).lower() == setting.fix[2]


def test_every_kind_has_a_shape_of_its_own(window: Window) -> None:
    assert {"non-finite", *TITLES} - {"stale-object"} <= SHAPES.keys()
    drawn = {kind: tuple((e.x, e.y) for e in map(fault_path(kind).elementAt, range(fault_path(kind).elementCount())))
             for kind in SHAPES}  # fmt: skip
    assert len(set(drawn.values())) == len(SHAPES)


def test_trouble_spots_are_seen_over_builds_and_one_stands_there_by_a_click(window: Window, qtbot: QtBot) -> None:
    s, faults = window.desk, step(window)
    chest = next(f for f in listed(window) if f.kind == "black-patch")
    faults.state.choose(chest)
    s.go_to_finding(chest)
    faults.faults_bench.spot.click()
    kept = cameras(s.document.project)
    assert [p.name for p in kept] == ["chest, black patch"] and kept[0].note.startswith("black patch")
    # From the fault to its spot, which no second one is kept beside.
    assert faults.faults_bench.spot.text() == "Stand at 'chest, black patch'"
    window.stage.go(window.stage.camera.moved(0.0, 0.0, -1.0))
    faults.faults_bench.spot.click()
    assert np.allclose(window.stage.camera.eye, kept[0].camera.eye, atol=1e-3)
    assert cameras(s.document.project) == kept
    s.document.set_light("lights/lamp", LightChange(300.0))
    idle(window, qtbot)
    build(window, qtbot)
    faults.faults_bench.sheet.click()
    qtbot.waitUntil(lambda: faults._sheet is not None and faults._sheet.complete, timeout=LONG)
    sheet = faults._sheet.sheet
    assert window.canvases.currentWidget() is faults._sheet and [c.number for c in sheet.columns] == [1, 2]
    first, second = (c.pictures["chest, black patch"] for c in sheet.columns)
    assert mean_of(second) > mean_of(first) + 5  # one exposure for both: a brighter lamp shows
    window.stage.go(window.stage.camera.moved(0.0, 0.0, -1.0))
    at_ = sheet.cell(0, 0).center()
    qtbot.mouseClick(sheet, Qt.MouseButton.LeftButton, pos=at_)
    qtbot.waitUntil(lambda: s.rope.shown_number == 1, timeout=LONG)
    assert window.canvases.currentWidget() is window.stage
    assert np.allclose(window.stage.camera.eye, kept[0].camera.eye, atol=1e-3)
    # And from the spot to its fault, as that build has it.
    qtbot.waitUntil(lambda: faults.state.chosen is not None and faults.state.number == 1, timeout=LONG)
    assert faults.state.chosen is not None and faults.state.chosen.kind == "black-patch"
    faults.state.choose(None)
    window.desk.commands.run("faults.spot")
    assert "1 of 1, chest" in window.notices.text and "not found" not in window.notices.text
    assert faults.state.chosen is not None and faults.state.chosen.object == "things/chest"


def test_what_rays_met_and_what_finishing_did_are_seen(window: Window, qtbot: QtBot) -> None:
    stage, s = window.stage, window.desk
    assert stage.picture is not None and stage.picture.around is None
    window.desk.commands.run("view.backs")
    assert "being read" in window.strip.view.text()
    qtbot.waitUntil(lambda: stage.picture is not None and stage.picture.around is not None, timeout=LONG)
    assert "backs" in window.strip.view.text()
    picture = stage.picture
    assert picture.around is not None and picture.total is not None
    assert picture.around.shape == (*picture.total.shape[:3], 2)
    # The chest is inside out, so the floor beside it meets its backs; at the far end of the room less of them.
    stage.go(Camera((2.0, 2.8, 2.9), 0.0, -1.2))
    shares = []
    for x in (1.9, 3.8):
        spot = picture.spot(np.array([x, 1.0, 1.3]), np.array([0.0, -1.0, 0.0]), True)
        assert spot is not None and spot.around is not None
        shares.append(float(spot.around[1]))
    assert shares[0] > 0.05 > shares[1]
    window.desk.commands.run("view.closed")
    assert "closed in" in window.strip.view.text()
    qtbot.waitUntil(lambda: s.relighter.ready, timeout=LONG)
    window.desk.commands.run("view.finishing")
    qtbot.waitUntil(lambda: window.picture.kind == "relit", timeout=LONG)
    picture = stage.picture
    assert stage.panes == 2 and "unfinished left" in window.strip.view.text()
    assert picture is not None and picture.other is not None and picture.total is not None
    assert window.picture.shown is not None and window.picture.shown.picture.total is not None
    np.testing.assert_array_equal(picture.other[..., :3], window.picture.shown.picture.total)
    assert float(np.abs(picture.total - picture.other[..., :3]).mean()) > 0.0
    window.desk.commands.run("view.result")
    qtbot.waitUntil(lambda: window.picture.kind == "build", timeout=LONG)
    assert stage.panes == 1


def test_how_much_surface_has_which_light_is_told_of_all_and_of_parts(window: Window, qtbot: QtBot) -> None:
    s, scale = window.desk, step(window).scale
    assert not scale.isVisible()
    s.commands.run("view.lux")
    qtbot.waitUntil(lambda: scale.found is not None and scale.found.count > 0, timeout=LONG)
    assert scale.isVisible() and scale.found is not None and scale.found.shares.sum() == pytest.approx(1.0)
    assert window.stage.rect().contains(scale.geometry()) and "half of it under" in scale.words.text()
    # By texels: the median of all lit surface, each texel of a chart standing for as much.
    picture = window.stage.picture
    assert picture is not None and picture.total is not None and picture.charted is not None
    level, room_ = scale.found.median, picture.scene.node_names.index("house/room")
    chest = picture.scene.node_names.index("things/chest")

    def of(choice: int) -> Spread:
        before = scale.found
        scale.of.button(choice).click()
        # Until another is known, the one before stays, so that nothing flickers.
        qtbot.waitUntil(lambda: scale.found is not before and not s.jobs.busy, timeout=LONG)
        assert scale.found is not None
        return scale.found

    s.selection.select(chest)
    assert of(SELECTION).median < 0.1 * level and "black" in scale.words.text()
    s.selection.select(room_)
    assert of(SELECTION).median == pytest.approx(level, rel=0.1)
    scale.of.button(BOX).click()
    assert scale.found is None and "No cut box" in scale.words.text()
    # Looking at the lamp's wall alone.
    s.stage.go(Camera((2.0, 1.5, 1.5), 0.0, 0.0))
    assert of(SEEN).count > 10_000
    s.commands.run("view.result")
    assert not scale.isVisible()
    s.commands.run("faults.spread")
    assert scale.isVisible()
    s.commands.run("faults.spread")
    assert not scale.isVisible()
    # What is black and clipped follows the exposure.
    s.commands.run("view.ends")
    s.commands.run("faults.spread")
    scale.of.button(LEVEL).click()
    qtbot.waitUntil(lambda: scale.found is not None and not s.jobs.busy, timeout=LONG)
    assert scale.found is not None
    clipped, white = scale.found.clipped, scale.white
    for _ in range(12):
        s.commands.run("stage.brighter")
    qtbot.waitUntil(lambda: scale.found is not None and scale.found.clipped > clipped, timeout=LONG)
    assert scale.white < 0.1 * white
    s.commands.run("faults.spread")
    # Not wanted is not wanted, in false colours too.
    s.commands.run("view.lux")
    assert not scale.isVisible()


def test_what_a_remedy_costs_is_told_before_it_is_taken(window: Window, qtbot: QtBot) -> None:
    state, bench, now = step(window).state, step(window).faults_bench, window.desk.level.now
    assert now is not None
    chest = next(f for f in listed(window) if f.kind == "black-patch")
    finer = replace(chest, fix=("set", "density.texels_per_metre", str(3 * now.project.recipe.texels_per_metre)))
    state.choose(finer)
    qtbot.waitUntil(lambda: "A build then takes" in state.cost_of.get(state.chosen.fix, ""), timeout=LONG)
    assert "texels more" in bench.history.text()
    before = estimate(now.baking, now.project.recipe, 2)
    half = replace(before, texels=before.texels - 1200, seconds={k: 0.5 * v for k, v in before.seconds.items()})
    assert f"{short_count(1200)} texels fewer" in cost_in_words(before, half)
    assert cost_in_words(before, before) == "Costs next to nothing."


def mean_of(image: QImage) -> float:
    grey = image.convertToFormat(QImage.Format.Format_Grayscale8)
    bits = grey.constBits()
    bits.setsize(grey.sizeInBytes())
    return float(np.frombuffer(bits, np.uint8).mean())
