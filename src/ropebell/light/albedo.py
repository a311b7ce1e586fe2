"""Albedo of every texel: base colour times picture, averaged over the texel's footprint."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.cutouts import has_holes, solid_pixels
from ropebell.level.display import srgb_to_linear
from ropebell.level.model import F32, F64, I32, I64, Image, Level, TextureUse
from ropebell.level.scene import Scene
from ropebell.light.piercing import wrapped
from ropebell.light.workers import run_chunks

CHUNK = 16_384


class Pictures(NamedTuple):
    """The pictures of a level's materials, in mip levels; M materials.

    Attributes:
        first: (M, 2) int64 first row in `levels`, and how many; none for a material without a picture.
        levels: (L, 3) int64 first pixel, height and width of each. pixels: (P, 3) float32 linear colours.
        second: (M,) bool, whether the second set of coordinates is meant. affine: (M, 2, 3) of them.
        wrap: (M, 2) int64 glTF's codes.
    """

    first: I64
    levels: I64
    pixels: F32
    second: NDArray[np.bool_]
    affine: F64
    wrap: I64

    @staticmethod
    def of(level: Level, used: NDArray[np.bool_]) -> Pictures:
        """Of the materials that are used, (M,) bool."""
        count = len(level.materials)
        first, wrap = np.zeros((count, 2), np.int64), np.zeros((count, 2), np.int64)
        second, affine = np.zeros(count, np.bool_), np.zeros((count, 2, 3))
        rows: list[tuple[int, int, int]] = []
        pixels: list[F32] = []
        known: dict[tuple[int, bytes], tuple[int, int]] = {}
        room = 0
        for number, material in enumerate(level.materials):
            use = material.base_texture
            if use is None or not used[number]:
                continue
            solid = solid_pixels(level, material) if has_holes(material) else None
            key = (use.image, solid.tobytes() if solid is not None else b"")
            if key not in known:
                begun = len(rows)
                for mip in pyramid(level.images[use.image], solid):
                    rows.append((room, *mip.shape[:2]))
                    pixels.append(mip.reshape(-1, 3))
                    room += len(pixels[-1])
                known[key] = begun, len(rows) - begun
            first[number], wrap[number] = known[key], use.wrap
            second[number], affine[number] = use.texcoord == 1, use.affine
        levels = np.array(rows, np.int64).reshape(-1, 3)
        colours = np.concatenate(pixels) if pixels else np.zeros((0, 3), np.float32)
        return Pictures(first, levels, colours, second, affine, wrap)


def texel_albedo(level: Level, scene: Scene, texels: Texels, areas: F64, workers: int = 1) -> F32:
    """(N, 3) float32 linear albedo, 0 … 1.

    Every footprint sample looks its picture up in the mip level whose pixels are about as large as the
    sample's share of the texel, so that fine pictures are averaged, not picked.

    Args:
        areas: (N,) m², from `footprint_areas`.
    """
    out = np.ones((len(texels), 3), np.float32)
    if not len(scene):
        return out
    base = np.array([m.base_color[:3] for m in level.materials], np.float32)
    material = scene.material.astype(np.int32)
    pictures = Pictures.of(level, np.bincount(material, minlength=len(base)) > 0)
    density = np.zeros(len(scene))
    for number, use in enumerate(m.base_texture for m in level.materials):
        mine = np.flatnonzero(material == number) if use is not None else np.zeros(0, np.int64)
        if use is not None and len(mine):
            uv = scene.uv1 if use.texcoord == 1 else scene.uv0
            density[mine] = _uv_area(uv[mine], use) / np.maximum(scene.areas[mine], 1e-300)

    def work(first: int, end: int) -> None:
        rows = slice(first, end)
        _average(
            texels.sample_triangle[rows], texels.sample_weights[rows], areas[rows], material, base, density, scene.uv0,
            scene.uv1, pictures, out[rows],
        )  # fmt: skip

    run_chunks(len(texels), CHUNK, work, workers, lambda _: None)
    return out


@kernel
def _average(
    triangles: I32, weights: F32, areas: F64, material: I32, base: F32, density: F64, uv0: F32, uv1: F32,
    pictures: Pictures, out: F32,
) -> None:  # fmt: skip
    """Mean colour of the samples of each texel.

    Args:
        density: (T,) of each triangle, the share of the whole picture that a square metre shows.
        out: (n, 3), written.
    """
    for i in range(len(triangles)):
        count = 0
        for s in range(triangles.shape[1]):
            count += triangles[i, s] >= 0
        if not count:
            out[i] = 0.0
            continue
        r, g, b = 0.0, 0.0, 0.0
        for s in range(triangles.shape[1]):
            t = triangles[i, s]
            if t < 0:
                continue
            m = material[t]
            begun, mips = pictures.first[m]
            if not mips:
                r, g, b = r + base[m, 0], g + base[m, 1], b + base[m, 2]
                continue
            uv = uv1[t] if pictures.second[m] else uv0[t]
            pixel = _looked_up(pictures, m, begun, mips, uv, weights[i, s], areas[i] / count * density[t])
            colour = pictures.pixels[pixel]
            r, g, b = r + base[m, 0] * colour[0], g + base[m, 1] * colour[1], b + base[m, 2] * colour[2]
        out[i, 0], out[i, 1], out[i, 2] = r / count, g / count, b / count


@kernel
def _looked_up(pictures: Pictures, m: int, begun: int, mips: int, uv: F32, weights: F32, footprint: float) -> int:
    """The pixel of a material's picture at barycentric weights; missing coordinates read as 0.

    Args:
        begun, mips: of `Pictures.first`. uv: (3, 2) of the corners. footprint: the share of the picture looked at.
    """
    whole = pictures.levels[begun]
    pixels = max(footprint * (whole[1] * whole[2]), 1.0)
    depth = min(int(np.rint(0.5 * math.log2(pixels))), mips - 1)
    first, height, width = pictures.levels[begun + depth]
    b, c = float(weights[0]), float(weights[1])
    u = (1.0 - b - c) * uv[0, 0] + b * uv[1, 0] + c * uv[2, 0]
    v = (1.0 - b - c) * uv[0, 1] + b * uv[1, 1] + c * uv[2, 1]
    u, v = u if math.isfinite(u) else 0.0, v if math.isfinite(v) else 0.0
    turn = pictures.affine[m]
    across = turn[0, 0] * u + turn[0, 1] * v + turn[0, 2]
    down = turn[1, 0] * u + turn[1, 1] * v + turn[1, 2]
    x = wrapped(across, pictures.wrap[m, 0], width) if math.isfinite(across) else 0
    y = wrapped(down, pictures.wrap[m, 1], height) if math.isfinite(down) else 0
    return int(first + y * width + x)


def pyramid(image: Image, solid: NDArray[np.bool_] | None) -> list[F32]:
    """Linear mip levels, (H, W, 3) float32, each half the size of the one before, down to one pixel; box filter.

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
