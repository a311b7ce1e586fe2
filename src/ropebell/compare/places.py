"""Where the texels of a build lie on its surfaces, and where the same places lie on the pages of another build."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.build.carry import carry
from ropebell.build.result import Result
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask
from ropebell.level.nearest import NearestSurface

# A place without the same face in the other build has a partner on any surface so near, that faces the same way.
NEAR, FACING = 2e-3, 0.9
# Steps across a texel at which a finer build is averaged.
ACROSS = (-1 / 3, 0.0, 1 / 3)


@dataclass(frozen=True, eq=False)
class Places:
    """N texels of a build that its charts cover at their middle.

    Attributes:
        page, row, column: (N,) int32. triangle: (N,) int32 of the build's scene. weights: (N, 2) float32 of corners 1
            and 2. area: (N,) float64 m² of surface that each stands for.
    """

    page: I32
    row: I32
    column: I32
    triangle: I32
    weights: F32
    area: F64

    def __len__(self) -> int:
        return len(self.page)

    def of(self, pages: F32) -> F32:
        """(N, C) values of pages (P, H, W, C)."""
        found: F32 = pages[self.page, self.row, self.column]
        return found

    def position(self, corners: F64) -> F64:
        """(N, 3) metres."""
        return mixed(corners, self.triangle, self.weights)


def mixed(values: F64 | F32, triangle: I32, weights: F32) -> F64:
    """(N, k) of what stands at the corners (T, 3, k) of triangles, at N places on them."""
    at = values[triangle].astype(np.float64)
    b, c = (weights[:, i, None].astype(np.float64) for i in (0, 1))
    found: F64 = (1.0 - b - c) * at[:, 0] + b * at[:, 1] + c * at[:, 2]
    return found


def places_of(result: Result) -> Places:
    """The texels of a build, by its baked level alone."""
    pages, height, width = result.total.shape[:3]
    triangle = np.full((pages, height, width), -1, np.int32)
    weights = np.zeros((pages, height, width, 2), np.float32)
    _fill(result.uv.astype(np.float64), result.page, triangle, weights)
    page, row, column = (a.astype(np.int32) for a in np.nonzero(triangle >= 0))
    at = triangle[page, row, column]
    uv = result.uv.astype(np.float64)
    b, c = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    flat = np.maximum(0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0]), 1e-9)
    return Places(page, row, column, at, weights[page, row, column], (result.scene.areas / flat)[at])


@kernel
def _fill(uv: F64, page: I32, triangle: I32, weights: F32) -> None:
    """Write the triangle whose charts cover each texel's middle, and where on it that is."""
    count, height, width = triangle.shape
    for t in range(len(page)):
        p = page[t]
        if p < 0 or p >= count:
            continue
        ax, ay = uv[t, 0, 0], uv[t, 0, 1]
        bx, by, cx, cy = uv[t, 1, 0] - ax, uv[t, 1, 1] - ay, uv[t, 2, 0] - ax, uv[t, 2, 1] - ay
        size = bx * cy - by * cx
        if abs(size) < 1e-12:
            continue
        low_x, high_x = min(0.0, bx, cx) + ax, max(0.0, bx, cx) + ax
        low_y, high_y = min(0.0, by, cy) + ay, max(0.0, by, cy) + ay
        for y in range(max(int(low_y - 0.5), 0), min(int(high_y + 0.5) + 1, height)):
            for x in range(max(int(low_x - 0.5), 0), min(int(high_x + 0.5) + 1, width)):
                dx, dy = x + 0.5 - ax, y + 0.5 - ay
                b, c = (dx * cy - dy * cx) / size, (bx * dy - by * dx) / size
                if b >= -1e-6 and c >= -1e-6 and b + c <= 1.0 + 1e-6:
                    triangle[p, y, x] = t
                    weights[p, y, x, 0], weights[p, y, x, 1] = b, c


@dataclass(frozen=True, eq=False)
class Partners:
    """The places of one build on the pages of another.

    Attributes:
        there: (N,) bool, whether the other build has the place.
        page: (N,) int32. uv: (N, 2) float64 texels. step: (N, 2, 2) float64 how uv there goes with a texel here.
    """

    there: Mask
    page: I32
    uv: F64
    step: F64

    def of(self, pages: F32, wide: bool) -> F64:
        """(N, C) of pages (P, H, W, C), bilinear; zeros where there is no partner.

        Args:
            wide: averaged over the texel of here, for where those of there are finer.
        """
        found = np.zeros((len(self.page), pages.shape[3]))
        rows = np.flatnonzero(self.there)
        steps = [(x, y) for x in ACROSS for y in ACROSS] if wide else [(0.0, 0.0)]
        for x, y in steps:
            at = self.uv[rows] + x * self.step[rows, 0] + y * self.step[rows, 1]
            found[rows] += bilinear(pages, self.page[rows], at) / len(steps)
        return found

    def nearest(self, pages: F32) -> F64:
        """(N, C) of the texel that each place lies in."""
        found = np.zeros((len(self.page), pages.shape[3]))
        rows = np.flatnonzero(self.there)
        x, y = (np.floor(self.uv[rows, i]).astype(np.int64).clip(0, pages.shape[2 - i] - 1) for i in (0, 1))
        found[rows] = pages[self.page[rows], y, x]
        return found


def bilinear(pages: F32, page: I32, uv: F64) -> F64:
    """(n, C) of pages (P, H, W, C) at n places in texels, as a renderer would read them."""
    height, width = pages.shape[1:3]
    at = uv - 0.5
    low = np.floor(at)
    share = at - low
    found = np.zeros((len(page), pages.shape[3]))
    for dx in (0, 1):
        for dy in (0, 1):
            x = (low[:, 0].astype(np.int64) + dx).clip(0, width - 1)
            y = (low[:, 1].astype(np.int64) + dy).clip(0, height - 1)
            weight = np.abs(1 - dx - share[:, 0]) * np.abs(1 - dy - share[:, 1])
            found += weight[:, None] * pages[page, y, x]
    return found


def same_places(places: Places) -> Partners:
    """The places of a build in another that has the same charts."""
    there = np.ones(len(places), np.bool_)
    middle = np.stack([places.column, places.row], axis=1).astype(np.float64) + 0.5
    return Partners(there, places.page, middle, np.tile(np.eye(2), (len(places), 1, 1)))


def partners(result: Result, places: Places, other: Result) -> Partners:
    """Find the places of a build in another: on the same faces, or on any surface that lies and faces so.

    Args:
        places: of `result`.
    """
    carried = carry(other, result.scene)
    page = carried.page[places.triangle].copy()
    uv = mixed(carried.uv, places.triangle, places.weights)
    step = _steps(result.uv, carried.uv)[places.triangle]
    lost = np.flatnonzero(page < 0)
    if len(lost) and len(other.scene) and (other.page >= 0).any():
        rows, triangle, weights = _on_surface(result, places, lost, other)
        page[rows], uv[rows] = other.page[triangle], mixed(other.uv, triangle, weights)
        step[rows] = 0.0
    return Partners(page >= 0, page, uv, step)


def _on_surface(result: Result, places: Places, lost: np.ndarray, other: Result) -> tuple[np.ndarray, I32, F32]:
    """Of places whose face the other build does not have: which have a surface there, its triangle, and where on it."""
    rows = np.flatnonzero(other.page >= 0)
    scene = other.scene
    spots = places.position(result.scene.corners)[lost]
    low, high = spots.min(axis=0) - NEAR, spots.max(axis=0) + NEAR
    corners = scene.corners[rows]
    rows = rows[((corners.min(axis=1) <= high) & (corners.max(axis=1) >= low)).all(axis=1)]
    if not len(rows):
        return np.zeros(0, np.int64), np.zeros(0, np.int32), np.zeros((0, 2), np.float32)
    triangle, weights, far = NearestSurface(scene.corners[rows], scene.face_normals[rows]).at(spots)
    at = rows[np.maximum(triangle, 0)].astype(np.int32)
    here = result.scene.face_normals[places.triangle[lost]]
    facing = np.einsum("ij,ij->i", here, scene.face_normals[at])
    good = (triangle >= 0) & (far <= NEAR) & (facing >= FACING)
    return lost[good], at[good], weights[good].astype(np.float32)


def _steps(mine: F32, theirs: F32) -> F64:
    """(T, 2, 2) how far one goes on the pages of there with a step of one texel along x, and along y, of here."""
    a, b = mine.astype(np.float64), theirs.astype(np.float64)
    here = np.stack([a[:, 1] - a[:, 0], a[:, 2] - a[:, 0]], axis=1)
    there = np.stack([b[:, 1] - b[:, 0], b[:, 2] - b[:, 0]], axis=1)
    size = here[:, 0, 0] * here[:, 1, 1] - here[:, 0, 1] * here[:, 1, 0]
    safe = np.where(np.abs(size) < 1e-12, 1.0, size)
    inverse = np.empty_like(here)
    inverse[:, 0, 0], inverse[:, 0, 1] = here[:, 1, 1] / safe, -here[:, 0, 1] / safe
    inverse[:, 1, 0], inverse[:, 1, 1] = -here[:, 1, 0] / safe, here[:, 0, 0] / safe
    found: F64 = inverse @ there
    found[np.abs(size) < 1e-12] = 0.0
    return found


def luminance(light: F32 | F64) -> F64:
    """(…,) of (…, 3) lux."""
    found: F64 = np.asarray(light, np.float64) @ LUMINANCE
    return found
