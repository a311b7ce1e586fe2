"""Surfaces with holes in their picture: which points of a triangle are there, and which let light through.

glTF's `MASK` mode: a point is there where the picture's alpha times the factor's is at least the cutoff. `BLEND` has no
holes; it is taken for solid.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import F32, I32, U8, Level, Material
from ropebell.level.picture_lookup import picture_coordinates


@dataclass(frozen=True, eq=False)
class Cutouts:
    """The triangles that may have holes, n of them, and the masks of their pictures, m of them.

    Attributes:
        triangle: (n,) int32, ascending.
        uv: (n, 3, 2) float32 coordinates in the picture.
        mask: (n,) int32 into `shape`.
        shape: (m, 5) int32: first pixel in `solid`, height, width, and glTF's wrap codes of the two axes.
        solid: (pixels,) uint8, 1 where the picture is there.
    """

    triangle: I32
    uv: F32
    mask: I32
    shape: I32
    solid: U8

    def among(self, number: I32) -> Cutouts | None:
        """Those of them that are kept, renumbered; None if there are none.

        Args:
            number: (T,) new index of each triangle, −1 for what is dropped.
        """
        kept = number[self.triangle] >= 0
        if not kept.any():
            return None
        return Cutouts(number[self.triangle[kept]], self.uv[kept], self.mask[kept], self.shape, self.solid)

    @property
    def arrays(self) -> tuple[NDArray[Any], ...]:
        """Everything, for a digest."""
        return self.triangle, self.uv, self.mask, self.shape, self.solid


def has_holes(material: Material) -> bool:
    """Whether a material's picture may have holes."""
    return material.alpha_mode == "MASK"


def solid_pixels(level: Level, material: Material) -> NDArray[np.bool_]:
    """(H, W) which pixels of a masked material are there; one pixel where it has no picture."""
    use = material.base_texture
    factor = material.base_color[3]
    if use is None:
        return np.array([[factor >= material.alpha_cutoff]])
    alpha = level.images[use.image].pixels[..., 3].astype(np.float32) / 255.0
    found: NDArray[np.bool_] = alpha * factor >= material.alpha_cutoff
    return found


def cutouts_of(level: Level, material: I32, uv0: F32, uv1: F32) -> Cutouts | None:
    """The cut-outs of a scene's triangles; None if no picture has a hole.

    Args:
        material: (T,) int32. uv0, uv1: (T, 3, 2) float32, NaN where missing.
    """
    rows: list[NDArray[np.int64]] = []
    uvs: list[F32] = []
    masks: list[NDArray[np.int32]] = []
    shapes: list[list[int]] = []
    pixels: list[U8] = []
    offset = 0
    for number, m in enumerate(level.materials):
        mine = np.flatnonzero(material == number) if has_holes(m) else np.zeros(0, np.int64)
        solid = solid_pixels(level, m) if len(mine) else np.ones((1, 1), np.bool_)
        if solid.all():
            continue
        use = m.base_texture
        table = uv1 if use is not None and use.texcoord == 1 else uv0
        rows.append(mine)
        uvs.append(picture_coordinates(table[mine], use))
        masks.append(np.full(len(mine), len(shapes), np.int32))
        wrap = use.wrap if use is not None else (33071, 33071)
        shapes.append([offset, *solid.shape, *wrap])
        pixels.append(np.ascontiguousarray(solid, np.uint8).ravel())
        offset += solid.size
    if not rows:
        return None
    triangle = np.concatenate(rows)
    order = np.argsort(triangle)
    return Cutouts(
        triangle[order].astype(np.int32), np.concatenate(uvs)[order], np.concatenate(masks)[order],
        np.array(shapes, np.int32), np.concatenate(pixels),
    )  # fmt: skip
