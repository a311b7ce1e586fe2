"""The state of the work at the window: what is open, chosen, found wrong, built; what acts on it comes on the desk."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from ropebell.app.commands import Commands
from ropebell.app.document import Document
from ropebell.app.findings import Findings
from ropebell.app.jobs import Jobs
from ropebell.app.level_state import LevelState
from ropebell.app.preferences import Preferences
from ropebell.app.rope_state import RopeState
from ropebell.app.selection import Selection
from ropebell.app.telling import Telling


class State(QObject):
    """All that those who act in the window share; everything here tells of changes by signals."""

    def __init__(self, preferences: Preferences, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.preferences = preferences
        self.telling = Telling(self)
        self.jobs = Jobs(self)
        self.jobs.failed.connect(lambda sentence: self.tell(sentence, "reading"))
        self.document = Document(self.telling, self)
        self.level = LevelState(self.document, self.jobs, self.telling, self)
        self.selection = Selection(self.level, self.document, self)
        self.findings = Findings(self.level, self.document, self.jobs, self.telling, self)
        self.rope = RopeState(self.level, self.document, self.jobs, self)
        self.commands = Commands(self)
        # Metres that a new place is snapped to, 0 for none.
        self.snap = 0.0

    def tell(self, sentence: str, matter: str = "trouble") -> None:
        """Tell of a trouble or a refusal."""
        self.telling.trouble(sentence, matter)

    def news(self, sentence: str) -> None:
        """Tell of something that is no trouble."""
        self.telling.news(sentence)

    @property
    def settled(self) -> bool:
        """Whether nothing is under way or about to be: no job, and what is stale and wrong is known."""
        return not self.jobs.busy and not self.rope.due and not self.findings.due

    def close(self) -> None:
        """Save and end the background work."""
        self.findings.close()
        self.rope.close()
        self.level.close()
        self.document.close()
        self.jobs.close()
