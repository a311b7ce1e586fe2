"""Trouble spots over builds: kept places, each from the same viewpoint in the last builds, side by side."""

from __future__ import annotations

from dataclasses import dataclass, replace

from PyQt6.QtCore import QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.palette import THEME, font
from ropebell.app.parts import label
from ropebell.app.places import Place, cameras
from ropebell.app.reading import read_build
from ropebell.app.stage.renderer import Look, Renderer
from ropebell.app.views import COMMON, RESULT
from ropebell.errors import RopeBellError

# Builds side by side, the newest last; pixels of a picture, and of the words beside a row.
BUILDS, CELL, WORDS, GAP, HEAD = 4, QSize(164, 106), 150, 8, 30
# Drawn finer than shown, for screens that are scaled.
FINER = 2


@dataclass(frozen=True)
class Column:
    """A build on the sheet: a picture for each place, by its name."""

    number: int
    draft: int
    pictures: dict[str, QImage]


class Sheet(QWidget):
    """The pictures.

    Signals:
        chosen: number of a build and name of a place.
    """

    chosen = pyqtSignal(int, str)

    def __init__(self) -> None:
        super().__init__()
        self.places: list[Place] = []
        self.columns: list[Column] = []
        self.setAccessibleName("Trouble spots over the last builds")
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_sheet(self, places: list[Place], columns: list[Column]) -> None:
        """Show what is there by now."""
        self.places, self.columns = places, columns
        wide = WORDS + len(columns) * (CELL.width() + GAP)
        self.setFixedSize(max(wide, 10), HEAD + len(places) * (CELL.height() + GAP) + GAP)
        self.update()

    def cell(self, row: int, column: int) -> QRect:
        """Where a picture is."""
        x, y = WORDS + column * (CELL.width() + GAP), HEAD + row * (CELL.height() + GAP)
        return QRect(QPoint(x, y), CELL)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        for row, place in enumerate(self.places):
            for number, column in enumerate(self.columns):
                if self.cell(row, number).contains(event.position().toPoint()):
                    self.chosen.emit(column.number, place.name)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for number, column in enumerate(self.columns):
            place = self.cell(0, number)
            painter.setPen(THEME.color("text"))
            painter.setFont(font(12, QFont.Weight.DemiBold))
            draft = {1: "", 2: ", draft ½", 4: ", draft ¼", 8: ", draft ⅛"}[column.draft]
            painter.drawText(QRect(place.left(), 6, CELL.width(), 20), 0, f"Build {column.number}{draft}")
        for row, spot in enumerate(self.places):
            words = QRect(0, self.cell(row, 0).top(), WORDS - 12, CELL.height())
            painter.setPen(THEME.color("text"))
            painter.setFont(font(13, QFont.Weight.DemiBold))
            flags = int(Qt.TextFlag.TextWordWrap)
            used = painter.boundingRect(words, flags, spot.name)
            painter.drawText(words, flags, spot.name)
            painter.setPen(THEME.color("second"))
            painter.setFont(font(12))
            painter.drawText(words.adjusted(0, used.height() + 4, 0, 0), flags, spot.note)
            for number, column in enumerate(self.columns):
                self._picture(painter, self.cell(row, number), column.pictures.get(spot.name))

    @staticmethod
    def _picture(painter: QPainter, place: QRect, image: QImage | None) -> None:
        if image is None:
            painter.setPen(QPen(THEME.color("line"), 1, Qt.PenStyle.DashLine))
            painter.drawRect(place.adjusted(0, 0, -1, -1))
            painter.setPen(THEME.color("second"))
            painter.setFont(font(11))
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, "being drawn")
            return
        painter.drawImage(place, image)


class ContactSheet(QWidget):
    """The sheet in the place of the stage."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._renderer: Renderer | None = None
        rows = QVBoxLayout(self)
        rows.setContentsMargins(20, 16, 12, 12)
        self.title, self.about = label("Trouble spots", "title"), label("", "second")
        self.sheet = Sheet()
        area = QScrollArea()
        area.setWidget(self.sheet)
        for widget in (self.title, self.about, area):
            rows.addWidget(widget)
        rows.setStretch(2, 1)
        desk.rope.builds_changed.connect(self._soon)
        desk.document.edited.connect(self._soon)
        self._drawn_for: object = None

    @property
    def complete(self) -> bool:
        """Whether every picture is there."""
        s = self.sheet
        return bool(s.columns) and all(p.name in c.pictures for c in s.columns for p in s.places)

    def _soon(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Draw what is not drawn yet."""
        desk = self._desk
        now = desk.level.now
        places = cameras(desk.document.project)
        finished = [k for k in desk.rope.knots if k.outcome.state == "done"][-BUILDS:]
        self.about.setText(
            "A row is one viewpoint at one exposure. Click a picture to stand there in that build."
            if places and finished
            else "Nothing to show yet: keep a place with Ctrl+D, or from a fault, and build."
        )
        wanted = (tuple(places), tuple(k.number for k in finished))
        if wanted == self._drawn_for or now is None:
            return
        self._drawn_for = wanted
        self.sheet.show_sheet(places, [Column(k.number, k.draft or 1, {}) for k in finished])
        look, exposures = replace(Look(), view=RESULT), dict[str, float]()
        below = desk.rope.movers_below

        def work(index: int) -> Column:
            knot = finished[index]
            pictures: dict[str, QImage] = {}
            try:
                picture = read_build(knot.folder, now, below).picture
                if self._renderer is None:
                    self._renderer = Renderer(COMMON)
                self._renderer.show(picture)
            except RopeBellError:
                return Column(knot.number, knot.draft or 1, pictures)
            for place in places:
                size = FINER * CELL.width(), FINER * CELL.height()
                # The newest build is drawn first, and chooses it for its row.
                if place.name not in exposures:
                    exposures[place.name] = picture.exposure(place.camera, size[0] / size[1])
                suited = replace(look, exposure=exposures[place.name])
                pixels = self._renderer.draw(place.camera, suited, *size, True)
                high, wide = pixels.shape[:2]
                image = QImage(pixels.tobytes(), wide, high, pixels.strides[0], QImage.Format.Format_RGB888)
                pictures[place.name] = image.copy()
            return Column(knot.number, knot.draft or 1, pictures)

        def next_one(index: int) -> None:
            if index < 0:
                return

            def receive(column: Column) -> None:
                if self._drawn_for == wanted:
                    columns = [column if i == index else c for i, c in enumerate(self.sheet.columns)]
                    self.sheet.show_sheet(places, columns)
                    next_one(index - 1)

            self._desk.jobs.start("sheet", lambda: work(index), receive)

        next_one(len(finished) - 1)
