"""A spot as a denser lightmap would have it: the texels that would lie there, laid out and lit for it alone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.account.texel import Spot
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import make_texels
from ropebell.faults.again import Again
from ropebell.faults.lit import Lit
from ropebell.level.model import LUMINANCE, PerTexel3

# Whole texels on each side of the spot's that are laid out too: one without an open sample borrows from beside it.
MARGIN = 1


@dataclass(frozen=True, eq=False)
class Denser:
    """What would lie in the place of one texel.

    Attributes:
        light: (3,) float32 lux of the denser texel that the spot would lie in.
        darkest, lightest: lux, luminance, of those that would lie in the place of its texel.
    """

    light: PerTexel3
    darkest: float
    lightest: float


def denser(lit: Lit, spot: Spot, times: int, rays: int) -> Denser | None:
    """Light of a spot at so many times the density, before finishing, on the light that the build stored; None where
    its chart is too narrow for the finer grid.

    Its chart is laid on a grid of as many times as many lines; a build would also fit it to whole texels of its own.

    Args:
        times: as many texels along each side. rays: of each of them.
    """
    corner = np.floor(np.array(spot.uv)) - MARGIN
    side = (2 * MARGIN + 1) * times
    own = lit.atlas.chart == lit.atlas.chart[spot.triangle]
    # All other charts have no room, so that nothing of them is laid out.
    rects = np.array([[0, 0, 0, side, side], [0, 0, 0, 0, 0]], np.int32)
    flat = ((lit.atlas.uv - corner) * times).astype(np.float32)
    patch = Atlas(flat, np.where(own, 0, 1).astype(np.int32), rects, 1, side, 1)
    texels = make_texels(lit.scene, patch, lit.texels.sample_triangle.shape[1], lambda _: None)
    again = Again(lit)
    samples = again.open_samples(texels, patch)
    inside = (texels.column // times == MARGIN) & (texels.row // times == MARGIN)
    # A spot on a chart's very rim may lie beside all texels of its own.
    asked = np.flatnonzero(inside if inside.any() else np.ones(len(texels), np.bool_)).astype(np.int32)
    if not len(asked):
        return None
    x, y = ((np.array(spot.uv) - corner) * times).astype(np.int64)
    here = int(np.argmin((texels.column[asked] - x) ** 2 + (texels.row[asked] - y) ** 2))
    light = again.of(None, samples=samples.among(samples.target[asked]), rays=rays).light
    value = light @ LUMINANCE.astype(np.float32)
    return Denser(light[here], float(value.min()), float(value.max()))
