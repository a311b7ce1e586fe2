"""The frame: steps on top, the rope at the left, the stage, the strip, the bench. It knows no step by name."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app import palette
from ropebell.app.actions import Menus, stage_commands
from ropebell.app.builds import Builds
from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.exposure import Exposure
from ropebell.app.face_finder import FaceFinder
from ropebell.app.finder import Finder
from ropebell.app.frame import Notices, TopBar
from ropebell.app.frame_marks import FrameMarks
from ropebell.app.keys_page import KeysPage
from ropebell.app.knot_acts import KnotActs
from ropebell.app.notifying import EndTeller
from ropebell.app.picture import Picture
from ropebell.app.places import Places
from ropebell.app.placing import Placing
from ropebell.app.preferences import Preferences
from ropebell.app.queueing import Queueing
from ropebell.app.relight import Relighter
from ropebell.app.rope import Rope
from ropebell.app.sample import SampleWriter
from ropebell.app.showing import Showing
from ropebell.app.stage.widget import Stage
from ropebell.app.steps import ORDER
from ropebell.app.steps.step import Step
from ropebell.app.strip import Strip
from ropebell.app.strip_words import StripWords
from ropebell.app.variants import Variants
from ropebell.app.views import COMMON, View
from ropebell.app.walk import Walk, stations
from ropebell.build.project import is_openable
from ropebell.build.result import Outcome
from ropebell.level.finding import Finding
from ropebell.level.scene import index_of, is_middle

# Benches that are made early wait until a person has had a first look.
NARROW, EARLY_MS = 1100, 700
# What is told of one level says nothing of the next.
OF_ONE_LEVEL = (
    "place", "around", "near", "relight", "finishing", "advice", "hunt", "sight", "knot", "profile", "journal", "build",
)  # fmt: skip
EMPTY = "Drop a level here, or open one with Ctrl+O.\nRope Bell reads glTF (.gltf, .glb) and Wavefront OBJ."
RUNNING = "A build is running. Stop it before another level is opened."


class Window(QMainWindow):
    """One project in one window."""

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.desk = desk = Desk(preferences, self)
        desk.showing = Showing(desk, self)
        desk.open_path, desk.go_to_step, desk.show_view, desk.go_to_finding = (
            self.open, self.go_to_step, self.show_view, self.go_to_finding,
        )  # fmt: skip
        desk.builds = Builds(desk, self)
        desk.builds.looks_from = lambda: self.stage.camera.cone(self.stage.eye.aspect)
        desk.queue = Queueing(desk, desk.builds, self)
        desk.relighter = Relighter(desk, self)
        self.steps: dict[str, Step] = {made.id: made(desk) for made in ORDER}
        # By key, so that menus and number keys agree whatever step adds a view.
        added = [view for step in self.steps.values() for view in step.views()]
        self.views = tuple(sorted((*COMMON, *added), key=lambda v: (not v.key, v.key)))
        self.stage = desk.stage = Stage(self.views)
        self.strip, self.rope = Strip(), Rope()
        self.exposure = Exposure(self.stage, self)
        desk.relighter.seen = self.stage.seen
        desk.builds.seconds_to_draw = lambda: self.stage.seconds_to_draw
        self.picture = desk.picture = Picture(desk, self.stage, desk.builds, desk.relighter, self.exposure)
        self.picture.of_step = lambda: self.step.picture()
        self.words = StripWords(desk, self.picture, self.exposure, self.strip, lambda spot: self.step.words(spot))
        desk.say_spot = self.words.say
        self.variants = Variants(desk, self)
        self.knots, self.ends = KnotActs(desk, self), EndTeller(desk, self)
        self.places = Places(desk, self.stage, self._name_of_view, self)
        self.finder = Finder(desk.commands, self)
        self.keys = KeysPage(desk.commands, self)
        at_steps = [station for step in self.steps.values() if (station := step.station()) is not None]
        self.walk = Walk(desk.telling, [*stations(desk.rope), *at_steps], self)
        self._walk_next = False
        self.sample = SampleWriter(self)
        self._shown_step = next(iter(self.steps))
        self._target: Path | None = None
        self._told_of: Path | None = None
        self.setWindowTitle("Rope Bell")
        self.setAcceptDrops(True)
        self.setMinimumSize(900, 600)
        self._lay_out()
        self.face_finder = FaceFinder(desk, self.stage)
        self.marks = FrameMarks(desk, self.picture, self.face_finder, lambda: self.step)
        self._register()
        self._connect()
        self.go_to_step(self._shown_step)
        self.stage.message = EMPTY
        self.stage.setFocus()
        self.words.refresh()
        self.placing = Placing(self, desk.preferences)

    @property
    def step(self) -> Step:
        """The step that is shown."""
        return self.steps[self._shown_step]

    # -- building the frame

    def _lay_out(self) -> None:
        self.top = TopBar(self.desk.commands, [(step.id, step.title) for step in self.steps.values()])
        self.benches, self.canvases = QStackedWidget(), QStackedWidget()
        self.bench_frame = QFrame()
        self.bench_frame.setProperty("role", "panel")
        self.bench_frame.setMinimumWidth(palette.BENCH_WIDTH - 20)
        _column(self.bench_frame, self.benches)
        self.notices = Notices(self.desk.telling)
        self.canvases.addWidget(self.stage)
        middle = QWidget()
        _column(middle, self.notices, self.canvases, self.strip).setStretchFactor(self.canvases, 1)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.addWidget(middle)
        self.splitter.addWidget(self.bench_frame)
        self.splitter.setStretchFactor(0, 1)
        self.splitter.setHandleWidth(1)
        self.splitter.setCollapsible(0, False)
        self.splitter.setSizes([872, palette.BENCH_WIDTH])
        lower = QHBoxLayout()
        lower.setSpacing(0)
        lower.addWidget(self.rope)
        lower.addWidget(self.splitter, 1)
        line = QFrame()
        line.setProperty("role", "rule")
        whole = QWidget()
        _column(whole, self.top, line).addLayout(lower, 1)
        self.setCentralWidget(whole)

    def _register(self) -> None:
        desk, undo = self.desk, self.desk.document.undo
        opened = lambda: desk.level.now is not None  # noqa: E731 - a condition, not a function of its own
        desk.commands.add(
            Command("file.open", "Open a level or project", self.ask_and_open, "Ctrl+O"),
            Command("file.sample", "Open the sample level", self.open_sample),
            Command("file.walk", "Open the sample level and walk through the window", self.walk_sample),
            Command("file.reload", "Read the level again", desk.level.reload, "Ctrl+R", opened),
            Command("edit.undo", "Undo", undo.undo, "Ctrl+Z", undo.canUndo),
            Command("edit.redo", "Redo", undo.redo, "Ctrl+Shift+Z", undo.canRedo),
            Command(
                "project.take_over", "Edit here instead of in the other window", desk.document.take_over, "",
                lambda: desk.document.read_only,
            ),
            Command("rope.older", "Look at the build before", lambda: desk.rope.step(-1), "Alt+Up", opened),
            Command("rope.newer", "Look at the build after", lambda: desk.rope.step(1), "Alt+Down", opened),
            Command("find.command", "Find a command", self.finder.popup, "Ctrl+Space"),
            Command("find.faces", "Find faces by material or property", self.face_finder.popup, "Ctrl+F", opened),
            Command("variant.keep", "Keep what is decided as a variant", lambda: self.menus.ask_variant(), "", opened),
            Command("place.keep", "Keep this view as a place", self.places.keep, "Ctrl+D", opened),
            Command("window.bench", "Fold the bench away or bring it back", self.toggle_bench, "F9"),
            Command("window.look", "Light or dark look", self.toggle_look),
            self.ends.command(),
            Command("window.walk", "Walk through the window", self.walk.begin, "", opened),
            Command("window.keys", "Hands and keys", self.keys.popup, "F1"),
            Command("window.quit", "Close the window", self._quit, "Ctrl+Q"),
            *stage_commands(desk, self.picture, self.exposure, self.views),
            *self.knots.commands(),
        )  # fmt: skip
        for step in self.steps.values():
            desk.commands.add(*step.commands())
            desk.commands.add(Command(f"step.{step.id}", f"Step: {step.title}", partial(self.go_to_step, step.id)))
        self.menus = Menus(self, desk, self.top, self.strip, self.views, self.places, self.variants)

    def _connect(self) -> None:
        desk = self.desk
        desk.level.opened.connect(self._level_opened)
        desk.rope.builds_changed.connect(lambda: self.rope.set_knots(desk.rope.knots))
        desk.rope.looking_at.connect(lambda _: self.rope.set_shown(desk.rope.shown_number))
        desk.rope.stale_changed.connect(lambda: self.rope.set_stale(desk.rope.stale))
        desk.commands.failed.connect(lambda sentence: desk.tell(sentence, "command"))
        desk.commands.begun.connect(lambda _: desk.telling.over("command"))
        self.sample.told.connect(self._say_on_stage)
        self.sample.ready.connect(self.open)
        self.sample.failed.connect(lambda sentence: desk.tell(sentence, "sample"))
        desk.builds.started.connect(self._build_started)
        desk.builds.progress.connect(lambda _stage, share, _left: self.rope.set_live(desk.builds.number, share))
        desk.builds.ended.connect(self._build_ended)
        self.rope.chosen.connect(desk.rope.look_at)
        self.rope.paired.connect(desk.rope.paired)
        self.rope.asked.connect(self.knots.popup)
        self.stage.hands.picked.connect(lambda node: desk.selection.select(self.picture.node_of_level(node)))
        self.stage.hands.picked_more.connect(self._picked_more)
        desk.telling.changed.connect(self._told)
        for step in self.steps.values():
            step.changed.connect(lambda step=step: self._step_changed(step))

    # -- opening

    def ask_and_open(self) -> None:
        """Ask for a level or project and open it."""
        kinds = "Levels and projects (*.gltf *.glb *.obj project.toml);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self, "Open a level or project", "", kinds)
        if path:
            self.open(Path(path))

    def open(self, target: Path) -> None:
        """Open a project or level; the window stays usable meanwhile."""
        if self.desk.builds.running:
            self.desk.tell(RUNNING, "reading")
            return
        self.desk.telling.over("reading", "sample")
        self.stage.message = f"Reading {target.name}"
        self.stage.update()
        self._target = target
        self.desk.level.open(target)

    def open_sample(self) -> None:
        """Write the sample level and its past into the person's data folder, if they are not there, and open it."""
        if self.desk.builds.running:
            self.desk.tell(RUNNING, "reading")
            return
        base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
        self.sample.write(Path(base) / "ropebell" / "tide-mill")

    def walk_sample(self) -> None:
        """Open the sample level and begin the walk there."""
        self._walk_next = True
        self.desk.commands.run("file.sample")

    def _say_on_stage(self, words: str) -> None:
        if self.desk.level.now is None:
            self.stage.message = words
            self.stage.update()
        else:
            self.desk.news(f"{words}.")

    def _level_opened(self) -> None:
        now = self.desk.level.now
        assert now is not None
        if self._target is not None:
            self.desk.preferences.opened(self._target)
        if now.project.folder != self._told_of:
            self.desk.telling.over(*OF_ONE_LEVEL)
            self._told_of = now.project.folder
        self.top.name.setText(now.project.name)
        self.top.name.setToolTip(str(now.project.level))
        self.setWindowTitle(f"{now.project.name} - Rope Bell")
        self.stage.message = "" if len(now.scene) else "The level has no surfaces."
        self.rope.set_knots([])
        self.rope.set_stale(None)
        self.desk.builds.get_ready()
        QTimer.singleShot(EARLY_MS, self._make_early)
        self.walk.leave()
        if self._walk_next:
            self._walk_next = False
            self.walk.begin()

    def _make_early(self) -> None:
        for step in self.steps.values():
            if step.early and self.benches.indexOf(step.bench) < 0:
                self.benches.addWidget(step.bench)

    def _told(self) -> None:
        """A trouble while nothing is open yet: the stage says again what can be done."""
        if self.desk.level.now is None and not self.desk.jobs.busy:
            self.stage.message = EMPTY
            self.stage.update()

    # -- the hand

    def _picked_more(self, node: int) -> None:
        """Add to the selection, or take out of it."""
        node, s = self.picture.node_of_level(node), self.desk.selection
        if node >= 0:
            s.select_many(tuple(n for n in s.chosen if n != node) if node in s.chosen else (*s.chosen, node))

    def go_to_finding(self, finding: Finding) -> None:
        """Select a finding's object and bring its place into the picture."""
        now = self.desk.level.now
        node = index_of(now.scene, finding.object) if now is not None else -1
        self.step.show_finding(finding)
        if finding.place is not None and not (now is not None and is_middle(now.scene, node, finding.place)):
            self.desk.go_near(finding.place, node)
        elif node >= 0:
            self.desk.selection.select(node)
            self.desk.commands.run("stage.focus")

    def _name_of_view(self) -> str:
        """The object in the middle of the picture."""
        middle = self.stage.rect().center()
        spot, shown = self.stage.spot_at(QPointF(middle)), self.stage.scene_shown
        return shown.node_names[spot.node].rsplit("/", 1)[-1] if spot is not None and shown is not None else ""

    # -- the step

    def go_to_step(self, step_id: str) -> None:
        """Show a step's bench; stage, camera and selection stay."""
        step = self.steps[step_id]
        if step.bench.parentWidget() is None or self.benches.indexOf(step.bench) < 0:
            self.benches.addWidget(step.bench)
        if step is not self.step or not step.active:
            if self.step.active:
                self.step.leave()
            self._shown_step = step_id
            step.enter()
        self.benches.setCurrentWidget(step.bench)
        self.bench_frame.show()
        self.top.mark(step_id)
        self._step_changed(step)

    def _step_changed(self, step: Step) -> None:
        if step is not self.step:
            return
        own = step.canvas()
        canvas = own or self.stage
        self.words.canvas_hints = step.hints() if own is not None else None
        if self.canvases.indexOf(canvas) < 0:
            self.canvases.addWidget(canvas)
        self.canvases.setCurrentWidget(canvas)
        self.picture.refresh()
        self.marks.refresh()

    def show_view(self, view: View) -> None:
        """Show the picture in another way."""
        self.stage.look.view = view
        for step in self.steps.values():
            step.view_shown(view)
        self.stage.redraw()
        self.words.refresh()

    # -- building

    def _build_started(self, number: int) -> None:
        self.desk.telling.over("build")
        self.desk.relighter.pause()
        self.rope.set_live(number, 0.0)

    def _build_ended(self, number: int, outcome: Outcome) -> None:
        self.rope.set_live(0, 0.0)
        if outcome.state in ("failed", "died", "tripwire"):
            self.desk.tell(f"Build {number}: {outcome.sentence}", "build")
        if outcome.state != "done":
            # What was shown before the build is shown again.
            self.desk.rope.look_again()

    # -- the frame

    def toggle_bench(self) -> None:
        """Fold the bench away, or bring it back."""
        self.bench_frame.setVisible(not self.bench_frame.isVisible())

    def toggle_look(self) -> None:
        """Between the dark and the light look."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        preferences = self.desk.preferences
        preferences.look = "light" if palette.THEME.name == "dark" else "dark"
        palette.apply(app, preferences.look)
        preferences.save()
        for widget in (self.stage, self.rope, self.strip):
            widget.update()

    def _quit(self) -> None:
        self.close()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        assert event is not None
        before, after = event.oldSize().width(), event.size().width()
        if before >= NARROW > after:
            self.bench_frame.hide()
        elif before < NARROW <= after:
            self.bench_frame.show()
        super().resizeEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        assert event is not None
        data = event.mimeData()
        if data is not None and any(is_openable(Path(url.toLocalFile())) for url in data.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        assert event is not None
        data = event.mimeData()
        for url in data.urls() if data is not None else []:
            path = Path(url.toLocalFile())
            if is_openable(path):
                event.acceptProposedAction()
                self.open(path)
                return

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.placing.keep()
        self.sample.close()
        for step in self.steps.values():
            step.close()
        self.desk.queue.close()
        self.desk.builds.close()
        self.desk.relighter.close()
        self.knots.close()
        self.desk.close()
        self.stage.close_renderer()
        super().closeEvent(event)


def _column(owner: QWidget, *widgets: QWidget) -> QVBoxLayout:
    rows = QVBoxLayout(owner)
    rows.setContentsMargins(0, 0, 0, 0)
    rows.setSpacing(0)
    for widget in widgets:
        rows.addWidget(widget)
    return rows
