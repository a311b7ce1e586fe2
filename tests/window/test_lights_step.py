"""The Lights step in the real window: lamps, emitters, skies, probes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from furnished import brief, furnished, in_the_room, node
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QImage
from pytestqt.qtbot import QtBot
from waits import LONG, build, idle

from helpers import level_file
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.level.objects import matching, rows_of
from ropebell.app.steps.lights.table import KINDS
from ropebell.app.window import Window
from ropebell.build.mover import mover_light
from ropebell.build.recipe import with_value
from ropebell.level.brief import LightChange, Mark
from ropebell.level.model import AREA_KINDS
from ropebell.level.open import open_level


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return level_file(tmp_path, furnished())


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, level: Path) -> Window:
    return in_the_room(empty_window, qtbot, level)


def charted(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: window.steps["charts"].bench.known is not None and window.desk.settled, timeout=LONG)


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
    places = [x.position.tolist() for x in s.level.now.scene.lights]
    assert page.form.mode.currentText() == "live" and page.form.candela.field.text() == "various"
    page.form.position.fields[1].setValue(1.25)
    after = [x.position.tolist() for x in s.level.now.scene.lights]
    assert after == [[x, 1.25, z] for x, _, z in places]
    s.document.undo.undo()
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
        middle.append(
            np.array(stage._image.pixelColor(stage._image.width() // 2, stage._image.height() // 2).getRgb()[:3])
        )
    assert middle[0][0] > middle[0][2] + 50 and middle[1][2] > middle[1][0] + 50


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
