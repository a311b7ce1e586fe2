"""Flat regions of a mesh as charts: no cut, no stretch, no waiting. Most of a built level is flat."""

from __future__ import annotations

import math

import numpy as np

from ropebell.level.connected import connected
from ropebell.level.model import F32, F64, I32, Mask

# Faces that meet at less than this belong to one region; a region whose normals all agree is flat.
SMOOTH_ANGLE = math.radians(40)
FLAT_ANGLE = math.radians(0.5)
# Corners closer than this share of the shape's size are one vertex.
WELD = 1e-6


def flat_charts(corners: F64) -> tuple[I32, F32]:
    """Charts for the flat regions of a shape.

    A region is grown over edges where faces meet at less than 40°, so that the facets of a round surface stay
    together (and are left to the unwrapping library) instead of becoming a chart each.

    Args:
        corners: (T, 3, 3) in shape units.

    Returns:
        chart (T,) int32, −1 for triangles of regions that are not flat; uv (T, 3, 2) float32 in shape
        units with each chart's lowest corner at the origin, turned so that its longest border lies along u.
    """
    count = len(corners)
    edges = corners[:, [1, 2, 0]] - corners
    cross = np.cross(edges[:, 0], -edges[:, 2])
    normals = cross / np.linalg.norm(cross, axis=1, keepdims=True)
    region, border = _regions(corners, normals)
    regions = int(region.max()) + 1
    mean = np.zeros((regions, 3))
    np.add.at(mean, region, cross)
    mean /= np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-300)
    agreement = np.ones(regions)
    np.minimum.at(agreement, region, np.einsum("ij,ij->i", normals, mean[region]))
    flat = agreement > math.cos(FLAT_ANGLE)
    number = np.full(regions, -1, np.int32)
    number[flat] = np.arange(int(flat.sum()), dtype=np.int32)
    along = _longest_borders(edges, border, region, regions, mean)
    across = np.cross(mean, along)
    uv = np.stack(
        [np.einsum("tck,tk->tc", corners, along[region]), np.einsum("tck,tk->tc", corners, across[region])],
        axis=2,
    )
    low = np.full((regions, 2), np.inf)
    np.minimum.at(low, np.repeat(region, 3), uv.reshape(-1, 2))
    uv -= low[region][:, None, :]
    return number[region], uv.astype(np.float32).reshape(count, 3, 2)


def _regions(corners: F64, normals: F64) -> tuple[I32, Mask]:
    """(T,) region of each triangle, connected over edges that two faces share, in order, at a small angle; and
    (3·T,) whether each edge lies on the border of its region."""
    size = max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-300)
    keys = np.round(corners.reshape(-1, 3) / (size * WELD)).astype(np.int64)
    keys -= keys.min(axis=0)  # at most 10⁶, so three of them fit one number, which sorts a lot sooner than rows do
    _, vertex = np.unique((keys[:, 0] << 42) | (keys[:, 1] << 21) | keys[:, 2], return_inverse=True)
    vertex = vertex.reshape(-1, 3)
    begin, end = vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()
    owner = np.repeat(np.arange(len(corners)), 3)
    # Neighbours that are wound alike run along their shared edge in opposite directions.
    span = int(vertex.max()) + 1
    there, back = begin * span + end, end * span + begin
    order = np.argsort(there, kind="stable")
    at = np.searchsorted(there[order], back)
    found = (at < len(order)) & (there[order][np.minimum(at, len(order) - 1)] == back)
    a, b = owner[found], owner[order[at[found]]]
    smooth = np.einsum("ij,ij->i", normals[a], normals[b]) > math.cos(SMOOTH_ANGLE)
    region = connected(len(corners), a[smooth], b[smooth])
    border = np.ones(len(begin), np.bool_)
    border[np.flatnonzero(found)[region[a] == region[b]]] = False
    return region, border


def _longest_borders(edges: F64, border: Mask, region: I32, regions: int, mean: F64) -> F64:
    """(regions, 3) unit direction of each region's longest border edge, in the region's plane; diagonals
    inside a region would set its texels askew."""
    flat = edges.reshape(-1, 3)
    length = np.linalg.norm(flat, axis=1) * np.where(border, 1.0, 1e-6)
    order = np.argsort(length, kind="stable")
    longest = np.zeros(regions, np.int64)
    longest[np.repeat(region, 3)[order]] = order
    along = flat[longest]
    along = along - np.einsum("ij,ij->i", along, mean)[:, None] * mean
    found: F64 = along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
    return found
