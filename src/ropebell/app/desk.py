"""The desk: all that a step of the window works with. A step is made from it and never sees the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
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
from ropebell.level.model import F64

if TYPE_CHECKING:
    from ropebell.app.builds import Builds
    from ropebell.app.picture import Picture
    from ropebell.app.relight import Relighter
    from ropebell.app.showing import Showing
    from ropebell.app.stage.widget import Stage
    from ropebell.app.steps.step import Words
    from ropebell.app.views import View
    from ropebell.level.finding import Finding


class Desk(QObject):
    """State first, then what acts on it; everything here tells of changes by signals.

    Attributes:
        builds, relighter, stage, picture, showing: put on the desk by the window before any bench is made, as are
            acts of the frame: open_path opens a level or project; go_to_step shows a step by its id; show_view shows
            the picture in another way; go_to_finding brings one into the picture; say_spot speaks of what is under
            the pointer.
    """

    builds: Builds
    relighter: Relighter
    stage: Stage
    picture: Picture
    showing: Showing
    open_path: Callable[[Path], None]
    go_to_step: Callable[[str], None]
    show_view: Callable[[View], None]
    go_to_finding: Callable[[Finding], None]
    say_spot: Callable[[Words], None]

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

    def go_near(self, place: tuple[float, float, float], node: int = -1) -> None:
        """Bring a place into the middle of the picture, with a little room round it, and select its object."""
        if node >= 0:
            self.selection.select(node)
        self.stage.eye.go_near(np.array(place))

    def pixel_size(self, place: F64) -> float:
        """Metres that a pixel of the stage spans at a place."""
        return self.stage.eye.pixel_size(place)

    def close(self) -> None:
        """Save and end the background work."""
        self.findings.close()
        self.rope.close()
        self.level.close()
        self.document.close()
        self.jobs.close()
