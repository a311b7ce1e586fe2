"""What hands do on the stage, and what it then tells."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from furnished import draft, picture, plain_room
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, build, opened

from ropebell.app.stage.camera import Camera, overview
from ropebell.app.telling import Told
from ropebell.app.window import Window
from ropebell.level.brief import LightChange


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return plain_room(tmp_path)


@pytest.fixture
def window(empty_window: Window) -> Window:
    empty_window.desk.relighter.enabled = False  # pictures are compared; its own tests are in test_lights_step
    return empty_window


def test_the_exposure_follows_the_first_build_and_then_stays(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    draft(window)
    window.stage.go(Camera((2.5, 1.6, 4.5), 0.0, -0.4))
    build(window, qtbot)
    first = window.stage.look.exposure
    assert first == pytest.approx(window.stage.exposure_for_view(), rel=0.01)
    # Noise of a rough picture does not brighten it: a mean of logarithms alone would be off by a factor of 1.8.
    calm = window.stage.picture
    assert calm is not None and calm.total is not None
    noisy = calm.lit(calm.total * np.random.default_rng(3).exponential(1.0, calm.total.shape[:3])[..., None], None)
    camera, aspect = window.stage.camera, window.stage.eye.aspect
    assert noisy.exposure(camera, aspect) == pytest.approx(calm.exposure(camera, aspect), rel=0.15)
    window.desk.document.set_light("lights/lamp", LightChange(800.0))
    build(window, qtbot)
    assert window.stage.look.exposure == first
    window.desk.commands.run("stage.expose")
    bright = window.stage.look.exposure
    assert bright < first / 4
    # Looking elsewhere adapts it, unless it is held.
    with qtbot.waitSignal(window.stage.rested, timeout=LONG):
        window.stage.go(Camera((2.0, 1.9, 2.3), 0.0, -1.5))
    close = window.stage.look.exposure
    assert close != bright
    window.desk.commands.run("stage.follow")
    assert window.strip.exposure.text().endswith("held")
    with qtbot.waitSignal(window.stage.rested, timeout=LONG):
        window.stage.go(Camera((4.8, 0.3, 4.8), 2.3, 0.0))
    assert window.stage.look.exposure == close


def test_picking_on_the_stage_and_in_the_table_agree(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    window.stage.go(Camera((2.5, 2.5, 2.5), 0.0, np.radians(-88)))
    qtbot.mouseClick(window.stage, Qt.MouseButton.LeftButton, pos=window.stage.rect().center())
    s = window.desk
    assert s.level.now.scene.node_names[s.selection.node] == "g/rug"
    bench = window.steps["level"].bench
    chosen = bench.table.selectionModel().selectedRows()
    assert bench.model.at(chosen[0].row()).name == "rug"
    assert bench.details.name.text() == "rug"
    # Building replaces the scene on the stage; the selection stays the same object.
    draft(window)
    build(window, qtbot)
    shown = window.stage.scene_shown
    assert shown.node_names[window.stage.look.selected] == "g/rug"
    before = window.stage.camera
    window.desk.commands.run("stage.focus")
    assert window.stage.camera != before
    bench.filter.setText("point")
    assert bench.model.rowCount() == 1


def test_hands_orbit_pan_look_fly_and_zoom(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    stage = window.stage
    stage.go(Camera((2.5, 1.5, 4.5)))
    middle = stage.rect().center()

    def drag(button: Qt.MouseButton, by: QPoint) -> Camera:
        before = stage.camera
        qtbot.mousePress(stage, button, pos=middle)
        for share in (0.5, 1.0):
            at_ = QPointF(middle) + QPointF(by) * share
            from PyQt6.QtGui import QMouseEvent

            move = QMouseEvent(
                QMouseEvent.Type.MouseMove, at_, stage.mapToGlobal(at_), button, button, Qt.KeyboardModifier.NoModifier
            )
            QApplication.sendEvent(stage, move)
        qtbot.mouseRelease(stage, button, pos=middle + by)
        return before

    pivot = stage.spot_at(QPointF(middle)).position
    before = drag(Qt.MouseButton.LeftButton, QPoint(60, 0))
    away = [np.linalg.norm(np.array(c.eye) - pivot) for c in (before, stage.camera)]
    assert away[0] == pytest.approx(away[1]) and stage.camera.yaw != before.yaw
    before = drag(Qt.MouseButton.RightButton, QPoint(0, 40))
    assert stage.camera.eye == before.eye and stage.camera.pitch < before.pitch
    before = drag(Qt.MouseButton.MiddleButton, QPoint(50, 20))
    assert stage.camera.yaw == before.yaw and stage.camera.eye != before.eye
    before = stage.camera
    angle = QPoint(0, 120)
    wheel = QWheelEvent(QPointF(middle), stage.mapToGlobal(QPointF(middle)), QPoint(), angle, Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(stage, wheel)
    assert np.dot(np.array(stage.camera.eye) - before.eye, stage.camera.forward) > 0
    before = stage.camera
    stage.setFocus()
    with qtbot.waitSignal(stage.camera_changed, timeout=LONG):
        qtbot.keyPress(stage, Qt.Key.Key_W)
    qtbot.keyRelease(stage, Qt.Key.Key_W)
    assert np.dot(np.array(stage.camera.eye) - before.eye, before.forward) > 0
    perspective = stage.camera
    window.desk.commands.run("stage.plan")
    assert stage.camera.plan and window.strip.eye.text() == "plan"
    window.desk.commands.run("stage.plan")
    assert stage.camera == perspective


def test_views_exposure_and_texels_change_the_picture_and_the_strip(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    draft(window)
    build(window, qtbot)
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.35))
    seen = []
    for view in ("result", "surface", "light", "direct", "bounced", "texels", "noise"):
        window.desk.commands.run(f"view.{view}")
        seen.append(picture(window))
    for i, a in enumerate(seen):
        assert all(np.abs(a - b).mean() > 1.0 for b in seen[:i])
    window.desk.commands.run("view.light")
    smooth = picture(window)
    window.desk.commands.run("stage.texels")
    assert window.strip.filter.text() == "by texel" and np.abs(picture(window) - smooth).mean() > 0.3
    before = picture(window).mean()
    window.desk.commands.run("stage.brighter")
    assert picture(window).mean() > before


def point_at_the_middle(window: Window) -> None:
    """An event of its own: the pointer of an earlier test may stand there already."""
    at, none = QPointF(window.stage.rect().center()), Qt.MouseButton.NoButton
    where = window.stage.mapToGlobal(at)
    event = QMouseEvent(QEvent.Type.MouseMove, at, where, none, none, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(window.stage, event)


def test_the_value_in_the_strip_is_that_under_the_pointer(window: Window, qtbot: QtBot, level: Path) -> None:
    """It follows the picture though the hand does not move, and goes with the pointer."""
    opened(window, qtbot, level)
    draft(window)
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.35))
    picture(window)
    point_at_the_middle(window)
    assert window.strip.where.text() != ""
    assert "lx" not in window.strip.value.text()
    build(window, qtbot)
    assert "lx" in window.strip.value.text()
    there = window.strip.value.text()
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, 1.2))
    picture(window)
    assert window.strip.value.text() != there
    QApplication.sendEvent(window.stage, QEvent(QEvent.Type.Leave))
    assert (window.strip.where.text(), window.strip.value.text()) == ("", "")
    picture(window)
    assert window.strip.value.text() == ""


def test_cameras_project_what_their_rays_meet() -> None:
    low, high = np.array([-3.0, 0, -8]), np.array([4.0, 5, 2])
    for camera in (overview(low, high), Camera((1, 2, 3), 0.7, -0.3), Camera((0, 9, 0), plan=True).framing(low, high)):
        for x, y in ((0.0, 0.0), (0.7, -0.4), (-0.9, 0.9)):
            origin, direction = camera.ray(x, y, 1.3)
            point = camera.matrix(1.3, 0.1 if not camera.plan else -100, 100) @ [*(origin + 5 * direction), 1]
            np.testing.assert_allclose(point[:2] / point[3], [x, y], atol=1e-9)
    corners = np.array([[x, y, z, 1] for x in (-3, 4) for y in (0, 5) for z in (-8, 2)])
    clip = corners @ overview(low, high, 1.3).matrix(1.3, 0.1, 200).T
    assert (np.abs(clip[:, :2] / clip[:, 3:]) <= 1.0).all()


def test_a_walk_turns_to_its_places_and_is_left_at_any_moment(window: Window, qtbot: QtBot, level: Path) -> None:
    assert not window.walk.on
    opened(window, qtbot, level)
    assert not window.walk.on  # it never comes unasked
    draft(window)
    build(window, qtbot)
    window.desk.document.set_light("lights/lamp", LightChange(160.0))
    build(window, qtbot)
    window.desk.commands.run("window.walk")

    def told() -> Told:
        (found,) = [t for t in window.desk.telling.told if t.matter == "walk"]
        assert found.news
        return found

    places = []
    for number in range(1, 9):
        assert told().sentence.startswith(f"{number} of 8")
        places.append((window.step.id, window.desk.selection.paths, window.desk.rope.shown_number))
        if number < 8:
            dict(told().answers)["Next"]()
            qtbot.waitUntil(lambda: window.desk.settled, timeout=LONG)
    assert [step for step, *_ in places[1:]] == ["build", "level", "lights", "lights", "faults", "hunt", "compare"]
    assert window.steps["level"].bench.stack.currentIndex() == 1
    assert places[3][1] == ("lights/lamp",)
    qtbot.waitUntil(lambda: window.desk.rope.shown_number == 1, timeout=LONG)
    dict(told().answers)["Back"]()
    assert told().sentence.startswith("7 of 8") and "Next" in dict(told().answers)
    window.walk.leave()
    assert not window.walk.on
