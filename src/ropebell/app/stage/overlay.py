"""Lines, marks and grips that are drawn over the picture in the level's own space."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF

from ropebell.app.fault_shapes import fault_path
from ropebell.app.palette import THEME, font
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.picture import StagePicture
from ropebell.level.model import F64

AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}
NEAR = 0.02
GRIP_PIXELS = 11
CIRCLE = 48


@dataclass(frozen=True, eq=False)
class Line:
    """A polyline.

    Attributes:
        points: (n, 3) metres; every two are a segment of their own if `pairs`.
        role: colour of the palette.
    """

    points: F64
    role: str = "accent"
    width: float = 1.5
    dashed: bool = False
    pairs: bool = False


@dataclass(frozen=True)
class Mark:
    """A small shape at a place.

    Attributes:
        shape: point, spot, sun, emitter, probe, start, or fault and its kind.
        node: what a click on it selects, −1 for nothing.
        hollow: drawn as an outline only, for what is off.
        ringed: with a ring, for what is live. through: drawn even if something stands before it.
    """

    position: tuple[float, float, float]
    shape: str
    label: str = ""
    node: int = -1
    hollow: bool = False
    ringed: bool = False
    strong: bool = False
    through: bool = True


@dataclass(frozen=True)
class Grip:
    """Something that hands can drag.

    Attributes:
        name: told when it is dragged.
        axis: it moves along this direction only; None: in the plane that faces the eye.
    """

    name: str
    position: tuple[float, float, float]
    axis: tuple[float, float, float] | None = None
    label: str = ""


@dataclass(frozen=True, eq=False)
class Overlay:
    """Everything over one picture."""

    lines: tuple[Line, ...] = ()
    marks: tuple[Mark, ...] = ()
    grips: tuple[Grip, ...] = ()


def on_screen(camera: Camera, points: F64, width: int, height: int) -> tuple[F64, NDArray[np.bool_]]:
    """(n, 2) pixels of world points, and (n,) whether they lie in front of the eye."""
    local = points - np.array(camera.eye)
    right, up, ahead = local @ camera.right, local @ camera.up, local @ camera.forward
    aspect = width / max(height, 1)
    if camera.plan:
        half = camera.span / 2
        x, y, front = right / (half * aspect), up / half, np.ones(len(points), np.bool_)
    else:
        front = ahead > NEAR
        depth = np.where(front, ahead, 1.0) * camera.tangent
        x, y = right / (depth * aspect), up / depth
    return np.stack([(x + 1) * width / 2, (1 - y) * height / 2], axis=1), front


def segments(camera: Camera, line: Line, width: int, height: int) -> list[QLineF]:
    """The parts of a line in front of the eye, in pixels."""
    p = np.asarray(line.points, dtype=np.float64).reshape(-1, 3)
    a, b = (p[0::2], p[1::2]) if line.pairs else (p[:-1], p[1:])
    if not camera.plan:
        eye = np.array(camera.eye)
        da, db = (a - eye) @ camera.forward - NEAR, (b - eye) @ camera.forward - NEAR
        keep = (da > 0) | (db > 0)
        a, b, da, db = a[keep], b[keep], da[keep], db[keep]
        share = np.clip(da / np.where(da == db, 1.0, da - db), 0, 1)[:, None]
        cut = a + share * (b - a)
        a, b = np.where((da > 0)[:, None], a, cut), np.where((db > 0)[:, None], b, cut)
    qa, _ = on_screen(camera, a + camera.forward * 1e-6, width, height)
    qb, _ = on_screen(camera, b + camera.forward * 1e-6, width, height)
    far = 20.0 * max(width, height)
    return [QLineF(QPointF(*s), QPointF(*e)) for s, e in zip(qa, qb) if np.abs(s).max() < far and np.abs(e).max() < far]


def seen_overlay(overlay: Overlay, picture: StagePicture | None, camera: Camera, hidden: frozenset[int]) -> Overlay:
    """An overlay less the marks that something of the picture hides."""
    hideable = [m for m in overlay.marks if not m.through]
    if not hideable or picture is None:
        return overlay
    free = picture.in_sight(camera, np.array([m.position for m in hideable]), hidden)
    behind = {id(m) for m, seen in zip(hideable, free) if not seen}
    return replace(overlay, marks=tuple(m for m in overlay.marks if id(m) not in behind))


def paint(painter: QPainter, camera: Camera, overlay: Overlay, width: int, height: int) -> None:
    """Draw an overlay."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for line in overlay.lines:
        parts: Any = segments(camera, line, width, height)
        style = Qt.PenStyle.DashLine if line.dashed else Qt.PenStyle.SolidLine
        painter.setPen(QPen(QColor(0, 0, 0, 120), line.width + 1.6))
        painter.drawLines(parts)
        painter.setPen(QPen(THEME.color(line.role), line.width, style))
        painter.drawLines(parts)
    places = _places(camera, [m.position for m in overlay.marks], width, height)
    for mark, at in zip(overlay.marks, places):
        if at is not None:
            _paint_mark(painter, mark, at)
    for grip, at in zip(overlay.grips, _places(camera, [g.position for g in overlay.grips], width, height)):
        if at is not None:
            _paint_grip(painter, grip, at)


def _places(
    camera: Camera, points: Sequence[tuple[float, float, float]], width: int, height: int
) -> list[QPointF | None]:
    if not points:
        return []
    at, front = on_screen(camera, np.array(points, dtype=np.float64), width, height)
    inside = front & (np.abs(at - [width / 2, height / 2]) < [width, height]).all(axis=1)
    return [QPointF(*xy) if ok else None for xy, ok in zip(at, inside)]


def mark_path(shape: str, size: float = 6.5) -> QPainterPath:
    """Our own small shapes: what a light is, without words."""
    if shape.startswith("fault "):
        return fault_path(shape.removeprefix("fault "))
    path = QPainterPath()
    if shape == "spot":
        path.addPolygon(QPolygonF([QPointF(0, -size), QPointF(size, size), QPointF(-size, size)]))
        path.closeSubpath()
    elif shape == "sun":
        path.addRoundedRect(QRectF(-size, -size * 0.55, 2 * size, size * 1.1), 3, 3)
        path.addRect(QRectF(-1.2, size * 0.55, 2.4, size * 0.9))
    elif shape == "emitter":
        path.addRect(QRectF(-size * 0.8, -size * 0.8, size * 1.6, size * 1.6))
    elif shape == "probe":
        path.addEllipse(QPointF(0, 0), size * 0.55, size * 0.55)
    elif shape == "start":
        path.addPolygon(
            QPolygonF([QPointF(-size, size), QPointF(0, -size), QPointF(size, size), QPointF(0, size * 0.4)])
        )
        path.closeSubpath()
    else:
        path.addPolygon(QPolygonF([QPointF(0, -size), QPointF(size, 0), QPointF(0, size), QPointF(-size, 0)]))
        path.closeSubpath()
    return path


def _paint_mark(painter: QPainter, mark: Mark, at: QPointF) -> None:
    color = THEME.color("accent") if mark.strong else QColor("#f4efe6")
    path = mark_path(mark.shape).translated(at)
    painter.setPen(QPen(QColor(0, 0, 0, 170), 3.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(path)
    painter.setPen(QPen(color, 1.6))
    in_lines = mark.shape.startswith("fault ")
    if in_lines:
        painter.setPen(QPen(color, 1.1 if mark.hollow else 2.2))
    painter.setBrush(Qt.BrushStyle.NoBrush if mark.hollow or in_lines else color)
    painter.drawPath(path)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if mark.ringed:
        painter.setPen(QPen(color, 1.4))
        painter.drawEllipse(at, 11, 11)
    if mark.label:
        # On the left, since grips stand on the right.
        width = QFontMetricsF(font(11, QFont.Weight.DemiBold)).horizontalAdvance(mark.label)
        _paint_label(painter, at - QPointF(13 + width, -4), mark.label, color)


def _paint_label(painter: QPainter, at: QPointF, text: str, color: QColor) -> None:
    path = QPainterPath()
    path.addText(at, font(11, QFont.Weight.DemiBold), text)
    painter.strokePath(path, QPen(QColor(0, 0, 0, 190), 3.0, join=Qt.PenJoinStyle.RoundJoin))
    painter.fillPath(path, color)


def _paint_grip(painter: QPainter, grip: Grip, at: QPointF) -> None:
    painter.setPen(QPen(QColor(0, 0, 0, 180), 1.5))
    painter.setBrush(THEME.color("accent"))
    if grip.axis is None:
        painter.drawEllipse(at, 6.5, 6.5)
    else:
        painter.drawRoundedRect(QRectF(at.x() - 5.5, at.y() - 5.5, 11, 11), 3, 3)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if grip.label:
        _paint_label(painter, at + QPointF(9, -6), grip.label, THEME.color("accent"))


def grip_at(camera: Camera, overlay: Overlay, at: QPointF, width: int, height: int) -> Grip | None:
    """The grip under a point of the picture."""
    return _nearest(camera, list(overlay.grips), at, width, height)


def mark_at(camera: Camera, overlay: Overlay, at: QPointF, width: int, height: int) -> Mark | None:
    """The mark under a point of the picture that a click selects something by."""
    return _nearest(camera, [m for m in overlay.marks if m.node >= 0], at, width, height)


Thing = TypeVar("Thing", Grip, Mark)


def _nearest(camera: Camera, things: list[Thing], at: QPointF, width: int, height: int) -> Thing | None:
    found = [
        (QLineF(place, at).length(), i)
        for i, place in enumerate(_places(camera, [t.position for t in things], width, height))
        if place is not None
    ]
    best = min(found, default=None)
    return things[best[1]] if best is not None and best[0] <= GRIP_PIXELS else None


def circle(middle: F64, radius: float, axis: F64) -> F64:
    """(CIRCLE + 1, 3) points of a circle about an axis."""
    helper = np.array([0.0, 1.0, 0.0]) if abs(axis[1]) < 0.9 else np.array([1.0, 0.0, 0.0])
    a = np.cross(axis, helper)
    a /= np.linalg.norm(a)
    b = np.cross(axis, a)
    turn = np.linspace(0, 2 * np.pi, CIRCLE + 1)[:, None]
    found: F64 = middle + radius * (np.cos(turn) * a + np.sin(turn) * b)
    return found


def box_edges(low: Sequence[float], high: Sequence[float]) -> F64:
    """(24, 3) ends of the twelve edges of a box, in pairs."""
    c = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
    pairs = [(i, j) for i in range(8) for j in range(i + 1, 8) if np.abs(c[i] - c[j]).sum() == 1]
    corners = np.array(low) + c * (np.array(high) - np.array(low))
    found: F64 = corners[np.array(pairs).ravel()]
    return found


def dragged(camera: Camera, grip: Grip, start: tuple[F64, F64], now: tuple[F64, F64]) -> F64:
    """Where a grip is after a drag.

    Args:
        start, now: eye rays (origin, unit direction) where the hand began and where it is.
    """
    origin = np.array(grip.position)
    if grip.axis is not None:
        axis = np.array(grip.axis) / np.linalg.norm(grip.axis)
        found: F64 = origin + axis * (_along(origin, axis, *now) - _along(origin, axis, *start))
        return found
    return origin + _on_plane(origin, camera.forward, *now) - _on_plane(origin, camera.forward, *start)


def _along(origin: F64, axis: F64, eye: F64, ray: F64) -> float:
    """Parameter on a line that is nearest to a ray."""
    between = origin - eye
    cosine = float(axis @ ray)
    denominator = 1.0 - cosine * cosine
    if denominator < 1e-6:
        return 0.0
    return float((cosine * (ray @ between) - axis @ between) / denominator)


def _on_plane(origin: F64, normal: F64, eye: F64, ray: F64) -> F64:
    along = float(ray @ normal)
    return eye + ray * (float((origin - eye) @ normal) / along) if abs(along) > 1e-9 else origin


def snapped(point: F64, step: float) -> tuple[float, float, float]:
    """A point on a grid of `step` metres; 0 leaves it where it is, to the millimetre."""
    grid = np.round(point / step) * step if step > 0 else point
    x, y, z = (round(float(v), 3) for v in grid)
    return (x, y, z)


def plain(point: F64, digits: int = 6) -> tuple[float, float, float]:
    """A point as plain numbers."""
    x, y, z = (round(float(v), digits) for v in point)
    return (x, y, z)


def edge_lines(corners: F64) -> F64:
    """(6n, 3) ends of the edges of triangles, two for each edge.

    Args:
        corners: (n, 3, 3).
    """
    return np.stack([corners, np.roll(corners, -1, axis=1)], axis=2).reshape(-1, 3)
