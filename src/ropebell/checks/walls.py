"""What a wall has to be so that no texel lies on both of its sides."""

from __future__ import annotations

import numpy as np

from ropebell.checks.remedies import THICKEN, Fix
from ropebell.level.model import Level

# A wall of its own is no thicker than so many times what lies between, and no sheet, of no thickness; it is to be so
# many texels thick, more than the diagonal of one, and at least so many times thicker.
SLAB, SHEET, THICK, LEAST_THICKER = 1.5, 1e-5, 1.5, 1.25
# What is stretched more than that is another thing.
MOST_THICKER = 32.0


def thicker(level: Level, node: int, thick: float, texel: float) -> tuple[Fix, ...]:
    """The remedy that makes an object as thick as that takes; none where it is no slab of its own.

    Args:
        level: as it is arranged. thick: metres of the wall. texel: metres a texel is wide.
    """
    mesh = level.nodes[node].mesh
    if mesh < 0:
        return ()
    points = np.concatenate([p.positions for p in level.meshes[mesh].primitives]).astype(np.float64)
    low, high = points.min(axis=0), points.max(axis=0)
    sizes = (high - low) * np.linalg.norm(level.nodes[node].world[:3, :3], axis=0)
    axis = int(np.argmin(sizes))
    if not SHEET * sizes.max() < sizes[axis] <= SLAB * thick:
        return ()
    times = max(THICK * texel / float(sizes[axis]), LEAST_THICKER)
    if times > MOST_THICKER:
        return ()
    middle = f"{(low[axis] + high[axis]) / 2:.6g}"
    return (THICKEN.of(level.nodes[node].path, "XYZ"[axis], f"{times:.3g}", middle),)
