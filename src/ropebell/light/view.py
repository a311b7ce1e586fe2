"""Which texels a place looks at, so that they can be lit before all others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.light.direction import texel_normals, texel_places
from ropebell.light.rays import RaySpace
from ropebell.light.surface import OpenSamples, Surface

SHORT_OF_THE_EYE = np.float32(0.999)
RAYS_AT_ONCE = 65_536


@dataclass(frozen=True)
class View:
    """A cone that holds all of a picture.

    Attributes:
        eye: metres, in the level.
        toward: unit direction of its middle.
        half_angle: radians from the middle to the farthest corner.
    """

    eye: tuple[float, float, float]
    toward: tuple[float, float, float]
    half_angle: float

    def as_values(self) -> dict[str, Any]:
        """As plain values."""
        return {"eye": list(self.eye), "toward": list(self.toward), "half_angle": self.half_angle}

    @staticmethod
    def of(values: dict[str, Any]) -> View:
        """Back from `as_values`."""
        return View(_three(values["eye"]), _three(values["toward"]), float(values["half_angle"]))


def _three(values: Sequence[float]) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z


def seen_texels(view: View, surface: Surface, space: RaySpace, samples: OpenSamples) -> NDArray[np.bool_]:
    """(N,) bool: whose first sample lies in the cone, is turned to the eye or two-sided, and is not hidden."""
    places = texel_places(surface, samples)
    toward = (np.array(view.eye) - space.centre).astype(np.float32) - places
    far = np.maximum(np.linalg.norm(toward, axis=1), 1e-12)
    seen = (samples.count > 0) & (-toward @ np.array(view.toward, np.float32) >= far * math.cos(view.half_angle))
    facing = np.einsum("ij,ij->i", toward, texel_normals(surface, samples)) > 0
    seen &= facing | surface.two_sided[samples.triangle[:, 0]]
    rows = np.flatnonzero(seen)
    for first in range(0, len(rows), RAYS_AT_ONCE):
        some = rows[first : first + RAYS_AT_ONCE]
        lengths = np.full(len(some), SHORT_OF_THE_EYE, np.float32)
        # A two-sided surface seen from behind starts its ray on the wrong side; it is served first all the same.
        hidden = space.blocked(places[some], toward[some], lengths)
        seen[some] = ~hidden | ~facing[some]
    found: NDArray[np.bool_] = seen
    return found
