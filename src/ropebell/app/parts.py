"""Pieces that benches are put together from."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.palette import BENCH_WIDTH, MARGIN

LIST_WIDTH = BENCH_WIDTH - 2 * MARGIN
# What the style leaves free round a row's text, and the bar of a list that scrolls.
LIST_AROUND, SCROLL_BAR = 10, 14
# What a field says that stands for several things that differ.
VARIOUS = "various"


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


def pass_on(e: QWheelEvent | None) -> None:
    """Let the wheel scroll the bench instead of changing a value by accident."""
    if e is not None:
        e.ignore()


def combo(name: str) -> QComboBox:
    """A choice of one that does not change under the wheel by accident."""
    made = QComboBox()
    made.setAccessibleName(name)
    made.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.wheelEvent = pass_on  # type: ignore[method-assign]
    return made


def show_choice(box: QComboBox, values: Sequence[object]) -> None:
    """Show the value that several things have; where they differ, that they do."""
    box.setPlaceholderText(VARIOUS)
    box.setCurrentIndex(max(box.findData(values[0]), 0) if all(v == values[0] for v in values) else -1)


def button(text: str, role: str = "", name: str = "") -> QPushButton:
    """A push button with a role of the style sheet."""
    made = QPushButton(text)
    if role:
        made.setProperty("role", role)
    made.setAccessibleName(name or text)
    return made


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
