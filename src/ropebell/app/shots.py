"""Pictures of every main view, made from the demo level so that they are never out of date."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TypeVar

import numpy as np
from PyQt6.QtCore import QEventLoop, QPointF, QTimer
from PyQt6.QtWidgets import QApplication, QWidget

from ropebell.app import palette
from ropebell.app.preferences import Preferences
from ropebell.app.stage.camera import Camera
from ropebell.app.steps.build import BuildStep
from ropebell.app.steps.build.bench import NEXT, RESULT
from ropebell.app.steps.charts import ChartsStep
from ropebell.app.steps.compare import CompareStep
from ropebell.app.steps.compare.bench import CHANGES
from ropebell.app.steps.deliver import DeliverStep
from ropebell.app.steps.faults import FaultsStep
from ropebell.app.steps.hunt import HuntStep
from ropebell.app.steps.hunt.bench import MAP
from ropebell.app.steps.level import SIGHT, LevelStep
from ropebell.app.steps.level.sight import AS_EVER
from ropebell.app.steps.level.sight import MAP as PLAN
from ropebell.app.steps.step import Step
from ropebell.app.window import Window
from ropebell.build.recipe import with_value
from ropebell.build.sample_days import write_demo_with_days
from ropebell.build.sighting import LEAK
from ropebell.errors import BuildError
from ropebell.level.brief import Box, LightChange

# Fine enough to show what the light can be.
DRAFT = 4
SIZE = (1280, 800)
PATIENCE_MS = 180_000


def wait_for(condition: Callable[[], bool], what: str) -> None:
    """Let the window work until something is so.

    Raises:
        BuildError: it did not come about in three minutes.
    """
    loop, timer, late = QEventLoop(), QTimer(), QTimer()
    met = False

    def look() -> None:
        nonlocal met
        if condition():
            met = True
            loop.quit()

    timer.setInterval(20)
    timer.timeout.connect(look)
    late.setSingleShot(True)
    late.timeout.connect(loop.quit)
    timer.start()
    late.start(PATIENCE_MS)
    loop.exec()
    if not met:
        raise BuildError(f"waited too long for {what}", "", "Try again on an idle machine")


def shoot(app: QApplication, out: Path) -> Iterator[Path]:
    """Yield the path of each picture as it is written."""
    out.mkdir(parents=True, exist_ok=True)
    palette.apply(app, "dark")
    with tempfile.TemporaryDirectory(prefix="ropebell-shots-") as scratch:
        window = Window(Preferences())
        window.show()
        window.resize(*SIZE)
        try:
            project = write_demo_with_days(Path(scratch) / "tide-mill", lambda _done, _of: None, datetime.date.today())
            yield from _views(window, project, out)
        finally:
            window.close()


def _views(window: Window, project: Path, out: Path) -> Iterator[Path]:
    s = window.desk
    window.open(project)
    wait_for(lambda: s.level.now is not None and s.rope.stale is not None and s.settled, "the demo level")
    assert s.level.now is not None and s.document.project is not None
    inside = window.stage.camera
    finer = with_value(with_value(s.document.project.recipe, "draft", DRAFT), "sight.enabled", True)
    s.document.set_recipe("Build finer, and look for leaks", finer)
    wait_for(lambda: s.settled, "what is stale")
    _of(window, LevelStep).level_bench.show_page(1)
    findings = _of(window, LevelStep).level_bench.checks.list
    findings.setCurrentRow(2)
    findings.itemClicked.emit(findings.item(2))
    s.commands.run("stage.expose")
    yield _save(window, out / "checks.png")
    _of(window, LevelStep).level_bench.show_page(0)
    window.stage.go(inside)
    window.desk.commands.run("build.start")
    live = window.stage
    wait_for(
        lambda: window.picture.live is not None and "rays" in window.picture.live.what and live.has_light,
        "bounced light",
    )
    window.desk.commands.run("stage.expose")
    yield _save(window, out / "building.png")
    wait_for(lambda: not window.desk.builds.running and s.rope.shown is not None and s.settled, "the build")
    window.desk.commands.run("stage.expose")
    yield from _preparing(window, out, inside)
    s.document.set_light("lights/hall lamp", LightChange(900.0))
    window.go_to_step("recipe")
    wait_for(lambda: s.rope.stale is not None and not s.rope.stale.fresh and s.settled, "what is stale")
    window.stage.go(inside)
    window.desk.commands.run("stage.expose")
    window.stage.hands.pointed.emit(window.stage.spot_at(QPointF(300, 520)))
    yield _save(window, out / "recipe.png")
    window.stage.hands.leave()
    yield from _building(window, out)
    yield from _faults(window, out, inside)
    yield from _compare(window, out, inside)
    yield from _deliver(window, out, inside)
    yield from _hunt(window, out)


def _compare(window: Window, out: Path, inside: Camera) -> Iterator[Path]:
    """Two builds parted, and because of what they differ: another lamp, another sky, fewer bounces."""
    s, step = window.desk, _of(window, CompareStep)
    project = s.document.project
    assert project is not None
    one = s.rope.finished[-1]
    s.document.set_light("lights/hall lamp", LightChange(450.0))
    s.document.set_light("lights/hall lamp back", LightChange(400.0))
    s.document.set_recipe("Fewer bounces", with_value(project.recipe, "light.bounces", 3))
    wait_for(lambda: s.settled and s.rope.stale is not None and not s.rope.stale.fresh, "what is stale")
    s.commands.run("build.start")
    wait_for(lambda: not s.builds.running and s.settled and s.rope.finished[-1] > one, "the build")
    window.go_to_step("compare")
    step.comparing.choose(one, s.rope.finished[-1])
    wait_for(lambda: step.comparing.found is not None and s.settled, "the comparison")
    window.stage.go(inside)
    s.commands.run("stage.expose")
    yield _save(window, out / "compare.png")
    step.compare_bench.view.button(5).click()
    step.compare_bench.pages.show_page(CHANGES)
    yield _save(window, out / "compare-changes.png")
    step.compare_bench.view.button(0).click()


def _deliver(window: Window, out: Path, inside: Camera) -> Iterator[Path]:
    """What speaks against handing the newest build over."""
    s, step = window.desk, _of(window, DeliverStep)
    window.go_to_step("deliver")
    wait_for(lambda: step.delivering.against is not None and s.settled, "what speaks against it")
    window.stage.go(inside)
    s.commands.run("stage.expose")
    yield _save(window, out / "deliver.png")


def _hunt(window: Window, out: Path) -> Iterator[Path]:
    """A hunt that ended: its map, and what it found."""
    s, step = window.desk, _of(window, HuntStep)
    window.go_to_step("hunt")
    bench = step.hunt_bench
    bench.condition.setText("nonfinite")
    bench.judge.setCurrentIndex(bench.judge.findData("hasty"))
    s.commands.run("hunt.start")
    wait_for(lambda: not step.hunting.running and bool(step.hunting.result), "the hunt")
    bench.go.click()
    wait_for(lambda: s.settled, "the culprit")
    s.commands.run("stage.expose")
    s.telling.over("news")
    yield _save(window, out / "hunt-found.png")
    bench.pages.chosen.emit(MAP)
    yield _save(window, out / "hunt.png")
    window.go_to_step("recipe")


def _building(window: Window, out: Path) -> Iterator[Path]:
    """How much the next build does, a build that a tripwire stopped, and all builds."""
    s, step = window.desk, _of(window, BuildStep)
    window.go_to_step("build")
    panel, pages = step.build_bench.next, step.build_bench.pages
    pages.show_page(NEXT)
    for wire in ("black>0.3", "stall>60"):
        panel.add_wire(wire)
    panel.set_box(Box((2.0, -0.2, 2.0), (9.0, 4.6, 12.0)))
    panel.choose("box")
    panel.keep_profile("Wheel room")
    wait_for(lambda: s.settled, "the plan")
    step.changed.emit()
    yield _save(window, out / "build-next.png")
    panel.choose("everything")
    s.rope.look_at(s.rope.finished[-1])
    wait_for(lambda: s.settled and s.rope.shown is not None, "the build")
    pages.show_page(RESULT)
    s.commands.run("build.table")
    yield _save(window, out / "build-table.png")
    s.commands.run("build.table")
    window.go_to_step("recipe")


def _faults(window: Window, out: Path, inside: Camera) -> Iterator[Path]:
    """A fault with its account, light in false colours, and trouble spots over builds."""
    s, step = window.desk, _of(window, FaultsStep)
    s.rope.look_at(s.rope.finished[-1])
    window.go_to_step("faults")
    wait_for(lambda: s.settled and bool(step.state.seen.found), "the faults")
    found = [f for f, _ in step.state.seen.found]
    fault = next((f for f in found if f.kind == "black-patch"), found[0])
    step.state.choose(fault)
    s.go_to_finding(fault)
    wait_for(lambda: step.state.verdict is not None and s.settled, "an account")
    s.commands.run("stage.expose")
    yield _save(window, out / "faults.png")
    leak = next(f for f in found if f.kind == LEAK)
    step.state.choose(leak)
    s.go_to_finding(leak)
    wait_for(lambda: s.settled, "the leak")
    s.commands.run("stage.expose")
    yield _save(window, out / "faults-leak.png")
    s.commands.run("place.keep")
    window.stage.go(inside)
    s.commands.run("stage.expose")
    s.commands.run("view.lux")
    wait_for(lambda: step.scale.found is not None and s.settled, "the histogram")
    yield _save(window, out / "faults-light.png")
    s.commands.run("view.result")
    s.commands.run("place.keep")
    step.toggle_sheet()
    wait_for(lambda: step.sheet_complete and s.settled, "trouble spots")
    yield _save(window, out / "faults-sheet.png")
    step.toggle_sheet()
    window.go_to_step("recipe")


def _preparing(window: Window, out: Path, inside: Camera) -> Iterator[Path]:
    """The Level, Charts and Lights steps."""
    now = window.desk.level.now
    assert now is not None
    number = {name: i for i, name in enumerate(now.scene.node_names)}
    for step in (_level, _charts, _lights):
        yield from step(window, out, inside, number)


def _level(window: Window, out: Path, inside: Camera, number: dict[str, int]) -> Iterator[Path]:
    s = window.desk
    window.go_to_step("level")
    s.selection.select_many(tuple(number[f"props/sack {i}"] for i in (1, 2, 3)))
    _of(window, LevelStep).level_bench.details.marks.switch_fold.set_open(True)
    window.desk.commands.run("stage.focus")
    window.desk.commands.run("stage.expose")
    yield _save(window, out / "level.png")
    window.stage.go(inside)
    bench = _of(window, LevelStep).level_bench
    bench.show_page(SIGHT)
    wait_for(lambda: bench.sight.looked is not None and s.settled, "sight, which a build has looked into")
    bench.sight.show_as.button(PLAN).click()
    plan = _of(window, LevelStep).sight_map
    assert plan is not None and bench.sight.looked is not None
    plan.point_at(bench.sight.looked.sight.cell_of(np.array(inside.eye)))
    yield _save(window, out / "sight.png")
    bench.sight.show_as.button(AS_EVER).click()
    _of(window, LevelStep).level_bench.show_page(0)
    window.stage.go(inside)


def _charts(window: Window, out: Path, inside: Camera, number: dict[str, int]) -> Iterator[Path]:
    s = window.desk
    window.go_to_step("charts")
    wait_for(lambda: _of(window, ChartsStep).charts_bench.known is not None and s.settled, "charts")
    s.selection.select(-1)
    yield _save(window, out / "charts-density.png")
    _of(window, ChartsStep).charts_bench.show_page(1)
    s.selection.select(number["props/grain hopper"])
    window.desk.commands.run("stage.focus")
    _of(window, ChartsStep).charts_bench.show_page(2)
    s.selection.select(number["structure/roof back"])
    _of(window, ChartsStep).pages.fit()
    yield _save(window, out / "charts-pages.png")


def _lights(window: Window, out: Path, inside: Camera, number: dict[str, int]) -> Iterator[Path]:
    s = window.desk
    window.go_to_step("lights")
    s.selection.select(number["lights/desk lamp"])
    wait_for(lambda: s.settled, "the light")
    window.desk.commands.run("stage.focus")
    window.desk.commands.run("stage.expose")
    yield _save(window, out / "lights.png")


S = TypeVar("S", bound=Step)


def _of(window: Window, kind: type[S]) -> S:
    """The window's step of a kind."""
    step = window.steps[kind.id]
    assert isinstance(step, kind)
    return step


def _save(widget: QWidget, path: Path) -> Path:
    if isinstance(widget, Window):
        widget.stage.grab_smooth()
    QApplication.processEvents()
    widget.grab().save(str(path))
    return path
