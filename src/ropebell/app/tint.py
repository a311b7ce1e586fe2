"""Colours of light between the solver's linear values and the screen."""

from __future__ import annotations

from PyQt6.QtGui import QColor


def to_display(color: tuple[float, float, float]) -> QColor:
    """A linear colour as the screen shows it, as bright as it gets."""
    top = max(*color, 1e-9)
    shown = [max(c / top, 0.0) ** (1 / 2.2) for c in color]
    return QColor.fromRgbF(*shown)


def from_display(color: QColor) -> tuple[float, float, float]:
    """Back to linear."""
    r, g, b = (round(v**2.2, 4) for v in (color.redF(), color.greenF(), color.blueF()))
    return (r, g, b)
