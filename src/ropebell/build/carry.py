"""Light of a build on a level that has changed since: kept where the faces are still the same, said where not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.build.recut import recut
from ropebell.build.result import Result
from ropebell.level.model import F32, F64, I32, Mask
from ropebell.level.scene import Scene

# Corners are the same within this share of their object's size, but for what double precision rounds so far out. The
# level's size says nothing of that: one stray object far away would make everything near the same.
SAME, ROUNDED = 1e-5, 64 * np.finfo(np.float64).eps
MIX = np.array([0x1B873593CC9E2D51, 0x2545F4914F6CDD1D, 0x369DEA0F31A53F85], np.int64)
TURN = np.array([0x5851F42D4C957F2D, 0x14057B7EF767814F, 0x27BB2EE687B0B0FD], np.int64)


@dataclass(frozen=True, eq=False)
class Carried:
    """A build's charts on the triangles of another state of its level.

    Attributes:
        uv: (T, 3, 2) float32 texels; page: (T,) int32, −1 where the face is new, moved or of no part.
        fresh: paths of objects of the level that have no light of this build though they take part.
        gone: (n, 3, 3) corners of the build's faces that are not there any more.
        recut: (T,) bool, faces without light of the build whose surface stood there as it stands, cut otherwise.
        share: of the level's faces that carry light.
    """

    uv: F32
    page: I32
    fresh: tuple[str, ...]
    gone: F64
    recut: Mask
    share: float


def carry(result: Result, scene: Scene) -> Carried:
    """Match faces by object path and corners, whatever order the build wrote them in.

    Args:
        scene: everything that is placed now.
    """
    built = result.scene
    uv = np.zeros((len(scene), 3, 2), np.float32)
    page = np.full(len(scene), -1, np.int32)
    if not len(scene) or not len(built):
        return Carried(uv, page, (), built.corners, np.zeros(len(scene), np.bool_), 0.0)
    steps = same_within(scene)
    number = {name: i for i, name in enumerate(scene.node_names)}
    as_now = np.array([*(number.get(name, -1) for name in built.node_names), -1])
    mine, theirs = (
        triangle_keys(scene.corners, scene.node, steps),
        triangle_keys(built.corners, as_now[built.node], steps),
    )
    order = np.argsort(theirs, kind="stable")
    at = np.minimum(np.searchsorted(theirs[order], mine), len(order) - 1)
    found = theirs[order[at]] == mine
    source = order[at[found]]
    rows = np.flatnonzero(found)
    uv[rows] = _turned(scene.corners[rows], built.corners[source], result.uv[source])
    page[rows] = result.page[source]
    lost = (page < 0) & scene.part & ~scene.bare
    fresh = tuple(scene.node_names[n] for n in np.unique(scene.node[lost]))
    stays = np.isin(theirs, mine[found])
    same = recut(scene, ~found, built, as_now, ~stays)
    stays |= same[as_now[built.node]]
    return Carried(uv, page, fresh, built.corners[~stays], same[scene.node] & ~found, float(found.mean()))


def same_within(scene: Scene) -> F64:
    """(nodes + 1,) metres within which corners of an object are the same; the last is of what is no object."""
    count = len(scene.node_names)
    low, high = np.full((count + 1, 3), np.inf), np.full((count + 1, 3), -np.inf)
    np.minimum.at(low, scene.node, scene.corners.min(axis=1))
    np.maximum.at(high, scene.node, scene.corners.max(axis=1))
    placed = high[:, 0] >= low[:, 0]
    size, far = np.zeros(count + 1), np.zeros(count + 1)
    size[placed] = (high - low)[placed].max(axis=1)
    far[placed] = np.maximum(np.abs(low), np.abs(high))[placed].max(axis=1)
    found: F64 = np.maximum(np.maximum(SAME * size, ROUNDED * far), 1e-30)
    return found


def triangle_keys(corners: F64, node: I32, steps: F64) -> NDArray[np.int64]:
    """Numbers triangles so that those of one object in one place have the same number, whichever corner comes first.

    Args:
        corners: (T, 3, 3) metres. node: (T,) object of each, −1 for none. steps: (nodes + 1,) metres, side of the cells
            that an object's corners are rounded to.

    Returns:
        (T,) int64.
    """
    with np.errstate(invalid="ignore"):  # what is no object has no number of use
        cell = np.round(corners / steps[node][:, None, None]).astype(np.int64)
    with np.errstate(over="ignore"):
        each = (cell * MIX).sum(axis=2)
        found: NDArray[np.int64] = (
            (each * each * TURN[0]).sum(axis=1) + each.sum(axis=1) * TURN[1] + node.astype(np.int64) * TURN[2]
        )
        return found


def _turned(wanted: F64, have: F64, uv: F32) -> F32:
    """Corner values of `have` in the corner order of `wanted`."""
    away = np.abs(wanted[:, :, None, :] - have[:, None, :, :]).sum(axis=3)
    nearest = away.argmin(axis=2)
    return np.take_along_axis(uv, nearest[:, :, None], axis=1)
