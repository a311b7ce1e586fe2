"""What the window shows is so: nothing of another level, of another build, or of a lamp that stands elsewhere."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from furnished import draft
from PyQt6.QtCore import QMargins, QPoint, QPointF, QRect
from pytestqt.qtbot import QtBot
from test_window import level, window
from waits import LONG, build, idle, opened

from helpers import floor, level_file, room
from ropebell.app import level_state, rope_state
from ropebell.app.preferences import Preferences
from ropebell.app.stage.camera import Camera
from ropebell.app.steps import ORDER
from ropebell.app.window import Window
from ropebell.build.project import PROJECT_FILE, load_project
from ropebell.build.recipe import with_value
from ropebell.demo.builder import LevelBuilder, at
from ropebell.level.brief import Brief, LightChange, Mark
from ropebell.level.model import Light

WHOLE = '[recipe]\nname = "working"'


def another(folder: Path, name: str, place: tuple[float, float, float] = (2, 2, 2), more: bool = False) -> Path:
    """The level of the fixture, with a lamp elsewhere or a crate more."""
    folder.mkdir(exist_ok=True)
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("crate", (0.3, 0.5, 0.2))
    b.add("g", "room", room(5, 3, 5), "wall")
    b.add("g", "rug", floor(1, 0.02), "crate", at(2.5, 0, 2.5))
    if more:
        b.add("g", "crate", floor(1, 1.0), "crate", at(1, 0, 1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(*place))
    return level_file(folder, b, name)


class Gate:
    """Holds a function of the background up until it is let go."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, module: Any, name: str) -> None:
        self.open, self.reached = threading.Event(), threading.Event()
        real: Callable[..., Any] = getattr(module, name)

        def held(*arguments: Any) -> Any:
            found = real(*arguments)
            self.reached.set()
            assert self.open.wait(30)
            return found

        monkeypatch.setattr(module, name, held)
        self.undo = lambda: monkeypatch.setattr(module, name, real)


@pytest.mark.parametrize(("module", "name"), [(rope_state, "stale_stages"), (level_state, "arranged")])
def test_late_answers_about_one_level_never_land_in_the_next(
    window: Window, qtbot: QtBot, level: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, module: Any, name: str
) -> None:  # fmt: skip
    other = another(tmp_path / "other", "other.glb", more=True)
    opened(window, qtbot, level)
    s = window.desk
    gate = Gate(monkeypatch, module, name)
    s.document.edit_brief("Mark", lambda b: replace(b, marks={"g/rug": Mark(density=2.0)}))
    qtbot.waitUntil(gate.reached.is_set, timeout=LONG)
    gate.undo()
    if name == "arranged":
        # On the lane that opens, so the other level is asked for while the answer is under way.
        window.open(other)
        gate.open.set()
        qtbot.waitUntil(lambda: s.level.now is not None and s.level.now.project.level == other, timeout=LONG)
    else:
        with qtbot.waitSignal(s.level.opened, timeout=LONG):
            window.open(other)
        gate.open.set()
    idle(window, qtbot)
    now = s.level.now
    assert now is not None and "g/crate" in now.scene.node_names and now.project.level == other
    assert now.project.brief.marks == {} and s.document.project == now.project
    assert s.rope.stale is not None and s.rope.stale.changes == ("never built",)
    assert window.stage.scene_shown is now.scene


def test_a_new_export_wins_over_an_edit_that_is_just_being_arranged(
    window: Window, qtbot: QtBot, level: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened(window, qtbot, level)
    s = window.desk
    gate = Gate(monkeypatch, level_state, "arranged")
    s.document.edit_brief("Mark", lambda b: replace(b, marks={"g/rug": Mark(density=2.0)}))
    qtbot.waitUntil(gate.reached.is_set, timeout=LONG)
    gate.undo()
    another(level.parent, level.name, more=True)
    s.level.reload()
    gate.open.set()
    idle(window, qtbot)
    now = s.level.now
    assert now is not None and "g/crate" in now.scene.node_names
    assert now.scene.marks.nodes[now.scene.node_names.index("g/rug")].density == 2.0
    # And it is told once it is shown.
    qtbot.waitUntil(lambda: "1 added (crate)" in window.notices.text, timeout=LONG)


def test_every_file_a_level_needs_is_watched(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    (tmp_path / "a.mtl").write_text("newmtl a\nKd 0.1 0.1 0.1\n")
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nusemtl a\nv 0 0 0\nv 1 0 0\nv 0 0 -1\nf 1 2 3\n")
    opened(window, qtbot, tmp_path / "a.obj")
    s = window.desk
    with qtbot.waitSignal(s.telling.said, timeout=LONG):
        (tmp_path / "a.mtl").write_text("newmtl a\nKd 0.9 0.1 0.1\n")
    idle(window, qtbot)
    now = s.level.now
    assert now is not None and now.level.materials[1].base_color[0] == pytest.approx(0.9)


def test_a_level_changed_during_its_build_is_not_lit_by_it(window: Window, qtbot: QtBot, level: Path) -> None:
    """A mark or a new export changes triangles; light of the build that runs stays on those it is of."""
    opened(window, qtbot, level)
    s = window.desk
    s.document.set_recipe("Fine", with_value(s.document.project.recipe, "density.texels_per_metre", 40.0))
    idle(window, qtbot)
    begun = s.level.now
    window.desk.commands.run("build.start")
    qtbot.waitUntil(lambda: window.picture.live is not None, timeout=LONG)
    s.document.edit_brief("Out", lambda b: replace(b, marks={"g/rug": Mark("left-out")}))
    another(level.parent, level.name, more=True)
    s.level.reload()
    qtbot.waitUntil(lambda: s.level.now is not begun and "g/crate" in s.level.now.scene.node_names, timeout=LONG)
    lives = 0
    while window.desk.builds.running and lives < 3:
        with qtbot.waitSignal(window.picture.changed, timeout=LONG):
            pass
        shown = window.stage.picture
        if window.picture.kind == "live" and shown is not None:
            lives += 1
            assert shown.scene is begun.scene and len(shown.charted.page) == len(shown.scene)
            window.stage.hands.pointed.emit(window.stage.spot_at(QPointF(window.stage.rect().center())))
    window.desk.commands.run("build.stop")
    qtbot.waitUntil(lambda: not window.desk.builds.running, timeout=LONG)
    assert lives


def test_stored_rays_do_not_show_a_moved_lamp_and_say_so(window: Window, qtbot: QtBot, level: Path) -> None:
    window.desk.relighter.enabled = True
    opened(window, qtbot, level)
    s = window.desk
    draft(window)
    build(window, qtbot)
    qtbot.waitUntil(lambda: s.relighter.ready, timeout=LONG)
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.3))
    before = window.stage.picture
    s.document.set_light("lights/lamp", LightChange(position=(1.0, 1.0, 1.0)))
    qtbot.waitUntil(lambda: bool(s.relighter.trouble) and s.settled, timeout=LONG)
    assert window.picture.relit is None and window.stage.picture.total is before.total
    facts = window.strip.state.facts
    assert any("lamp moved" in fact and "a build of" in fact for fact in facts), facts
    assert "relit" not in window.strip.build.text()
    s.document.undo.undo()
    qtbot.waitUntil(lambda: not s.relighter.trouble and s.settled, timeout=LONG)
    assert not window.strip.state.facts


def test_an_older_build_is_looked_at_bounce_by_bounce_and_without_rays_it_says_why(
    window: Window, qtbot: QtBot, level: Path
) -> None:
    window.desk.relighter.enabled = True
    opened(window, qtbot, level)
    s = window.desk
    window.desk.commands.run("light.bounce")
    assert "There is no build" in window.notices.text
    draft(window)
    build(window, qtbot)
    s.document.set_light("lights/lamp", LightChange(400.0))
    build(window, qtbot)
    s.rope.look_at(1)
    qtbot.waitUntil(lambda: s.rope.shown_number == 1 and s.relighter.ready and not s.relighter.busy, timeout=LONG)
    # It stays as it was built, though other settings stand now.
    assert window.picture.kind == "build"
    with qtbot.waitSignal(s.relighter.relit, timeout=LONG):
        window.desk.commands.run("light.bounce")
    window.stage.go(Camera((2.5, 1.6, 4.6), 0.0, -0.3))
    spot = window.stage.spot_at(QPointF(window.stage.rect().center()))
    assert spot is not None and spot.irradiance is not None and window.strip.build.text() == "Build 1, draft ⅛"
    direct = window.picture.shown.picture.direct
    np.testing.assert_allclose(window.stage.picture.total[direct > 0], direct[direct > 0], rtol=2e-3)
    # Without its rays, a sentence says why instead of a key that does nothing.
    s.relighter.set_bounce(-1)
    for place in list((s.document.project.cache).iterdir()):
        if place.is_dir():
            for file in place.iterdir():
                file.unlink()
    s.rope.look_at(2)
    qtbot.waitUntil(lambda: s.rope.shown_number == 2 and bool(s.relighter.trouble), timeout=LONG)
    window.desk.commands.run("light.bounce")
    assert "no longer in the cache" in window.notices.text


def test_a_notice_stays_until_its_matter_is_over(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    window.desk.commands.run("stage.near")  # refuses in the very act of the command
    assert "no near set" in window.notices.text and window.notices.isVisible()
    window.desk.commands.run("stage.plan")
    assert "no near set" in window.notices.text, "another command has nothing to do with it"
    s.news("Something good.")
    assert "no near set" in window.notices.text and "Something good." in window.notices.text
    roles = {window.notices.layout().itemAt(i).widget().property("role") for i in range(2)}
    assert roles == {"notice", "news"}
    s.telling.over("near", "news")
    assert not window.notices.isVisible()


def test_a_long_check_holds_nothing_up(
    window: Window, qtbot: QtBot, level: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:  # fmt: skip
    """Opening another level, and closing the window, do not wait for it."""
    from ropebell.app import findings

    opened(window, qtbot, level)
    gate = Gate(monkeypatch, findings, "check_kept")
    window.desk.document.edit_brief("Lamp", lambda b: replace(b, lights={"lights/lamp": LightChange(9.0)}))
    qtbot.waitUntil(gate.reached.is_set, timeout=LONG)
    gate.undo()
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(another(tmp_path / "other", "other.glb"))
    window.close()
    assert not gate.open.is_set()
    gate.open.set()


# -- the project file


def test_an_edit_by_hand_is_taken_in_and_a_collision_is_asked(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    s.document.set_light("lights/lamp", LightChange(9.0))
    s.document.save_now()
    path = s.document.project.folder / PROJECT_FILE
    path.write_text(path.read_text().replace(WHOLE, f"{WHOLE}\nlight = {{ gather_rays = 96 }}"))
    qtbot.waitUntil(lambda: s.document.project.recipe.light.gather_rays == 96, timeout=LONG)
    s.document.undo.undo()
    assert s.document.project.recipe.light.gather_rays == 128
    s.document.undo.redo()
    idle(window, qtbot)
    # Both change the same: nothing is written until it is decided.
    s.document.save_now()
    s.document.set_recipe("Rays", with_value(s.document.project.recipe, "light.gather_rays", 64))
    path.write_text(path.read_text().replace("gather_rays = 96", "gather_rays = 32"))
    s.document.save_now()
    assert "recipe.light.gather_rays" in window.notices.text and "gather_rays = 32" in path.read_text()
    s.document.keep_mine()
    s.document.save_now()
    assert load_project(path).recipe.light.gather_rays == 64 and "whose to keep" not in window.notices.text


def test_what_was_not_decided_is_kept_beside_the_file(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    s.document.set_light("lights/lamp", LightChange(9.0))
    s.document.save_now()
    path = s.document.project.folder / PROJECT_FILE
    s.document.set_light("lights/lamp", LightChange(10.0))
    path.write_text(path.read_text().replace("intensity = 9.0", "intensity = 11.0"))
    window.close()
    assert load_project(path).lights["lights/lamp"].intensity == 11.0
    assert load_project(path.with_name("project.mine.toml")).lights["lights/lamp"].intensity == 10.0


def test_a_second_window_on_a_project_only_looks_until_it_takes_over(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    s.document.set_light("lights/lamp", LightChange(9.0))
    build(window, qtbot)
    second = Window(Preferences())
    second.desk.relighter.enabled = False
    qtbot.addWidget(second)
    second.show()
    opened(second, qtbot, s.document.project.folder)
    other = second.desk.document
    assert other.read_only and "Another window edits" in second.notices.text
    other.set_light("lights/lamp", LightChange(10.0))
    assert other.project.lights["lights/lamp"].intensity == 9.0
    other.take_over()
    other.set_light("lights/lamp", LightChange(10.0))
    other.save_now()
    assert not other.read_only and other.project.lights["lights/lamp"].intensity == 10.0
    s.document.set_light("lights/lamp", LightChange(11.0))
    assert s.document.read_only and s.document.project.lights["lights/lamp"].intensity != 11.0
    second.close()


# -- the strip, the pages, what is hidden, guards, undo


def test_the_strip_says_the_most_important_first_and_all_of_it(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    draft(window)
    build(window, qtbot)
    s.document.edit_brief("Move", lambda b: replace(b, marks={"g/rug": Mark("left-out")}, lights={
        "lights/lamp": LightChange(9.0)}))  # fmt: skip
    another(level.parent, level.name, more=True)
    s.level.reload()
    qtbot.waitUntil(lambda: len(window.strip.state.facts) > 1 and s.settled, timeout=LONG)
    facts = window.strip.state.facts
    assert facts[0].startswith("out of date") and any("not in this light" in fact for fact in facts)
    assert [a.text() for a in window.strip.state.menu().actions()] == facts
    assert all(fact in window.strip.state.toolTip() for fact in facts)
    build(window, qtbot)
    s.rope.look_at(1)
    qtbot.waitUntil(lambda: s.rope.shown_number == 1 and s.settled, timeout=LONG)
    assert window.strip.state.facts[0] == "not the newest, that is 2"


def test_pages_are_lit_only_by_a_build_of_these_very_charts(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    draft(window)
    build(window, qtbot)
    window.go_to_step("charts")
    charts = window.steps["charts"]
    charts.bench.show_page(2)
    qtbot.waitUntil(lambda: charts.bench.known is not None and s.settled, timeout=LONG)
    assert len(charts.pages._images) == 1
    # Another padding on pages of the same size and number: the old light lies elsewhere.
    s.document.set_recipe("Padding", with_value(s.document.project.recipe, "density.padding", 32))
    qtbot.waitUntil(
        lambda: charts.bench.known.digest != s.rope.shown.manifest.digests.charts and s.settled, timeout=LONG
    )
    assert charts.pages._survey.atlas.written == 1 and not charts.pages._images


def test_hidden_lights_are_not_drawn_and_hiding_is_undone(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    window.go_to_step("lights")
    assert len(window.stage.overlay.marks) == 1
    s.selection.select(s.level.now.scene.node_names.index("lights/lamp"))
    window.desk.commands.run("show.hide")
    assert window.stage.overlay.marks == () and s.selection.hidden == {"lights/lamp"}
    window.desk.commands.run("edit.undo")
    assert len(window.stage.overlay.marks) == 1
    before = {f.key for f in s.findings.now.new} | {f.key for f in s.findings.now.old}
    s.findings.remember()
    qtbot.waitUntil(lambda: not s.findings.now.new and s.settled, timeout=LONG)
    assert s.document.undo.undoText() == "All seen" and before
    s.document.undo.undo()
    qtbot.waitUntil(lambda: s.settled, timeout=LONG)
    assert {f.key for f in s.findings.now.new} | {f.key for f in s.findings.now.old} == before


def test_a_guarded_level_keeps_its_recipe_and_its_variant(window: Window, qtbot: QtBot, level: Path) -> None:
    opened(window, qtbot, level)
    s = window.desk
    window.variants.keep("bright")
    s.document.edit_brief("Guard", lambda b: replace(b, guard=True, lights={"lights/lamp": LightChange(9.0)}))
    kept = s.document.project
    draft(window)
    window.variants.go("bright")
    assert s.document.project == kept and "guarded" in window.notices.text
    s.document.edit_brief("Free", lambda b: replace(b, guard=False))
    window.variants.go("bright")
    assert s.document.project.brief == Brief()


# -- the house


def test_the_window_fits_its_screen_and_comes_back_where_it_was(qtbot: QtBot) -> None:
    first = Window(Preferences())
    qtbot.addWidget(first)
    first.show()
    room_ = first.screen().availableGeometry()
    least = first.minimumWidth()
    assert first.width() <= max(room_.width(), least) and first.height() <= room_.height()
    first.resize(930, 640)
    first.close()
    second = Window(Preferences.load())
    qtbot.addWidget(second)
    assert (second.width(), second.height()) == (max(min(930, room_.width()), least), 640)
    second.close()


def test_a_title_bar_takes_its_room_from_the_window(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its frame comes to be known only after a window is shown; the strip at the bottom must not leave the screen."""
    window = Window(Preferences())
    qtbot.addWidget(window)
    screen = window.screen().availableGeometry()
    window.resize(screen.width(), screen.height())
    window.show()
    bar = QMargins(0, 20, 0, 3)
    monkeypatch.setattr(window, "frameGeometry", lambda: window.geometry().marginsAdded(bar))
    monkeypatch.setattr(window, "move", lambda to: window.setGeometry(QRect(to + QPoint(0, 20), window.size())))
    window.move(QPoint(0, 0))  # as a window manager does when it has put its frame round
    qtbot.waitUntil(lambda: window.frameGeometry().bottom() <= screen.bottom())
    assert window.height() == screen.height() - 23 and window.frameGeometry().top() == screen.top()
    qtbot.waitUntil(lambda: not window.placing._settling)
    window.move(QPoint(0, 300))  # by hand, and so it stays
    window.placing.fit()
    assert window.geometry().bottom() > screen.bottom()
    window.close()


def test_the_frame_knows_no_step_by_name() -> None:
    import inspect

    from ropebell.app import actions, frame, frame_marks, picture, strip_words
    from ropebell.app import window as frame_window

    names = [kind.__name__ for kind in ORDER]
    for module in (frame_window, actions, frame, frame_marks, picture, strip_words):
        source = inspect.getsource(module)
        assert not [name for name in names if name in source], module
        assert "app.steps." not in source.replace("app.steps.step", "")
