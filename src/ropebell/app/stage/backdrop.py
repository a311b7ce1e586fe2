"""What is seen of the sky behind the level."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from ropebell.errors import LevelError
from ropebell.level.brief import Sky
from ropebell.level.model import F32
from ropebell.level.sky_picture import read_sky_picture

# A picture is seen no finer than the stage has pixels for it.
MOST_ROWS = 1024


@dataclass(frozen=True, eq=False)
class Backdrop:
    """A sky as the stage draws it.

    Attributes:
        radiance: cd/m², what the pixels are multiplied with.
        pixels: (H, W, 3) float32 equirectangular, top row up; None for one colour all over.
        turn: radians about Y.
    """

    radiance: tuple[float, float, float]
    pixels: F32 | None = None
    turn: float = 0.0


def backdrop_of(sky: Sky, picture: Path | None, radiance: tuple[float, float, float]) -> Backdrop | None:
    """The sky of a brief, None where it is dark.

    Args:
        picture: its picture's file. radiance: that it lit the level with, where the brief says nothing of it.
    """
    if picture is not None:
        pixels = _pixels(picture, _written(picture))
        if pixels is not None:
            tint = np.array(sky.color) if any(sky.color) else np.ones(3)
            r, g, b = (float(v) for v in tint * sky.strength)
            return Backdrop((r, g, b), pixels, math.radians(sky.turn))
    seen = sky.radiance if any(sky.radiance) else radiance
    return Backdrop(seen) if any(seen) else None


@lru_cache(maxsize=4)
def _pixels(picture: Path, _changed: int) -> F32 | None:
    """A picture, no finer than it is seen; None where it cannot be read. The same array as long as the file stays."""
    try:
        pixels = read_sky_picture(picture)
    except LevelError:
        return None
    step = max(-(-len(pixels) // MOST_ROWS), 1)
    return np.ascontiguousarray(pixels[::step, ::step])


def _written(picture: Path) -> int:
    try:
        return picture.stat().st_mtime_ns
    except OSError:
        return 0
