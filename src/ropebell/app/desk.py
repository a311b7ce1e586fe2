"""The desk: all that a step of the window works with. A step is made from it and never sees the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from ropebell.app.builds import Builds
from ropebell.app.picture import Picture
from ropebell.app.queueing import Queueing
from ropebell.app.relight import Relighter
from ropebell.app.showing import Showing
from ropebell.app.stage.widget import Stage
from ropebell.app.state import State
from ropebell.app.telling import Words
from ropebell.app.views import View
from ropebell.level.finding import Finding
from ropebell.level.model import F64


class Desk(State):
    """The state of the work, and what acts on it.

    Attributes:
        builds, queue, relighter, stage, picture, showing: put on the desk by the window before any bench is made, as
            are acts of the frame:
            open_path opens a level or project; go_to_step shows a step by its id; show_view shows
            the picture in another way; go_to_finding brings one into the picture; say_spot speaks of what is under
            the pointer.
    """

    builds: Builds
    queue: Queueing
    relighter: Relighter
    stage: Stage
    picture: Picture
    showing: Showing
    open_path: Callable[[Path], None]
    go_to_step: Callable[[str], None]
    show_view: Callable[[View], None]
    go_to_finding: Callable[[Finding], None]
    say_spot: Callable[[Words], None]

    def go_near(self, place: tuple[float, float, float], node: int = -1) -> None:
        """Bring a place into the middle of the picture, with a little room round it, and select its object."""
        if node >= 0:
            self.selection.select(node)
        self.stage.eye.go_near(np.array(place))

    def pixel_size(self, place: F64) -> float:
        """Metres that a pixel of the stage spans at a place."""
        return self.stage.eye.pixel_size(place)
