"""Cells in plan, each by how many others it sees or how many faces can be seen from it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from ropebell.app.palette import THEME, font
from ropebell.app.parts import Choice, button, label, pair
from ropebell.app.steps.level.looked import Looked
from ropebell.app.words import count, short_count
from ropebell.level.model import F64, I64

MARGIN, HEAD = 16, 44
CELLS, FACES, RAYS = range(3)
# Few to many by lightness, so that it reads in grey as well.
LOW, HIGH = (34, 48, 66), (246, 219, 132)


class SightMap(QWidget):
    """One layer of cells; the wheel goes up and down.

    Signals:
        chosen: (3,) metres, where one wants to stand.
    """

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.looked: Looked | None = None
        self.layer, self._pointed = 0, -1
        self.setMouseTracking(True)
        self.setAccessibleName("Cells in plan")
        self.by, self.words = (
            Choice(["Cells seen", "Faces in sight", "Rays asked"], "Cells by"),
            label("", "second", wrap=False),
        )
        self.up, self.down = button("Higher"), button("Lower")
        self.by.set_current(CELLS)
        self.by.setMinimumWidth(330)
        self._by = CELLS
        self._section: tuple[int, F64] | None = None
        bar = pair(self.by, self.down, self.up, self.words, stretch=3)
        bar.setParent(self)
        bar.move(MARGIN, 8)
        self._bar = bar
        self.by.chosen.connect(self._choose)
        self.up.clicked.connect(lambda: self.go_to_layer(self.layer + 1))
        self.down.clicked.connect(lambda: self.go_to_layer(self.layer - 1))

    def show_sight(self, looked: Looked, eye: np.ndarray) -> None:
        """Show the layer that the eye is in."""
        if self.looked is not looked:
            self._section = None
            self.looked = looked
            # Of an eye that is in no cell, the layer with most of them.
            at = int((eye[1] - looked.sight.low[1]) / looked.sight.size)
            most = int((looked.sight.number >= 0).sum(axis=(0, 2)).argmax())
            self.layer = at if looked.sight.cell_of(eye) >= 0 else most
            self._pointed = -1
        self.go_to_layer(self.layer)

    def go_to_layer(self, layer: int) -> None:
        """Show a layer, by its number from below."""
        if self.looked is None:
            return
        held = np.flatnonzero((self.looked.sight.number >= 0).any(axis=(0, 2)))
        if len(held):
            self.layer = int(np.clip(layer, held[0], held[-1]))
            self.up.setEnabled(self.layer < int(held[-1]))
            self.down.setEnabled(self.layer > int(held[0]))
        self._say()
        self.update()

    @property
    def values(self) -> I64:
        """(n,) what cells are coloured by."""
        assert self.looked is not None
        if self._by == RAYS:
            return np.rint(self.looked.sight.asked).astype(np.int64)
        return self.looked.inside.cells if self._by == CELLS else self.looked.faces

    def cell_at(self, at: QPointF) -> int:
        """The cell at a place of the picture, −1 for none."""
        if self.looked is None:
            return -1
        scale, corner = self._placed()
        x, z = int((at.x() - corner.x()) // scale), int((at.y() - corner.y()) // scale)
        number = self.looked.sight.number
        inside = 0 <= x < number.shape[0] and 0 <= z < number.shape[2]
        return int(number[x, self.layer, z]) if inside else -1

    def place_of(self, cell: int) -> QPointF:
        """Where in the picture the middle of a cell of this layer is."""
        assert self.looked is not None
        scale, corner = self._placed()
        x, z = np.argwhere(self.looked.sight.number[:, self.layer] == cell).mean(axis=0) + 0.5
        return QPointF(corner.x() + x * scale, corner.y() + z * scale)

    def point_at(self, cell: int) -> None:
        """Tell of a cell, and what it sees; −1 for none."""
        if cell != self._pointed:
            self._pointed = cell
            self._say()
            self.update()

    def _choose(self, by: int) -> None:
        self._by = by
        self._say()
        self.update()

    def _placed(self) -> tuple[float, QPointF]:
        """Pixels of a smallest cell, and where the first is."""
        assert self.looked is not None
        number = self.looked.sight.number
        columns, rows = (np.flatnonzero((number >= 0).any(axis=(1, axis))) for axis in (2, 0))
        if not len(columns):
            return 1.0, QPointF(MARGIN, HEAD)
        x, z = int(np.ptp(columns)) + 1, int(np.ptp(rows)) + 1
        wide, high = self.width() - 2 * MARGIN, self.height() - HEAD - 2 * MARGIN - 16
        scale = max(min(wide / x, high / z), 1.0)
        left, top = MARGIN + (wide - x * scale) / 2, HEAD + MARGIN + (high - z * scale) / 2
        return scale, QPointF(left - int(columns[0]) * scale, top - int(rows[0]) * scale)

    def _say(self) -> None:
        looked = self.looked
        if looked is None:
            return
        sight, n = looked.sight, len(looked.sight.middles)
        low = sight.low[1] + self.layer * sight.size
        words = f"{low:.1f} to {low + sight.size:.1f} m high"
        if self._pointed >= 0:
            cells, faces = int(looked.inside.cells[self._pointed]), int(looked.faces[self._pointed])
            words = (
                f"sees {count(cells)} of {count(n)} cells, {100 * cells / max(n - 1, 1):.0f} %; "
                f"{count(faces)} faces, {100 * faces / max(looked.inside.count, 1):.0f} %"
            )
            if self._by == RAYS:
                rays = float(sight.asked[self._pointed])
                words = f"took {short_count(round(rays))} rays, {100 * rays / max(sight.rays, 1):.2g} % of all"
        self.words.setText(words)
        self._bar.adjustSize()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), THEME.color("sunk"))
        looked = self.looked
        if looked is None:
            return
        scale, corner = self._placed()
        number, values = looked.sight.number[:, self.layer], self.values
        most = max(float(values.max(initial=1)), 1.0)
        seen = looked.sight.row(self._pointed) if self._pointed >= 0 else None
        for x, z in np.argwhere(number >= 0):
            cell = int(number[x, z])
            box = QRectF(corner.x() + x * scale, corner.y() + z * scale, scale + 0.5, scale + 0.5)
            share = float(values[cell]) / most
            color = QColor(*(round(a + (b - a) * share) for a, b in zip(LOW, HIGH)))
            painter.fillRect(box, color)
            if seen is not None and not seen[cell]:
                painter.fillRect(box, QColor(0, 0, 0, 110))
            if (looked.sight.narrow == cell).any():
                painter.fillRect(box, Qt.BrushStyle.BDiagPattern)
        painter.setPen(QPen(THEME.color("panel"), 1))
        # Lines between cells, so that their sizes are seen.
        for x, z in np.argwhere(number >= 0):
            left, top = corner.x() + x * scale, corner.y() + z * scale
            if x + 1 < number.shape[0] and number[x + 1, z] != number[x, z]:
                painter.drawLine(QPointF(left + scale, top), QPointF(left + scale, top + scale))
            if z + 1 < number.shape[1] and number[x, z + 1] != number[x, z]:
                painter.drawLine(QPointF(left, top + scale), QPointF(left + scale, top + scale))
        self._draw_section(painter, scale, corner)
        if self._pointed >= 0 and (number == self._pointed).any():
            x, z = np.argwhere(number == self._pointed).min(axis=0)
            wide = int((number == self._pointed).any(axis=1).sum()) * scale
            painter.setPen(QPen(THEME.color("text"), 2))
            painter.drawRect(QRectF(corner.x() + x * scale, corner.y() + z * scale, wide, wide))
        self._legend(painter, most)

    def _draw_section(self, painter: QPainter, scale: float, corner: QPointF) -> None:
        """The level's walls, cut through the middle of the layer, so that one knows where one is."""
        assert self.looked is not None
        sight = self.looked.sight
        if self._section is None or self._section[0] != self.layer:
            height = float(sight.low[1]) + (self.layer + 0.5) * sight.size
            self._section = self.layer, section(self.looked.now.scene.corners, height)
        ends = (self._section[1][:, :, [0, 2]] - sight.low[[0, 2]]) / sight.size * scale
        lines = [
            QLineF(corner.x() + a, corner.y() + b, corner.x() + c, corner.y() + d) for (a, b), (c, d) in ends.tolist()
        ]
        # Light on dark, to be seen on cells of any colour.
        for color, wide in ((QColor(0, 0, 0, 150), 3), (QColor(255, 255, 255), 1)):
            painter.setPen(QPen(color, wide))
            for line in lines:
                painter.drawLine(line)

    def _legend(self, painter: QPainter, most: float) -> None:
        painter.setFont(font(11))
        left, top = MARGIN, self.height() - 22
        for step in range(60):
            color = QColor(*(round(a + (b - a) * step / 59) for a, b in zip(LOW, HIGH)))
            painter.fillRect(QRectF(left + 2 * step, top, 2.5, 8), color)
        painter.setPen(THEME.color("second"))
        words = f"0 to {count(int(most))} {('cells seen', 'faces in sight', 'rays asked')[self._by]}"
        painter.drawText(QPointF(left + 128, top + 9), words)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.point_at(self.cell_at(event.position()))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        cell = self.cell_at(event.position())
        if cell >= 0 and self.looked is not None:
            self.chosen.emit(self.looked.sight.middles[cell])

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        self.go_to_layer(self.layer + (1 if event.angleDelta().y() > 0 else -1))


def section(corners: F64, height: float) -> F64:
    """(m, 2, 3) where triangles (T, 3, 3) meet a level plane, metres."""
    above = corners[:, :, 1] > height
    cut = corners[above.any(axis=1) & ~above.all(axis=1)]
    # The corner that is alone on its side, and the two others.
    over = cut[:, :, 1] > height
    alone = np.where(over.sum(axis=1) == 1, over.argmax(axis=1), (~over).argmax(axis=1))
    rows = np.arange(len(cut))
    one = cut[rows, alone]
    ends = []
    for step in (1, 2):
        other = cut[rows, (alone + step) % 3]
        t = (height - one[:, 1]) / (other[:, 1] - one[:, 1])
        ends.append(one + t[:, None] * (other - one))
    return np.stack(ends, axis=1)
