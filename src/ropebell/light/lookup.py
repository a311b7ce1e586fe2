"""Which texel a ray met: from the triangle that the ray library gives, through the charts, to the texel table."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.kernel import inlined, kernel
from ropebell.level.model import F32, F64, I32
from ropebell.light.surface import Surface

SKY, BACK, NONE = -1, -2, -3
"""Codes in the hit table: the ray left the level; it met a back face or an unlit place; it does not count."""

# Columns of a record: face normal, the point where the chart's corner lies in the triangle's plane, how far across and
# down the chart a metre leads; then whole numbers in the bits of the rest: 2 × page + two-sided, corner of the chart
# on the page as x | y << 16, its largest column and row.
FACE, CORNER, ACROSS, DOWN, PAGE, AT, MOST_X, MOST_Y, RECORD = 0, 3, 6, 9, 12, 13, 14, 15, 16
ZERO = np.float32(0.0)


def hit_records(surface: Surface, atlas: Atlas, all_two_sided: bool = False) -> F32:
    """(T, 16) float32: all that a hit needs to know of its triangle, in one line of the processor's cache, since hits
    come in no order."""
    records = np.zeros((len(surface.vertices), RECORD), np.float32)
    if not len(records):
        return records
    rects = atlas.rects[atlas.chart]
    flat = atlas.uv.astype(np.float64) - rects[:, None, 1:3]
    corner, across, down, lost = _plane_maps(surface.vertices.astype(np.float64), flat)
    records[:, FACE:CORNER] = surface.faces
    records[:, CORNER:ACROSS], records[:, ACROSS:DOWN], records[:, DOWN:PAGE] = corner, across, down
    codes = records.view(np.int32)
    codes[:, PAGE] = 2 * rects[:, 0] + (True if all_two_sided else surface.two_sided)
    most = rects[:, 3:] - 1
    at = rects[:, 1:3] + np.where(lost[:, None], np.clip(flat[:, 0], 0, most), 0).astype(np.int32)
    codes[:, AT] = at[:, 0] | at[:, 1] << 16
    codes[:, MOST_X], codes[:, MOST_Y] = np.where(lost[:, None], 0, most).T
    return records


def _plane_maps(vertices: F64, flat: F64) -> tuple[F64, F64, F64, NDArray[np.bool_]]:
    """(T, 3) each: the corner of the chart in the triangle's plane, and texels per metre across and down; and (T,)
    whose chart coordinates have no area to map to, so that all of them is their first corner's texel.

    Args:
        flat: (T, 3, 2) texels from the chart's corner.
    """
    e1, e2 = vertices[:, 1] - vertices[:, 0], vertices[:, 2] - vertices[:, 0]
    normal = np.cross(e1, e2)
    square = np.einsum("ij,ij->i", normal, normal)[:, None]
    square = np.where(square > 0.0, square, np.inf)  # no ray meets a triangle without area
    # Gradients of the barycentric weights of corners 1 and 2.
    to_1, to_2 = np.cross(e2, normal) / square, np.cross(normal, e1) / square
    d1, d2 = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    across = d1[:, :1] * to_1 + d2[:, :1] * to_2
    down = d1[:, 1:] * to_1 + d2[:, 1:] * to_2
    area = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    lost = np.abs(area) < 1e-9
    area = np.where(lost, np.inf, area)
    b = (flat[:, 0, 1] * d2[:, 0] - flat[:, 0, 0] * d2[:, 1]) / area
    c = (flat[:, 0, 0] * d1[:, 1] - flat[:, 0, 1] * d1[:, 0]) / area
    corner = vertices[:, 0] + b[:, None] * e1 + c[:, None] * e2
    across[lost], down[lost] = 0.0, 0.0
    return corner, across, down, lost


@kernel
def _touched_near(grid: I32, code: I32, page: int, x: int, y: int) -> int:
    """A texel beside (x, y) that the chart touches; `BACK` if there is none."""
    left, top = code[AT] & 0xFFFF, code[AT] >> 16
    for ny in range(max(y - 1, top), min(y + 1, top + code[MOST_Y]) + 1):
        for nx in range(max(x - 1, left), min(x + 1, left + code[MOST_X]) + 1):
            if grid[page, ny, nx] >= 0:
                found: int = grid[page, ny, nx]
                return found
    return BACK


@inlined
def texel_met(
    records: F32, codes: I32, grid: I32, t: int, ox: float, oy: float, oz: float, dx: float, dy: float,
    dz: float,
) -> int:  # fmt: skip
    """Entry of the hit table for one ray: a texel, `SKY`, `BACK` or `NONE`.

    Rule of sides: a one-sided surface seen from behind is black; a two-sided one shows the same light on both.

    Args:
        records: (T, 16) from `hit_records`; codes: the same memory as int32.
        grid: (P, H, W) texel of each page pixel.
        t: the triangle that the ray meets, −1 for none.
    """
    if t < 0 or (dx == ZERO and dy == ZERO and dz == ZERO):
        return NONE if dx == ZERO and dy == ZERO and dz == ZERO else SKY
    r, code = records[t], codes[t]
    facing = dx * r[FACE] + dy * r[FACE + 1] + dz * r[FACE + 2]
    if facing == ZERO or (facing > ZERO and code[PAGE] & 1 == 0):
        return BACK
    px, py, pz = ox - r[CORNER], oy - r[CORNER + 1], oz - r[CORNER + 2]
    far = -(px * r[FACE] + py * r[FACE + 1] + pz * r[FACE + 2]) / facing
    px, py, pz = px + far * dx, py + far * dy, pz + far * dz
    x = min(max(int(px * r[ACROSS] + py * r[ACROSS + 1] + pz * r[ACROSS + 2]), 0), code[MOST_X]) + (code[AT] & 0xFFFF)
    y = min(max(int(px * r[DOWN] + py * r[DOWN + 1] + pz * r[DOWN + 2]), 0), code[MOST_Y]) + (code[AT] >> 16)
    page = code[PAGE] >> 1
    found = grid[page, y, x]
    # Rounding may have put the point into a neighbour that the chart does not touch.
    return found if found >= 0 else _touched_near(grid, code, page, x, y)


@kernel
def resolve(
    records: F32, grid: I32, rows: I32, first_ray: int, width: int, origins: F32,
    directions: F32, struck: I32, hits: I32,
) -> None:  # fmt: skip
    """Turn struck triangles into entries of the hit table.

    Args:
        rows: texels whose rays these are, `width` each, for columns from `first_ray` on.
        struck: (len(rows)·width,) int32 triangles. hits: (N, R) int32, written.
    """
    codes = records.view(np.int32)
    for m in range(len(rows)):
        i = rows[m]
        for k in range(width):
            j = m * width + k
            hits[i, first_ray + k] = texel_met(
                records, codes, grid, struck[j], origins[j, 0], origins[j, 1], origins[j, 2], directions[j, 0],
                directions[j, 1], directions[j, 2],
            )  # fmt: skip


def texel_of(records: F32, grid: I32, t: int, origin: F32, direction: F32) -> int:
    """Texel that one ray meets on a triangle, or a code.

    Args:
        origin, direction: (1, 3).
    """
    hits = np.full((1, 1), NONE, np.int32)
    resolve(records, grid, np.zeros(1, np.int32), 0, 1, origin, direction, np.array([t], np.int32), hits)
    return int(hits[0, 0])
