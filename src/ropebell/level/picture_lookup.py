"""Coordinates in pictures, as glTF means them."""

from __future__ import annotations

import numpy as np

from ropebell.level.model import F32, TextureUse

REPEAT, CLAMP, MIRROR = 10497, 33071, 33648


def picture_coordinates(uv: F32, use: TextureUse | None) -> F32:
    """(…, 2) float32 coordinates under the use's transform; missing ones (NaN) read as 0.

    Args:
        uv: (…, 2) of the use's coordinate set.
    """
    at = np.nan_to_num(uv.astype(np.float64))
    if use is not None:
        at = at @ use.affine[:, :2].T + use.affine[:, 2]
    return at.astype(np.float32)
