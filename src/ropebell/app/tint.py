"""Colours of light between the solver's linear values and the screen."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QColor

from ropebell.level.display import linear_to_srgb, srgb_to_linear


def to_display(color: tuple[float, float, float]) -> QColor:
    """A linear colour as the screen shows it, as bright as it gets."""
    top = max(*color, 1e-9)
    r, g, b = (float(v) for v in linear_to_srgb(np.maximum(color, 0.0) / top))
    return QColor.fromRgbF(min(r, 1.0), min(g, 1.0), min(b, 1.0))


def from_display(color: QColor) -> tuple[float, float, float]:
    """Back to linear."""
    r, g, b = (round(float(v), 4) for v in srgb_to_linear((color.redF(), color.greenF(), color.blueF())))
    return (r, g, b)
