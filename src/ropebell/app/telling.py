"""What a person is told above the stage: news, and troubles that stay until their matter is over."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

NEWS_MS = 12_000
Answer = tuple[str, Callable[[], None]]


@dataclass(frozen=True)
class Told:
    """One thing that is told.

    Attributes:
        matter: what it is about; newer words on the same matter take its place.
        news: whether it is no trouble; it goes by itself after a while.
        answers: what can be done about it, by a word on a button.
    """

    sentence: str
    matter: str
    news: bool = False
    answers: tuple[Answer, ...] = ()


@dataclass(frozen=True)
class Words:
    """What the strip says of a spot: its object, and a value."""

    where: str
    value: str


class Telling(QObject):
    """Keeps what is told, oldest first.

    Signals:
        changed: the list is another one. said: a `Told` is new.
    """

    changed = pyqtSignal()
    said = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.told: tuple[Told, ...] = ()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(NEWS_MS)
        self._timer.timeout.connect(lambda: self.over("news"))

    def trouble(self, sentence: str, matter: str = "trouble", *answers: Answer) -> None:
        """A refusal or a trouble; it stays until its matter is over, it is dismissed, or newer words replace it."""
        self._add(Told(sentence, matter, False, answers))

    def news(self, sentence: str) -> None:
        """Something that is good to know."""
        self._add(Told(sentence, "news", True))
        self._timer.start()

    def lasting(self, sentence: str, matter: str, *answers: Answer) -> None:
        """No trouble either, but it stays until its matter is over or it is dismissed."""
        self._add(Told(sentence, matter, True, answers))

    def _add(self, told: Told) -> None:
        self.told = (*(t for t in self.told if t.matter != told.matter), told)
        self.changed.emit()
        self.said.emit(told)

    def over(self, *matters: str) -> None:
        """These matters are settled: nothing is said of them any more."""
        left = tuple(t for t in self.told if t.matter not in matters)
        if left != self.told:
            self.told = left
            self.changed.emit()
