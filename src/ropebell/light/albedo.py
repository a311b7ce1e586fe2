"""Albedo of every texel: base colour times picture, averaged over the texel's footprint."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.texels import Texels
from ropebell.level.cutouts import has_holes, solid_pixels
from ropebell.level.model import F32, F64, Image, Level, TextureUse
from ropebell.level.scene import Scene, srgb_to_linear


def texel_albedo(level: Level, scene: Scene, texels: Texels, areas: F64) -> F32:
    """(N, 3) float32 linear albedo, 0 … 1.

    Every footprint sample looks its picture up in the mip level whose pixels are about as large as the
    sample's share of the texel, so that fine pictures are averaged, not picked.

    Args:
        areas: (N,) m², from `footprint_areas`.
    """
    count, width = texels.sample_triangle.shape
    triangle = np.where(texels.sample_triangle >= 0, texels.sample_triangle, 0)
    valid = texels.sample_triangle >= 0
    base = np.array([m.base_color[:3] for m in level.materials], np.float32)
    colors = base[scene.material[triangle]] if len(scene) else np.ones((count, width, 3), np.float32)
    pyramids: dict[tuple[int, bytes], list[F32]] = {}
    for number, material in enumerate(level.materials):
        use = material.base_texture
        if use is None:
            continue
        rows, columns = np.nonzero(valid & (scene.material[triangle] == number))
        if not len(rows):
            continue
        solid = solid_pixels(level, material) if has_holes(material) else None
        key = (use.image, solid.tobytes() if solid is not None else b"")
        if key not in pyramids:
            pyramids[key] = _pyramid(level.images[use.image], solid)
        t = triangle[rows, columns]
        uv_table = scene.uv1 if use.texcoord == 1 else scene.uv0
        share = areas[rows] / np.maximum(valid.sum(axis=1)[rows], 1)
        density = _uv_area(uv_table, use)[t] / np.maximum(scene.areas[t], 1e-300)
        uv = _at(uv_table[t], texels.sample_weights[rows, columns], use)
        colors[rows, columns] *= _look_up(pyramids[key], uv, share * density, use)
    weights = valid[..., None].astype(np.float32)
    found: F32 = ((colors * weights).sum(axis=1) / np.maximum(weights.sum(axis=1), 1.0)).astype(np.float32)
    return found


def _pyramid(image: Image, solid: NDArray[np.bool_] | None) -> list[F32]:
    """Linear mip levels, each half the size of the one before, down to one pixel; box filter.

    Args:
        solid: (H, W) pixels that are there: those in holes have no say in the mean.
    """
    level: Any = srgb_to_linear(image.pixels[..., :3].astype(np.float32) / 255.0).astype(np.float32)
    if solid is None or not solid.any():
        return _halved(level)
    weight = solid[..., None].astype(np.float32)
    return [
        np.divide(color, w, out=np.array(plain), where=w > 0)
        for color, w, plain in zip(_halved(level * weight), _halved(weight), _halved(level))
    ]


def _halved(level: Any) -> list[F32]:
    levels = [level]
    while max(level.shape[:2]) > 1:
        h, w = level.shape[:2]
        level = np.pad(level, ((0, h % 2 if h > 1 else 0), (0, w % 2 if w > 1 else 0), (0, 0)), mode="edge")
        if level.shape[0] > 1:
            level = (level[0::2] + level[1::2]) / 2
        if level.shape[1] > 1:
            level = (level[:, 0::2] + level[:, 1::2]) / 2
        levels.append(level)
    return levels


def _uv_area(uv: F32, use: TextureUse) -> F64:
    """(T,) area of each triangle in the picture, 0 … 1 being all of it."""
    flat = uv.astype(np.float64)
    b, c = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    size = 0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0]) * abs(np.linalg.det(use.affine[:, :2]))
    found: F64 = np.nan_to_num(size)
    return found


def _at(uv: F32, weights: F32, use: TextureUse) -> F64:
    """(m, 2) picture coordinates at barycentric weights; missing coordinates read as 0."""
    b, c = weights[:, :1].astype(np.float64), weights[:, 1:].astype(np.float64)
    at = (1 - b - c) * uv[:, 0] + b * uv[:, 1] + c * uv[:, 2]
    return np.nan_to_num(at) @ use.affine[:, :2].T + use.affine[:, 2]


def _look_up(pyramid: list[F32], uv: F64, footprint: F64, use: TextureUse) -> F32:
    """(m, 3) colours; `footprint` is the looked-at share of the whole picture."""
    h, w = pyramid[0].shape[:2]
    pixels = np.maximum(footprint * (h * w), 1.0)
    depth = np.clip(np.round(0.5 * np.log2(pixels)), 0, len(pyramid) - 1).astype(np.int64)
    out = np.empty((len(uv), 3), np.float32)
    wrapped = np.stack([_wrap(uv[:, 0], use.wrap[0]), _wrap(uv[:, 1], use.wrap[1])], axis=1)
    for d in np.unique(depth):
        mine = depth == d
        level = pyramid[d]
        y = np.minimum((wrapped[mine, 1] * level.shape[0]).astype(np.int64), level.shape[0] - 1)
        x = np.minimum((wrapped[mine, 0] * level.shape[1]).astype(np.int64), level.shape[1] - 1)
        out[mine] = level[y, x]
    return out


def _wrap(value: F64, mode: int) -> F64:
    if mode == 33071:
        return np.clip(value, 0.0, 1.0)
    if mode == 33648:
        return 1.0 - np.abs(value % 2.0 - 1.0)
    return value % 1.0
