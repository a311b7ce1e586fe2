"""Our own small shapes: one for each kind of fault, in lines, about the origin."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainterPath

SIZE = 7.0


def _lines(*lines: tuple[tuple[float, float], ...]) -> QPainterPath:
    path = QPainterPath()
    for line in lines:
        path.moveTo(*line[0])
        for point in line[1:]:
            path.lineTo(*point)
    return path


def _box(x: float, y: float, w: float, h: float) -> QPainterPath:
    path = QPainterPath()
    path.addRect(QRectF(x, y, w, h))
    return path


def _dots(*points: tuple[float, float], radius: float = 1.2) -> QPainterPath:
    path = QPainterPath()
    for x, y in points:
        path.addEllipse(QPointF(x, y), radius, radius)
    return path


def _ring(x: float, y: float, rx: float, ry: float) -> QPainterPath:
    path = QPainterPath()
    path.addEllipse(QPointF(x, y), rx, ry)
    return path


def _both(*paths: QPainterPath) -> QPainterPath:
    path = QPainterPath()
    for one in paths:
        path.addPath(one)
    return path


def _arc(start: float, span: float, radius: float = 6.0) -> QPainterPath:
    path = QPainterPath()
    box = QRectF(-radius, -radius, 2 * radius, 2 * radius)
    path.arcMoveTo(box, start)
    path.arcTo(box, start, span)
    return path


SHAPES: dict[str, Callable[[], QPainterPath]] = {
    # a patch with a corner cut off; light that gets under a bar; two edges that do not meet; ...
    "black-patch": lambda: _lines(((-6, -6), (2, -6), (6, -2), (6, 6), (-6, 6), (-6, -6)), ((-2, -2), (2, 2))),
    "light-leak": lambda: _lines(((-7, -6), (7, -6)), ((-5, 6), (0, -3), (5, 6))),
    "seam": lambda: _lines(
        ((-3, -7), (-5, -3), (-2, 1), (-4, 7)), ((3, -7), (1, -3), (4, 1), (2, 7)),
    ),
    "chart-bleed": lambda: _both(_box(-7, -5, 6, 10), _box(1, -5, 6, 10), _lines(((-3, 0), (3, 0)))),
    "blocky-shadow": lambda: _lines(((-7, 6), (-7, 2), (-3, 2), (-3, -2), (1, -2), (1, -6), (6, -6))),
    "noise": lambda: _dots((-5, -5), (1, -4), (5, -6), (-3, 0), (3, 1), (-6, 5), (0, 5), (6, 5)),
    "blotch": lambda: _both(_ring(-2, -1, 4.5, 3.5), _ring(3, 3, 3.5, 3)),
    "clipped": lambda: _both(_arc(0, -180), _lines(
        ((-7, 0), (7, 0)), ((0, -3), (0, -7)), ((-4, -2), (-6, -5)), ((4, -2), (6, -5)),
    )),
    "dark-mover": lambda: _both(_box(-4, -7, 8, 8), _lines(((0, 1), (0, 6)), ((-4, 7), (4, 7)))),
    "pose-stain": lambda: _both(_lines(((-5, 7), (-5, -7)), ((-5, 7), (5, -2))), _arc(35, 50, 6.5)),
    "uneven-quality": lambda: _both(_box(-7, -4, 8, 8), _box(2, -4, 4, 4), _box(2, 0, 4, 4)),
    "relief-lost": lambda: _lines(((-7, 4), (7, 4)), ((-6, -1), (-3, -5), (0, -1), (3, -5), (6, -1))),
    "dull-emitter": lambda: _both(_ring(0, 0, 5.5, 5.5), _lines(((-3, 3), (3, -3)))),
    "grid-light": lambda: _lines(((-3, -7), (-3, 7)), ((3, -7), (3, 7)), ((-7, -3), (7, -3)), ((-7, 3), (7, 3))),
    "non-finite": lambda: _both(_ring(0, 0, 6, 6), _lines(((-3, -3), (3, 3)), ((3, -3), (-3, 3)))),
    "stale-object": lambda: _both(_lines(((-6, 6), (-6, -6), (0, -6)), ((6, -1), (6, 6), (-1, 6)))),
    "hull-leak": lambda: _both(_arc(30, 300), _lines(((2, 0), (8, 0)))),
}  # fmt: skip


def fault_path(kind: str) -> QPainterPath:
    """The shape of a kind, as lines to be stroked; a triangle for one without its own."""
    made = SHAPES.get(kind)
    return made() if made is not None else _lines(((0, 6), (-6, -5), (6, -5), (0, 6)))
