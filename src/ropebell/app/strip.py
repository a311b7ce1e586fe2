"""The strip: what is true of this picture, in one line."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QSizePolicy, QWidget

from ropebell.app.palette import STRIP_HEIGHT, THEME

PADDING = 6
# A pixel or two that letters take more beside each other than on their own.
SLACK = 4
MARGIN, GAP_WIDTH = 12, 4
# Of the name of what is under the pointer so much is worth more than words that are as ever.
NAME_ROOM = 120
GAP = "     "


class Shortened(QLabel):
    """A label that shows as much of the end of its text as there is room for; the whole is in its tool tip."""

    def setText(self, text: str | None) -> None:
        super().setText(text)
        self.setToolTip(text or "")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), self.alignment().value, self.shown())

    def shown(self) -> str:
        """What there is room for."""
        return self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideLeft, self.width())


class Hints(Shortened):
    """Of several hints those that there is room for, the last first; none is ever cut."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._hints: tuple[str, ...] = ()

    def show_hints(self, hints: tuple[str, ...]) -> None:
        """Least wanted first."""
        self._hints = hints
        self.setText(GAP.join(hints))

    def shown(self) -> str:
        fitting = (GAP.join(self._hints[first:]) for first in range(len(self._hints)))
        measured = self.fontMetrics().horizontalAdvance
        return next((text for text in fitting if measured(text) + SLACK <= self.width()), "")


class Facts(QPushButton):
    """What one should know of the picture: the most important in full, the rest counted, all of it in a menu."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "facts")
        self.setAccessibleName("What is true of this picture")
        self.setMenu(QMenu(self))
        self.facts: list[str] = []
        self._more = ""
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def show_facts(self, facts: list[str]) -> None:
        """Most important first."""
        self.facts = facts
        self._more = f"  + {len(facts) - 1} more" if len(facts) > 1 else ""
        self.setToolTip("\n".join(facts))
        menu = self.menu()
        assert menu is not None
        menu.clear()
        for fact in facts:
            menu.addAction(fact)
        self.setVisible(bool(facts))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        words = self.facts[0] + self._more if self.facts else ""
        return QSize(self.fontMetrics().horizontalAdvance(words) + 2 * PADDING + SLACK, 24)

    def minimumSizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._more) + 80, 24)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        room = self.rect().adjusted(PADDING, 0, -PADDING, 0)
        metrics = self.fontMetrics()
        left = room.width() - metrics.horizontalAdvance(self._more)
        shown = metrics.elidedText(self.facts[0] if self.facts else "", Qt.TextElideMode.ElideRight, left)
        painter.setPen(THEME.color("accent"))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown + self._more)


EXPOSURE_HELP = (
    "Exposure in stops. The picture shows light as displayed (1 − e^−x, then the curve of sRGB), this much as middle "
    "grey; pages, and what is read at a place, are linear"
)


class Strip(QFrame):
    """Labels and small menus under the stage."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.setFixedHeight(STRIP_HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(MARGIN, 0, MARGIN, 0)
        row.setSpacing(GAP_WIDTH)
        row.setSizeConstraint(QHBoxLayout.SizeConstraint.SetNoConstraint)
        self.build = self._label("heading", "Build that the picture shows")
        self.state = Facts(self)
        self.view = self._menu_button("View", "What the stage shows")
        self.exposure = self._menu_button(
            "EV 0.0",
            EXPOSURE_HELP,
        )
        self.filter = self._menu_button("smooth", "Smooth or by texel")
        self.eye = self._menu_button("perspective", "Perspective or plan")
        self.hidden = self._menu_button("all shown", "What is hidden")
        self.where = Shortened(self)
        self.where.setProperty("role", "second")
        self.where.setAccessibleName("What is under the pointer")
        self.value = self._label("number", "Light under the pointer")
        for widget in (self.build, self.state, self.view, self.exposure, self.filter, self.eye, self.hidden):
            row.addWidget(widget)
        self.hint = Hints(self)
        self.hint.setProperty("role", "second")
        self.hint.setAccessibleName("What hands and keys do here")
        row.addStretch(1)
        row.addWidget(self.hint)
        row.addWidget(self.where)
        row.addSpacing(8)
        row.addWidget(self.value)
        for words in (self.where, self.hint):
            words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            row.setStretchFactor(words, 3)
        self.hint.hide()
        # What says how it is anyway goes first where there is no room; it stands in the menu, too.
        self._as_ever = {self.filter: "smooth", self.eye: "perspective", self.hidden: "all shown"}
        self._wanted: set[QPushButton] = set()
        # What was told of spots in this view so far took so many pixels: words do not come and go with the pointer.
        self._spot_room, self._spot_view = 0, ""

    def show_menus(self, wanted: set[QPushButton]) -> None:
        """Which of the small menus have anything to say of the picture."""
        self._wanted = wanted
        self.make_room()

    def make_room(self) -> None:
        """Show what is wanted, and leave out what is as ever until the most important has its room."""
        for button in (self.view, self.exposure, self.filter, self.eye, self.hidden):
            button.setVisible(button in self._wanted)
        fixed = [self.build, self.state, self.view, self.exposure, self.filter, self.eye, self.hidden]
        for button, words in self._as_ever.items():
            needed = sum(w.sizeHint().width() + GAP_WIDTH for w in fixed if not w.isHidden())
            if needed + self._spot_room + 2 * MARGIN <= self.width():
                break
            if button.text() == words:
                button.hide()
        layout = self.layout()
        if layout is not None:
            layout.activate()  # at once, or what was hidden would leave its place empty for a moment

    def say(self, where: str, value: str, hints: bool = False) -> None:
        """What is under the pointer, and its light; empty for nothing: then, if wanted, what hands and keys do."""
        silent = not (where or value)
        self.where.setText(where)
        self.value.setText(value)
        self.where.setVisible(not (silent and hints))
        self.hint.setVisible(silent and hints)
        named = min(self.where.fontMetrics().horizontalAdvance(where), NAME_ROOM)
        room = 0 if silent else named + self.value.sizeHint().width() + 8 + 4 * GAP_WIDTH
        if self._spot_view != self.view.text():
            self._spot_room, self._spot_view = 0, self.view.text()
        self._spot_room = max(self._spot_room, room)
        self.make_room()

    def minimumSizeHint(self) -> QSize:
        # What there is no room for goes; it does not keep the window wide.
        return QSize(self.build.sizeHint().width() + self.state.minimumSizeHint().width() + 2 * MARGIN, STRIP_HEIGHT)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.make_room()

    def set_facts(self, facts: list[str]) -> None:
        """Say what is true of the picture, most important first."""
        self.state.show_facts(facts)

    def _label(self, role: str, name: str) -> QLabel:
        label = QLabel(self)
        label.setProperty("role", role)
        label.setAccessibleName(name)
        return label

    def _menu_button(self, text: str, name: str) -> QPushButton:
        button = QPushButton(text, self)
        button.setProperty("role", "flat")
        button.setAccessibleName(name)
        button.setToolTip(name)
        button.setMenu(QMenu(button))
        return button
