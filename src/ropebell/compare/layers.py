"""A comparison as pages that a picture of B can be drawn with: the light of both on B's charts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import distance_transform_edt

from ropebell.compare.light import LightDifference
from ropebell.level.model import F32, I64

# Texels round charts that are filled with the nearest one's value, as reading between texels looks there.
FILLED = 4
NOT_THERE, BOTH = 0.0, 1.0


@dataclass(frozen=True, eq=False)
class Layers:
    """On the pages of B.

    Attributes:
        a, b: (P, H, W, 3) float32 lux. margin: (P, H, W, 1) float32 lux that lie within noise.
        both: (P, H, W, 1) float32, `BOTH` where A has the place as well, else `NOT_THERE`.
    """

    a: F32
    b: F32
    margin: F32
    both: F32


def layers(light: LightDifference) -> Layers:
    """The layers of a difference on the texels of B.

    Raises:
        ValueError: it is on those of A.
    """
    if light.on_a:
        raise ValueError("the difference has to be on the texels of B")
    shape, p = light.base.total.shape[:3], light.places
    a, margin, both = (np.zeros((*shape, n), np.float32) for n in (3, 1, 1))
    at = p.page, p.row, p.column
    a[at], margin[at], both[at] = light.a_color, light.margin[:, None], light.there[:, None] * BOTH
    covered = np.zeros(shape, np.bool_)
    covered[at] = True
    for page in range(shape[0]):
        rows, where = _nearest(covered[page])
        for layer in (a, margin, both):
            layer[page][rows] = layer[page][where]
    return Layers(a, light.base.total, margin, both)


def _nearest(covered: np.ndarray) -> tuple[tuple[I64, I64], tuple[I64, I64]]:
    """Places near charts, and the nearest place on a chart of each."""
    if not covered.any():
        none = np.zeros(0, np.int64)
        return (none, none), (none, none)
    far, index = distance_transform_edt(~covered, return_indices=True)
    rows = np.nonzero((far > 0) & (far <= FILLED))
    return (rows[0], rows[1]), (index[0][rows], index[1][rows])
