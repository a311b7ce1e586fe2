"""What a step of the window is: a room of its own with a bench, commands, views, marks over the picture, words."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QWidget

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import Overlay
from ropebell.app.stage.picture import Spot, StagePicture
from ropebell.app.telling import Words
from ropebell.app.views import View
from ropebell.app.walk import Station
from ropebell.level.finding import Finding
from ropebell.level.model import F64


class Step(QObject):
    """One step. It is made from a desk and never sees the window; what it does not need it leaves as it is here.

    Attributes:
        id: stable name. title: on the top bar. early: its bench is made before it is asked for, as it is asked for in a
            moment that must not wait.

    Signals:
        changed: its marks, words, picture or canvas should be asked for again.
    """

    id = ""
    title = ""
    early = False
    changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.desk = desk
        self._bench: QWidget | None = None
        self.active = False

    @property
    def bench(self) -> QWidget:
        """The step's panel, made when it is first needed."""
        if self._bench is None:
            self._bench = self.make_bench()
            if self.desk.level.now is not None:
                # What it follows was told before it was there.
                for part in (self._bench, *self._bench.findChildren(QWidget)):
                    refresh = getattr(part, "refresh", None)
                    if callable(refresh):
                        refresh()
        return self._bench

    def make_bench(self) -> QWidget:
        """Make the panel."""
        raise NotImplementedError

    def commands(self) -> Sequence[Command]:
        """What can be done here, from anywhere."""
        return ()

    def views(self) -> Sequence[View]:
        """Ways to show a picture that this step adds."""
        return ()

    def view_shown(self, view: View) -> None:
        """The picture is shown in a way, of this step or another; what that needs may be got ready."""

    def overlay(self) -> Overlay:
        """Marks, lines and grips over the picture."""
        return Overlay()

    def grip_moved(self, name: str, to: F64, done: bool, gesture: str) -> None:
        """A grip of the overlay was dragged.

        Args:
            to: (3,) metres. done: let go. gesture: of this drag, for undo.
        """

    def words(self, spot: Spot) -> Words | None:
        """What to say of a spot instead of its light."""
        return None

    def picture(self) -> StagePicture | None:
        """What the stage shows instead of a build."""
        return None

    def canvas(self) -> QWidget | None:
        """What stands in the place of the stage."""
        return None

    def hints(self) -> tuple[str, ...]:
        """What hands and keys do on that canvas, least wanted first."""
        return ("F1: all keys",)

    def enter(self) -> None:
        """The step is shown now."""
        self.active = True

    def leave(self) -> None:
        """Another one is."""
        self.active = False

    def close(self) -> None:
        """The window closes: what runs beside it ends."""

    def station(self) -> Station | None:
        """The step's place on the walk through the window."""
        return None

    def show_finding(self, finding: Finding) -> bool:
        """Mark a finding's place; whether this step does such things."""
        return False


def joined(*parts: Overlay) -> Overlay:
    """Several overlays as one."""
    return Overlay(
        tuple(x for p in parts for x in p.lines), tuple(x for p in parts for x in p.marks),
        tuple(x for p in parts for x in p.grips),
    )  # fmt: skip
