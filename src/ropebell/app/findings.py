"""What is found in the level before a build, what of it is new, and what is done about it."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.document import Document
from ropebell.app.jobs import Jobs
from ropebell.app.level_state import LevelState
from ropebell.app.telling import Telling
from ropebell.app.undoing import Step
from ropebell.build.checked import read_checked, write_checked
from ropebell.build.precheck import check_kept
from ropebell.build.store import Store
from ropebell.checks.remedies import apply_fix
from ropebell.checks.run import Sorted, sort_out
from ropebell.errors import why
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding

CHECK_AFTER_MS = 250
NOTHING = Sorted((), (), (), ())


class Findings(QObject):
    """Follows the level.

    Attributes:
        now: what is found.

    Signals:
        checked: it is known anew.
    """

    checked = pyqtSignal()

    def __init__(
        self, level: LevelState, document: Document, jobs: Jobs, telling: Telling, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._level, self._document, self._jobs, self._telling = level, document, jobs, telling
        self.now = NOTHING
        self._seen: frozenset[str] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(CHECK_AFTER_MS)
        self._timer.timeout.connect(self._check)
        level.opened.connect(self._opened)
        for signal in (level.rearranged, level.recolored):
            signal.connect(self._timer.start)

    @property
    def due(self) -> bool:
        """Whether a check is about to begin."""
        return self._timer.isActive()

    def _opened(self) -> None:
        assert self._level.now is not None
        self.now, self._seen = NOTHING, read_checked(self._level.now.project)
        self._timer.start()

    def _check(self) -> None:
        now, seen = self._level.now, self._seen
        if now is None:
            return

        def find() -> Sorted:
            return sort_out(check_kept(now.gathered.subject, Store(now.project.cache)), seen, now.project.brief.known)

        def receive(found: Sorted) -> None:
            self.now = found
            self.checked.emit()

        self._jobs.start("check", find, receive)

    def look_again(self) -> None:
        """More is known that the checks rest on."""
        self._timer.start()

    def remember(self) -> None:
        """What is found now counts as seen, undoably: from here on, only what comes later is new."""
        if self._level.now is None:
            return
        found, before = self.now, self._seen
        keys = frozenset(f.key for f in (*found.new, *found.old, *found.known))
        if keys != before:
            step = Step("All seen", lambda: self._remember(keys), lambda: self._remember(before))
            self._document.undo.push(step)

    def _remember(self, keys: frozenset[str] | None) -> None:
        now = self._level.now
        if now is None:
            return
        try:
            write_checked(now.project, keys)
        except OSError as error:
            self._telling.trouble(
                f"What was found cannot be kept ({why(error)}). Free some space or check permissions.", "save"
            )
            return
        self._seen = keys
        self._timer.start()

    def remedy(self, finding: Finding) -> None:
        """Apply a finding's remedy, undoably."""
        self._document.edit_brief(f"Remedy: {finding.kind}", lambda b: apply_fix(b, finding))

    def know(self, finding: Finding, note: str) -> None:
        """Accept a finding as fine here, with a note; an empty note takes that back."""

        def change(brief: Brief) -> Brief:
            known = {k: v for k, v in brief.known.items() if k != finding.key}
            return replace(brief, known={**known, finding.key: note} if note else known)

        self._document.edit_brief("Known here" if note else "No longer known", change)

    def close(self) -> None:
        """Check no more."""
        self._timer.stop()
