"""A plot over builds. Only like is joined with like: times under other conditions are other times."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import pyqtgraph
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ropebell.app.palette import THEME, font
from ropebell.build.knots import Knot

POINT, CHOSEN, MOST_TICKS = 8, 14, 12


@dataclass(frozen=True)
class Quantity:
    """What is plotted: its title, unit, and value of a build."""

    title: str
    unit: str
    of: Callable[[Knot], float]


def like(knot: Knot) -> tuple[object, ...]:
    """What builds have in common that can be compared."""
    return knot.recipe, knot.draft, knot.scope, knot.timed, knot.whose, knot.outcome.state


class BuildsPlot(QWidget):
    """The plot.

    Signals:
        chosen: number of the build whose point was clicked.
    """

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        self.plot: Any = pyqtgraph.PlotWidget()
        self.plot.setMenuEnabled(False)
        self.plot.hideButtons()
        self.plot.setMouseEnabled(x=True, y=False)
        rows.addWidget(self.plot)
        self._points: list[tuple[int, float]] = []
        self._ring: Any = None
        self._number = 0

    def show_knots(self, knots: list[Knot], quantity: Quantity) -> None:
        """Plot a quantity of some builds, by number."""
        item = self.plot.getPlotItem()
        item.clear()
        self.plot.setBackground(THEME.color("sunk"))
        second, accent = THEME.color("second"), THEME.color("accent")
        for side in ("left", "bottom"):
            axis = item.getAxis(side)
            axis.setPen(THEME.color("line"))
            axis.setTextPen(second)
            axis.setTickFont(font(11))
        unit = f", {quantity.unit}" if quantity.unit else ""
        style = {"color": second.name(), "font-size": "11px"}
        item.setLabel("left", f"{quantity.title}{unit}", **style)
        item.setLabel("bottom", "Build", **style)
        item.getAxis("left").enableAutoSIPrefix(False)
        # Builds are counted in whole numbers.
        step = max(len(knots) // MOST_TICKS, 1)
        item.getAxis("bottom").setTickSpacing(5 * step, step)
        groups: dict[tuple[object, ...], list[Knot]] = {}
        for knot in knots:
            groups.setdefault(like(knot), []).append(knot)
        self._points = [(knot.number, quantity.of(knot)) for knot in knots]
        for group in groups.values():
            xs, ys = [k.number for k in group], [quantity.of(k) for k in group]
            done = group[0].outcome.state == "done"
            # A build that was not done is an open shape; colour alone says nothing.
            scatter = pyqtgraph.ScatterPlotItem(
                xs, ys, size=POINT, symbol="o" if done else "x", pen=pyqtgraph.mkPen(accent, width=1.6),
                brush=pyqtgraph.mkBrush(accent if done and group[0].draft == 1 else THEME.color("sunk")), data=xs,
            )  # fmt: skip
            scatter.sigClicked.connect(self._clicked)
            if done and len(group) > 1:
                item.addItem(pyqtgraph.PlotDataItem(xs, ys, pen=pyqtgraph.mkPen(THEME.color("strand"), width=1.4)))
            item.addItem(scatter)
        item.enableAutoRange("x")
        # From nought: what differs by a tenth shall not look like the double.
        item.setYRange(0.0, max((value for _, value in self._points), default=0.0) or 1.0, padding=0.06)
        item.getViewBox().setLimits(yMin=0)
        self._ring = None
        self.mark(self._number)

    def mark(self, number: int) -> None:
        """Ring the build that is looked at."""
        self._number = number
        item = self.plot.getPlotItem()
        if self._ring is not None:
            item.removeItem(self._ring)
            self._ring = None
        at = next((point for point in self._points if point[0] == number), None)
        if at is not None:
            pen = pyqtgraph.mkPen(THEME.color("ring"), width=1.6)
            self._ring = pyqtgraph.ScatterPlotItem([at[0]], [at[1]], size=CHOSEN, pen=pen, brush=None)
            item.addItem(self._ring)

    def _clicked(self, _item: object, points: Any, *_event: object) -> None:
        if len(points):
            self.chosen.emit(int(points[0].data()))
