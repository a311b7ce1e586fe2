"""What lies over the picture whatever the step: found faces, and what had light and is no more."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject

from ropebell.app.desk import Desk
from ropebell.app.face_finder import FaceFinder
from ropebell.app.picture import Picture
from ropebell.app.stage.overlay import Line, Overlay, edge_lines
from ropebell.app.steps.step import Step, joined
from ropebell.level.model import F64

# More outlines than this would only hide the picture.
MOST_FACES = 3000
NONE: F64 = np.zeros((0, 3, 3))


class FrameMarks(QObject):
    """Keeps the stage's overlay: the step's own and the frame's.

    Args:
        step: tells which one is shown now.
    """

    def __init__(self, desk: Desk, picture: Picture, finder: FaceFinder, step: Callable[[], Step]) -> None:
        super().__init__(desk)
        self._desk, self._picture, self._step = desk, picture, step
        self._faces = NONE
        self._gesture = ""
        for signal in (
            desk.level.opened, desk.document.edited, desk.level.rearranged, desk.selection.selected, picture.changed,
        ):  # fmt: skip
            signal.connect(lambda *_: self.refresh())
        finder.found.connect(self._found)
        finder.go_to.connect(lambda group: desk.go_near(group.place, group.node))
        desk.stage.hands.grip_moved.connect(self._moved)

    def _found(self, rows: np.ndarray) -> None:
        now = self._desk.level.now
        self._faces = now.scene.corners[rows[:MOST_FACES]] if now is not None and len(rows) else NONE
        self.refresh()

    def refresh(self) -> None:
        """Lay the marks of now over the picture."""
        shown = self._desk.stage.picture
        lines = []
        if shown is not None and len(shown.gone) and self._picture.kind in ("build", "relit"):
            lines.append(Line(edge_lines(shown.gone[:MOST_FACES]), "second", 1.0, dashed=True, pairs=True))
        if len(self._faces):
            lines.append(Line(edge_lines(self._faces), "accent", 1.4, pairs=True))
        self._desk.stage.lay_over(joined(self._step().overlay(), Overlay(tuple(lines))))

    def _moved(self, name: str, to: F64, done: bool) -> None:
        if self._desk.level.now is None:
            return
        if not self._gesture:
            self._gesture = self._desk.document.new_gesture()
        self._step().grip_moved(name, to, done, self._gesture)
        if done:
            self._gesture = ""
