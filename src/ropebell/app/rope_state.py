"""The builds of the open level: which there are, which one is looked at, and what is stale."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.document import Document
from ropebell.app.jobs import Jobs
from ropebell.app.level_state import LevelState
from ropebell.app.reading import Opened, Shown, read_build, read_builds
from ropebell.build.knots import Knot
from ropebell.build.manifest import Manifest
from ropebell.build.result import Result
from ropebell.build.stale import Stale, changes_since, stale_stages

STALE_AFTER_MS = 120


class RopeState(QObject):
    """Follows the level, its settings and its builds.

    Attributes:
        knots: all builds, oldest first. shown, shown_number: the one that is looked at; None and 0 for none.
        manifest: of the last finished build. rates: seconds per unit of work, by stage.
        stale: what the next build would have to do, None while it is not known.
        behind: what changed since the build began that is under way, in words. building: what that one builds.
        movers_below: whether moving things are lit by what is below them instead of by probes.

    Signals:
        builds_changed: the list of builds is new.
        looking_at: another build is looked at; a `Shown` or None.
        stale_changed: what the next build would have to do is known anew.
        paired: number of a build that is to be compared with the one that is shown.
    """

    builds_changed = pyqtSignal()
    looking_at = pyqtSignal(object)
    stale_changed = pyqtSignal()
    paired = pyqtSignal(int)

    def __init__(self, level: LevelState, document: Document, jobs: Jobs, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._level, self._jobs = level, jobs
        self.knots: list[Knot] = []
        self.shown: Result | None = None
        self.shown_number = 0
        self.manifest: Manifest | None = None
        self.rates: dict[str, float] = {}
        self.stale: Stale | None = None
        self.behind: tuple[str, ...] = ()
        self.building: Opened | None = None
        self.movers_below = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(STALE_AFTER_MS)
        self._timer.timeout.connect(self._find_stale)
        level.opened.connect(self._opened)
        level.rearranged.connect(self._timer.start)
        document.edited.connect(self._timer.start)

    @property
    def due(self) -> bool:
        """Whether it is about to be found what is stale."""
        return self._timer.isActive()

    @property
    def finished(self) -> list[int]:
        """Numbers of the builds that were done, oldest first."""
        return [k.number for k in self.knots if k.outcome.state == "done"]

    def _opened(self) -> None:
        self.knots, self.stale, self.manifest, self.rates = [], None, None, {}
        self.shown, self.shown_number, self.building, self.behind = None, 0, None, ()
        self.looking_at.emit(None)
        self.refresh(show_newest=True)

    def refresh(self, show_newest: bool = False) -> None:
        """Read the list of builds anew, in the background."""
        now = self._level.now
        if now is None:
            return
        builds = now.project.builds

        def receive(found: tuple[list[Knot], Manifest | None, dict[str, float]]) -> None:
            self.knots, self.manifest, self.rates = found
            self.builds_changed.emit()
            self._timer.start()
            if show_newest and self.finished:
                self.look_at(self.finished[-1])

        self._jobs.start("builds", lambda: read_builds(builds), receive)

    def look_at(self, number: int) -> None:
        """Show a build on the stage; 0 shows the level as it is now, without light."""
        knot = next((k for k in self.knots if k.number == number), None)
        if knot is None or knot.outcome.state != "done":
            self._jobs.forget("look")
            self.shown, self.shown_number = None, number if knot is not None else 0
            self.looking_at.emit(None)
            return

        def receive(shown: Shown) -> None:
            self.shown, self.shown_number = shown.result, number
            self.looking_at.emit(shown)

        now, below = self._level.now, self.movers_below
        assert now is not None
        self._jobs.start("look", lambda: read_build(knot.folder, now, below), receive)

    def look_again(self) -> None:
        """Show the same build on the level as it is now."""
        self.look_at(self.shown_number)

    def step(self, by: int) -> None:
        """Look at the finished build before (−1) or after (+1) the one shown."""
        done = self.finished
        if not done:
            return
        if self.shown_number not in done:
            self.look_at(done[-1])
            return
        at = done.index(self.shown_number) + by
        if 0 <= at < len(done):
            self.look_at(done[at])

    def _find_stale(self) -> None:
        now, manifest, rates = self._level.now, self.manifest, self.rates
        if now is None:
            return

        def receive(stale: Stale) -> None:
            self.stale = stale
            self.stale_changed.emit()

        self._jobs.start("stale", lambda: stale_stages(now.baking, now.project, manifest, rates), receive)
        self._find_behind()

    def build_began(self) -> None:
        """Note what the build that just began is made of."""
        self.building, self.behind = self._level.now, ()

    def build_ended(self) -> None:
        """No build is under way any more."""
        self.building, self.behind = None, ()

    def _find_behind(self) -> None:
        now, begun = self._level.now, self.building
        if now is None or begun is None:
            return

        def receive(behind: tuple[str, ...]) -> None:
            if self.building is begun:
                self.behind = behind
                self.stale_changed.emit()

        self._jobs.start("behind", lambda: changes_since(now.baking, now.project, begun.baking, begun.project), receive)

    def close(self) -> None:
        """Find nothing more."""
        self._timer.stop()
