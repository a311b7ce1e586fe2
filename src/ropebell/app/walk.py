"""A short walk through the window for who sees it first: each station turns to its place and says what to do there.

It begins when it is asked for, can be left at any moment, and never comes back by itself.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QObject

from ropebell.app.rope_state import RopeState
from ropebell.app.telling import Answer, Telling

MATTER = "walk"


@dataclass(frozen=True)
class Station:
    """One place on the walk.

    Attributes:
        place: where on the walk, lowest first.
        words: what to do there. go: turns the window to it.
    """

    place: int
    words: str
    go: Callable[[], None]


class Walk(QObject):
    """Tells one station after the other, above the stage.

    Args:
        stations: in any order.
    """

    def __init__(self, telling: Telling, stations: Sequence[Station], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._telling = telling
        self._stations = sorted(stations, key=lambda s: s.place)
        self._at = 0

    @property
    def on(self) -> bool:
        """Whether somebody is on the walk."""
        return any(told.matter == MATTER for told in self._telling.told)

    def begin(self) -> None:
        """Go to the first station."""
        self._go(0)

    def leave(self) -> None:
        """End the walk where it is."""
        self._telling.over(MATTER)

    def _go(self, at: int) -> None:
        self._at = at
        station = self._stations[at]
        station.go()
        answers: list[Answer] = [("Back", lambda: self._go(at - 1))] if at else []
        if at + 1 < len(self._stations):
            answers.append(("Next", lambda: self._go(at + 1)))
        words = f"{at + 1} of {len(self._stations)}   {station.words}"
        self._telling.lasting(words, MATTER, *answers)


def stations(rope: RopeState) -> tuple[Station, ...]:
    """Places on the walk that belong to no step."""

    def compare() -> None:
        rope.step(-1)

    look = "This is the level. Drag to look round, W A S D to fly; the strip reads the light wherever you point."
    back = "This is the build before. Alt+Up and Alt+Down go along the rope, in the same view and exposure."
    return Station(1, look, lambda: None), Station(5, back, compare)
