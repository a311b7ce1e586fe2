"""Fields for numbers, for one thing or for several at once: where these differ, a field says so."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TypeVar

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QValidator
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QSlider, QVBoxLayout, QWidget

from ropebell.app.parts import VARIOUS, label, pass_on

SLIDER_STEPS = 1000
T = TypeVar("T")


def common(values: Iterable[T]) -> T | None:
    """The value that all have, None where they differ."""
    first, *more = values
    return first if all(value == first for value in more) else None


class NumberField(QDoubleSpinBox):
    """A field for a number, without arrows, that tells only of what was finished, and can stand for several values."""

    def __init__(self, name: str, low: float, high: float, decimals: int, width: int) -> None:
        super().__init__()
        self.various = False
        self.setRange(low, high)
        self.setDecimals(decimals)
        self.setKeyboardTracking(False)
        self.setFixedWidth(width)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setAccessibleName(name)
        self.wheelEvent = pass_on  # type: ignore[method-assign]

    def show_number(self, value: float | None) -> None:
        """Show a value without telling; None: the values differ."""
        self.blockSignals(True)
        self.various = value is None
        if value is not None:
            self.setValue(value)
        line = self.lineEdit()
        assert line is not None
        if self.various:
            line.setText(VARIOUS)
        elif line.text() == VARIOUS:
            line.setText(self.textFromValue(self.value()))
        self.blockSignals(False)

    def textFromValue(self, value: float) -> str:
        """Write a value as the field shows it."""
        return VARIOUS if self.various else super().textFromValue(value)

    def valueFromText(self, text: str | None) -> float:
        """Read what was typed; a number stands for all of several, even where one of them has it already."""
        if text == VARIOUS:
            return self.value()
        told, self.various = self.various, False
        value = super().valueFromText(text)
        if told and value == self.value():
            self.valueChanged.emit(value)
        return value

    def validate(self, text: str | None, at: int) -> tuple[QValidator.State, str, int]:
        """Tell if a text can be typed."""
        if text == VARIOUS:
            return QValidator.State.Acceptable, VARIOUS, at
        return super().validate(text, at)


@dataclass(frozen=True)
class Scale:
    """The range of a number that is tuned.

    Attributes:
        low, high: ends of the slider; the field takes `low` … `most`.
        most: largest value of the field.
        decimals: digits of the field.
        log: equal steps of the slider are equal factors; a zero end is then cut off at 1/1000 of `high`.
    """

    low: float
    high: float
    most: float
    decimals: int = 0
    log: bool = True

    def to_slider(self, value: float) -> int:
        """Slider position of a value."""
        low = max(self.low, self.high / 1000) if self.log else self.low
        if self.log:
            share = math.log(max(value, low) / low) / math.log(self.high / low)
        else:
            share = (value - low) / (self.high - low)
        return round(min(max(share, 0.0), 1.0) * SLIDER_STEPS)

    def from_slider(self, position: int) -> float:
        """Value of a slider position, rounded to what the field shows."""
        share = position / SLIDER_STEPS
        low = max(self.low, self.high / 1000) if self.log else self.low
        if self.log:
            value = low * (self.high / low) ** share if position else self.low
        else:
            value = low + share * (self.high - low)
        return round(value, self.decimals)


class TunedNumber(QWidget):
    """A number with slider, field, unit, and what it was by default and in the last build.

    Signals:
        changed: a person changed the value; the text names the gesture: one drag of the slider is one.
    """

    changed = pyqtSignal(float, str)

    def __init__(self, title: str, unit: str, scale: Scale, about: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._scale, self._title = scale, title
        self._gesture = 0
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 4, 0, 4)
        rows.setSpacing(4)
        head = QHBoxLayout()
        head.setSpacing(6)
        self._name = label(title, wrap=False)
        self.field = NumberField(f"{title} in {unit}", scale.low, scale.most, scale.decimals, 84)
        unit_label = label(unit, "second", wrap=False)
        unit_label.setFixedWidth(46)
        head.addWidget(self._name, 1)
        head.addWidget(self.field)
        head.addWidget(unit_label)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, SLIDER_STEPS)
        self.slider.setPageStep(50)
        self.slider.setAccessibleName(title)
        self.note, self.warning = label("", "second"), label("", "accent")
        rows.addLayout(head)
        for widget in (self.slider, self.note, self.warning):
            rows.addWidget(widget)
        if about:
            self.setToolTip(about)
        self.slider.sliderPressed.connect(self._begin)
        self.slider.valueChanged.connect(self._slid)
        self.field.valueChanged.connect(self._typed)

    def show_value(self, value: float | None, note: str = "", warning: str = "") -> None:
        """Show a value without telling; None: the values differ.

        Args:
            note: what is to be known of it. warning: what is out of the ordinary.
        """
        self.slider.blockSignals(True)
        if value is not None and not self.slider.isSliderDown():
            self.slider.setValue(self._scale.to_slider(value))
        self.slider.blockSignals(False)
        self.field.show_number(value)
        for words, text in ((self.note, note), (self.warning, warning)):
            words.setText(text)
            words.setVisible(bool(text))

    def _begin(self) -> None:
        self._gesture += 1

    def _slid(self, position: int) -> None:
        if not self.slider.isSliderDown():
            self._gesture += 1
        value = self._scale.from_slider(position)
        self.field.show_number(value)
        self.changed.emit(value, f"{self._title} {id(self)} {self._gesture}")

    def _typed(self, value: float) -> None:
        self._gesture += 1
        self.slider.blockSignals(True)
        self.slider.setValue(self._scale.to_slider(value))
        self.slider.blockSignals(False)
        self.changed.emit(value, f"{self._title} {id(self)} {self._gesture}")


def number(name: str, low: float, high: float, decimals: int, width: int = 74) -> NumberField:
    """A field for a number."""
    return NumberField(name, low, high, decimals, width)


class Triple(QWidget):
    """Three numbers side by side, for a place, a direction or a colour.

    Signals:
        changed: the three values a person made. part_changed: which of them, from 0, and what it is now.
    """

    changed = pyqtSignal(object)
    part_changed = pyqtSignal(int, float)

    def __init__(self, name: str, axes: str, low: float, high: float, decimals: int) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.fields: list[NumberField] = []
        for part, axis in enumerate(axes):
            field = number(f"{name} {axis}", low, high, decimals, 66)
            field.valueChanged.connect(lambda _: self.changed.emit(tuple(f.value() for f in self.fields)))
            field.valueChanged.connect(lambda value, part=part: self.part_changed.emit(part, value))
            self.fields.append(field)
            row.addWidget(label(axis, "second", wrap=False))
            row.addWidget(field, 1)

    def show_values(self, *of_each: Sequence[float]) -> None:
        """Show values without telling: those of one thing, or of several."""
        for field, values in zip(self.fields, zip(*of_each)):
            field.show_number(common(float(value) for value in values))
