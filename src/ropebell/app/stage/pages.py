"""The pages as pictures: charts on them, the light in them, what lies where, down to a single texel."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from ropebell.app.palette import THEME, font
from ropebell.app.stage.picture import MID_GREY
from ropebell.charts.survey import Survey
from ropebell.level.display import in_bytes
from ropebell.level.model import F32
from ropebell.level.scene import Scene

DEEPEST = 64.0
GRID_FROM = 8.0
CLICK_PIXELS = 4
GAP = 24.0


class PageView(QWidget):
    """All pages side by side.

    Signals:
        picked: node of the chart that was clicked, −1 for none.
        pointed: a sentence on what is under the pointer.
    """

    picked = pyqtSignal(int)
    pointed = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Pages")
        self._survey: Survey | None = None
        self._scene: Scene | None = None
        self._images: list[QImage] = []
        self._chosen: frozenset[int] = frozenset()
        self._node_of: NDArray[np.int64] = np.zeros(0, np.int64)
        self._scale, self._origin = 1.0, QPointF(0, 0)
        self._fitted = True
        self._press: QPointF | None = None
        self._last = QPointF()

    def show_survey(self, survey: Survey, scene: Scene) -> None:
        """Show predicted charts.

        Args:
            scene: what the survey is of.
        """
        same = self._survey is not None and self._survey.atlas.written == survey.atlas.written
        self._survey, self._scene, self._images = survey, scene, []
        self._node_of = np.full(len(survey.atlas.rects), -1, np.int64)
        self._node_of[survey.atlas.chart] = scene.node
        if not same or self._fitted:
            self.fit()
        self.update()

    def show_light(self, pages: F32 | None) -> None:
        """Lay light under the charts: (P, H, W, 3) lux of these very charts, exposed for its own mean; None: none."""
        self._images = []
        self.update()
        if self._survey is None or pages is None:
            return
        lit = pages[pages > 0]
        exposure = MID_GREY / math.exp(float(np.log(lit[:: max(len(lit) // 100_000, 1)]).mean())) if len(lit) else 1.0
        for page in pages:
            shown = in_bytes(page, exposure)
            h, w = shown.shape[:2]
            self._images.append(QImage(shown.tobytes(), w, h, 3 * w, QImage.Format.Format_RGB888).copy())
        self.update()

    @property
    def lit(self) -> bool:
        """Whether light is shown under the charts."""
        return bool(self._images)

    def choose(self, nodes: tuple[int, ...]) -> None:
        """Mark the charts of these nodes."""
        self._chosen = frozenset(nodes)
        self.update()

    def go_to(self, node: int) -> None:
        """Bring a node's charts into the middle."""
        if self._survey is None or node not in self._survey.charts_of:
            return
        rect = self._survey.atlas.rects[self._survey.charts_of[node]]
        biggest = rect[np.argmax(rect[:, 3] * rect[:, 4])]
        self._scale = min(max(0.5 * min(self.width() / biggest[3], self.height() / biggest[4]), 0.05), 16.0)
        corner = self._page_corner(int(biggest[0]))
        middle = QPointF(corner + biggest[1] + biggest[3] / 2, biggest[2] + biggest[4] / 2)
        self._origin = middle - QPointF(self.width(), self.height()) / (2 * self._scale)
        self._fitted = False
        self.update()

    def fit(self) -> None:
        """All pages in the picture."""
        if self._survey is None:
            return
        side, count = max(self._survey.atlas.side, 1), max(self._survey.atlas.written, 1)
        whole = count * side + (count - 1) * GAP
        self._scale = min((self.width() - 40) / whole, (self.height() - 70) / side)
        self._scale = max(self._scale, 1e-3)
        middle = QPointF(whole / 2, side / 2)
        self._origin = middle - QPointF(self.width(), self.height()) / (2 * self._scale)
        self._fitted = True

    def _page_corner(self, page: int) -> float:
        assert self._survey is not None
        return page * (self._survey.atlas.side + GAP)

    def _to_screen(self, page: int, x: float, y: float) -> QPointF:
        return (QPointF(self._page_corner(page) + x, y) - self._origin) * self._scale

    def resizeEvent(self, event: object) -> None:
        if self._fitted:
            self.fit()

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), THEME.color("surround"))
        if self._survey is None or not self._survey.atlas.written:
            painter.setPen(THEME.color("text"))
            painter.setFont(font(15))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Laying out charts")
            return
        for page in range(self._survey.atlas.written):
            self._paint_page(painter, page)
        painter.end()

    def _paint_page(self, painter: QPainter, page: int) -> None:
        assert self._survey is not None
        side = self._survey.atlas.side
        frame = QRectF(self._to_screen(page, 0, 0), self._to_screen(page, side, side))
        if not frame.intersects(QRectF(self.rect())):
            return
        painter.fillRect(frame, THEME.color("sunk"))
        if page < len(self._images):
            painter.drawImage(frame, self._images[page])
        rects = self._survey.atlas.rects
        mine = np.flatnonzero(rects[:, 0] == page)
        self._paint_charts(painter, page, mine)
        if self._scale >= GRID_FROM:
            self._paint_grid(painter, page)
        painter.setPen(QPen(THEME.color("line"), 1))
        painter.drawRect(frame)
        painter.setPen(THEME.color("text"))
        painter.setFont(font(12))
        words = f"Page {page + 1}   {side}²   {100 * self._survey.fill[page]:.0f} % full"
        painter.drawText(frame.topLeft() + QPointF(0, -8), words)

    def _paint_charts(self, painter: QPainter, page: int, charts: NDArray[np.int64]) -> None:
        assert self._survey is not None
        rects = self._survey.atlas.rects
        plain: Any = []
        chosen: Any = []
        for c in charts:
            _, x, y, w, h = (int(v) for v in rects[c])
            shape = QRectF(self._to_screen(page, x, y), self._to_screen(page, x + w, y + h))
            (chosen if int(self._node_of[c]) in self._chosen else plain).append(shape)
        lit = page < len(self._images)
        painter.setPen(QPen(QColor(0, 0, 0, 90), 0.6) if self._scale > 0.6 else Qt.PenStyle.NoPen)
        painter.setBrush(Qt.BrushStyle.NoBrush if lit else THEME.color("strand"))
        painter.drawRects(plain)
        painter.setPen(QPen(THEME.color("accent"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush if lit else THEME.color("accent"))
        painter.drawRects(chosen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._scale > 1.5:
            self._paint_triangles(painter, page)

    def _paint_triangles(self, painter: QPainter, page: int) -> None:
        """Faces as they lie in their charts, once there is room to see them."""
        assert self._survey is not None
        atlas = self._survey.atlas
        low = self._origin - QPointF(self._page_corner(page), 0)
        high = low + QPointF(self.width(), self.height()) / self._scale
        uv = atlas.uv
        seen = (atlas.page == page) & (uv[:, :, 0].max(axis=1) > low.x()) & (uv[:, :, 0].min(axis=1) < high.x())
        seen &= (uv[:, :, 1].max(axis=1) > low.y()) & (uv[:, :, 1].min(axis=1) < high.y())
        rows = np.flatnonzero(seen)[:4000]
        painter.setPen(QPen(QColor(0, 0, 0, 110), 1))
        lines: Any = []
        for t in rows:
            p = [self._to_screen(page, float(u), float(v)) for u, v in uv[t]]
            lines += [QLineF(p[0], p[1]), QLineF(p[1], p[2]), QLineF(p[2], p[0])]
        painter.drawLines(lines)

    def _paint_grid(self, painter: QPainter, page: int) -> None:
        assert self._survey is not None
        painter.setPen(QPen(QColor(255, 255, 255, 34), 1))
        side = self._survey.atlas.side
        low = self._origin - QPointF(self._page_corner(page), 0)
        for x in range(max(int(low.x()), 0), min(int(low.x() + self.width() / self._scale) + 2, side + 1)):
            painter.drawLine(self._to_screen(page, x, 0), self._to_screen(page, x, side))
        for y in range(max(int(low.y()), 0), min(int(low.y() + self.height() / self._scale) + 2, side + 1)):
            painter.drawLine(self._to_screen(page, 0, y), self._to_screen(page, side, y))

    # -- hands

    def chart_at(self, at: QPointF) -> tuple[int, int, float, float]:
        """Chart, page and texel under a point; chart −1 for none."""
        if self._survey is None:
            return -1, -1, 0.0, 0.0
        world = at / self._scale + self._origin
        side = self._survey.atlas.side
        page = int(world.x() // (side + GAP))
        x, y = world.x() - self._page_corner(page), world.y()
        if not 0 <= page < self._survey.atlas.written or not (0 <= x < side and 0 <= y < side):
            return -1, -1, 0.0, 0.0
        r = self._survey.atlas.rects
        inside = (r[:, 0] == page) & (r[:, 1] <= x) & (x < r[:, 1] + r[:, 3]) & (r[:, 2] <= y) & (y < r[:, 2] + r[:, 4])
        return (int(np.argmax(inside)) if inside.any() else -1), page, x, y

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._press = self._last = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._press is not None:
            self._origin -= (event.position() - self._last) / self._scale
            self._last = event.position()
            self._fitted = False
            self.update()
            return
        chart, page, x, y = self.chart_at(event.position())
        if page < 0 or self._scene is None:
            self.pointed.emit("")
            return
        name = self._scene.node_names[int(self._node_of[chart])] if chart >= 0 else "free"
        self.pointed.emit(f"{name}   page {page + 1}, texel {int(x)}, {int(y)}")

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._press is not None and (event.position() - self._press).manhattanLength() <= CLICK_PIXELS:
            chart, *_ = self.chart_at(event.position())
            self.picked.emit(int(self._node_of[chart]) if chart >= 0 else -1)
        self._press = None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        before = event.position() / self._scale + self._origin
        self._scale = min(max(self._scale * 1.2 ** (event.angleDelta().y() / 120), 1e-3), DEEPEST)
        self._origin = before - event.position() / self._scale
        self._fitted = False
        self.update()
