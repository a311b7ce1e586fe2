"""How light is spread over surface: a histogram in lux, and what of it a display cannot show."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.level.model import F64, I64

# Shares of a display's white under which it shows black, and over which it shows no detail whatever the curve.
BLACK, CLIPPED = 0.002, 4.0
LEAST, MOST, BINS = 0.1, 10_000.0, 60


@dataclass(frozen=True, eq=False)
class Spread:
    """Light by how much surface has it.

    Attributes:
        edges: (BINS + 1,) lux, evenly by logarithm. shares: (BINS,) of all surface; what is darker or brighter than all
            of them is in the first and the last.
        black, clipped: shares that a display shows as black, and more than two stops over its white.
        median: lux. count: samples it is of, 0 for nothing lit.
    """

    edges: F64
    shares: F64
    black: float
    clipped: float
    median: float
    count: int


def spread(lux: F64, weight: F64, white: float) -> Spread:
    """The spread of samples of light.

    Args:
        lux: (n,). weight: (n,) surface that each stands for, in any unit. white: lux that the display shows as white.
    """
    edges: F64 = np.geomspace(LEAST, MOST, BINS + 1)
    total = float(weight.sum())
    if total <= 0:
        return Spread(edges, np.zeros(BINS), 0.0, 0.0, 0.0, 0)
    shares, _ = np.histogram(np.clip(lux, LEAST, MOST), edges, weights=weight / total)
    order = np.argsort(lux)
    middle = int(np.searchsorted(np.cumsum(weight[order]), 0.5 * total))
    median = float(lux[order[min(middle, len(order) - 1)]])
    black, clipped = (float(weight[found].sum()) / total for found in (lux < BLACK * white, lux > CLIPPED * white))
    return Spread(edges, shares, black, clipped, median, len(lux))


def even_places(areas: F64, count: int) -> tuple[I64, F64]:
    """Places spread evenly over triangles, always the same for the same areas.

    Args:
        areas: (T,) m², nought for those that are left out. count: of places.

    Returns:
        (n,) triangle of each and (n, 3) barycentric weights, by systematic sampling along the areas (W. G. Cochran,
        "Sampling Techniques", 1977, ch. 8) and an additive recurrence within (M. Roberts, the R2 sequence, 2018).
    """
    ends = np.cumsum(areas)
    if not len(ends) or ends[-1] <= 0:
        return np.zeros(0, np.int64), np.zeros((0, 3))
    rows = np.arange(count)
    triangle = np.searchsorted(ends, (rows + 0.5) / count * ends[-1], side="right")
    u, v = (0.5 + rows * 0.7548776662466927) % 1.0, (0.5 + rows * 0.5698402909980532) % 1.0
    over = u + v > 1.0
    u, v = np.where(over, 1.0 - u, u), np.where(over, 1.0 - v, v)
    return np.minimum(triangle, len(areas) - 1).astype(np.int64), np.stack([1.0 - u - v, u, v], axis=1)
