"""Pictures by which surfaces glow: a picture says where and in which colour, the radiance how strongly on average."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, F64, I32, Image, Level, Material
from ropebell.level.picture_lookup import picture_coordinates

# Finer than this many pixels a side, a picture's detail is lost in the light it gives, and would only be noise.
MOST_PIXELS = 128


@dataclass(frozen=True, eq=False)
class EmissionPicture:
    """How an emitter's radiance is spread over it.

    Attributes:
        uv: (n, 3, 2) float32 picture coordinates of its triangles.
        pixels: (H, W, 3) float32 linear, each channel with a mean of 1, or all 0 where the picture has none of it.
        wrap: (2,) int32 glTF wrap codes.
    """

    uv: F32
    pixels: F32
    wrap: I32

    def among(self, kept: NDArray[np.bool_]) -> EmissionPicture:
        """For some of the emitter's triangles."""
        return replace(self, uv=self.uv[kept])


def emission_picture(level: Level, material: Material, uv0: F32, uv1: F32) -> EmissionPicture | None:
    """The picture of a glowing material on some triangles; None where it glows evenly.

    Args:
        uv0, uv1: (n, 3, 2) coordinates of these triangles.
    """
    use = material.emission_texture
    if use is None:
        return None
    pixels = _even_mean(level.images[use.image])
    if (pixels == pixels[:1, :1]).all():
        return None
    uv = picture_coordinates(uv1 if use.texcoord == 1 else uv0, use)
    return EmissionPicture(uv, pixels, np.array(use.wrap, np.int32))


def mean_emission(level: Level, material: Material) -> F64:
    """(3,) mean linear colour of the emission picture, ones without one."""
    if material.emission_texture is None:
        return np.ones(3)
    mean: F64 = _linear(level.images[material.emission_texture.image]).reshape(-1, 3).mean(axis=0)
    return mean


@lru_cache(maxsize=64)
def _linear(image: Image) -> F64:
    value = image.pixels[..., :3].astype(np.float64) / 255.0
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


@lru_cache(maxsize=64)
def _even_mean(image: Image) -> F32:
    """The picture made small by averaging whole blocks of pixels, each channel over its mean."""
    pixels: Any = _linear(image)
    for axis in (0, 1):
        size = pixels.shape[axis]
        count = min(size, MOST_PIXELS)
        edges = (np.arange(count) * size) // count
        sums = np.add.reduceat(pixels, edges, axis=axis)
        widths = np.diff(np.append(edges, size))
        pixels = sums / (widths[:, None, None] if axis == 0 else widths[None, :, None])
    mean = pixels.reshape(-1, 3).mean(axis=0)
    found: F32 = np.divide(pixels, mean, out=np.zeros_like(pixels), where=mean > 0).astype(np.float32)
    return found
