"""Shares and sums as pictures: bars of causes, and areas of a ledger."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from ropebell.app.palette import THEME, font
from ropebell.app.words import clock

BAR, LINE = 18, 40
LEAST_AREA = 0.004


class Bars(QWidget):
    """Shares, each with its name above its bar; those under nought go to the left."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._rows: list[tuple[str, float]] = []
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_shares(self, rows: Sequence[tuple[str, float]]) -> None:
        """Show some shares by name."""
        self._rows = list(rows)
        self.setFixedHeight(max(len(self._rows) * LINE, 1))
        words = "; ".join(f"{name}: {100 * share:.0f} %" for name, share in rows)
        self.setAccessibleDescription(words)
        self.setToolTip(words.replace("; ", "\n"))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, max(len(self._rows) * LINE, 1))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        most = max((abs(s) for _, s in self._rows), default=1.0) or 1.0
        least = min((s for _, s in self._rows), default=0.0)
        room = self.width() - 62
        left = room * (-min(least, 0.0)) / (most - min(least, 0.0))
        scale = (room - left) / most
        for number, (name, share) in enumerate(self._rows):
            y = number * LINE
            painter.setPen(THEME.color("text"))
            painter.setFont(font(12))
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, self.width())
            painter.drawText(QRectF(0, y, self.width(), 18), int(Qt.AlignmentFlag.AlignLeft), shown)
            wide = share * scale
            bar = QRectF(left + min(wide, 0.0), y + 19, max(abs(wide), 1.5), BAR - 8)
            if number == 0:
                painter.fillRect(bar, THEME.color("accent"))
            else:
                painter.setPen(QPen(THEME.color("second"), 1))
                painter.drawRect(bar)
            painter.setPen(THEME.color("second"))
            painter.drawText(QRectF(self.width() - 58, y + 14, 58, 18), int(Qt.AlignmentFlag.AlignRight),
                             f"{100 * share:.0f} %")  # fmt: skip


def seconds_in_words(value: float) -> str:
    """Short times to the hundredth, longer ones by the clock."""
    return clock(value) if value >= 10 else f"{value:.2f} s"


class Areas(QWidget):
    """Sums as areas beside each other, the largest first (M. Bruls, K. Huizing and J. van Wijk, "Squarified treemaps",
    2000).

    Signals:
        chosen: the name of an area that was clicked.
    """

    chosen = pyqtSignal(str)

    def __init__(self, name: str) -> None:
        super().__init__()
        self._rows: list[tuple[str, float]] = []
        self._places: list[tuple[QRectF, str, float]] = []
        self._words: Callable[[float], str] = seconds_in_words
        self.setAccessibleName(name)
        self.setMouseTracking(True)
        self.setMinimumHeight(190)

    def show_sums(self, rows: Sequence[tuple[str, float]], words: Callable[[float], str]) -> None:
        """Show some sums by name; the smallest are one area."""
        self._words = words
        whole = sum(v for _, v in rows)
        large = [(n, v) for n, v in rows if v > LEAST_AREA * whole]
        rest = whole - sum(v for _, v in large)
        self._rows = [*large, *([("all others", rest)] if rest > 0 else [])]
        self._lay_out()
        self.update()

    def resizeEvent(self, _event: object) -> None:
        self._lay_out()

    def _lay_out(self) -> None:
        whole = sum(v for _, v in self._rows)
        self._places = []
        if whole > 0:
            room = QRectF(0, 0, self.width(), self.height())
            unit = room.width() * room.height() / whole
            _squarified([(n, v, v * unit) for n, v in self._rows], room, self._places)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        for number, (place, name, value) in enumerate(self._places):
            inner = place.adjusted(0.5, 0.5, -1.0, -1.0)
            painter.fillRect(inner, THEME.color("strand" if number == 0 else "raised"))
            if inner.width() > 44 and inner.height() > 16:
                painter.setPen(THEME.color("text"))
                painter.setFont(font(11, QFont.Weight.DemiBold if number == 0 else QFont.Weight.Normal))
                words = name.rsplit("/", 1)[-1]
                metrics = painter.fontMetrics()
                room = int(inner.width()) - 8
                painter.drawText(
                    inner.topLeft() + QPointF(4, 13), metrics.elidedText(words, Qt.TextElideMode.ElideRight, room)
                )
                if inner.height() > 30:
                    painter.setPen(THEME.color("second" if number else "text"))
                    painter.drawText(inner.topLeft() + QPointF(4, 27), self._words(value))

    def _at(self, event: QMouseEvent) -> tuple[str, float] | None:
        return next(((n, v) for place, n, v in self._places if place.contains(event.position())), None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and (at := self._at(event)) is not None:
            QToolTip.showText(event.globalPosition().toPoint(), f"{at[0]}: {self._words(at[1])}", self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and (at := self._at(event)) is not None:
            self.chosen.emit(at[0])


def _squarified(rows: list[tuple[str, float, float]], room: QRectF, out: list[tuple[QRectF, str, float]]) -> None:
    """Lay areas (name, value, pixels²) into a room, each as square as may be."""
    while rows:
        side = min(room.width(), room.height())
        if side <= 0:
            return
        count, worst = 1, _stretch(rows[:1], side)
        while count < len(rows) and _stretch(rows[: count + 1], side) <= worst:
            count += 1
            worst = _stretch(rows[:count], side)
        part = sum(a for _, _, a in rows[:count])
        deep, at = part / side, 0.0
        for name, value, area in rows[:count]:
            wide = area / deep if deep > 0 else 0.0
            flat = room.width() >= room.height()
            place = QRectF(room.x(), room.y() + at, deep, wide) if flat else QRectF(room.x() + at, room.y(), wide, deep)
            out.append((place, name, value))
            at += wide
        room = room.adjusted(deep, 0, 0, 0) if room.width() >= room.height() else room.adjusted(0, deep, 0, 0)
        rows = rows[count:]


def _stretch(rows: list[tuple[str, float, float]], side: float) -> float:
    """How far from square the worst of some areas in a row is."""
    total = sum(a for _, _, a in rows)
    return max(max(side**2 * a / total**2, total**2 / (side**2 * a)) for _, _, a in rows if a > 0)
