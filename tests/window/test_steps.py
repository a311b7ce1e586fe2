"""Charts, views, places and what is kept while a level changes, in the real window."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from furnished import brief, fresh_of, furnished, in_the_room, node
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, idle

from helpers import level_file
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.overlay import Grip, box_edges, dragged, on_screen, snapped
from ropebell.app.window import Window
from ropebell.build.recipe import with_value
from ropebell.level.brief import Brief, LightChange, Mark, Move, Pose


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return level_file(tmp_path, furnished())


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, level: Path) -> Window:
    return in_the_room(empty_window, qtbot, level)


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


def test_charts_are_shown_one_by_one_and_named_under_the_pointer(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, window.steps["charts"].bench
    s.commands.run("step.charts")
    charted(window, qtbot)
    s.commands.run("view.chart-ids")
    idle(window, qtbot)
    picture, atlas = window.stage.picture, bench.known.survey.atlas
    mine = picture.charted.chart[s.level.now.scene.part]
    pairs = set(zip(mine.tolist(), np.asarray(atlas.chart).tolist()))
    assert len(pairs) == len(set(mine.tolist())) == len(np.unique(atlas.chart)), "what hangs together is one chart"
    told = set()
    for triangle in np.flatnonzero(picture.scene.node == node(window, "things/crate")).tolist():
        middle = picture.scene.corners[triangle].mean(axis=0)
        normal = picture.scene.face_normals[triangle].astype(float)
        window.stage.hands.pointed.emit(picture.spot(middle + 0.05 * normal, -normal, False))
        told.add(window.strip.value.text().split("   ")[0])
    assert len(told) >= 5
    assert all(words.startswith("chart ") and f" of {len(pairs)} on page 1" in words for words in told)
    window.stage.go(Camera((1.25, 1.6, 2.2), 0.0, -0.9))
    window.stage.grab_smooth()
    image = window.stage._image
    seen = {image.pixelColor(x, y).hue() // 8 for x in range(0, image.width(), 6) for y in range(0, image.height(), 6)}
    assert len(seen) > 4


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
