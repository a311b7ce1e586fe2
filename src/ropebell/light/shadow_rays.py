"""Room for shadow rays, as kernels fill it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ropebell.kernel import inlined
from ropebell.level.model import F32, I32


class ShadowRays(NamedTuple):
    """Rays toward what gives light.

    Attributes:
        origins, directions: (n, 3). value: (n,) what each brings to its texel if nothing is in its way.
        owner: (n,) its texel. source: (n,) what of the light it goes to: a triangle or a pixel.
    """

    origins: F32
    directions: F32
    value: F32
    owner: I32
    source: I32

    @staticmethod
    def of(room: int) -> ShadowRays:
        """Room for so many."""
        ways = np.empty((room, 3), np.float32), np.empty((room, 3), np.float32)
        return ShadowRays(*ways, np.empty(room, np.float32), np.empty(room, np.int32), np.empty(room, np.int32))


@inlined
def put(rays: ShadowRays, j: int, x: float, y: float, z: float, dx: float, dy: float, dz: float) -> None:
    """Set where a ray starts and goes."""
    rays.origins[j, 0], rays.origins[j, 1], rays.origins[j, 2] = x, y, z
    rays.directions[j, 0], rays.directions[j, 1], rays.directions[j, 2] = dx, dy, dz
