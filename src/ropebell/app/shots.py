"""Pictures of every main view, made from the demo level so that they are never out of date."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from PyQt6.QtCore import QEventLoop, QPointF, QTimer
from PyQt6.QtWidgets import QApplication, QWidget

from ropebell.app import palette
from ropebell.app.preferences import Preferences
from ropebell.app.stage.camera import Camera
from ropebell.app.window import Window
from ropebell.build.sample_days import write_demo_with_days
from ropebell.errors import BuildError
from ropebell.level.brief import LightChange

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
        window.resize(*SIZE)
        window.show()
        try:
            yield _save(window, out / "empty.png")
            project = write_demo_with_days(Path(scratch) / "tide-mill", lambda _done, _of: None, datetime.date.today())
            yield from _views(window, project, out)
        finally:
            window.close()


def _views(window: Window, project: Path, out: Path) -> Iterator[Path]:
    s = window.session
    window.open(project)
    wait_for(lambda: s.now is not None and s.stale is not None and s.settled, "the demo level")
    assert s.now is not None
    inside = window.stage.camera
    window.level_bench.show_page(1)
    findings = window.level_bench.checks.list
    findings.setCurrentRow(2)
    findings.itemClicked.emit(findings.item(2))
    yield _save(window, out / "checks.png")
    window.level_bench.show_page(0)
    window.stage.go(inside)
    window.commands.run("build.start")
    live = window.stage
    wait_for(
        lambda: window.picture.live is not None and "rays" in window.picture.live.what and live.has_light,
        "bounced light",
    )
    window.commands.run("stage.expose")
    yield _save(window, out / "building.png")
    wait_for(lambda: not window.builds.running and s.shown is not None and s.settled, "the build")
    window.commands.run("stage.expose")
    yield _save(window, out / "build-result.png")
    for view in ("light", "bounced"):
        window.set_view(view)
        yield _save(window, out / f"view-{view}.png")
    window.set_view("noise")
    window.stage.pointed.emit(window.stage.spot_at(QPointF(300, 520)))
    yield _save(window, out / "view-noise.png")
    window.set_view("result")
    yield from _preparing(window, out, inside)
    s.set_light("lights/hall lamp", LightChange(900.0))
    window.go_to_step("Recipe")
    wait_for(lambda: s.stale is not None and not s.stale.fresh and s.settled, "what is stale")
    window.stage.go(inside)
    window.commands.run("stage.expose")
    window.stage.pointed.emit(window.stage.spot_at(QPointF(300, 520)))
    yield _save(window, out / "recipe.png")
    window.finder.popup()
    window.finder.field.setText("view")
    yield _save(window.finder, out / "finder.png")
    window.finder.hide()


def _preparing(window: Window, out: Path, inside: Camera) -> Iterator[Path]:
    """The Level, Charts and Lights steps."""
    s = window.session
    assert s.now is not None
    number = {name: i for i, name in enumerate(s.now.scene.node_names)}
    window.go_to_step("Level")
    s.select_many(tuple(number[f"props/sack {i}"] for i in (1, 2, 3)))
    window.level_bench.details.marks.switch_fold.set_open(True)
    window.focus()
    window.commands.run("stage.expose")
    yield _save(window, out / "level.png")
    window.level_bench.show_page(2)
    window.level_bench.region.propose.click()
    wait_for(lambda: bool(s.project and s.project.brief.region.boxes) and s.settled, "a region")
    window.level_bench.region.boxes.setCurrentRow(0)
    window.commands.run("stage.plan")
    window.commands.run("stage.expose")
    yield _save(window, out / "region.png")
    window.commands.run("stage.plan")
    s.undo.undo()
    wait_for(lambda: s.settled, "undo")
    window.level_bench.show_page(0)
    window.stage.go(inside)
    window.go_to_step("Charts")
    wait_for(lambda: window.charts_bench.known is not None and s.settled, "charts")
    s.select(-1)
    yield _save(window, out / "charts-density.png")
    window.charts_bench.show_page(1)
    s.select(number["props/grain hopper"])
    window.focus()
    yield _save(window, out / "charts-coordinates.png")
    window.charts_bench.show_page(2)
    s.select(number["structure/roof back"])
    window.pages.fit()
    yield _save(window, out / "charts-pages.png")
    window.go_to_step("Lights")
    s.select(number["lights/desk lamp"])
    wait_for(lambda: s.settled, "the light")
    window.focus()
    window.commands.run("stage.expose")
    yield _save(window, out / "lights.png")
    window.lights_bench.show_page(1)
    window.lights_bench.emitters.table.selectRow(0)
    s.select(number["props/mooring lantern"])
    window.focus()
    window.commands.run("stage.expose")
    yield _save(window, out / "lights-emitters.png")
    window.lights_bench.show_page(3)
    s.select(-1)
    window.stage.go(inside)
    window.commands.run("stage.expose")
    yield _save(window, out / "lights-probes.png")
    window.lights_bench.show_page(0)


def _save(widget: QWidget, path: Path) -> Path:
    if isinstance(widget, Window):
        widget.stage.grab_smooth()
    QApplication.processEvents()
    widget.grab().save(str(path))
    return path
