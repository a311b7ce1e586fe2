"""How long the unwrapping library will take, before it is asked."""

from __future__ import annotations

import weakref

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.layout import needs_library
from ropebell.level.scene import Scene

# Of fewer triangles it takes no time worth counting.
DENSE = 500
# It takes time in proportion to this power of how many triangles of a shape are curved: measured on hills and balls of
# 500 to 36,000 triangles, to within twice of it.
POWER = 1.5
_known: list[tuple[weakref.ref[NDArray[np.float64]], float]] = []


def unwrapping(scene: Scene) -> float:
    """Work of unwrapping a scene's curved shapes, each distinct one once: the sum of their counts of triangles to
    `POWER`."""
    for of, found in _known:
        if of() is scene.corners:
            return found
    work, seen = 0.0, set[tuple[int, float]]()
    for _, first, end in scene.node_ranges():
        count = end - first
        if count < DENSE or np.isfinite(scene.uv1[first:end]).all():
            continue  # what has coordinates of its own keeps them, if they are sound
        areas = scene.areas[first:end]
        # Instances have the same faces, at whatever size.
        key = count, round(float(areas.max() / max(float(areas.mean()), 1e-30)), 3)
        if key not in seen:
            seen.add(key)
            work += float(needs_library(scene.corners[first:end])) ** POWER
    _known[:] = [(weakref.ref(scene.corners), work), *_known[:3]]
    return work
