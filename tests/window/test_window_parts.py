"""Parts of the window on their own: rope, benches, strip, looks."""

from __future__ import annotations

import dataclasses
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from helpers import bake, floor, level_file, recipe
from ropebell.app import palette
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import fit, label
from ropebell.app.preferences import Preferences
from ropebell.app.reading import read_builds
from ropebell.app.rope import Rope, knot_words
from ropebell.app.steps.recipe.bench import bounce_words
from ropebell.app.strip import Strip
from ropebell.app.window import Window
from ropebell.app.words import made_at, made_on, told_apart
from ropebell.build.knots import Knot
from ropebell.build.numbering import next_build_folder
from ropebell.build.result import Outcome
from ropebell.build.stale import Stale
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, aimed
from ropebell.level.model import Light

LONG = 90_000


@pytest.fixture(autouse=True)
def looks(qapp: QApplication) -> Iterator[None]:
    palette.load_fonts()
    palette.apply(qapp, "dark")
    yield


def knot(number: int, state: str = "done", draft: int = 8, seconds: float = 9.0) -> Knot:
    return Knot(number, Path(f"/{number:04d}"), Outcome(state, "Because."), seconds, draft, 2, "final")


def pixels(widget: QWidget) -> np.ndarray:
    image = widget.grab().toImage()
    data = image.constBits()
    assert data is not None
    data.setsize(image.sizeInBytes())
    return np.frombuffer(data, np.uint8).reshape(image.height(), -1, 4)[..., 2::-1].astype(int)


def near(picture: np.ndarray, color: str) -> int:
    """How many pixels have about this colour."""
    c = QColor(color)
    return int((np.abs(picture - [c.red(), c.green(), c.blue()]).sum(axis=2) < 24).sum())


def rope_with(qtbot: QtBot, *knots: Knot) -> Rope:
    rope = Rope()
    qtbot.addWidget(rope)
    rope.resize(palette.ROPE_WIDTH, 700)
    rope.set_knots(list(knots))
    rope.show()
    return rope


def test_knots_stand_in_order_and_longer_builds_further_apart(qtbot: QtBot) -> None:
    rope = rope_with(qtbot, knot(1), knot(2, seconds=2), knot(3, seconds=3000))
    heights = [y for _, y in rope.places()]
    assert heights == sorted(heights)
    assert heights[2] - heights[1] > heights[1] - heights[0]
    assert rope.knot_at(heights[1] + 3) == knot(2, seconds=2)
    assert rope.knot_at(600) is None


def test_final_failed_and_stopped_builds_look_different(qtbot: QtBot) -> None:
    """A final one is filled, a stopped one barred, a failed one broken; the shown one is ringed."""
    bronze = {}
    for name, one in (
        ("draft", knot(1)), ("final", knot(1, draft=1)), ("stopped", knot(1, "stopped")), ("failed", knot(1, "failed")),
    ):  # fmt: skip
        picture = pixels(rope_with(qtbot, one))[5:45, :48]
        bronze[name] = near(picture, palette.DARK.accent)
    assert bronze["final"] > 2 * bronze["draft"]
    assert bronze["stopped"] > bronze["draft"] > bronze["failed"] > 0
    rope = rope_with(qtbot, knot(1))
    before = near(pixels(rope), palette.DARK.ring)
    rope.set_shown(1)
    assert near(pixels(rope), palette.DARK.ring) > before + 20


def test_the_loose_end_frays_when_the_last_build_is_stale(qtbot: QtBot) -> None:
    rope = rope_with(qtbot, knot(1))
    fresh = Stale(True, (), (), 1.0, 10, 5.0)
    rope.set_stale(fresh)
    calm = pixels(rope)
    rope.set_stale(dataclasses.replace(fresh, fresh=False, stages=("solve",), changes=("1 light",)))
    frayed = pixels(rope)
    assert np.abs(calm - frayed).sum() > 1000
    rope.set_live(2, 0.5)
    assert np.abs(pixels(rope) - frayed).sum() > 1000


def test_clicks_and_keys_choose_builds(qtbot: QtBot) -> None:
    rope = rope_with(qtbot, knot(1), knot(2), knot(3))
    with qtbot.waitSignal(rope.chosen, check_params_cb=lambda n: n == 2):
        qtbot.mouseClick(rope, Qt.MouseButton.LeftButton, pos=QPoint(30, round(rope.places()[1][1])))
    rope.set_shown(2)
    with qtbot.waitSignal(rope.chosen, check_params_cb=lambda n: n == 3):
        qtbot.keyClick(rope, Qt.Key.Key_Down)
    with qtbot.waitSignal(rope.chosen, check_params_cb=lambda n: n == 0):
        qtbot.mouseClick(rope, Qt.MouseButton.LeftButton, pos=QPoint(30, 600))


def test_many_builds_scroll_and_the_newest_is_in_sight(qtbot: QtBot) -> None:
    rope = rope_with(qtbot, *[knot(i) for i in range(1, 60)])
    assert 0 < rope.places()[-1][1] < 700
    assert rope.places()[0][1] < 0


def test_a_build_in_words() -> None:
    assert knot_words(knot(3)) == "Build 3, draft ⅛ of final, 0:09, done, 2 warnings"
    assert knot_words(knot(3, "died", 1)) == "Build 3, full of final, 0:09, died: Because., 2 warnings"


@pytest.mark.parametrize(
    "scale", [Scale(0, 5000, 1e9, 1), Scale(0.5, 60, 1000, 1), Scale(0, 4, 4, 2, False), Scale(4, 2048, 16384)]
)
def test_sliders_cover_their_range_and_invert(scale: Scale) -> None:
    assert scale.from_slider(0) == pytest.approx(scale.low)
    assert scale.from_slider(1000) == pytest.approx(scale.high)
    for position in (200, 500, 900):
        assert scale.to_slider(scale.from_slider(position)) == pytest.approx(position, abs=40)


def test_a_tuned_number_speaks_once_per_change_and_takes_more_than_its_slider(qtbot: QtBot) -> None:
    row = TunedNumber("Strength", "cd", Scale(0, 100, 1e6, 1))
    qtbot.addWidget(row)
    heard: list[float] = []
    row.changed.connect(lambda value, _gesture: heard.append(value))
    row.show_value(50.0, "note")
    assert heard == [] and row.field.value() == 50.0
    row.field.setValue(5000.0)
    assert heard == [5000.0] and row.slider.value() == 1000


@pytest.mark.parametrize("look", ["dark", "light"])
def test_text_has_contrast_in_both_looks(look: str) -> None:
    """WCAG AA: 4.5 to 1 for text on every ground it stands on."""
    table = palette.TABLES[look]

    def light(color: str) -> float:
        parts = [QColor(color).redF(), QColor(color).greenF(), QColor(color).blueF()]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def contrast(a: str, b: str) -> float:
        high, low = sorted((light(a), light(b)), reverse=True)
        return (high + 0.05) / (low + 0.05)

    for text in (table.text, table.second):
        for ground in (table.panel, table.sunk, table.raised):
            assert contrast(text, ground) >= 4.5
    assert contrast(table.accent_text, table.accent) >= 4.5
    assert contrast(table.accent, table.panel) >= 4.5


def test_the_recipe_bench_changes_the_recipe_undoably(qtbot: QtBot, tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(2), "m")
    b.light("sun", Light("sun", "directional", (1, 1, 1), 900.0), aimed((0, 5, 0), (0, 0, 0)))
    window = Window(Preferences())
    qtbot.addWidget(window)
    window.show()
    window.resize(1280, 800)
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(level_file(tmp_path, b))
    s, bench = window.desk, window.steps["recipe"].bench
    window.desk.commands.run("step.recipe")
    bench.names.setCurrentIndex(2)
    bench.names.activated.emit(2)
    qtbot.mouseClick(bench.draft.button(2), Qt.MouseButton.LeftButton)
    assert (s.document.project.recipe.name, s.document.project.recipe.draft) == ("final", 4)
    assert "tx/m 20 → 5, rays 512 → 256" in bench.draft_words.text()
    bench.numbers["light.gather_rays"].field.setValue(300)
    assert s.document.project.recipe.light.gather_rays == 300
    assert "final has 512" in bench.numbers["light.gather_rays"].note.text()
    bench.converged.click()
    assert s.document.project.recipe.light.bounces == 4 and bench.bounces.isEnabled()
    assert [s.document.undo.text(i) for i in range(s.document.undo.count())] == [
        "Use recipe final", "Build as ¼", "Change gather rays", "Change bounces",
    ]  # fmt: skip
    qtbot.waitUntil(lambda: s.rope.stale is not None and not s.jobs.busy, timeout=LONG)
    assert "texels" in bench.cost.text()
    # The sun is tuned in lux.
    s.selection.select(s.level.now.scene.node_names.index("lights/sun"))
    window.desk.commands.run("step.level")
    assert (
        window.steps["level"].bench.details.lux.isVisible()
        and not window.steps["level"].bench.details.candela.isVisible()
    )
    window.steps["level"].bench.details.on.click()
    assert not s.document.project.lights["lights/sun"].enabled
    window.steps["level"].bench.details.reset.click()
    assert s.document.project.lights == {}
    window.close()


def test_nothing_a_person_reads_is_cut_off(qtbot: QtBot) -> None:
    """Every label and button of the frame is as wide as its words, at the size to design for."""
    window = Window(Preferences())
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    window.resize(1280, 800)
    for kind in (QPushButton, QLabel):
        for widget in window.findChildren(kind):
            if widget.isVisible() and widget.text() and not (isinstance(widget, QLabel) and widget.wordWrap()):
                assert widget.width() >= widget.fontMetrics().horizontalAdvance(widget.text()), widget.text()
    window.close()


def test_the_look_can_be_changed_and_is_remembered(qtbot: QtBot) -> None:
    window = Window(Preferences())
    qtbot.addWidget(window)
    window.show()
    window.resize(1280, 800)
    window.desk.commands.run("window.look")
    assert palette.THEME.name == "light" and Preferences.load().look == "light"
    assert near(pixels(window.rope), palette.LIGHT.sunk) > 10_000
    window.desk.commands.run("window.look")
    window.close()


def test_a_fault_in_a_slot_is_told_and_logged_and_the_window_lives(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    import sys

    from ropebell.app.main import _catch_faults
    from ropebell.app.preferences import preferences_file

    window = Window(Preferences())
    qtbot.addWidget(window)
    window.show()
    window.resize(1280, 800)
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    _catch_faults(window)
    try:
        raise ZeroDivisionError("planted")
    except ZeroDivisionError as error:
        sys.excepthook(type(error), error, error.__traceback__)
    assert window.notices.isVisible() and "planted" in window.notices.text
    assert "planted" in preferences_file().with_name("faults.log").read_text()
    assert "Traceback" in capsys.readouterr().err
    window.close()


def test_a_long_name_in_the_strip_keeps_its_end_and_tells_the_whole(qtbot: QtBot) -> None:
    strip = Strip()
    qtbot.addWidget(strip)
    strip.resize(500, 34)
    strip.show()
    name = "structure/a very long branch of the level/wheel pit"
    strip.where.setText(name)
    strip.where.setFixedWidth(90)
    assert strip.where.text() == name and strip.where.toolTip() == name
    image = strip.where.grab().toImage()
    background = image.pixelColor(1, 1)
    drawn = [image.pixelColor(x, image.height() // 2) for x in range(image.width())]
    assert any(c != background for c in drawn), "something is drawn"
    strip.where.setText("x")
    assert [strip.where.grab().toImage().pixelColor(x, y) for x in range(4) for y in range(4)] == [background] * 16


def test_what_each_bounce_adds_is_told_in_shares() -> None:
    assert bounce_words([60.0, 30.0, 10.0]) == "Of the last build's light 60 % is direct; bounces add 30, 10 %."
    many = bounce_words([50.0] + [5.0] * 10)
    assert many.endswith("bounces add 5, 5, 5, 5, 5, 5 %; the 4 after them 20 %.")
    faint = bounce_words([95.0, 4.8, 0.15, 0.05])
    assert faint.endswith("bounces add 4.8, 0.15 %; the 1 after them 0.05 %.")
    assert bounce_words([5.0]) == bounce_words([]) == bounce_words([0.0, 0.0]) == ""


def test_pictures_that_cannot_be_written_are_told_before_the_work(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "file").write_text("")
    assert main(["shots", "--out", str(tmp_path / "file" / "pictures")]) == 2
    assert len(capsys.readouterr().err.strip().splitlines()) == 1


ODD = {
    "empty": b"", "no JSON": b"{", "another's": b'{"format": 1}', "a list": b"[]", "bytes": b"\xff\xfe\x00",
    "newer": b'{"format": 999}', "deep": b"[" * 100_000,
}  # fmt: skip


@pytest.mark.parametrize("odd", ODD)
def test_an_odd_build_is_a_knot_of_its_own_and_hides_no_other(tmp_path: Path, odd: str) -> None:
    builds = tmp_path / "builds"
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(1.0), "m")
    level = level_file(tmp_path, b)
    (builds / "0001").mkdir(parents=True)
    bake(level, recipe("sketch"), builds / "0001", sky=(1.0, 1.0, 1.0))
    for name in ("0002", "0003", "0004"):
        shutil.copytree(builds / "0001", builds / name)
    (builds / "0002" / "manifest.json").write_bytes(ODD[odd])
    (builds / "0003" / "manifest.json").unlink()
    (builds / "0003" / "journal.jsonl").write_bytes(ODD[odd])
    (builds / "\u00b2").mkdir()  # a digit that is no number
    knots, newest, _ = read_builds(builds)
    assert [(k.number, k.outcome.state) for k in knots] == [(1, "done"), (2, "damaged"), (3, "died"), (4, "done")]
    assert (
        "manifest.json" in knots[1].outcome.sentence and newest is not None and next_build_folder(builds).name == "0005"
    )


def test_times_are_told_in_the_time_zone_of_the_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TZ", "UTC-2")
    time.tzset()
    try:
        assert made_at("2026-11-24T23:10:00+00:00") == "2026-11-25 01:10"
        assert made_on("2026-11-24T23:10:00+00:00") == ", 25 Nov 01:10"
        assert made_at("") == made_on("") == ""
    finally:
        monkeypatch.undo()
        time.tzset()


def test_levels_of_one_name_are_told_apart() -> None:
    paths = [Path(p) for p in ("/a/x/mill", "/b/x/mill", "/c/mill", "/c/quay.glb", "/mill")]
    assert told_apart(paths) == ["mill — in a/x", "mill — in b/x", "mill — in c", "quay.glb", "mill — in /"]
    assert told_apart([Path("/a/mill")]) == ["mill"]


def test_the_most_important_has_its_room_in_the_strip_before_what_is_as_ever(qtbot: QtBot) -> None:
    strip = Strip()
    qtbot.addWidget(strip)
    strip.build.setText("Build 7, draft ⅛")
    strip.set_facts(["out of date: 2 lights", "a draft", "no probes"])
    strip.view.setText("result")
    strip.exposure.setText("sRGB for 85.1 lx")
    menus = {strip.view, strip.exposure, strip.filter, strip.eye, strip.hidden}
    strip.show()
    strip.show_menus(menus)
    for width in (1400, 620, 520, 1400):
        strip.resize(width, 34)
        QApplication.processEvents()
        left_out = {b for b in menus if not b.isVisible()}
        assert strip.width() == width and left_out <= {strip.filter, strip.eye, strip.hidden}
        assert bool(left_out) == (width < 1400)
        if width > 520:  # there is not room for all of the rest either
            for part in (strip.build, strip.state, *(menus - left_out)):
                assert part.width() >= part.sizeHint().width()
    # What is not as ever stays.
    strip.eye.setText("plan")
    strip.resize(520, 34)
    QApplication.processEvents()
    assert strip.eye.isVisible() and not strip.filter.isVisible() and not strip.hidden.isVisible()


def test_what_is_under_the_pointer_has_its_room_in_the_strip_too(qtbot: QtBot) -> None:
    strip = Strip()
    qtbot.addWidget(strip)
    strip.build.setText("Build 8, relit")
    strip.set_facts(["not built, finished where one looks", "a draft"])
    strip.view.setText("result")
    strip.exposure.setText("sRGB for 80.7 lx")
    menus = {strip.view, strip.exposure, strip.filter, strip.eye, strip.hidden}
    strip.resize(860, 34)
    strip.show()
    strip.show_menus(menus)
    for where, value in (("", ""), ("structure/hall wall", "29.6 lx   direct 7.61 lx   ± 11 %"), ("", "")):
        strip.say(where, value)
        QApplication.processEvents()
        assert strip.state.width() >= strip.state.sizeHint().width()
        assert strip.value.width() >= strip.value.sizeHint().width()
        assert not where or strip.where.width() >= 60
    # Once the pointer has left, nothing comes back to where it was about to click.
    assert not strip.filter.isVisible()
    strip.view.setText("noise")
    strip.say("", "")
    strip.show_menus(menus)
    assert strip.filter.isVisible()


def test_a_label_that_says_less_than_before_takes_less_room(qtbot: QtBot) -> None:
    text = label("", "second")
    qtbot.addWidget(text)
    heights = []
    for words in ("A short one.", "A much longer one, " * 12, "A short one."):
        text.setText(words)
        fit(text, 200)
        heights.append(text.minimumHeight())
    assert heights[0] == heights[2] > 0 and heights[1] > 3 * heights[0]
