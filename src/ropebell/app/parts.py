"""Pieces that benches are put together from."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.palette import BENCH_WIDTH, MARGIN

SLIDER_STEPS = 1000
LIST_WIDTH = BENCH_WIDTH - 2 * MARGIN
# What the style leaves free round a row's text, and the bar of a list that scrolls.
LIST_AROUND, SCROLL_BAR = 10, 14


def label(text: str = "", role: str = "", wrap: bool = True) -> QLabel:
    """A label with a role of the style sheet.

    Plain text without selection: anything richer goes through a text document, and laying out a bench of those
    takes seconds while a build has the machine.
    """
    made = QLabel(text)
    made.setProperty("role", role)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def fit(text: QLabel, width: int) -> None:
    """Give a wrapped label the height that its text takes at a width: stacked pages do not ask for it."""
    text.ensurePolished()  # or it would be measured in another type
    text.setMinimumHeight(0)  # or it could only grow
    text.setMinimumHeight(max(text.heightForWidth(width), 0))


def rule() -> QFrame:
    """A thin line."""
    line = QFrame()
    line.setProperty("role", "rule")
    return line


def column(parent: QWidget, margin: int = MARGIN, spacing: int = 8) -> QVBoxLayout:
    """A vertical layout with the bench's margin."""
    made = QVBoxLayout(parent)
    made.setContentsMargins(margin, 16, margin, 16)
    made.setSpacing(spacing)
    return made


def scrolled_column(parent: QWidget) -> QVBoxLayout:
    """The same, scrolled where there is not room enough."""
    outer = QVBoxLayout(parent)
    outer.setContentsMargins(0, 0, 0, 0)
    area, inside = QScrollArea(), QWidget()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inside)
    outer.addWidget(area)
    return column(inside)


def rows_in(parent: QWidget, spacing: int = 8, scrolled: bool = False) -> QVBoxLayout:
    """A vertical layout without a margin; beside a scroll bar, with room for it."""
    made = QVBoxLayout(parent)
    made.setContentsMargins(0, 0, 6 if scrolled else 0, 0)
    made.setSpacing(spacing)
    return made


class Sentences(QListWidget):
    """A list of sentences, broken to the room there is, and as high as they are.

    Args:
        most: pixels of height, above which it scrolls.
    """

    def __init__(self, name: str, most: int) -> None:
        super().__init__()
        self._most = most
        self.setAccessibleName(name)
        self.setWordWrap(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def fit(self) -> None:
        """Measure the rows; to be called after they were changed."""
        # Before it is laid out it has no true width.
        whole = (self.width() if self.isVisible() else LIST_WIDTH) - 2 * self.frameWidth() - LIST_AROUND
        if self._fitted(whole) > self._most:
            self._fitted(whole - SCROLL_BAR)

    def _fitted(self, width: int) -> int:
        """The height of all rows at a width, which they get."""
        flags = Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap
        total = 2 * self.frameWidth() + 4
        for row in range(self.count()):
            item = self.item(row)
            assert item is not None
            # The list itself measures rows only once it is shown.
            high = self.fontMetrics().boundingRect(QRect(0, 0, width, 10_000), flags.value, item.text()).height() + 8
            item.setSizeHint(QSize(width, high))
            total += high
        self.setFixedHeight(min(total, self._most))
        return total

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if event is not None and event.size().width() != event.oldSize().width():
            self.fit()


class Choice(QWidget):
    """A few exclusive choices side by side.

    Signals:
        chosen: index of the choice a person made.
    """

    chosen = pyqtSignal(int)

    def __init__(self, titles: list[str], name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        for index, title in enumerate(titles):
            button = QPushButton(title)
            button.setCheckable(True)
            button.setProperty("role", "choice")
            button.setAccessibleName(f"{name}: {title}")
            # As wide as each other, but for those whose words need more.
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._group.addButton(button, index)
            row.addWidget(button)
        self._group.idClicked.connect(self.chosen)

    def set_current(self, index: int) -> None:
        """Mark a choice without telling."""
        button = self._group.button(index)
        if button is not None:
            button.setChecked(True)

    def button(self, index: int) -> QPushButton:
        """One of the buttons."""
        made = self._group.button(index)
        assert isinstance(made, QPushButton)
        return made


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
        self.field = QDoubleSpinBox()
        self.field.setRange(scale.low, scale.most)
        self.field.setDecimals(scale.decimals)
        self.field.setKeyboardTracking(False)
        self.field.setFixedWidth(84)
        self.field.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.field.setAccessibleName(f"{title} in {unit}")
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

    def show_value(self, value: float, note: str = "", warning: str = "") -> None:
        """Show a value without telling.

        Args:
            note: what is to be known of it. warning: what is out of the ordinary.
        """
        for widget in (self.slider, self.field):
            widget.blockSignals(True)
        if not self.slider.isSliderDown():
            self.slider.setValue(self._scale.to_slider(value))
        self.field.setValue(value)
        for widget in (self.slider, self.field):
            widget.blockSignals(False)
        for words, text in ((self.note, note), (self.warning, warning)):
            words.setText(text)
            words.setVisible(bool(text))

    def _begin(self) -> None:
        self._gesture += 1

    def _slid(self, position: int) -> None:
        if not self.slider.isSliderDown():
            self._gesture += 1
        value = self._scale.from_slider(position)
        self.field.blockSignals(True)
        self.field.setValue(value)
        self.field.blockSignals(False)
        self.changed.emit(value, f"{self._title} {id(self)} {self._gesture}")

    def _typed(self, value: float) -> None:
        self._gesture += 1
        self.slider.blockSignals(True)
        self.slider.setValue(self._scale.to_slider(value))
        self.slider.blockSignals(False)
        self.changed.emit(value, f"{self._title} {id(self)} {self._gesture}")


class Fold(QWidget):
    """A part of a bench that opens and closes under its title."""

    def __init__(self, title: str, open_: bool = False, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        rows = rows_in(self, 2)
        self._title = title
        self.head = QPushButton()
        self.head.setProperty("role", "fold")
        self.head.setAccessibleName(title)
        self.body = QWidget()
        self.rows = QVBoxLayout(self.body)
        self.rows.setContentsMargins(0, 2, 0, 6)
        self.rows.setSpacing(6)
        rows.addWidget(self.head)
        rows.addWidget(self.body)
        self.head.clicked.connect(lambda: self.set_open(self.body.isHidden()))
        self._summary = ""
        self.set_open(open_)

    def set_open(self, open_: bool) -> None:
        """Open or close."""
        self.body.setVisible(open_)
        self._write()

    def set_summary(self, text: str) -> None:
        """A word or two beside the title, for when it is closed."""
        self._summary = text
        self._write()

    def _write(self) -> None:
        mark = "▾" if not self.body.isHidden() else "▸"
        self.head.setText(f"{mark}  {self._title}" + (f"   {self._summary}" if self._summary else ""))


def pair(*widgets: QWidget, stretch: int = -1) -> QWidget:
    """Widgets side by side; the one at `stretch` takes the room that is left."""
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(6)
    for index, widget in enumerate(widgets):
        row.addWidget(widget, 1 if index == stretch else 0)
    return made


def _pass_on(e: QWheelEvent | None) -> None:
    """Let the wheel scroll the bench instead of changing a value by accident."""
    if e is not None:
        e.ignore()


def combo(name: str) -> QComboBox:
    """A choice of one that does not change under the wheel by accident."""
    made = QComboBox()
    made.setAccessibleName(name)
    made.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.wheelEvent = _pass_on  # type: ignore[method-assign]
    return made


def number(name: str, low: float, high: float, decimals: int, width: int = 74) -> QDoubleSpinBox:
    """A field for a number, without arrows, that tells only of what was finished."""
    made = QDoubleSpinBox()
    made.setRange(low, high)
    made.setDecimals(decimals)
    made.setKeyboardTracking(False)
    made.setFixedWidth(width)
    made.setAlignment(Qt.AlignmentFlag.AlignRight)
    made.setAccessibleName(name)
    made.wheelEvent = _pass_on  # type: ignore[method-assign]
    return made


def show_number(field: QDoubleSpinBox, value: float) -> None:
    """Show a value without telling."""
    field.blockSignals(True)
    field.setValue(value)
    field.blockSignals(False)


def button(text: str, role: str = "", name: str = "") -> QPushButton:
    """A push button with a role of the style sheet."""
    made = QPushButton(text)
    if role:
        made.setProperty("role", role)
    made.setAccessibleName(name or text)
    return made


class Triple(QWidget):
    """Three numbers side by side, for a place, a direction or a colour.

    Signals:
        changed: the three values a person made.
    """

    changed = pyqtSignal(object)

    def __init__(self, name: str, axes: str, low: float, high: float, decimals: int) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.fields: list[QDoubleSpinBox] = []
        for axis in axes:
            field = number(f"{name} {axis}", low, high, decimals, 66)
            field.valueChanged.connect(lambda _: self.changed.emit(tuple(f.value() for f in self.fields)))
            self.fields.append(field)
            row.addWidget(label(axis, "second", wrap=False))
            row.addWidget(field, 1)

    def show_values(self, values: Sequence[float]) -> None:
        """Show values without telling."""
        for field, value in zip(self.fields, values):
            show_number(field, float(value))


class Paged(QWidget):
    """Some pages of a bench, one shown, each scrolled by itself.

    Signals:
        chosen: index of the page a person asks for.
    """

    chosen = pyqtSignal(int)

    def __init__(
        self, what: str, names: Sequence[str], pages: Sequence[QWidget], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        rows = rows_in(self)
        self._choice, self._stack = Choice(list(names), what), QStackedWidget()
        self._choice.set_current(0)
        rows.addWidget(self._choice)
        rows.addWidget(self._stack, 1)
        for page in pages:
            area = QScrollArea()
            area.setWidget(page)
            area.setWidgetResizable(True)
            area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            self._stack.addWidget(area)
        self._choice.chosen.connect(self.chosen)

    @property
    def shown(self) -> int:
        """Index of the page that is shown."""
        return self._stack.currentIndex()

    def show_page(self, index: int) -> None:
        """Show one of the pages."""
        self._choice.set_current(index)
        self._stack.setCurrentIndex(index)
