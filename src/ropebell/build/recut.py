"""Faces that are one surface in two states of a level, and are only cut otherwise: along a density box, or by export.

Two sets of faces cover the same surface if and only if every integral over them is the same; here the moments up to the
second order, of the surface and of its direction, are held against each other. Derived: over a triangle with corners v
and area A, ∫ x = A/3 Σ v and ∫ x xᵀ = A/12 (Σ v vᵀ + (Σ v)(Σ v)ᵀ), and all add up over the parts of a triangle. Moments
tell shapes apart that differ by more than their rounding; what is alike by symmetry alone, such as a turned wheel, is
told apart by where its object stands.
"""

from __future__ import annotations

import numpy as np

from ropebell.level.model import F64, I32, Mask
from ropebell.level.scene import Scene

# Moments are the same within this share of the surface's own: a corner is kept as a half of a millionth of its place.
SAME = 1e-5
# Objects stand as they stood within this, metres or share.
STANDS = 1e-6


def recut(scene: Scene, mine: Mask, built: Scene, as_now: I32, theirs: Mask) -> Mask:
    """Find the objects whose unmatched faces are one surface in both states.

    Args:
        scene: of now. mine: (T,) bool, its faces that have no equal in the other. built: the other state.
        as_now: (nodes of built + 1,) the node of `scene` with the same path, −1 for none and at the end.
        theirs: (B,) bool, faces of `built` that have no equal in `scene`.

    Returns:
        (nodes + 1,) bool by node of `scene`; the last is of what is no object.
    """
    count = len(scene.node_names) + 1
    node, other = scene.node[mine], as_now[built.node[theirs]]
    both = np.bincount(node, minlength=count) * np.bincount(other[other >= 0], minlength=count) > 0
    both[-1] = False
    if not both.any():
        return both
    corners, size = scene.corners[mine], np.full(count, 1e-30)
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, node, corners.min(axis=1))
    np.maximum.at(high, node, corners.max(axis=1))
    size[both] = np.maximum((high[both] - low[both]).max(axis=1), 1e-30)
    middle = np.zeros((count, 3))
    middle[both] = (low[both] + high[both]) / 2
    kept, kept_other = both[node], (other >= 0) & both[other]
    here = _moments(corners[kept], node[kept], middle, size)
    there = _moments(built.corners[theirs][kept_other], other[kept_other], middle, size)
    same = np.abs(here - there).max(axis=1) <= SAME * np.maximum(here[:, 0], there[:, 0])
    for_now = np.full(count, -1)
    known = np.flatnonzero(as_now >= 0)
    for_now[as_now[known]] = known
    stands = np.zeros(count, np.bool_)
    rows = np.flatnonzero(for_now[:-1] >= 0)
    apart = np.abs(scene.node_world[rows] - built.node_world[for_now[rows]]).reshape(len(rows), -1).max(axis=1)
    far = np.abs(scene.node_world[rows]).reshape(len(rows), -1).max(axis=1)
    stands[rows] = apart <= STANDS * np.maximum(far, 1.0)
    found: Mask = both & same & stands
    return found


def _moments(corners: F64, node: I32, middle: F64, size: F64) -> F64:
    """(nodes, 13) moments of the faces of each node, in its own size about its own middle."""
    at = (corners - middle[node][:, None]) / size[node][:, None, None]
    across = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]) / 2
    area, total = np.linalg.norm(across, axis=1), at.sum(axis=1)
    second = (np.einsum("tci,tcj->tij", at, at) + total[:, :, None] * total[:, None, :]) * area[:, None, None] / 12
    upper = np.triu_indices(3)
    each = np.concatenate([area[:, None], across, area[:, None] * total / 3, second[:, upper[0], upper[1]]], axis=1)
    return np.stack([np.bincount(node, column, minlength=len(size)) for column in each.T], axis=1)
