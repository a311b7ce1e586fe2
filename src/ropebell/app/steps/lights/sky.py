"""The sky: which of several is in use, its colour, strength or picture, and whether it gives light."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QCheckBox, QColorDialog, QFileDialog, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import button, combo, label, pair, rows_in, rule
from ropebell.app.steps.lights.emitters import spaced
from ropebell.app.tint import from_display, to_display
from ropebell.errors import LevelError
from ropebell.level.brief import NO_SKY, Brief, Sky
from ropebell.level.display import tone
from ropebell.level.model import LUMINANCE
from ropebell.level.sky_picture import mean_radiance, read_sky_picture

# A plain sky that one begins with, cd/m².
PLAIN = (300.0, 350.0, 450.0)
AS_IN_FILE: dict[str, Any] = {"color": (1.0, 1.0, 1.0), "strength": 1.0}


class SkyPage(QWidget):
    """One sky at a time, quickly swapped."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._pictured = ""
        rows = rows_in(self, scrolled=True)
        self.which = combo("Sky in use")
        self.drop = button("Drop", "flat")
        rows.addWidget(pair(label("In use", wrap=False), self.which, self.drop, stretch=1))
        self.new = QLineEdit()
        self.new.setPlaceholderText("Name of a new sky, then Enter")
        self.new.setAccessibleName("Name of a new sky")
        rows.addWidget(self.new)
        rows.addWidget(rule())
        self.body = QWidget()
        self._make_body()
        rows.addWidget(self.body)
        rows.addStretch(1)
        self.which.activated.connect(lambda _: self._use(self.which.currentData()))
        self.new.returnPressed.connect(self._new)
        self.drop.clicked.connect(self._drop)
        for signal in (desk.level.opened, desk.document.edited):
            signal.connect(self.refresh)

    def _make_body(self) -> None:
        """The settings of the sky in use."""
        inside = QVBoxLayout(self.body)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(8)
        self.color = QPushButton()
        self.color.setFixedWidth(44)
        self.color.setAccessibleName("Colour of the sky")
        self.luminance = TunedNumber("Luminance", "cd/m²", Scale(0, 10_000, 1e6, 1))
        self.strength = TunedNumber("Strength", "×", Scale(0, 10, 1000, 2))
        self.turn = TunedNumber("Turn", "°", Scale(0, 360, 360, 0, log=False))
        self.counts = QCheckBox("Gives light; otherwise it is only seen")
        self.facts = label("", "second")
        self.picture = label("")
        self.choose, self.plain = button("Choose a picture"), button("No picture", "flat")
        self.as_file = button("As in the file", "flat")
        self.color_word = label("Colour", wrap=False)
        inside.addWidget(pair(self.color_word, self.color, self.as_file, stretch=0))
        for widget in (self.luminance, self.strength, self.counts, rule(), self.picture, self.turn):
            inside.addWidget(widget)
        inside.addWidget(pair(self.choose, self.plain))
        inside.addWidget(self.facts)
        self.color.clicked.connect(self._ask_color)
        self.luminance.changed.connect(self._set_luminance)
        self.strength.changed.connect(lambda v, g: self._set("Sky strength", g, strength=v))
        self.turn.changed.connect(lambda v, g: self._set("Turn the sky", g, turn=v))
        self.counts.clicked.connect(lambda on: self._set("Sky counts", counts=bool(on)))
        self.choose.clicked.connect(self._ask_picture)
        self.plain.clicked.connect(self._without_picture)
        self.as_file.clicked.connect(lambda: self._set("Sky as in its file", **AS_IN_FILE))

    def refresh(self) -> None:
        """Show the sky as it is now."""
        now = self._desk.level.now
        if now is None:
            return
        brief = now.project.brief
        self.which.clear()
        self.which.addItem("none, dark", "")
        for name in brief.skies:
            self.which.addItem(name, name)
        self.which.setCurrentIndex(max(self.which.findData(brief.sky), 0))
        self.body.setVisible(bool(brief.sky))
        self.drop.setVisible(bool(brief.sky))
        sky = brief.sky_now
        self.color.setStyleSheet(f"background: {to_display(sky.color).name()};")
        self.luminance.show_value(float(LUMINANCE @ np.array(sky.color)), "before strength")
        self.strength.show_value(sky.strength)
        self.turn.show_value(sky.turn)
        self.counts.setChecked(sky.counts)
        for widget in (self.turn, self.plain, self.picture):
            widget.setVisible(bool(sky.picture))
        self.luminance.setVisible(not sky.picture)
        self.color_word.setText("Tint" if sky.picture else "Colour")
        self.as_file.setVisible(bool(sky.picture) and any(getattr(sky, key) != v for key, v in AS_IN_FILE.items()))
        radiance = float(LUMINANCE @ np.array(now.project.sky))
        self.facts.setText(
            f"{spaced(radiance)} cd/m² on average; an open floor gets {spaced(np.pi * radiance)} lx."
            if sky.counts else "It gives no light."
        )  # fmt: skip
        self._show_picture(sky)

    def _show_picture(self, sky: Sky) -> None:
        now = self._desk.level.now
        if not sky.picture or now is None or self._pictured == sky.picture:
            return
        self._pictured = sky.picture

        def read() -> tuple[QImage, str]:
            pixels = read_sky_picture(now.project.beside(sky.picture))
            step = max(pixels.shape[1] // 280, 1)
            small = pixels[::step, ::step]
            middle = max(float(np.median(small)), 1e-6)
            shown = (255 * tone(small, 0.7 / middle) + 0.5).astype(np.uint8)
            h, w = shown.shape[:2]
            mean = float(LUMINANCE @ mean_radiance(pixels))
            words = (
                f"{pixels.shape[1]} × {pixels.shape[0]}, mean {mean:,.0f}, brightest {float(pixels.max()):,.0f} cd/m²"
            )
            return QImage(shown.tobytes(), w, h, 3 * w, QImage.Format.Format_RGB888).copy(), words

        def receive(answer: tuple[QImage, str]) -> None:
            self.picture.setPixmap(QPixmap.fromImage(answer[0]))
            self.picture.setToolTip(answer[1])

        self._desk.jobs.start("sky picture", read, receive)

    def _set(self, title: str, gesture: str = "", **values: Any) -> None:
        def apply(b: Brief) -> Brief:
            return replace(b, skies={**b.skies, b.sky: replace(b.sky_now, **values)}) if b.sky else b

        self._desk.document.edit_brief(title, apply, f"sky {gesture}" if gesture else "")

    def _use(self, name: str) -> None:
        self._desk.document.edit_brief(f"Sky {name or 'none'}", lambda b: replace(b, sky=name))

    def _new(self) -> None:
        name = self.new.text().strip()
        if not name:
            return
        self.new.clear()

        def apply(b: Brief) -> Brief:
            base = b.sky_now if b.sky_now != NO_SKY else Sky(PLAIN)
            return replace(b, skies={**b.skies, name: b.skies.get(name, base)}, sky=name)

        self._desk.document.edit_brief(f"New sky {name}", apply)

    def _drop(self) -> None:
        def apply(b: Brief) -> Brief:
            return replace(b, skies={k: v for k, v in b.skies.items() if k != b.sky}, sky="")

        self._desk.document.edit_brief("Drop a sky", apply)

    def _ask_color(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        before = now.project.brief.sky_now.color
        color = QColorDialog.getColor(to_display(before), self, "Colour of the sky")
        if color.isValid():
            tint = np.array(from_display(color))
            lum = float(LUMINANCE @ np.array(before)) or 300.0
            r, g, b = (round(float(v), 3) for v in tint / max(float(LUMINANCE @ tint), 1e-6) * lum)
            self._set("Sky colour", color=(r, g, b))

    def _set_luminance(self, value: float, gesture: str) -> None:
        now = self._desk.level.now
        if now is None:
            return
        before = np.array(now.project.brief.sky_now.color)
        before = before if before.any() else np.ones(3)
        r, g, b = (float(v) for v in before / float(LUMINANCE @ before) * value)
        self._set("Sky luminance", gesture, color=(r, g, b))

    def _ask_picture(self) -> None:
        now = self._desk.level.now
        if now is not None:
            kinds = "Sky pictures (*.hdr *.exr)"
            path, _ = QFileDialog.getOpenFileName(self, "Choose a sky picture", str(now.project.folder), kinds)
            if path:
                self.use_picture(Path(path))

    def use_picture(self, path: Path) -> None:
        """Take a picture into the sky in use; it must lie at or below the project's folder."""
        reference = self._desk.document.reference(path)
        if reference is None:
            return
        try:
            read_sky_picture(path)
        except LevelError as error:
            self._desk.tell(str(error))
            return
        # A colour that was a radiance until now would be taken for a tint, hundreds of times too strong.
        self._set("Sky picture", picture=reference, **AS_IN_FILE)

    def _without_picture(self) -> None:
        """A plain sky of the light that the picture gave in the mean."""
        now = self._desk.level.now
        if now is None:
            return
        sky = now.project.brief.sky_now
        r, g, b = (round(v / sky.strength, 3) if sky.strength else 0.0 for v in now.project.sky)
        self._set("No sky picture", picture="", color=(r, g, b) if r or g or b else PLAIN)
