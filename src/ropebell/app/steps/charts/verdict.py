"""How much of the surface is too coarse, right, or too fine for where players can be."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from ropebell.app.palette import THEME


class VerdictBar(QWidget):
    """How much of the surface is too low, right, too high or never seen, with the colours and patterns of the stage."""

    NAMES = ("too low", "right", "too high", "never seen")
    COLORS = ("#ed992f", "#999994", "#5487cc", "#574d6b")
    STYLES = (
        Qt.BrushStyle.HorPattern,
        Qt.BrushStyle.SolidPattern,
        Qt.BrushStyle.Dense5Pattern,
        Qt.BrushStyle.BDiagPattern,
    )

    def __init__(self) -> None:
        super().__init__()
        self._shares: tuple[float, ...] | None = None
        self.setFixedHeight(86)
        self.setAccessibleName("Density for the distance of players")

    def show_shares(self, shares: tuple[float, float, float, float] | None) -> None:
        """Show these shares of the surface, None without a start point."""
        self._shares = shares
        self.setToolTip("Full density is right within 4 m of where players can be; beyond, in proportion less.")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(THEME.color("second"))
        if self._shares is None:
            painter.drawText(
                self.rect(),
                Qt.TextFlag.TextWordWrap,
                "Set a start point (Level, Play region) to see where density is too low or too high for players.",
            )
            return
        painter.drawText(0, 12, "For the distance of players, of the surface:")
        x = 0.0
        for index, share in enumerate(self._shares):
            width = share * self.width()
            box = QRectF(x, 20, width, 16)
            painter.fillRect(box, _shade(self.COLORS[index], 78))
            painter.setBrush(_shade(self.COLORS[index], 100))
            brush = painter.brush()
            brush.setStyle(self.STYLES[index])
            painter.fillRect(box, brush)
            x += width
        painter.setPen(THEME.color("text"))
        for index, share in enumerate(self._shares):
            left, top = (index % 2) * self.width() / 2, 44 + 20 * (index // 2)
            painter.fillRect(QRectF(left, top + 3, 10, 10), _shade(self.COLORS[index], 100))
            painter.drawText(QPointF(left + 16, top + 13), f"{self.NAMES[index]}  {100 * share:.0f} %")


def _shade(color: str, percent: int) -> QColor:
    """A colour at so many percent of its brightness."""
    return QColor(color).darker(10_000 // percent)
