"""The rope: every build of the level as a knot, newest at the bottom, and the loose end that is now."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QToolTip, QWidget

from ropebell.app.palette import ROPE_WIDTH, THEME, font
from ropebell.app.words import clock
from ropebell.build.knots import Knot
from ropebell.build.stale import Stale

AXIS = 30.0
RADIUS = 8.0
LOOSE_END = 160.0
DRAFT_WORDS = {1: "full", 2: "draft ½", 4: "draft ¼", 8: "draft ⅛"}


def spacing(seconds: float) -> float:
    """Pixels of rope above a knot: grows with the logarithm of the build's time, 34 for a second, 98 for an hour."""
    return 34.0 + 18.0 * math.log10(max(seconds, 1.0))


class Rope(QWidget):
    """The rope at the window's left edge.

    Signals:
        chosen: number of the build that was clicked, 0 for the loose end.
        paired: number of one that was clicked with Shift, to be compared with the one that is shown.
        asked: number of a build, and the place on the screen, where it is asked what can be done with it.
    """

    chosen = pyqtSignal(int)
    paired = pyqtSignal(int)
    asked = pyqtSignal(int, QPoint)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(ROPE_WIDTH)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Rope of builds")
        self._knots: list[Knot] = []
        self._shown = 0
        self._stale: Stale | None = None
        self._live: tuple[int, float] | None = None
        self._scroll = 0.0

    def sizeHint(self) -> QSize:
        return QSize(ROPE_WIDTH, 600)

    def set_knots(self, knots: list[Knot]) -> None:
        """Show these builds, oldest first."""
        self._knots = [k for k in knots if k.outcome.state != "running"]
        self._scroll = 0.0
        self.update()

    def set_shown(self, number: int) -> None:
        """Ring the build that the stage shows, 0 for none."""
        self._shown = number
        self.update()

    def set_stale(self, stale: Stale | None) -> None:
        """Show what is out of date at the loose end."""
        self._stale = stale
        self.update()

    def set_live(self, number: int, share: float) -> None:
        """Show a running build on the loose end; number 0 for none."""
        self._live = (number, share) if number else None
        self.update()

    def places(self) -> list[tuple[Knot, float]]:
        """Every knot with its height on the widget; the newest sits above the loose end."""
        heights, y = [], 22.0
        for index, knot in enumerate(self._knots):
            y += spacing(knot.seconds) if index else 0.0
            heights.append(y)
        room = self.height() - LOOSE_END
        shift = min(room - heights[-1], 0.0) if heights else 0.0
        return [(knot, y + shift + self._scroll) for knot, y in zip(self._knots, heights)]

    def knot_at(self, y: float) -> Knot | None:
        """The knot nearest to a height, if it is near."""
        near = min(self.places(), key=lambda p: abs(p[1] - y), default=None)
        return near[0] if near is not None and abs(near[1] - y) < 16 else None

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), THEME.color("sunk"))
        painter.setPen(THEME.color("line"))
        painter.drawLine(self.width() - 1, 0, self.width() - 1, self.height())
        places = self.places()
        end = places[-1][1] if places else 22.0
        self._strands(painter, -40.0, end)
        for knot, y in places:
            if -30 < y < self.height() + 30:
                self._knot(painter, knot, y)
        self._loose_end(painter, end + (RADIUS + 2 if places else 0.0))
        painter.end()

    def _strands(self, painter: QPainter, top: float, bottom: float) -> None:
        """Two strands twisted round each other."""
        for phase, color in ((0.0, THEME.color("strand").darker(125)), (math.pi, THEME.color("strand"))):
            path = QPainterPath(QPointF(AXIS + 4 * math.sin(phase), top))
            y = top
            while y < bottom:
                y = min(y + 2, bottom)
                path.lineTo(AXIS + 4 * math.sin((y - top) * math.pi / 11 + phase), y)
            painter.setPen(QPen(color, 3.2, cap=Qt.PenCapStyle.RoundCap))
            painter.drawPath(path)

    def _knot(self, painter: QPainter, knot: Knot, y: float) -> None:
        accent, sunk = THEME.color("accent"), THEME.color("sunk")
        at = QPointF(AXIS, y)
        state = knot.outcome.state
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(sunk)
        painter.drawEllipse(at, RADIUS + 3, RADIUS + 3)
        painter.setPen(QPen(accent, 2.6, cap=Qt.PenCapStyle.FlatCap))
        painter.setBrush(accent if knot.draft == 1 and state == "done" else sunk)
        if state in ("failed", "died", "damaged"):
            # A broken ring: two halves drawn apart.
            painter.setBrush(Qt.BrushStyle.NoBrush)
            box = QRectF(AXIS - RADIUS, y - RADIUS, 2 * RADIUS, 2 * RADIUS)
            painter.drawArc(box.translated(-1.5, -1.5), 45 * 16, 150 * 16)
            painter.drawArc(box.translated(1.5, 1.5), 225 * 16, 150 * 16)
        else:
            painter.drawEllipse(at, RADIUS, RADIUS)
        if state in ("stopped", "tripwire"):
            painter.drawLine(QPointF(AXIS - RADIUS - 5, y), QPointF(AXIS + RADIUS + 5, y))
        if knot.number == self._shown:
            painter.setPen(QPen(THEME.color("ring"), 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, RADIUS + 4, RADIUS + 4)
        self._text(painter, 50, y - 2, str(knot.number), THEME.color("text"), QFont.Weight.Bold)
        self._text(painter, 50, y + 11, clock(knot.seconds), THEME.color("second"))
        if knot.faults:
            self._fault_count(painter, y, knot.faults)
        if knot.note:
            self._note_mark(painter, y)
        if knot.pinned:
            self._pin_mark(painter, y)

    def _fault_count(self, painter: QPainter, y: float, faults: int) -> None:
        """Findings of weight, as a small flag with a number."""
        painter.setPen(QPen(THEME.color("second"), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        flag = [QPointF(63, y - 3), QPointF(63, y - 12), QPointF(70, y - 9.5), QPointF(63, y - 7)]
        painter.drawPolyline(QPolygonF(flag))
        self._text(painter, 71, y - 2, str(min(faults, 99)), THEME.color("second"))

    @staticmethod
    def _note_mark(painter: QPainter, y: float) -> None:
        """A slip of paper: there is a note."""
        painter.setPen(QPen(THEME.color("second"), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(7, y - 4, 6, 8))
        painter.drawLine(QPointF(8.5, y - 1), QPointF(11.5, y - 1))
        painter.drawLine(QPointF(8.5, y + 1.5), QPointF(11.5, y + 1.5))

    @staticmethod
    def _pin_mark(painter: QPainter, y: float) -> None:
        """A nail through the knot: it is not removed."""
        painter.setPen(QPen(THEME.color("text"), 1.8, cap=Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(AXIS + RADIUS - 1, y - RADIUS + 1), QPointF(AXIS + RADIUS + 4, y - RADIUS - 4))
        painter.drawLine(QPointF(AXIS + RADIUS + 1, y - RADIUS - 6), QPointF(AXIS + RADIUS + 6, y - RADIUS - 1))

    def _loose_end(self, painter: QPainter, top: float) -> None:
        stale, live = self._stale, self._live
        fray = live is None and (stale is None or not stale.fresh)
        painter.setPen(QPen(THEME.color("strand"), 2.4 if not fray else 1.3))
        if live is not None:
            self._live_knot(painter, top)
            text_top = top + 62
        elif fray:
            for i in range(7):
                spread = (i - 3) * 5.0
                path = QPainterPath(QPointF(AXIS + spread * 0.18, top))
                path.quadTo(AXIS + spread * 0.4, top + 22, AXIS + spread, top + 46 - abs(i - 3))
                painter.drawPath(path)
            text_top = top + 66
        else:
            self._strands(painter, top, top + 26)
            text_top = top + 46
        self._words(painter, text_top)

    def _live_knot(self, painter: QPainter, top: float) -> None:
        assert self._live is not None
        number, share = self._live
        y = top + 30
        self._strands(painter, top, y)
        box = QRectF(AXIS - RADIUS, y - RADIUS, 2 * RADIUS, 2 * RADIUS)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(THEME.color("sunk"))
        painter.drawEllipse(box.adjusted(-3, -3, 3, 3))
        painter.setPen(QPen(THEME.color("line"), 2.6))
        painter.drawEllipse(box)
        painter.setPen(QPen(THEME.color("accent"), 2.6, cap=Qt.PenCapStyle.FlatCap))
        painter.drawArc(box, 90 * 16, -int(360 * 16 * share))
        self._text(painter, 50, y - 2, str(number), THEME.color("text"), QFont.Weight.Bold)
        self._text(painter, 50, y + 11, f"{100 * share:.0f} %", THEME.color("second"))

    def _words(self, painter: QPainter, top: float) -> None:
        lines: list[tuple[str, QColor, QFont.Weight]] = [("now", THEME.color("text"), QFont.Weight.Bold)]
        if self._live is not None:
            lines = [("building", THEME.color("text"), QFont.Weight.Bold)]
        elif self._stale is not None:
            second = THEME.color("second")
            if self._stale.fresh:
                lines.append(("up to date", second, QFont.Weight.Normal))
            else:
                lines += [(change, second, QFont.Weight.Normal) for change in self._stale.changes[:3]]
                word = "build" if self._stale.changes == ("never built",) else "repair"
                lines.append((f"{word} {clock(self._stale.seconds)}", THEME.color("accent"), QFont.Weight.Normal))
        for index, (text, color, weight) in enumerate(lines):
            self._text(painter, 8, top + 17 * index, text, color, weight, 12 if index else 13)

    @staticmethod
    def _text(
        painter: QPainter, x: float, y: float, text: str, color: QColor,
        weight: QFont.Weight = QFont.Weight.Normal, size: int = 11,
    ) -> None:  # fmt: skip
        painter.setPen(color)
        painter.setFont(font(size, weight))
        painter.drawText(QPointF(x, y), text)

    # -- hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        knot = self.knot_at(event.position().y())
        if knot is not None and event.button() == Qt.MouseButton.RightButton:
            self.asked.emit(knot.number, event.globalPosition().toPoint())
        elif knot is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.paired.emit(knot.number)
        elif knot is not None:
            self.chosen.emit(knot.number)
        elif not self.places() or event.position().y() > self.places()[-1][1]:
            self.chosen.emit(0)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        knot = self.knot_at(event.position().y())
        if knot is not None:
            QToolTip.showText(event.globalPosition().toPoint(), knot_words(knot), self)

    def enterEvent(self, event: object) -> None:
        self.setMouseTracking(True)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        places = self.places()
        if places:
            lowest = min(22.0 - (places[0][1] - self._scroll), 1e9)
            self._scroll = min(max(self._scroll + event.angleDelta().y() / 3, 0.0), max(lowest, 0.0))
            self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        numbers = [k.number for k in self._knots]
        if step is None or not numbers:
            super().keyPressEvent(event)
            return
        at = numbers.index(self._shown) + step if self._shown in numbers else len(numbers) - 1
        self.chosen.emit(numbers[min(max(at, 0), len(numbers) - 1)])


def knot_words(knot: Knot) -> str:
    """A build in a sentence, for the tool tip and for screen readers."""
    how = {"done": "done", "stopped": "stopped", "tripwire": "stopped by a tripwire"}.get(knot.outcome.state)
    ended = how or f"{knot.outcome.state}: {knot.outcome.sentence}"
    faults = f", {knot.faults} warning{'s' if knot.faults != 1 else ''}" if knot.faults else ""
    what = f"{DRAFT_WORDS[knot.draft]} of {knot.recipe or '?'}"
    note = f". {knot.note}" if knot.note else ""
    named = f" ({knot.name})" if knot.name else ""
    more = "".join(
        f", {x}" for x in (knot.scope, knot.whose and f"of {knot.whose}", "pinned" if knot.pinned else "") if x
    )
    return f"Build {knot.number}{named}, {what}, {clock(knot.seconds)}, {ended}{faults}{more}{note}"
