"""Building from the window: starts the build process, follows its journal, decides nothing of its own."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.reading import Opened, within
from ropebell.app.stage.backdrop import backdrop_of
from ropebell.app.stage.drawn import Charted, charted_on, vertex_table
from ropebell.app.stage.picture import StagePicture
from ropebell.app.state import State
from ropebell.arrays import load_array
from ropebell.build import events
from ropebell.build.forms import CHARTS
from ropebell.build.numbering import next_build_folder
from ropebell.build.plan import plan_of
from ropebell.build.project import Project
from ropebell.build.request import Request
from ropebell.build.result import Outcome
from ropebell.build.runner import BuildProcess, Standby
from ropebell.build.scope import EVERYTHING, Scope
from ropebell.build.store import Store
from ropebell.errors import BuildError, step, why
from ropebell.files import open_regular
from ropebell.level.brief import Box
from ropebell.level.finding import Finding
from ropebell.level.model import I32
from ropebell.light.pages import Filling
from ropebell.light.view import View

POLL_MS = 60
# Between two pictures, so many times as long as drawing one takes.
PATIENCE = 4
# Texels round charts that are filled while a build runs: what smooth drawing reads.
LIVE_PADDING = 2


@dataclass(frozen=True)
class Step:
    """A stage as the window shows it.

    Attributes:
        name: of the stage.
        state: begun, done or reused.
        seconds: so far or in all.
    """

    name: str
    state: str
    seconds: float


@dataclass(frozen=True, eq=False)
class LivePicture:
    """Light of a build that still runs, on the level as it was when the build began.

    Attributes:
        what: what it is, for the strip.
    """

    picture: StagePicture
    what: str


def request_of(p: Project, out: Path, rates: dict[str, float], scope: Scope, **more: Any) -> Request:
    """A request asks for what a project holds now: its level, its decisions, and what its plan says stops a build."""
    return Request(
        p.level, out, p.cache, p.recipe, p.sky, p.brief, p.tables, p.sky_picture, rates, scope=scope,
        stop_when=plan_of(p).stop_when, **more,
    )  # fmt: skip


class Builds(QObject):
    """The one build that may run.

    Signals:
        started: number of the build.
        progress: stage, share 0 … 1, remaining seconds.
        stages_changed: list of `Step`.
        picture: a `LivePicture`.
        warned: list of `Finding`, all so far.
        ended: number and `Outcome`.
        rested: whether the build rests now.
    """

    started = pyqtSignal(int)
    progress = pyqtSignal(str, float, float)
    stages_changed = pyqtSignal(list)
    picture = pyqtSignal(object)
    warned = pyqtSignal(list)
    ended = pyqtSignal(int, object)
    rested = pyqtSignal(bool)

    def __init__(self, state: State, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._process: BuildProcess | None = None
        self.number = 0
        self.steps: dict[str, Step] = {}
        self.warnings: list[Finding] = []
        self._table = _Table()
        self._standby: Standby | None = None
        self._again, self._scope = False, EVERYTHING
        # From where the level is looked at, so that this is lit first.
        self.looks_from: Callable[[], View | None] = lambda: None
        # Where drawing is slow, pictures come less often: they must not hold up the build they are of.
        self.seconds_to_draw: Callable[[], float] = lambda: 0.0
        self._latest: events.Picture | None = None
        self._shown_at = -1e9
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._follow)
        state.rope.stale_changed.connect(self._expect_another)

    @property
    def running(self) -> bool:
        """Whether a build runs."""
        return self._process is not None

    @property
    def pid(self) -> int:
        """Process id of the running build, 0 if none runs."""
        return self._process.pid if self._process is not None else 0

    def start(self, scope: Scope = EVERYTHING) -> None:
        """Build what is open, as it is set now.

        Args:
            scope: how much of it.

        Raises:
            BuildError: the project's folder cannot be written.
            LevelError: the picture of the sky cannot be read.
        """
        now = self._state.level.now
        if now is None or self.running:
            return
        now.project.require_sky()
        try:
            self._state.document.save_for_build()
            folder = next_build_folder(now.project.builds)
        except OSError as error:
            remedy = f"{step(error)}; earlier builds are untouched"
            raise BuildError(f"no build can be begun ({why(error)})", now.project.folder, remedy) from error
        now = self._state.level.now
        assert now is not None
        p = now.project
        self.number = int(folder.name)
        self.steps, self.warnings, self._table = {}, [], _Table()
        self._latest, self._shown_at = None, -1e9
        self._process = BuildProcess(
            request_of(p, folder, self._state.rope.rates, scope, view=self.looks_from()),
            self._standby,
        )
        self._standby = None
        self._again, self._scope = False, scope
        self._state.rope.build_began()
        self._timer.start()
        self.started.emit(self.number)

    def again(self) -> None:
        """Stop the running build and build what is set now; what it has shot by then is taken over."""
        if self._process is not None:
            self._again = True
            self._process.stop()

    def _expect_another(self) -> None:
        if self.running and self._state.rope.behind:
            self.get_ready()

    def get_ready(self) -> None:
        """Keep a process waiting, so that the next build begins at once."""
        if self._standby is None:
            now = self._state.level.now
            self._standby = Standby((now.project.level, now.project.cache) if now is not None else None)

    @property
    def resting(self) -> bool:
        """Whether the running build rests."""
        return self._process is not None and self._process.resting

    def toggle_rest(self) -> None:
        """Let the running build rest, or go on."""
        if self._process is None:
            return
        if self._process.resting:
            self._process.go_on()
        else:
            self._process.rest()
        self.rested.emit(self._process.resting)

    def stop(self) -> None:
        """Ask the running build to stop, and begin no other; finished stages stay."""
        self._again = False
        if self._process is not None:
            self._process.stop()

    def _follow(self) -> None:
        process = self._process
        if process is None:
            return
        ended = process.poll()
        latest: events.Picture | None = None
        heard = set[type]()
        for event in process.new_events():
            heard.add(type(event))
            if isinstance(event, events.Picture):
                latest = event
            else:
                self._hear(event, process.request)
        # Once for all that came at a time.
        if events.Stage in heard:
            self.stages_changed.emit(list(self.steps.values()))
        if events.Warned in heard:
            self.warned.emit(self.warnings)
        self._latest = latest or self._latest
        rested = time.monotonic() - self._shown_at >= PATIENCE * self.seconds_to_draw()
        if self._latest is not None and rested and ended is None:
            self._show(self._latest, process.request)
            self._latest, self._shown_at = None, time.monotonic()
        if ended is not None:
            self._finish(ended)

    def _hear(self, event: events.Event, request: Request) -> None:
        if isinstance(event, events.Progress):
            self.progress.emit(event.stage, event.share, event.remaining)
        elif isinstance(event, events.Stage):
            self._note_stage(event)
        elif isinstance(event, events.Warned):
            self.warnings.append(event.finding)
        elif isinstance(event, events.Table):
            begun, table = self._state.rope.building, self._table
            if begun is not None:
                box = request.scope.box
                self._state.jobs.start("table", lambda: table.read(event, request.out, begun, box), lambda _: None)

    def _note_stage(self, event: events.Stage) -> None:
        name, before = event.stage, self.steps.get(event.stage)
        seconds = event.seconds + (before.seconds if before is not None else 0.0)
        state: str = event.state
        if before is not None and before.state == "done" and state == "reused":
            state = "done"
        self.steps[name] = Step(name, state, seconds)

    def _show(self, event: events.Picture, request: Request) -> None:
        path, what, table = request.out / event.file, event.what, self._table

        def read() -> LivePicture | None:
            known = table.known
            if known is None:
                return None
            try:
                field = _loaded(path)
            except (OSError, ValueError, EOFError):
                return None  # already replaced by a newer one
            filling, target, bare = known
            if field.shape != (len(target), 3) or field.dtype != np.float32:
                return None
            return LivePicture(bare.lit(filling.pages(field, target), None), what)

        def receive(picture: LivePicture | None) -> None:
            if picture is not None and self.running:
                self.picture.emit(picture)

        self._state.jobs.start("picture", read, receive)

    def _finish(self, ended: Outcome) -> None:
        self._timer.stop()
        self._process, self._table = None, _Table()
        self._state.rope.build_ended()
        self._state.jobs.forget("picture")
        self._state.rope.refresh(show_newest=ended.state == "done")
        self.get_ready()
        self.ended.emit(self.number, ended)
        if self._again and ended.state in ("stopped", "done"):
            try:
                self.start(self._scope)
            except BuildError as error:  # no command is under way that would tell of it
                self._state.tell(str(error), "build")

    def close(self) -> None:
        """End a running build; it is kept as stopped."""
        self._again = False
        if self._process is not None:
            self._process.stop()
            while (ended := self._process.poll()) is None:
                time.sleep(0.02)
            self._finish(ended)
        if self._standby is not None:
            self._standby.close()
            self._standby = None


class _Table:
    """Where the texels of a running build lie, read and used on one thread of the window's jobs.

    Attributes:
        known: how texels fill pages, (N,) texel that speaks for each, and the level the build is of, on its charts.
    """

    def __init__(self) -> None:
        self.known: tuple[Filling, I32, StagePicture] | None = None
        self._charts = ""
        self._cut: Opened | None = None

    def read(self, event: events.Table, out: Path, begun: Opened, box: Box | None) -> None:
        """Take in what a `table` event tells of; charts that are known already are not read again.

        Args:
            begun: the level as it was when the build began. box: all that is built of it.
        """
        try:
            target = _loaded(out / event.target)
        except (OSError, ValueError, EOFError):
            return
        if target.ndim != 1 or target.dtype != np.int32 or not _within(target, len(target)):
            return
        if self.known is not None and event.charts == self._charts and len(target) == len(self.known[1]):
            self.known = (self.known[0], target, self.known[2])
            return
        if box is not None:
            self._cut = self._cut or within(begun, box)
            begun = self._cut
        laid = CHARTS.of(Store(Path(event.cache)), event.charts, T=len(begun.baking))
        if laid is None:
            return
        atlas, texels, *_ = laid
        if len(target) != len(texels):
            return
        charted = charted_on(begun.scene, Charted(np.asarray(atlas.uv), atlas.lightmap, atlas.side))
        vertices = vertex_table(begun.scene, begun.space, charted)
        self._charts = event.charts
        p = begun.project
        sky = backdrop_of(p.brief.sky_now, p.sky_picture, p.sky)
        bare = StagePicture(begun.level, begun.scene, begun.space, vertices, charted, sky=sky)
        self.known = (Filling.of(texels, LIVE_PADDING), target, bare)


def _within(target: I32, count: int) -> bool:
    return not len(target) or bool(target.min() >= 0 and target.max() < count)


def _loaded(path: Path) -> NDArray[Any]:
    """An array of a build that is under way."""
    with open_regular(path) as file:
        return load_array(file)
