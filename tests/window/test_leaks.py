"""Leaks in the real window: built, listed, their way out drawn and followed."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle, opened

from helpers import level_file
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.faults import FaultsStep
from ropebell.app.steps.level import SIGHT, LevelStep
from ropebell.app.steps.level.sight import FROM_HERE, MAP, SightPanel, cost_in_words, passing_in_words
from ropebell.app.steps.level.sight_map import section
from ropebell.app.steps.level.views import IN_SIGHT
from ropebell.app.window import Window
from ropebell.build.recipe import named, with_value
from ropebell.build.sighting import LEAK
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import LightChange, Mark, Pose
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
    opened(window, qtbot, _level(tmp_path, 0.08))
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


def test_what_opened_a_leak_is_told_beside_it(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window, s = empty_window, empty_window.desk
    opened(window, qtbot, _level(tmp_path, 0.0))
    made = with_value(with_value(named("sketch"), "light.gather_rays", 16), "sight.enabled", True)
    s.document.set_recipe("Coarse, and leaks", made)
    idle(window, qtbot)
    build(window, qtbot)
    with qtbot.waitSignal(s.level.rearranged, timeout=LONG):
        _level(tmp_path, 0.08)  # exported again
    idle(window, qtbot)
    build(window, qtbot)
    window.go_to_step("faults")
    idle(window, qtbot)
    step = window.steps["faults"]
    assert isinstance(step, FaultsStep)
    step.state.choose(next(f for f, _ in step.state.seen.found if f.kind == LEAK))
    told = step.faults_bench.history
    qtbot.waitUntil(lambda: "Sealed in build 1. Since then: west" in told.text(), timeout=LONG)
    assert told.isVisible()


def _two_rooms(folder: Path) -> Path:
    """Two rooms with a doorway at their south end, a screen of many faces, a block outside that nobody can see."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    for name, low, top in (
        ("floor", (-0.2, -0.2, -0.2), (8.4, 0, 4.2)), ("ceiling", (-0.2, 3, -0.2), (8.4, 3.2, 4.2)),
        ("west", (-0.2, 0, -0.2), (0, 3, 4.2)), ("east", (8.2, 0, -0.2), (8.4, 3, 4.2)),
        ("north", (0, 0, -0.2), (8.2, 3, 0)), ("south", (0, 0, 4), (8.2, 3, 4.2)),
        ("middle", (4.0, 0, 0), (4.2, 3, 3.0)), ("lintel", (4.0, 2.1, 3.0), (4.2, 3, 4)),
        ("far", (12.0, 0, 1.0), (13.0, 1.0, 2.0)),
    ):  # fmt: skip
        b.add("house", name, box(low, top), "wall")
    b.add("things", "ornament", ball(0.15, 24, 48), "wall", at(6.0, 0.4, 1.0))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.spot("helpers", "start", at(1, 0, 1))
    return level_file(folder, b)


def sight_page(window: Window, qtbot: QtBot) -> tuple[LevelStep, SightPanel]:
    """The page of sight, opened."""
    step = window.steps["level"]
    assert isinstance(step, LevelStep)
    step.level_bench.pages.button(SIGHT).click()
    idle(window, qtbot)
    return step, step.level_bench.sight


def test_sight_is_looked_into_shown_from_a_place_and_in_plan_and_acted_on(
    empty_window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    window, s = empty_window, empty_window.desk
    opened(window, qtbot, _two_rooms(tmp_path))
    s.document.set_recipe("Small cells", with_value(named("sketch"), "sight.cell", 1.0))
    idle(window, qtbot)
    step, page = sight_page(window, qtbot)
    assert page.looked is None and page.look.isVisible() and not page.show_as.isVisible()
    page.look.click()
    qtbot.waitUntil(lambda: page.looked is not None, timeout=LONG)
    assert page.looked is not None and "is sealed" in page.about.text() and not page.look.isVisible()
    assert {"house/far", "house/floor"} <= set(page.looked.unseen) and "s of a build: floor" in page.unseen.text()
    assert "things/ornament" not in page.looked.unseen and not page.ways.isVisible() and not page.poses.isVisible()

    def barred(name: str) -> bool:
        """Whether no face of an object is in sight in the picture."""
        picture = window.stage.picture
        assert picture is not None
        node = picture.scene.node_names.index(name)
        table = picture.vertices.table.reshape(-1, 14)
        return bool((table[table[:, 11] == node][:, 12] == 0.0).all())

    # From a corner of the west room the ornament behind the wall is not seen; from the east room it is.
    before = window.stage.look.view
    window.stage.go(Camera((0.5, 1.5, 0.5), 0.0, 0.0))
    page.show_as.button(FROM_HERE).click()
    assert window.stage.look.view is IN_SIGHT and barred("things/ornament") and not barred("house/west")
    assert barred("house/far") and "in sight" in window.strip.view.text()
    window.stage.go(Camera((6.0, 1.5, 3.0), 0.0, 0.0))
    assert barred("things/ornament"), "it stays what was seen from there"
    page.show_as.button(MAP).click()
    assert window.stage.look.view is before
    plan = step.sight_map
    assert plan is not None and plan.isVisible()
    cell = page.looked.sight.cell_of(np.array([6.0, 1.5, 3.0]))
    qtbot.mouseMove(plan, plan.place_of(cell).toPoint())
    qtbot.waitUntil(lambda: f"sees {page.looked.inside.cells[cell]} of" in plan.words.text(), timeout=LONG)
    lowest = plan.layer
    plan.up.click()
    assert plan.layer == lowest + 1
    plan.down.click()
    plan.by.button(1).click()
    assert plan.values is page.looked.faces
    plan.by.button(2).click()
    assert int(plan.values.sum()) == pytest.approx(page.looked.sight.rays, rel=1e-3)
    assert "rays, " in plan.words.text() and plan.words.text().startswith("took ")
    # What each object costs, the dearest first; a click goes there.
    dearest = page.looked.sight.costs[0]
    assert page.costs.count() == len(page.looked.sight.costs)
    first = page.costs.item(0)
    assert first.text() == cost_in_words(dearest) and "; hides " in first.text()
    assert "closes the hull, hides" in cost_in_words(next(c for c in page.looked.sight.costs if c.node == "house/west"))
    page.costs.itemClicked.emit(first)
    assert s.level.now is not None and s.selection.node == s.level.now.scene.node_names.index(dearest.node)
    qtbot.mouseClick(plan, Qt.MouseButton.LeftButton, pos=plan.place_of(cell).toPoint())
    assert page.shows == FROM_HERE and np.allclose(window.stage.camera.eye, page.looked.sight.middles[cell])
    assert not barred("things/ornament")
    # The walls are cut where the layer is.
    walls = section(page.looked.now.scene.corners, 1.25)
    assert np.allclose(walls[:, :, 1], 1.25) and np.isclose(walls[:, :, 0], 4.2).any()
    # Acts, each undone at once; what blocks sight changed, so it has to be looked into again.
    hidden = int(page.looked.hidden.sum())
    page.bare.click()
    assert s.document.project is not None and "house/far" in s.document.project.brief.left_out
    idle(window, qtbot)
    assert s.level.now is not None and int(s.level.now.scene.bare.sum()) == hidden
    assert f"{hidden} faces are left out" in page.unseen.text() and page.lit.isVisible() and not page.bare.isVisible()
    s.document.undo.undo()
    assert not s.document.project.brief.left_out
    idle(window, qtbot)
    assert page.looked is not None, "it is known again"
    assert page.blockers.count() and page.blockers.item(0).data(Qt.ItemDataRole.UserRole) == "things/ornament"
    # Light changes nothing of it, and nothing is looked into while nobody looks.
    known = page.looked
    s.document.set_light("lights/lamp", LightChange(120.0))
    idle(window, qtbot)
    assert page.looked is known
    s.document.undo.undo()
    # A build looks into it too, and the page knows what it found.
    s.document.set_recipe("As the build does", with_value(s.document.project.recipe, "sight.enabled", True))
    idle(window, qtbot)
    page.through.click()
    assert s.document.project.brief.marks["things/ornament"].blocks_sight is False
    idle(window, qtbot)
    assert page.looked is None and page.look.isVisible() and window.stage.look.view is before
    assert "ornament is let through" in page.through_words.text() and "look again to see" in page.through_words.text()
    build(window, qtbot)
    window.go_to_step("level")
    qtbot.waitUntil(lambda: page.looked is not None, timeout=LONG)
    assert "foretold), " in page.through_words.text() and "% more seen" in page.through_words.text()
    left = [page.blockers.item(row).data(Qt.ItemDataRole.UserRole) for row in range(page.blockers.count())]
    assert "things/ornament" not in left and not page.look.isVisible()
    # What it would do if it blocked again is told beside the act.
    (back,) = page.looked.sight.passing
    assert page.passing.isVisible() and page.passing.item(0).text() == passing_in_words(back)
    assert back.node == "things/ornament" and "would hide about" in page.passing.item(0).text()
    page.back.click()
    assert "things/ornament" not in s.document.project.brief.marks
    s.document.undo.undo()
    idle(window, qtbot)
    window.go_to_step("faults")
    assert window.stage.look.view is before


def test_a_section_joins_the_points_where_faces_meet_the_plane() -> None:
    corners = np.array(
        [[[0, 0, 0], [2, 0, 0], [0, 4, 0]], [[0, 5, 0], [1, 5, 0], [0, 6, 0]], [[0, 0, 1], [0, 2, 1], [0, 2, 3]]]
    )
    found = section(corners.astype(float), 1.0)
    assert found.shape == (2, 2, 3)
    ends = {tuple(float(v) for v in p) for line in found for p in line}
    assert ends == {(0.0, 1.0, 0.0), (1.5, 1.0, 0.0), (0.0, 1.0, 1.0), (0.0, 1.0, 2.0)}


def test_a_sky_box_is_a_lid_or_outside_as_one_says(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window, s = empty_window, empty_window.desk
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("sky", (0.4, 0.6, 0.9), unlit=True)
    b.add("house", "floor", box((0, -0.2, 0), (6, 0, 6)), "wall")
    b.add("sky", "dome", box((-20, -20, -20), (26, 26, 26)).turned_inside_out(), "sky")
    opened(window, qtbot, level_file(tmp_path, b))
    step = window.steps["level"]
    assert isinstance(step, LevelStep)
    step.level_bench.pages.button(SIGHT).click()
    page = step.level_bench.sight
    assert page.box.isVisible() and "dome closes the level off" in page.box_title.text()
    page.box.button(1).click()
    idle(window, qtbot)
    assert s.document.project is not None and s.document.project.brief.marks["sky/dome"].blocks_sight is False
    assert "dome counts as outside" in page.box_title.text() and page.box.button(1).isChecked()
    page.box.button(0).click()
    idle(window, qtbot)
    assert "sky/dome" not in s.document.project.brief.marks and page.box.button(0).isChecked()


def test_a_door_is_looked_at_in_any_pose_and_cells_are_finer_in_a_box(
    empty_window: Window, qtbot: QtBot, tmp_path: Path
) -> None:
    window, s = empty_window, empty_window.desk
    opened(window, qtbot, _two_rooms(tmp_path))
    s.document.set_recipe("Small cells", with_value(named("sketch"), "sight.cell", 1.0))
    gate = Mark(role="moving", poses={"away": Pose(absent=True)})
    s.document.edit_brief("A gate", lambda b: replace(b, marks={"house/middle": gate}))
    idle(window, qtbot)
    _, page = sight_page(window, qtbot)
    assert page.poses.isVisible() and "May stand elsewhere: middle" in page.poses_title.text()
    page.look.click()
    qtbot.waitUntil(lambda: page.looked is not None, timeout=LONG)
    west, east = np.array([0.5, 1.5, 0.5]), np.array([7.5, 1.5, 0.5])
    assert page.looked is not None and not page.looked.any_pose and not page.looked.sight.sees(west, east)
    # What a gate hides may be seen once it opens, so nothing is left out on the strength of one pose.
    assert page.looked.unseen and not page.bare.isVisible() and "Choose 'In any pose'" in page.unseen.text()
    page.poses.button(1).click()
    idle(window, qtbot)
    assert page.looked is None and page.look.isVisible()
    page.look.click()
    qtbot.waitUntil(lambda: page.looked is not None, timeout=LONG)
    assert page.looked.any_pose and page.looked.sight.sees(west, east) and page.bare.isVisible()
    # A box of finer cells round what is selected is another question, undone with one step.
    assert s.level.now is not None
    s.selection.select(s.level.now.scene.node_names.index("things/ornament"))
    page.finer.head.click()
    page.finer.add.click()
    idle(window, qtbot)
    assert s.document.project is not None
    (box_,) = s.document.project.brief.sight_boxes
    assert box_.cell == 0.5 and box_.name == "ornament" and page.looked is None and page.finer.boxes.count() == 1
    page.finer.cell.field.setValue(0.1)
    assert s.document.project.brief.sight_boxes[0].cell == 0.1
    page.finer.drop.click()
    idle(window, qtbot)
    assert not s.document.project.brief.sight_boxes and page.looked is not None, "it is known again"
