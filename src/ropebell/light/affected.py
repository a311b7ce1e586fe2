"""What of the light that was found before can be different once some triangles came, went or moved.

All tests are conservative: what they leave out is the same to the bit, what they keep is looked at again.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import inlined, kernel
from ropebell.level.model import AREA_KINDS, F32, F64, Mask
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter
from ropebell.light.area_light import shape_of
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.surface import Ground, Spots, Surface

MOST_BOXES = 16
# Of how far a place is from the centre: more than single precision rounds.
MARGIN = 4e-6
NOWHERE, TINY = -1.0, 1e-30


@dataclass(frozen=True, eq=False)
class Change:
    """What is different between two states of a level.

    Attributes:
        new: (B, 2, 3) float64 lowest and highest corners of boxes round them, relative to the centre.
        both: (B, 2, 3) the same of what is new and of what is gone.
    """

    new: F64
    both: F64

    @property
    def adds(self) -> bool:
        """Whether anything came, beside what went."""
        return bool(len(self.new))

    @staticmethod
    def of(new: F32, gone: F32) -> Change:
        """From the triangles that are new and those that are gone, (n, 3, 3) each, relative to the centre."""
        return Change(boxes_round(new), boxes_round(np.concatenate([new, gone])))


def boxes_round(corners: F32) -> F64:
    """(B, 2, 3) float64 boxes, at most `MOST_BOXES`, that hold all triangles: the longest is cut at its widest gap."""
    parts = [corners.astype(np.float64)] if len(corners) else []
    while len(parts) < MOST_BOXES:
        lengths = [float(np.linalg.norm(np.ptp(p.reshape(-1, 3), axis=0))) if len(p) > 1 else 0.0 for p in parts]
        if not any(lengths):
            break
        part = parts.pop(int(np.argmax(lengths)))
        middles = part.mean(axis=1)
        axis = int(np.ptp(middles, axis=0).argmax())
        order = np.argsort(middles[:, axis], kind="stable")
        cut = int(np.diff(middles[order, axis]).argmax()) + 1
        parts += [part[order[:cut]], part[order[cut:]]]
    bounds = [(p.min(axis=(0, 1)), p.max(axis=(0, 1))) for p in parts]
    boxes = np.array(bounds, np.float64).reshape(-1, 2, 3)
    margin = MARGIN * np.abs(boxes).max(axis=(1, 2), initial=0.0)[:, None]
    boxes[:, 0] -= margin
    boxes[:, 1] += margin
    return boxes


def facing(boxes: F64, surface: Surface, spots: Spots) -> Mask:
    """(N,) bool: texels from whose front a box can be seen, if nothing hides it.

    Args:
        boxes: (B, 2, 3) relative to the centre.
    """
    found = np.zeros(len(spots.open), np.bool_)
    _facing(surface.ground, spots, boxes, found)
    return found


@kernel
def _facing(ground: Ground, spots: Spots, boxes: F64, found: Mask) -> None:
    triangle, faces, vertices = spots.triangle, ground.faces, ground.vertices
    for i in range(len(spots.open)):
        for s in range(spots.open[i]):
            t = triangle[i, s]
            x, y, z = faces[t, 0], faces[t, 1], faces[t, 2]
            plane = x * vertices[t, 0, 0] + y * vertices[t, 0, 1] + z * vertices[t, 0, 2]
            for b in range(len(boxes)):
                far_x = boxes[b, 1, 0] if x > 0 else boxes[b, 0, 0]
                far_y = boxes[b, 1, 1] if y > 0 else boxes[b, 0, 1]
                far_z = boxes[b, 1, 2] if z > 0 else boxes[b, 0, 2]
                if x * far_x + y * far_y + z * far_z > plane:
                    found[i] = True
                    break
            if found[i]:
                break


@kernel
def mark_crossing(boxes: F64, origins: F32, directions: F32, found: Mask) -> None:
    """Mark the rays that pass through a box.

    The slab test of Kay and Kajiya (1986), doi:10.1145/15922.15916. A direction of length zero is never marked.

    Args:
        boxes: (B, 2, 3) relative to the centre. origins, directions: (n, 3). found: (n,), written.
    """
    low, high = np.empty(3), np.empty(3)
    for a in range(3):
        low[a], high[a] = boxes[:, 0, a].min(), boxes[:, 1, a].max()
    for j in range(len(origins)):
        x, y, z = directions[j, 0], directions[j, 1], directions[j, 2]
        if found[j] or (x == 0 and y == 0 and z == 0):
            continue
        ix, iy, iz = 1.0 / (x if x != 0 else TINY), 1.0 / (y if y != 0 else TINY), 1.0 / (z if z != 0 else TINY)
        ox, oy, oz = np.float64(origins[j, 0]), np.float64(origins[j, 1]), np.float64(origins[j, 2])
        if not _through(low, high, ox, oy, oz, ix, iy, iz):
            continue
        for b in range(len(boxes)):
            if _through(boxes[b, 0], boxes[b, 1], ox, oy, oz, ix, iy, iz):
                found[j] = True
                break


@inlined
def _through(
    low: F64, high: F64, ox: float, oy: float, oz: float, ix: float, iy: float, iz: float
) -> bool:  # fmt: skip
    x0, x1 = (low[0] - ox) * ix, (high[0] - ox) * ix
    y0, y1 = (low[1] - oy) * iy, (high[1] - oy) * iy
    z0, z1 = (low[2] - oz) * iz, (high[2] - oz) * iz
    first = max(min(x0, x1), min(y0, y1), min(z0, z1), 0.0)
    found: bool = first <= min(max(x0, x1), max(y0, y1), max(z0, z1))
    return found


def shaded_by_light(change: Change, light: PlacedLight, blocks: TexelBlocks, surface: Surface, space: RaySpace) -> Mask:
    """(N,) bool: texels for which something new or gone may lie before a light."""
    lift = float(surface.ground.lift.max(initial=0.0))
    if light.kind == "directional":
        spread = math.tan(min(math.radians(light.size), 1.5))
        return _shaded(change, blocks, -np.asarray(light.direction, np.float64), lift, spread, sun=True)
    if light.kind in AREA_KINDS:
        return _shaded(change, blocks, *_ball(shape_of(light) - space.centre, lift))
    return _shaded(change, blocks, light.position - space.centre, lift + light.size)


def shaded_by_emitter(change: Change, emitter: Emitter, blocks: TexelBlocks, surface: Surface) -> Mask:
    """(N,) bool: texels for which something new or gone may lie before a glowing surface."""
    lift = float(surface.ground.lift.max(initial=0.0))
    return _shaded(change, blocks, *_ball(surface.vertices[emitter.triangles].astype(np.float64), lift))


def _ball(corners: F64, more: float) -> tuple[F64, float]:
    """A ball that holds all corners, and its radius with some more."""
    points = corners.reshape(-1, 3)
    middle = (points.min(axis=0) + points.max(axis=0)) / 2
    return middle, float(np.linalg.norm(points - middle, axis=1).max()) + more


def _shaded(
    change: Change, blocks: TexelBlocks, toward: F64, more: float, spread: float = 0.0, sun: bool = False
) -> NDArray[np.bool_]:  # fmt: skip
    place = np.ascontiguousarray(toward, np.float64)

    def crossing(low: F32, high: F32) -> Mask:
        found = np.zeros(len(low), np.bool_)
        _cross(low, high, change.both, place, more, spread, sun, found)
        return found

    rows = blocks.members(np.flatnonzero(crossing(blocks.low, blocks.high)))
    found = np.zeros(len(blocks.texel_low), np.bool_)
    found[rows] = crossing(blocks.texel_low[rows], blocks.texel_high[rows])
    return found


@kernel
def _cross(low: F32, high: F32, boxes: F64, toward: F64, more: float, spread: float, sun: bool, found: Mask) -> None:
    """Whether the way from each texel to a place, or in a direction, comes within some distance of a box.

    Args:
        more: of that distance, beside the texel's own half-size. spread: how it grows along the way.
    """
    at, way = np.empty(3), np.empty(3)
    for i in range(len(low)):
        size = 0.0
        for a in range(3):
            at[a] = 0.5 * (np.float64(low[i, a]) + np.float64(high[i, a]))
            way[a] = toward[a] if sun else toward[a] - at[a]
            size += (np.float64(high[i, a]) - np.float64(low[i, a])) ** 2
        if not high[i, 0] >= low[i, 0]:
            continue  # no open sample
        half = 0.5 * math.sqrt(size) + more
        for b in range(len(boxes)):
            away = 0.0
            for a in range(3):
                away += max(abs(boxes[b, 0, a] - at[a]), abs(boxes[b, 1, a] - at[a])) ** 2
            wide = half + spread * math.sqrt(away)
            first, last = 0.0, np.inf if sun else 1.0
            for a in range(3):
                near, far = boxes[b, 0, a] - wide - at[a], boxes[b, 1, a] + wide - at[a]
                if abs(way[a]) < 1e-300:
                    if near > 0.0 or far < 0.0:
                        last = NOWHERE
                else:
                    one, two = near / way[a], far / way[a]
                    first, last = max(first, min(one, two)), min(last, max(one, two))
            if first <= last:
                found[i] = True
                break
