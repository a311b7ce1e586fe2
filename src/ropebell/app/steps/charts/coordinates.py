"""Lightmap coordinates: whether they can hold light; unwrap one or all; before and after."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.palette import THEME
from ropebell.app.parts import button, label, pair, rows_in
from ropebell.app.reading import Opened
from ropebell.app.steps.charts.charting import Charting
from ropebell.app.words import count
from ropebell.charts.layout import Layout
from ropebell.charts.pack import pack
from ropebell.checks.coordinates import coordinate_words
from ropebell.checks.remedies import with_marks
from ropebell.level.model import F64

KIND_WORDS = {
    "fine": "own", "missing": "unwrapped", "overlapping": "overlap", "out-of-range": "out of range",
    "stretched": "stretched", "collapsed": "collapsed",
}  # fmt: skip


class CoordinatesPage(QWidget):
    """Per object whether its own coordinates hold light; unwrap one or all; before and after.

    Signals:
        go_to: a node to look at.
    """

    go_to = pyqtSignal(int)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._known: Charting | None = None
        rows = rows_in(self, scrolled=True)
        self.summary = label("", "second")
        rows.addWidget(self.summary)
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("Lightmap coordinates of objects")
        self.table.setHorizontalHeaderLabels(["Object", "Coordinates", "Charts"])
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setMinimumHeight(220)
        side, head = self.table.verticalHeader(), self.table.horizontalHeader()
        assert side is not None and head is not None
        side.hide()
        side.setDefaultSectionSize(24)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.resizeSection(1, 94)
        head.resizeSection(2, 54)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        rows.addWidget(self.table, 1)
        self.unwrap, self.unwrap_all = button("Unwrap", "main"), button("Unwrap all bad")
        self.own = button("Use its own", "flat")
        rows.addWidget(pair(self.unwrap, self.unwrap_all, self.own))
        self.before, self.after = LayoutView("In the file"), LayoutView("As built")
        rows.addWidget(pair(self.before, self.after))
        self.words = label("", "second")
        rows.addWidget(self.words)
        self.table.itemSelectionChanged.connect(self._row_chosen)
        self.unwrap.clicked.connect(lambda: self._set(self._chosen_paths(), True))
        self.own.clicked.connect(lambda: self._set(self._chosen_paths(), None))
        self.unwrap_all.clicked.connect(lambda: self._set(self._bad_paths(), True))
        desk.selection.selected.connect(lambda _: self._show_selected())

    def show_charting(self, found: Charting) -> None:
        """Show the objects, worst first."""
        self._known = found
        worst = sorted(
            found.reports.values(),
            key=lambda r: (r.kind == "missing", r.kind == "fine", found.scene.node_names[r.node]),
        )
        bad = [r for r in worst if r.kind not in ("fine", "missing")]
        own = sum(r.kind == "fine" for r in worst)
        self.summary.setText(
            f"With coordinates of their own: {own + len(bad)}; of them {len(bad)} cannot hold light. "
            f"Unwrapped: {len(worst) - own - len(bad)}."
        )
        self.table.blockSignals(True)
        self.table.setRowCount(len(worst))
        for row, r in enumerate(worst):
            charts = found.shapes[r.node].layout.chart_count if r.node in found.shapes else 0
            texts = (found.scene.node_names[r.node].rsplit("/", 1)[-1], KIND_WORDS[r.kind], count(charts))
            for at, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, r.node)
                item.setToolTip(found.scene.node_names[r.node])
                self.table.setItem(row, at, item)
        self.table.blockSignals(False)
        self.unwrap_all.setVisible(bool(bad))
        self._show_selected()

    def _node(self) -> int:
        items = self.table.selectedItems()
        return int(items[0].data(Qt.ItemDataRole.UserRole)) if items else self._desk.selection.node

    def _row_chosen(self) -> None:
        node = self._node()
        if node >= 0 and node != self._desk.selection.node:
            self._desk.selection.select(node)
            self.go_to.emit(node)

    def _show_selected(self) -> None:
        known, node, now = self._known, self._desk.selection.node, self._desk.level.now
        report = known.reports.get(node) if known is not None else None
        for widget in (self.before, self.after, self.unwrap, self.own, self.words):
            widget.setVisible(report is not None)
        if known is None or report is None or now is None or node not in known.shapes:
            return
        for row in range(self.table.rowCount()):
            item = self.table.item(row, 0)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == node and not item.isSelected():
                self.table.blockSignals(True)
                self.table.selectRow(row)
                self.table.blockSignals(False)
        shape = known.shapes[node]
        uv = _file_coordinates(now, node)
        self.before.show_triangles(uv, None)
        self.after.show_triangles(_laid_out(shape.layout), shape.layout.chart)
        anew = now.scene.marks.nodes[node].unwrap
        self.unwrap.setVisible(report.kind != "missing" and not anew)
        self.own.setVisible(bool(anew))
        self.words.setText(
            "Its coordinates are left aside; it is unwrapped." if anew
            else f"{now.level.nodes[node].name}: its coordinates {coordinate_words(report)}."
        )  # fmt: skip

    def _chosen_paths(self) -> tuple[str, ...]:
        now = self._desk.level.now
        nodes = {int(i.data(Qt.ItemDataRole.UserRole)) for i in self.table.selectedItems()} or set(
            self._desk.selection.chosen
        )
        return tuple(now.scene.node_names[n] for n in nodes) if now is not None else ()

    def _bad_paths(self) -> tuple[str, ...]:
        known = self._known
        if known is None:
            return ()
        return tuple(
            known.scene.node_names[r.node] for r in known.reports.values() if r.kind not in ("fine", "missing")
        )

    def _set(self, paths: tuple[str, ...], anew: bool | None) -> None:
        title = "Unwrap" if anew else "Use own coordinates"
        self._desk.document.edit_brief(f"{title}: {len(paths)}", lambda b: with_marks(b, paths, "unwrap", anew))


def _file_coordinates(now: Opened, node: int) -> F64 | None:
    """(n, 3, 2) second coordinate set of an object as its file has it, None without one."""
    mesh = now.source.nodes[node].mesh if node < len(now.source.nodes) else -1
    if mesh < 0:
        return None
    parts = [p.uv1[p.triangles] for p in now.source.meshes[mesh].primitives if p.uv1 is not None]
    return np.concatenate(parts).astype(np.float64) if parts else None


def _laid_out(layout: Layout) -> F64:
    """(n, 3, 2) the charts of a layout in rows, 0 … 1, for looking at."""
    uv = layout.uv.astype(np.float64)
    size = np.zeros((layout.chart_count, 2))
    np.maximum.at(size, np.repeat(layout.chart, 3), uv.reshape(-1, 2))
    scale = 200.0 / max(float(np.sqrt(size.prod(axis=1).sum())), float(size.max()) * 0.55, 1e-9)
    whole = np.maximum(np.ceil(size * scale), 1).astype(np.int32)
    order = np.argsort(-whole[:, 1], kind="stable")
    places, pages, side = pack(np.minimum(whole[order], 508), 512, 2)
    at = np.zeros((len(whole), 2))
    at[order] = places[:, 1:] + [0, 0]
    placed = uv * scale + at[layout.chart][:, None, :]
    reach = max(float(placed.max()), 1.0) if pages == 1 else float(side)
    return placed / reach


class LayoutView(QWidget):
    """Flat triangles of one object."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title = title
        self._triangles: F64 | None = None
        self.setFixedSize(134, 160)
        self.setAccessibleName(f"Layout: {title}")

    def show_triangles(self, triangles: F64 | None, _charts: object) -> None:
        """Show (n, 3, 2) triangles; coordinates beyond 0 … 1 make the square small."""
        self._triangles = triangles
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(THEME.color("second"))
        painter.drawText(0, 12, self._title)
        frame = QRectF(0.5, 20.5, 137, 137)
        painter.fillRect(frame, THEME.color("sunk"))
        if self._triangles is None:
            painter.drawText(frame, Qt.AlignmentFlag.AlignCenter, "none")
            return
        low, high = min(float(self._triangles.min()), 0.0), max(float(self._triangles.max()), 1.0)
        scale = 137 / (high - low)
        painter.setPen(QPen(THEME.color("text"), 0.5))
        tint = THEME.color("accent")
        tint.setAlpha(90)
        painter.setBrush(tint)
        for t in self._triangles[:6000]:
            points = [QPointF(frame.left() + (u - low) * scale, frame.top() + (v - low) * scale) for u, v in t]
            painter.drawPolygon(QPolygonF(points))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(THEME.color("line"), 1))
        corner = QPointF(frame.left() - low * scale, frame.top() - low * scale)
        painter.drawRect(QRectF(corner, corner + QPointF(scale, scale)))
