"""The map of a hunt: every run from the whole level down to the culprit, what was in it, and what it said."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ropebell.app.palette import THEME, font
from ropebell.hunt.record import Entry
from ropebell.hunt.steadiness import ABSENT, PRESENT

ROW, HEAD, LEFT, SHAPE = 22, 24, 34, 5.0
TITLES = {
    "control": "Control", "shortest": "Shortest build", "carriers": "Carriers", "search": "Search",
    "pieces": "Pieces", "proof": "Proof", "fixes": "Fixes",
}  # fmt: skip


def verdict_path(verdict: str) -> QPainterPath:
    """A shape for each verdict about the origin: a filled notch, an open ring, a ring with a bar."""
    path = QPainterPath()
    if verdict == PRESENT:
        path.addRect(QRectF(-SHAPE, -SHAPE, 2 * SHAPE, 2 * SHAPE))
        return path
    path.addEllipse(QPointF(0, 0), SHAPE, SHAPE)
    if verdict != ABSENT:
        path.moveTo(-SHAPE - 3, 0)
        path.lineTo(SHAPE + 3, 0)
    return path


class TrialMap(QWidget):
    """The map, a row for each run.

    Signals:
        chosen: the number of the run that was clicked.
    """

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self._entries: list[Entry] = []
        self._tops: list[int] = []
        self._high = ROW
        self.current = -1
        self.setAccessibleName("Runs of the hunt")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setToolTip("Filled: the fault shows. Open ring: it is gone. Ring with a bar: nobody can tell.")

    def show_entries(self, entries: list[Entry]) -> None:
        """Show some runs."""
        self._entries, self._tops = entries, []
        y, phase = 0, ""
        for entry in entries:
            y += HEAD if entry.phase != phase else 0
            phase = entry.phase
            self._tops.append(y)
            y += ROW
        self._high = y + 8
        self.setFixedHeight(self._high)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, self._high)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        most = max((e.objects for e in self._entries), default=1)
        wide = self.width() - LEFT - 118
        shares = [math.log(e.objects + 1) / math.log(most + 2) for e in self._entries]
        places = [QPointF(LEFT + wide * share, top + ROW / 2) for share, top in zip(shares, self._tops)]
        self._paint_heads(painter)
        self._paint_lines(painter, places)
        for number, (entry, at) in enumerate(zip(self._entries, places)):
            self._paint_row(painter, number, entry, at)

    def _paint_heads(self, painter: QPainter) -> None:
        painter.setFont(font(11, QFont.Weight.DemiBold))
        painter.setPen(THEME.color("second"))
        phase = ""
        for entry, top in zip(self._entries, self._tops):
            if entry.phase != phase:
                phase = entry.phase
                painter.drawText(QPointF(0, top - 6), TITLES.get(phase, phase))

    def _paint_lines(self, painter: QPainter, places: list[QPointF]) -> None:
        """From each run that showed the fault to those that were cut from it."""
        last = dict[str, QPointF]()
        painter.setPen(QPen(THEME.color("strand"), 1.4))
        for entry, at in zip(self._entries, places):
            above = last.get(entry.within)
            if above is not None and above != at:
                path = QPainterPath(above)
                path.cubicTo(QPointF(above.x(), at.y()), QPointF(above.x(), at.y()), at)
                painter.drawPath(path)
            if entry.run.verdict == PRESENT:
                last[entry.key] = at

    def _paint_row(self, painter: QPainter, number: int, entry: Entry, at: QPointF) -> None:
        if number == self.current:
            painter.fillRect(QRectF(0, at.y() - ROW / 2, self.width(), ROW), THEME.color("raised"))
        shows = entry.run.verdict == PRESENT
        painter.setFont(font(11))
        painter.setPen(THEME.color("second"))
        painter.drawText(QRectF(0, at.y() - 8, LEFT - 12, 16), Qt.AlignmentFlag.AlignRight, str(number + 1))
        painter.save()
        painter.translate(at)
        color = THEME.color("accent" if shows else "second")
        painter.setPen(QPen(color, 1.6))
        painter.setBrush(color if shows else THEME.color("panel"))
        painter.drawPath(verdict_path(entry.run.verdict))
        painter.restore()
        painter.setPen(THEME.color("text" if shows else "second"))
        words = f"{entry.objects:,} in · {entry.run.seconds:.1f} s"
        painter.drawText(QRectF(self.width() - 110, at.y() - 8, 106, 16), Qt.AlignmentFlag.AlignRight, words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            y = event.position().y()
            number = next((i for i, top in enumerate(self._tops) if top <= y < top + ROW), -1)
            if number >= 0:
                self.current = number
                self.update()
                self.chosen.emit(number)
