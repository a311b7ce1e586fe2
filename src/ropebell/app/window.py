"""The frame: steps on top, the rope at the left, the stage, the strip, the bench."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QResizeEvent,
)
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app import palette
from ropebell.app.actions import STEPS, Actions
from ropebell.app.benches.build import BuildBench
from ropebell.app.benches.charts import ChartsBench
from ropebell.app.benches.later import LaterBench
from ropebell.app.benches.level import LevelBench
from ropebell.app.benches.lights import LightsBench
from ropebell.app.benches.recipe import RecipeBench
from ropebell.app.benches.start import StartBench
from ropebell.app.builds import Builds
from ropebell.app.chart_views import ChartViews
from ropebell.app.commands import Commands
from ropebell.app.exposure import Exposure
from ropebell.app.face_finder import FaceFinder
from ropebell.app.finder import Finder
from ropebell.app.frame import Notice, TopBar
from ropebell.app.overlays import Overlays
from ropebell.app.picture import Picture
from ropebell.app.places import Places
from ropebell.app.preferences import Preferences
from ropebell.app.relight import ALL_BOUNCES, Relighter
from ropebell.app.rope import Rope
from ropebell.app.sample import SampleWriter
from ropebell.app.session import Session
from ropebell.app.showing import Showing
from ropebell.app.stage.pages import PageView
from ropebell.app.stage.widget import Stage
from ropebell.app.strip import Strip
from ropebell.app.strip_words import StripWords
from ropebell.app.variants import Variants
from ropebell.build.project import is_openable
from ropebell.build.result import Outcome
from ropebell.level.brief import Box
from ropebell.level.finding import Finding
from ropebell.level.scene import index_of
from ropebell.light.view import View

NARROW = 1100
# Single bounces that are stepped through; later ones are too dark to look at.
MOST_LOOKS = 6
EMPTY = "Drop a level here, or open one with Ctrl+O.\nRope Bell reads glTF (.gltf, .glb) and Wavefront OBJ."


class Window(QMainWindow):
    """One project in one window."""

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.preferences = preferences
        self.session = Session(self)
        self.builds = Builds(self.session, self)
        self.builds.looks_from = self._looks_from
        self.relighter = Relighter(self.session, self)
        self.commands = Commands(self)
        self.stage, self.strip, self.rope = Stage(), Strip(), Rope()
        self.pages = PageView()
        self.showing = Showing(self.session, self)
        self.overlays = Overlays(self)
        self.picture, self.chart_views, self.strip_words = Picture(self), ChartViews(self), StripWords(self)
        self.variants = Variants(self.session, self)
        self.places = Places(self.session, self.stage, self._name_of_view, self)
        self.finder = Finder(self.commands, self)
        self.exposure = Exposure(self.stage, self)
        self.sample = SampleWriter(self)
        self.step = "Level"
        self.setWindowTitle("Rope Bell")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self._lay_out()
        self.face_finder = FaceFinder(self.session, self.stage)
        self.actions_ = Actions(self)
        self.actions_.register()
        self._connect()
        self.go_to_step("Level")
        self.stage.message = EMPTY
        self.stage.setFocus()
        self.strip_words.refresh()

    # -- building the frame

    def _lay_out(self) -> None:
        self.top = TopBar(self.commands)
        self.benches = QStackedWidget()
        self.level_bench = LevelBench(
            self.session, StartBench(self.preferences, self.commands, self.open), self.commands, self.preferences
        )
        self.charts_bench = ChartsBench(self.session)
        self.lights_bench = LightsBench(self.session)
        self.recipe_bench = RecipeBench(self.session)
        self.build_bench = BuildBench(self.session, self.builds, self.commands)
        made: dict[str, QWidget] = {
            "Level": self.level_bench,
            "Charts": self.charts_bench,
            "Lights": self.lights_bench,
            "Recipe": self.recipe_bench,
            "Build": self.build_bench,
        }
        self.bench_of: dict[str, QWidget] = {step: made.get(step) or LaterBench(step) for step in STEPS}
        for bench in self.bench_of.values():
            self.benches.addWidget(bench)
        self.bench_frame = QFrame()
        self.bench_frame.setProperty("role", "panel")
        self.bench_frame.setMinimumWidth(260)
        bench_rows = QVBoxLayout(self.bench_frame)
        bench_rows.setContentsMargins(0, 0, 0, 0)
        bench_rows.addWidget(self.benches)
        self.notice = Notice()
        middle = QWidget()
        middle_rows = QVBoxLayout(middle)
        middle_rows.setContentsMargins(0, 0, 0, 0)
        middle_rows.setSpacing(0)
        middle_rows.addWidget(self.notice)
        self.views = QStackedWidget()
        self.views.addWidget(self.stage)
        self.views.addWidget(self.pages)
        middle_rows.addWidget(self.views, 1)
        middle_rows.addWidget(self.strip)
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
        whole = QWidget()
        rows = QVBoxLayout(whole)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        rows.addWidget(self.top)
        line = QFrame()
        line.setProperty("role", "rule")
        rows.addWidget(line)
        rows.addLayout(lower, 1)
        self.setCentralWidget(whole)

    def _connect(self) -> None:
        s, b = self.session, self.builds
        s.opened.connect(self._level_opened)
        s.edited.connect(self.strip_words.refresh)
        s.selected.connect(self._selected)
        s.builds_changed.connect(lambda: self.rope.set_knots(s.knots))
        s.looking_at.connect(self.picture.look_at)
        s.looking_at.connect(lambda _: self._show_mover_here())
        self.lights_bench.page_changed.connect(lambda _: self._show_mover_here())
        s.stale_changed.connect(self._stale_known)
        s.trouble.connect(self.tell)
        s.told.connect(self.tell)
        s.rearranged.connect(self.picture.rearranged)
        s.hidden_changed.connect(self.picture.apply_hidden)
        s.follow(self.picture.show_glow)
        self.commands.failed.connect(self.tell)
        self.commands.done.connect(lambda _: self.notice.hide())
        self.sample.told.connect(self._say_on_stage)
        self.sample.ready.connect(self.open)
        self.sample.failed.connect(self.tell)
        b.started.connect(self._build_started)
        b.progress.connect(lambda _stage, share, _left: self.rope.set_live(b.number, share))
        b.picture.connect(self.picture.show_live)
        b.ended.connect(self._build_ended)
        self.rope.chosen.connect(s.look_at)
        self.stage.pointed.connect(self.strip_words.pointed)
        self.stage.picked.connect(self._picked)
        self.stage.camera_changed.connect(self.strip_words.refresh_eye)
        self.exposure.changed.connect(self.strip_words.refresh)
        self.overlays.connect()
        self.relighter.relit.connect(self.picture.show_relit)
        self.relighter.ready_changed.connect(self.strip_words.refresh)
        self.stage.picked_more.connect(self._picked_more)
        self.stage.camera_changed.connect(self._overlay_follows)
        self.level_bench.checks.go_to.connect(self._go_to_finding)
        self.level_bench.region.wants_start.connect(self._start_here)
        self.level_bench.region.wants_box.connect(self._box_here)
        self.face_finder.found.connect(self.overlays.show_faces)
        self.face_finder.go_to.connect(lambda group: self._look_at_place(group.place, group.node))
        self.charts_bench.page_changed.connect(lambda _: self.chart_views.page_changed())
        self.charts_bench.charted.connect(self.chart_views.charted)
        self.charts_bench.go_to.connect(lambda _: self.focus())
        self.pages.picked.connect(self.chart_views.picked)
        self.pages.pointed.connect(self.chart_views.pointed)
        self.lights_bench.go_to.connect(lambda place: self._look_at_place(place, -1))
        self.lights_bench.snap_changed.connect(self._set_snap)
        self.stage.camera_changed.connect(self._suggest_place)

    # -- opening

    def ask_and_open(self) -> None:
        """Ask for a level or project and open it."""
        kinds = "Levels and projects (*.gltf *.glb *.obj project.toml);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self, "Open a level or project", "", kinds)
        if path:
            self.open(Path(path))

    def open(self, target: Path) -> None:
        """Open a project or level; the window stays usable meanwhile."""
        if self.builds.running:
            self.tell("A build is running. Stop it before another level is opened.")
            return
        self.notice.hide()
        self.stage.message = f"Reading {target.name}"
        self.stage.update()
        self.picture.restored = False
        self._target = target
        self.session.open(target)

    def open_sample(self) -> None:
        """Write the sample level and its past into the person's data folder, if they are not there, and open it."""
        if self.builds.running:
            self.tell("A build is running. Stop it before another level is opened.")
            return
        base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
        self.sample.write(Path(base) / "ropebell" / "tide-mill")

    def _say_on_stage(self, words: str) -> None:
        self.notice.hide()
        if self.session.now is None:
            self.stage.message = words
            self.stage.update()
        else:
            self.tell(f"{words}.")

    def reload(self) -> None:
        """Read the level's file again; camera and selection stay."""
        if not self.builds.running:
            self.session.reload()

    def _level_opened(self) -> None:
        now = self.session.now
        assert now is not None
        self.preferences.opened(self._target)
        self.top.name.setText(now.project.name)
        self.setWindowTitle(f"{now.project.name} - Rope Bell")
        self.stage.message = "" if len(now.scene) else "The level has no surfaces."
        self.rope.set_knots([])
        self.rope.set_stale(None)
        self.builds.get_ready()

    # -- the hand

    def toggle_only_selected(self) -> None:
        """Only the selected lights give light, or all of them."""
        self.relighter.set_only_selected(not self.relighter.only_selected)

    def next_bounce(self) -> None:
        """Direct light alone, then one bounce after the other, then all again."""
        bounce = self.relighter.bounce + 1
        self.relighter.set_bounce(bounce if bounce <= min(self.relighter.bounces, MOST_LOOKS) else ALL_BOUNCES)

    def _selected(self, node: int) -> None:
        self.picture.mark_chosen(node)
        self.pages.choose(self.session.chosen)
        if self.views.currentWidget() is self.pages and node >= 0:
            self.pages.go_to(node)

    def _picked(self, node: int) -> None:
        self.session.select(self.picture.node_of_level(node))

    def focus(self) -> None:
        """Bring the selection into the picture."""
        node = self.picture.node_on_stage(self.session.selection)
        self.stage.focus_on(node)

    def _picked_more(self, node: int) -> None:
        """Add to the selection, or take out of it."""
        node = self.picture.node_of_level(node)
        chosen = self.session.chosen
        if node >= 0:
            self.session.select_many(tuple(n for n in chosen if n != node) if node in chosen else (*chosen, node))

    def _overlay_follows(self) -> None:
        """Grips keep their size in the picture."""
        if self.step == "Lights":
            self.overlays.refresh()

    def _suggest_place(self) -> None:
        """New lights stand in front of the eye, not behind what is there."""
        ahead = self.stage.place_ahead(2.0)
        x, y, z = (round(float(v), 2) for v in ahead)
        self.lights_bench.lights.suggest_place((x, y, z))
        self.lights_bench.probes.suggest_place((x, y, z))
        self._show_mover_here()

    def _show_mover_here(self) -> None:
        if self.step == "Lights" and self.lights_bench.pages.shown == 3:
            self.lights_bench.probes.show_light(self.picture.mover_here())

    def _set_snap(self, step: float) -> None:
        self.overlays.snap = step

    def _look_at_place(self, place: tuple[float, float, float], node: int) -> None:
        """Bring a place into the middle of the picture, with a little room round it."""
        middle = np.array(place)
        if node >= 0:
            self.session.select(node)
        self.overlays.show_fault(place)
        self.stage.go_near(middle)

    def _go_to_finding(self, finding: Finding) -> None:
        now = self.session.now
        node = index_of(now.scene, finding.object) if now is not None else -1
        self.overlays.show_fault(finding.place)
        if node >= 0:
            self.session.select(node)
        if finding.place is not None:
            self.stage.go_near(np.array(finding.place))
        elif node >= 0:
            self.focus()

    def _start_here(self) -> None:
        """Players begin on the floor below the eye."""
        floor = self.stage.floor_below_eye()
        if floor is None:
            self.tell("There is no floor below. Stand over a floor and try again.")
            return
        x, y, z = (round(float(v), 2) for v in floor)
        self.level_bench.region.set_start((x, y, z))

    def _box_here(self) -> None:
        """A box round the selection, or round what lies a few metres ahead."""
        now, chosen = self.session.now, self.session.chosen
        if now is None:
            return
        rows = np.isin(now.scene.node, chosen)
        if rows.any():
            points = now.scene.corners[rows].reshape(-1, 3)
            low, high = points.min(axis=0) - 0.2, points.max(axis=0) + 0.2
        else:
            middle = np.array(self.stage.camera.eye) + 4.0 * self.stage.camera.forward
            low, high = middle - 2.0, middle + 2.0
        a, b = (np.round(v, 2).tolist() for v in (low, high))
        self.level_bench.region.add_box(Box((a[0], a[1], a[2]), (b[0], b[1], b[2])))

    def _name_of_view(self) -> str:
        """The object in the middle of the picture."""
        middle = self.stage.rect().center()
        spot, shown = self.stage.spot_at(QPointF(middle)), self.stage.scene_shown
        return shown.node_names[spot.node].rsplit("/", 1)[-1] if spot is not None and shown is not None else ""

    def ask_variant(self) -> None:
        """Ask for a name and keep what is decided now as a variant."""
        name, done = QInputDialog.getText(self, "Keep a variant", "Name of the variant")
        if done and name.strip():
            self.variants.keep(name.strip())

    def show_listed(self) -> None:
        """Hide all that the object table does not list."""
        model = self.level_bench.model
        self.showing.only({model.at(row).path for row in range(model.rowCount())})

    def toggle_walk(self) -> None:
        """Walk at eye height from the floor below, or fly again."""
        if not self.stage.walking:
            floor = self.stage.floor_below_eye()
            if floor is None:
                self.tell("There is no floor below to walk on. Move over a floor and try again.")
                return
            self.stage.stand_at(floor)
        self.stage.walking = not self.stage.walking
        self.strip_words.refresh()

    # -- looks of the picture

    def set_view(self, view: str) -> None:
        """Show another view of the same light."""
        self.stage.look.view = view
        self.stage.redraw()
        self.strip_words.refresh()

    def toggle_by_texel(self) -> None:
        """Texels as they are, or interpolated as in a game."""
        self.stage.look.by_texel = not self.stage.look.by_texel
        self.stage.redraw()
        self.strip_words.refresh()

    # -- building

    def start_build(self) -> None:
        """Build, and turn to the Build step to watch."""
        self.go_to_step("Build")
        if self.builds.running:
            self.builds.again()
        else:
            self.builds.start()

    def _looks_from(self) -> View | None:
        return self.stage.camera.cone(self.stage.width() / max(self.stage.height(), 1))

    @property
    def can_build(self) -> bool:
        """Whether a build would do something: none is under way, or what is set changed since it began."""
        return self.session.now is not None and (not self.builds.running or bool(self.session.behind))

    def _build_started(self, number: int) -> None:
        self.notice.hide()
        self.relighter.pause()
        self.picture.relit = None
        self.rope.set_live(number, 0.0)
        self.strip_words.refresh()

    def _build_ended(self, number: int, outcome: Outcome) -> None:
        self.rope.set_live(0, 0.0)
        self.picture.live = None
        if outcome.state in ("failed", "died", "tripwire"):
            self.tell(f"Build {number}: {outcome.sentence}")
        if outcome.state != "done":
            # What was shown before the build is shown again.
            self.session.look_at(self.session.shown_number)
        self.strip_words.refresh()

    def _stale_known(self) -> None:
        self.rope.set_stale(self.session.stale)
        self.strip_words.refresh()

    # -- the frame

    def go_to_step(self, step: str) -> None:
        """Show a step's bench; stage, camera and selection stay."""
        before, self.step = self.step, step
        self.benches.setCurrentWidget(self.bench_of[step])
        self.top.mark(step)
        self.charts_bench.set_active(step == "Charts")
        if step == "Charts":
            self.chart_views.enter(before)
        elif before == "Charts":
            self.chart_views.leave()
        self.overlays.refresh()

    def toggle_bench(self) -> None:
        """Fold the bench away, or bring it back."""
        self.bench_frame.setVisible(not self.bench_frame.isVisible())

    def quit(self) -> None:
        """Close the window; a running build is stopped and kept as such."""
        self.close()

    def toggle_look(self) -> None:
        """Between the dark and the light look."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        self.preferences.look = "light" if palette.THEME.name == "dark" else "dark"
        palette.apply(app, self.preferences.look)
        self.preferences.save()
        for widget in (self.stage, self.rope, self.strip):
            widget.update()

    def tell(self, sentence: str) -> None:
        """Show a trouble above the stage until the next thing is done."""
        self.stage.message = EMPTY if self.session.now is None else ""
        self.stage.update()
        self.notice.tell(sentence)

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
        self.sample.close()
        self.builds.close()
        self.relighter.close()
        self.session.close()
        self.stage.close_renderer()
        super().closeEvent(event)
