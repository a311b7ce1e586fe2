"""What is done to solved light before it is shown: noise out, creases darkened, seams closed, in this order.

What that needs beside the light does not depend on how bright anything is, so it is kept with a build, and light that
is relit from stored rays is finished as a build would finish it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ropebell.level.model import F32, I32, HitTable, PerTexel, PerTexel3
from ropebell.light.denoise import Layout, denoised
from ropebell.light.noise import standard_error
from ropebell.light.seams import Seams

# Of a texel, to tell how noisy it is: enough for the filter, and soon done.
RAYS_LOOKED_AT = 64


class Gathering(NamedTuple):
    """What light was gathered with.

    Attributes:
        hits: (N, R) hit table. thrown_back: (N, 3) what each texel throws back. sky: (3,) radiance of an even sky.
        rays: columns of the table that the light is of, None for all.
    """

    hits: HitTable
    thrown_back: PerTexel3
    sky: F32
    rays: int | None = None


@dataclass(frozen=True, eq=False)
class Finishing:
    """What finishing needs beside the light.

    Attributes:
        shade: (N,) float32 what creases leave of the light, one where nobody asked.
        seams: to be closed, none where nobody asked.
    """

    shade: PerTexel
    seams: Seams

    def darkened(self, light: F32) -> F32:
        """(N, C) lux with creases darkened."""
        return light * self.shade[:, None]

    def of(self, light: F32) -> F32:
        """(N, C) lux with creases darkened and seams closed."""
        return self.seams.closed(self.darkened(light))


def without_noise(
    total: F32, lamps: F32, by: Gathering, layout: Layout, workers: int, tick: Callable[[float], None],
    rows: I32 | None = None,
) -> F32:  # fmt: skip
    """(N, 3) float32 lux with noise taken out of what rays gathered; light of lamps has none and is left as it is.

    Args:
        total: (N, 3) lux. lamps: (N, 3) what of it came straight from lamps.
        rows: (m,) ascending, all texels of some charts; others are left as they are. None for all.
    """
    lamps = np.minimum(lamps, total)
    error = standard_error(
        by.hits, total, by.thrown_back, by.sky, workers, lambda share: tick(0.3 * share), by.rays, RAYS_LOOKED_AT, rows
    )
    clean = denoised(total - lamps, error, layout, lambda share: tick(0.3 + 0.7 * share), rows)
    if rows is None:
        return (clean + lamps).astype(np.float32)
    out = total.copy()
    out[rows] = clean + lamps[rows]
    return out
