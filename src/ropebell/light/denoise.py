"""Denoising by the lightmap filter of the denoise library, held to what noise explains.

Only light that was gathered by rays is filtered: light of lamps has no noise, so its shadows stay as they are. And no
texel changes by more than a few times its own standard error, so where there is no noise, nothing moves, nothing is
carried from one chart to the next, and an edge in the light stays an edge.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ropebell.charts.texels import Texels
from ropebell.errors import BuildError
from ropebell.level.model import F32, I32
from ropebell.light.pages import to_pages

# A texel may move by so many of its standard errors: all but a thousandth of honest noise lies within.
MOST_ERRORS = 3.0
# Free space round charts is filled so far, that the filter sees no black there.
SURROUNDINGS = 12
FILTER = "RTLightmap"


def denoised(field: F32, error: F32, texels: Texels, target: I32, tick: Callable[[float], None]) -> F32:
    """(N, 3) float32 lux with noise taken out.

    Args:
        field: (N, 3) lux of gathered light, not below zero.
        error: (N, 3) from `standard_error`.
        target: (N,) texel that speaks for each.
        tick: called with the share done, may raise `Stopped`.

    Raises:
        BuildError: the library refuses.
    """
    import pyoidn

    pages = to_pages(field, texels, target, SURROUNDINGS)
    clean = np.zeros_like(field)
    for number, page in enumerate(pages):
        tick(number / len(pages))
        try:
            smooth = pyoidn.denoise(np.ascontiguousarray(page), hdr=True, filter_type=FILTER)
        except (RuntimeError, ValueError, TypeError) as failure:
            raise BuildError(f"denoising failed ({failure})", f"page {number}", "Turn finish.denoise off") from failure
        mine = np.flatnonzero(texels.page == number)
        clean[mine] = smooth[texels.row[mine], texels.column[mine]]
    tick(1.0)
    room = MOST_ERRORS * error
    return np.maximum(field + np.clip(clean - field, -room, room), 0.0).astype(np.float32)
