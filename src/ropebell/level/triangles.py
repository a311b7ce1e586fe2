"""Measures of many triangles at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F64


def longest_squared(corners: F64) -> F64:
    """(T,) square of each triangle's longest edge, m²."""
    a, b, c = (corners[:, i] - corners[:, (i + 1) % 3] for i in range(3))
    found: F64 = np.maximum(np.maximum(*(np.einsum("ij,ij->i", e, e) for e in (a, b))), np.einsum("ij,ij->i", c, c))
    return found


def corner_bounds(corners: F64) -> tuple[F64, F64]:
    """(T, 3) lowest and highest corner of each triangle. Seven times as fast as reducing over an axis of three.

    Args:
        corners: (T, 3, 3).
    """
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    return np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)


def bounds_by(corners: F64, owner: NDArray[np.int32], count: int) -> tuple[F64, F64]:
    """(count, 3) lowest and highest corner by owner.

    Args:
        corners: (T, 3, 3); owner: (T,), ascending or not.
    """
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    if len(corners):
        order = np.argsort(owner, kind="stable")
        sorted_owner = owner[order]
        starts = np.flatnonzero(np.append(True, sorted_owner[1:] != sorted_owner[:-1]))
        lowest, highest = corner_bounds(corners)
        low[sorted_owner[starts]] = np.minimum.reduceat(lowest[order], starts)
        high[sorted_owner[starts]] = np.maximum.reduceat(highest[order], starts)
    return low, high
