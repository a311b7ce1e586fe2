"""The light of a spot over the last builds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ropebell.app.builds_plot import BuildsPlot, Quantity
from ropebell.app.parts import label
from ropebell.build.knots import Knot

HIGH = 150


class OverBuilds(QWidget):
    """A small plot; hidden where there is nothing to be compared."""

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        rows.addWidget(label("Over the last builds", "heading"))
        self.plot = BuildsPlot()
        self.plot.setFixedHeight(HIGH)
        self.plot.setAccessibleName("Light of this spot over the last builds")
        rows.addWidget(self.plot)

    def show_light(self, knots: Sequence[Knot], values: Mapping[int, float], number: int) -> None:
        """Show lux by number of the build; `number` is looked at."""
        mine = [knot for knot in knots if knot.number in values]
        self.setVisible(len(mine) > 1)
        if len(mine) > 1:
            self.plot.show_knots(mine, Quantity("Light here", "lx", lambda knot: values[knot.number]))
            self.plot.mark(number)
        said = "; ".join(f"build {knot.number}: {values[knot.number]:.3g} lx" for knot in mine)
        self.plot.setAccessibleDescription(said)
