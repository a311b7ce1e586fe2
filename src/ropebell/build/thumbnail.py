"""A small picture of a build, by looking into the level with rays."""

from __future__ import annotations

import io
import math

import numpy as np
from PIL import Image

from ropebell.charts.atlas import Atlas
from ropebell.level.display import tone
from ropebell.level.model import F32, I32
from ropebell.level.scene import Scene
from ropebell.light.lookup import hit_records, resolve
from ropebell.light.rays import RaySpace
from ropebell.light.surface import Surface

SIZE = (256, 160)


def exposure_for(irradiance: F32) -> float:
    """An exposure that puts the median lit texel at a middle grey."""
    grey = irradiance.mean(axis=1)
    lit = grey[grey > 0]
    return 0.6 * math.pi / float(np.median(lit)) if len(lit) else 1.0


def thumbnail(
    scene: Scene, space: RaySpace, surface: Surface, atlas: Atlas, grid: I32, total: F32, albedo: F32
) -> bytes:
    """A PNG of 256 × 160 pixels from above a corner, front faces only, so that roofs do not hide rooms.

    Args:
        grid: (P, H, W) texel of each page pixel.
        total: (N, 3) lux.
        albedo: (N, 3).
    """
    width, height = SIZE
    middle = np.zeros(3)
    toward = np.array([-0.55, -0.62, -0.56])
    toward /= np.linalg.norm(toward)
    eye = middle - toward * max(space.extent, 1e-6) * 1.25
    right = np.cross(toward, [0.0, 1.0, 0.0])
    right /= np.linalg.norm(right)
    up = np.cross(right, toward)
    x = (np.arange(width) + 0.5 - width / 2) / height
    y = (height / 2 - np.arange(height) - 0.5) / height
    spread = 0.82
    rays = toward + spread * (x[None, :, None] * right + y[:, None, None] * up)
    directions = (rays / np.linalg.norm(rays, axis=2, keepdims=True)).reshape(-1, 3).astype(np.float32)
    origins = np.repeat(eye[None].astype(np.float32), len(directions), axis=0)
    texel = np.full((1, len(directions)), -1, np.int32)
    for _ in range(12):
        struck = space.first_hit(origins, directions)
        behind = (struck >= 0) & (np.einsum("ij,ij->i", surface.faces[struck], directions) > 0)
        if not behind.any():
            break
        away = space.distances(origins[behind], directions[behind]) * 1.0005 + 1e-4 * space.extent
        origins[behind] += directions[behind] * away[:, None]
    records = hit_records(surface, atlas, all_two_sided=True)
    resolve(records, grid, np.zeros(1, np.int32), 0, len(directions), origins, directions, struck, texel)
    seen = texel[0] >= 0
    picture = np.full((len(directions), 3), 0.294, np.float32)
    if seen.any():
        light = total[texel[0][seen]] * albedo[texel[0][seen]] / math.pi
        picture[seen] = tone(light, exposure_for(total))
    out = io.BytesIO()
    image = (picture.reshape(height, width, 3) * 255 + 0.5).astype(np.uint8)
    Image.fromarray(image).save(out, "PNG")
    return out.getvalue()
