"""The box in which a level could do with half its density: of all that players hardly notice, the one that spares most
texels."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F64, Mask

# Boxes end on a grid of so many steps along each axis.
STEPS = 12


@dataclass(frozen=True, eq=False)
class QuietBox:
    """A box.

    Attributes:
        low, high: (3,) metres. inside: (N,) which places it holds. loss: of their changes together.
    """

    low: F64
    high: F64
    inside: Mask
    loss: float


def quiet_box(places: F64, loss: F64, most: float) -> QuietBox | None:
    """The box of a grid that holds most places whose losses together are no more than `most`; None for none, or all.

    Every box is tried, by sums over all places before each corner of the grid.

    Args:
        places: (N, 3) metres. loss: (N,) not negative.
    """
    low, high = places.min(axis=0), places.max(axis=0)
    margin = 1e-3 * float((high - low).max()) + 1e-9
    low, step = low - margin, (high - low + 2 * margin) / STEPS
    cell = np.minimum(((places - low) / step).astype(np.int64), STEPS - 1)
    whole = np.ravel_multi_index(tuple(cell.T), (STEPS,) * 3)
    counts, losses = (_sums(np.bincount(whole, w, STEPS**3)) for w in (np.ones(len(whole)), loss))
    first, last = (x.astype(np.int64) for x in np.triu_indices(STEPS))
    held, lost = (_of_boxes(s, first, last + 1) for s in (counts, losses))
    held = np.where(lost <= most, held, -1.0)
    best = np.unravel_index(int(held.argmax()), held.shape)
    if held[best] <= 0 or held[best] == len(places):
        return None
    corner, end = (low + step * np.array([x[k] for k in best]) for x in (first, last + 1))
    inside = ((cell >= np.array([first[k] for k in best])) & (cell <= np.array([last[k] for k in best]))).all(axis=1)
    return QuietBox(corner, end, inside, float(lost[best]))


def _sums(grid: NDArray[Any]) -> F64:
    """(n + 1, n + 1, n + 1) of what lies before each corner of a grid of (n³,) (F. C. Crow, "Summed-area tables for
    texture mapping", 1984)."""
    out: F64 = np.pad(grid.reshape((STEPS,) * 3).astype(np.float64), ((1, 0),) * 3)
    for axis in range(3):
        out = out.cumsum(axis=axis)
    return out


def _of_boxes(sums: F64, first: NDArray[np.int64], end: NDArray[np.int64]) -> F64:
    """(m, m, m) of every box, by its span along each axis."""
    out = sums
    for axis in range(3):
        out = out.take(end, axis=axis) - out.take(first, axis=axis)
    return out
