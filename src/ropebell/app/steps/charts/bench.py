"""The Charts bench: how finely, on how many pages, and whether the coordinates can hold light."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import Paged, column, label
from ropebell.app.steps.charts.charting import Charting, chart, page_words
from ropebell.app.steps.charts.coordinates import CoordinatesPage
from ropebell.app.steps.charts.density import DensityPage
from ropebell.app.steps.charts.sheet import SheetPage
from ropebell.app.words import megabytes, short_count

PAGES = ("Density", "Coordinates", "Pages")


class ChartsBench(QWidget):
    """Density, coordinates, pages.

    Signals:
        page_changed: which of `PAGES` is shown.
        charted: a `Charting` is new.
        go_to: index of a node to look at.
    """

    page_changed = pyqtSignal(str)
    charted = pyqtSignal(object)
    go_to = pyqtSignal(int)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        self.known: Charting | None = None
        self._stale, self._active = True, False
        whole = column(self)
        whole.addWidget(label("Charts", "title"))
        self.facts = label("Open a level to see its charts.", "second")
        whole.addWidget(self.facts)
        self.density, self.coordinates, self.sheet = DensityPage(desk), CoordinatesPage(desk), SheetPage(desk)
        self.pages = Paged("Part of the charts", PAGES, (self.density, self.coordinates, self.sheet))
        whole.addWidget(self.pages, 1)
        self.pages.chosen.connect(self.show_page)
        self.coordinates.go_to.connect(self.go_to)
        desk.level.follow(self._outdated)

    def show_page(self, index: int) -> None:
        """Show one of `PAGES`."""
        self.pages.show_page(index)
        self.page_changed.emit(PAGES[index])

    def set_active(self, active: bool) -> None:
        """Whether the step is shown: charts are laid out only then."""
        self._active = active
        if active and self._stale:
            self._chart()

    def _outdated(self) -> None:
        self._stale = True
        self.density.refresh()
        if self._active:
            self._chart()

    def _chart(self) -> None:
        now = self._desk.level.now
        if now is None or not len(now.scene):
            return
        self._stale = False
        self.facts.setText("Laying out charts …")

        def receive(found: Charting) -> None:
            self.known = found
            s = found.final
            words = (
                f"Final: {short_count(round(float(s.texels.sum())))} texels on {page_words(s)}, {megabytes(s.bytes)}."
            )
            self.facts.setText(words)
            self.density.show_charting(found)
            self.coordinates.show_charting(found)
            self.sheet.show_charting(found)
            self.charted.emit(found)

        self._desk.jobs.start("charts", lambda: chart(now), receive)
