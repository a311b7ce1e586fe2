"""The scale of lights in the corner of the stage, with how much surface has which, of what is asked for."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QSizePolicy, QWidget

from ropebell.app.desk import Desk
from ropebell.app.palette import THEME, font
from ropebell.app.parts import Choice, column, label
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.picture import LOOKED_THROUGH, StagePicture
from ropebell.app.steps.faults.views import CLIPPED, LUX
from ropebell.app.words import lux
from ropebell.build.plan import plan_of
from ropebell.level.brief import Box
from ropebell.level.cutouts import has_holes
from ropebell.level.model import F64, LUMINANCE, Mask
from ropebell.light import spread as spreads
from ropebell.light.spread import Spread, even_places, spread

WIDE, HIGH, MARGIN, SIDE = 352, 168, 12, 24
SAMPLES, REST_MS, MOST_HOLES = 40_000, 150, 8
LEVEL, SELECTION, BOX, SEEN = range(4)
# Of `LUX`'s rule of colour: dark blue to yellow in even steps.
EVEN = ((0, 33, 77), (61, 77, 107), (125, 122, 120), (189, 173, 107), (255, 235, 71))
MARKS = (0.1, 1.0, 10.0, 100.0, 1_000.0, 10_000.0)


def on_surface(picture: StagePicture, wanted: Mask, box: Box | None) -> tuple[F64, F64]:
    """Light on the surfaces of a picture: (n,) lux, and (n,) the m² that each stands for.

    Args:
        wanted: (T,) bool, triangles that are asked for. box: only what lies in it, None for everything.
    """
    none = np.zeros(0), np.zeros(0)
    if picture.charted is None or picture.total is None:
        return none
    charted, scene = picture.charted, picture.scene
    lit = wanted & (charted.page >= 0) & (charted.page < len(picture.total))
    areas = np.where(lit, scene.areas, 0.0)
    triangle, weights = even_places(areas, SAMPLES)
    if not len(triangle):
        return none
    if box is not None:
        places = np.einsum("nk,nkc->nc", weights, scene.corners[triangle])
        inside = ((places >= box.low) & (places <= box.high)).all(axis=1)
        triangle, weights = triangle[inside], weights[inside]
    each = float(areas.sum()) / SAMPLES
    return _read(picture, triangle, weights), np.full(len(triangle), each)


def in_view(picture: StagePicture, camera: Camera, aspect: float, hidden: frozenset[int]) -> tuple[F64, F64]:
    """Light as it fills the picture: (n,) lux, and (n,) ones. What has holes is looked through."""
    if picture.charted is None or picture.total is None:
        return np.zeros(0), np.zeros(0)
    columns, rows = (2 * n for n in LOOKED_THROUGH)
    x, y = np.meshgrid(*((2 * np.arange(n) + 1) / n - 1 for n in (columns, rows)))
    origins, directions = camera.rays(x.ravel(), y.ravel(), aspect)
    holes = np.array([has_holes(m) for m in picture.level.materials] + [False])[picture.scene.material]
    start = (origins - picture.space.centre).astype(np.float32)
    along = directions.astype(np.float32)
    hit = picture.space.first_hit(start, along)
    for _ in range(MOST_HOLES):
        through = np.flatnonzero((hit >= 0) & holes[hit])
        if not len(through):
            break
        far = picture.space.distances(start[through], along[through]) + picture.space.extent * 2e-5
        start[through] += along[through] * far[:, None].astype(np.float32)
        hit[through] = picture.space.first_hit(start[through], along[through])
    page = np.where(hit >= 0, picture.charted.page[hit], -1)
    shown = (page >= 0) & (page < len(picture.total))
    if hidden:
        shown &= ~np.isin(picture.scene.node[hit], list(hidden))
    triangle = hit[shown].astype(np.int64)
    weights = _weights(picture.scene.corners[triangle], origins[shown], directions[shown])
    return _read(picture, triangle, weights), np.ones(len(triangle))


def _weights(corners: F64, origins: F64, directions: F64) -> F64:
    """(n, 3) barycentric weights where rays meet the planes of their triangles (Möller and Trumbore 1997)."""
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    p, s = np.cross(directions, e2), origins - corners[:, 0]
    det = np.einsum("nk,nk->n", e1, p)
    det = np.where(np.abs(det) > 1e-30, det, 1.0)
    b = np.einsum("nk,nk->n", s, p) / det
    c = np.einsum("nk,nk->n", directions, np.cross(s, e1)) / det
    found = np.clip(np.stack([1 - b - c, b, c], axis=1), 0.0, 1.0)
    return np.asarray(found / found.sum(axis=1, keepdims=True))


def _read(picture: StagePicture, triangle: np.ndarray, weights: F64) -> F64:
    """(n,) lux of the texels at places on triangles."""
    assert picture.charted is not None and picture.total is not None
    at = np.einsum("nk,nkc->nc", weights, picture.charted.uv[triangle])
    side = picture.total.shape[1] - 1
    column_, row = (np.clip(at[:, i].astype(np.int64), 0, side) for i in (0, 1))
    return np.asarray(picture.total[picture.charted.page[triangle], row, column_] @ LUMINANCE, np.float64)


class LightScale(QFrame):
    """Stands in the corner while light is shown in false colours, or while it is wanted.

    Attributes:
        found: what is shown, None until it is known.
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk.stage)
        self._desk = desk
        self.found: Spread | None = None
        self._of: int = LEVEL
        # What a person said; None: it comes and goes with the way of looking.
        self._wanted: bool | None = None
        self.setProperty("role", "pane")
        self.setFixedSize(WIDE, HIGH)
        box = column(self, 10, 6)
        self.of = Choice(["Level", "Selection", "Cut box", "In view"], "Light of")
        self.of.set_current(LEVEL)
        self.of.chosen.connect(self._choose)
        self.bars, self.words = Bars(self), label("", "second")
        for part in (self.of, self.bars, self.words):
            box.addWidget(part)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REST_MS)
        self._timer.timeout.connect(self._find)
        for signal in (desk.picture.changed, desk.selection.selected, desk.document.edited, desk.stage.rested):
            signal.connect(self._changed)
        # Exposure is the picture's own; what it makes black or white is known anew when it was drawn.
        self._for_white = 0.0
        desk.stage.drawn.connect(lambda: self._changed() if self.white != self._for_white else None)
        desk.stage.installEventFilter(self)
        self._stand()
        self.hide()

    @property
    def ends(self) -> bool:
        """Whether it is coloured by what is black and clipped, instead of by lux."""
        return self._desk.stage.look.view is not LUX

    @property
    def white(self) -> float:
        """Lux that the display shows as white."""
        return float(np.pi / max(self._desk.stage.look.exposure, 1e-12))

    def toggle(self) -> None:
        """Show it in any way of looking, or in none."""
        self._wanted = not self.isVisible()
        self.view_shown()

    def view_shown(self) -> None:
        """Come or go with the way of looking."""
        look = self._desk.stage.look
        belongs = look.view in (LUX, CLIPPED)
        self.setVisible(belongs if self._wanted is None else self._wanted)
        self._changed()

    def _choose(self, of: int) -> None:
        self._of = of
        self._find()

    def _changed(self) -> None:
        if self.isVisible():
            self._timer.start()

    def _find(self) -> None:
        stage, selection = self._desk.stage, self._desk.selection
        picture, of, white = stage.picture, self._of, self.white
        self._for_white = white
        project = self._desk.document.project
        box = plan_of(project).box if project is not None else None
        if picture is None or not stage.has_light:
            self._nothing("No light is shown.")
            return
        if of == BOX and box is None:
            self._nothing("No cut box is set; it is on the Build step.")
            return
        chosen = {self._desk.picture.node_on_stage(n) for n in selection.chosen}
        if of == SELECTION and not chosen:
            self._nothing("Nothing is selected.")
            return
        camera, aspect, hidden = stage.camera, stage.width() / max(stage.height(), 1), stage.look.hidden

        def work() -> Spread:
            if of == SEEN:
                return spread(*in_view(picture, camera, aspect, hidden), white)
            wanted = np.isin(picture.scene.node, list(chosen)) if of == SELECTION else np.ones(len(picture.scene), bool)
            return spread(*on_surface(picture, wanted, box if of == BOX else None), white)

        def receive(found: Spread) -> None:
            self.found = found
            if not found.count:
                self._say("Nothing here has a lightmap.")
                return
            self._say(
                f"half of it under {lux(found.median)}   black {100 * found.black:.2g} %   "
                f"clipped {100 * found.clipped:.2g} %"
            )

        self._desk.jobs.start("spread", work, receive)

    def _stand(self) -> None:
        self.move(MARGIN, self._desk.stage.height() - HIGH - MARGIN)

    def _nothing(self, words: str) -> None:
        self.found = None
        self._say(words)

    def _say(self, words: str) -> None:
        self.words.setText(words)
        self.bars.update()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() in (QEvent.Type.Resize, QEvent.Type.Show):
            self._stand()
        return super().eventFilter(watched, event)


class Bars(QWidget):
    """The bars over their scale."""

    def __init__(self, scale: LightScale) -> None:
        super().__init__(scale)
        self._scale = scale
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Surface by how much light it has")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        bottom, wide = self.height() - 18, self.width() - 2 * SIDE
        found, white = self._scale.found, self._scale.white
        painter.setFont(font(11))
        painter.setPen(THEME.color("second"))
        for value in MARKS:
            x = SIDE + wide * _place(value)
            words = f"{value:,.0f}".replace(",", " ") if value >= 1 else f"{value:g}"
            painter.drawText(QRectF(x - 30, bottom + 3, 60, 15), Qt.AlignmentFlag.AlignCenter, words)
            painter.drawLine(QPointF(x, bottom), QPointF(x, bottom + 3))
        if found is not None and found.count:
            tallest = float(found.shares.max()) or 1.0
            painter.setPen(Qt.PenStyle.NoPen)
            for number, share in enumerate(found.shares):
                left, right = (SIDE + wide * _place(float(found.edges[number + i])) for i in (0, 1))
                height = max((bottom - 15) * float(share) / tallest, 1.0 if share > 0 else 0.0)
                painter.setBrush(self._color(float(np.sqrt(found.edges[number] * found.edges[number + 1])), white))
                painter.drawRect(QRectF(left, bottom - height, right - left - 0.5, height))
        painter.setPen(THEME.color("text"))
        if spreads.LEAST < white < spreads.MOST:
            x = SIDE + wide * _place(white)
            painter.drawLine(QPointF(x, 12), QPointF(x, bottom))
            painter.drawText(QRectF(x - 30, -1, 60, 13), Qt.AlignmentFlag.AlignCenter, "white")

    def _color(self, value: float, white: float) -> QColor:
        if not self._scale.ends:
            at = 4 * min(max(_place(value), 0.0), 1.0)
            low = min(int(at), 3)
            mixed = [round(a + (b - a) * (at - low)) for a, b in zip(EVEN[low], EVEN[low + 1])]
            return QColor(*mixed)
        if value > spreads.CLIPPED * white:
            return QColor(250, 204, 77)
        return QColor(60, 72, 140) if value < spreads.BLACK * white else QColor(150, 150, 150)


def _place(value: float) -> float:
    """Where on the scale, 0 … 1."""
    least, most = np.log10(spreads.LEAST), np.log10(spreads.MOST)
    return float((np.log10(max(value, 1e-9)) - least) / (most - least))
