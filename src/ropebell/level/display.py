"""The one way from light to what a screen shows, and back; `app/shaders/surface.frag` holds the same formulas.

Pages, colours of light and everything that is computed are linear. A picture file and a screen are not: their numbers
follow the transfer function of sRGB (IEC 61966-2-1:1999, 5.2 and 5.3).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32

# Light without the colours of surfaces is shown as on a surface that throws back so much of it.
GREY = 0.6


def srgb_to_linear(value: Any) -> NDArray[Any]:
    """Linear light of display values; any shape, 0 … 1."""
    value = np.asarray(value)
    found: NDArray[Any] = np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)
    return found


def linear_to_srgb(value: Any) -> NDArray[Any]:
    """Display values of linear light; any shape, 0 … 1."""
    value = np.asarray(value)
    found: NDArray[Any] = np.where(
        value <= 0.0031308, 12.92 * value, 1.055 * np.maximum(value, 1e-9) ** (1 / 2.4) - 0.055
    )
    return found


def tone(radiance: F32, exposure: float) -> NDArray[Any]:
    """Display values 0 … 1 of light of any strength: exposure, a soft shoulder (1 − e^−x), the curve of sRGB."""
    return linear_to_srgb(1.0 - np.exp(-np.maximum(radiance, 0.0) * exposure))


def in_bytes(lux: F32, exposure: float) -> NDArray[np.uint8]:
    """Bytes of a picture of light (…, 3) in lux, as the stage shows light without surface colour."""
    return (255 * tone(GREY / math.pi * lux, exposure) + 0.5).astype(np.uint8)
