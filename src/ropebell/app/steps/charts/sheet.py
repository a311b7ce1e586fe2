"""Pages before any bake: how many, how full, how large; padding; what takes most texels."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import button, combo, label, pair, rows_in, rule
from ropebell.app.steps.charts.charting import Charting, page_words
from ropebell.app.words import megabytes, short_count
from ropebell.build.recipe import with_value
from ropebell.charts.mip_levels import padding_for, safe_mip

PAGE_SIZES = (256, 512, 1024, 2048, 4096)


class SheetPage(QWidget):
    """Pages before any bake: how many, how full, how large; padding; what the selection takes."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._known: Charting | None = None
        rows = rows_in(self, scrolled=True)
        self.facts = label("")
        self.advice = label("", "accent")
        self.raise_density = button("Fill the last page", "main")
        rows.addWidget(self.facts)
        rows.addWidget(self.advice)
        rows.addWidget(self.raise_density)
        rows.addWidget(rule())
        self.page_size = combo("Page size")
        for side in PAGE_SIZES:
            self.page_size.addItem(f"{side}²", side)
        self.padding = TunedNumber("Padding", "texels", Scale(0, 16, 32, 0, log=False))
        rows.addWidget(pair(label("Largest page", wrap=False), self.page_size, stretch=1))
        rows.addWidget(self.padding)
        self.padding_advice = label("", "second")
        rows.addWidget(self.padding_advice)
        rows.addWidget(rule())
        self.chosen = label("Click a chart, or select an object, to see what it takes.", "second")
        rows.addWidget(self.chosen)
        self.list = QListWidget()
        self.list.setAccessibleName("Objects by the texels they take")
        rows.addWidget(label("Most texels", "heading"))
        rows.addWidget(self.list, 1)
        self.page_size.activated.connect(
            lambda _: self._recipe("Page size", "density.page_size", self.page_size.currentData())
        )
        self.padding.changed.connect(lambda v, g: self._recipe("Padding", "density.padding", round(v), f"padding {g}"))
        self.raise_density.clicked.connect(self._fill_page)
        self.list.itemClicked.connect(lambda i: desk.selection.select(int(i.data(Qt.ItemDataRole.UserRole))))
        desk.selection.selected.connect(lambda _: self._show_selected())

    def show_charting(self, found: Charting) -> None:
        """Show the pages."""
        self._known = found
        now = self._desk.level.now
        assert now is not None
        s, f = found.survey, found.final
        recipe = now.project.recipe
        draft = (
            f"This draft ⅟{recipe.draft}: {page_words(s)}, {100 * np.mean(s.fill or [0]):.0f} % full.\n"
            if recipe.draft > 1
            else ""
        )
        self.facts.setText(
            f"{draft}Final: {page_words(f)}, {100 * np.mean(f.fill or [0]):.0f} % full, {short_count(f.waste)} texels "
            f"padding or free, {megabytes(f.bytes)} as half floats."
        )
        room = f.room
        self.advice.setText(
            f"Density can rise by {100 * (room - 1):.0f} % before another page is needed." if room > 1.01
            else "The pages are as full as they get."
        )  # fmt: skip
        self.raise_density.setVisible(1.05 < room < 4)
        self.raise_density.setText(f"Raise density to {self._filled():.3g} tx/m")
        self.page_size.setCurrentIndex(self.page_size.findData(recipe.density.page_size))
        self.padding.show_value(recipe.density.padding)
        padding = recipe.density.padding
        mip = safe_mip(padding)
        words = f"No texel is of two charts down to mip level {mip}" if padding else "Interpolation mixes charts"
        more = range(max(mip + 1, 2), max(mip + 1, 2) + 2)
        needed = "; ".join(f"for level {level}, {padding_for(level)}" for level in more)
        self.padding_advice.setText(f"{words}. {needed[0].upper()}{needed[1:]} are needed.")
        self.list.clear()
        total = max(float(f.texels.sum()), 1.0)
        for node in np.argsort(-f.texels)[:40]:
            if f.texels[node] <= 0:
                break
            share = 100 * f.texels[node] / total
            name = found.scene.node_names[node].rsplit("/", 1)[-1]
            item = QListWidgetItem(f"{name}   {short_count(round(f.texels[node]))}   {share:.1f} %")
            item.setData(Qt.ItemDataRole.UserRole, int(node))
            self.list.addItem(item)
        self._show_selected()

    def _filled(self) -> float:
        now = self._desk.level.now
        assert now is not None and self._known is not None
        return float(np.floor(now.project.recipe.density.texels_per_metre * self._known.final.room * 10) / 10)

    def _fill_page(self) -> None:
        self._recipe("Fill the last page", "density.texels_per_metre", self._filled())

    def _recipe(self, title: str, key: str, value: object, gesture: str = "") -> None:
        now = self._desk.level.now
        if now is not None:
            self._desk.document.set_recipe(title, with_value(now.project.recipe, key, value), gesture)

    def _show_selected(self) -> None:
        known, node = self._known, self._desk.selection.node
        if known is None or node not in known.final.charts_of:
            return
        f = known.final
        pages = ", ".join(str(p + 1) for p in f.pages_of[node])
        name = known.scene.node_names[node].rsplit("/", 1)[-1]
        texels = short_count(round(float(f.texels[node])))
        self.chosen.setText(
            f"{name}: {len(f.charts_of[node])} charts on page {pages}, {texels} texels in the final build."
        )
