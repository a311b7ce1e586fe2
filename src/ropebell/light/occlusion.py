"""Ambient occlusion from the gather rays that are stored anyway: how near they end.

S. Zhukov et al., "An ambient light illumination model", EGWR 1998: rays count the less the farther they reach, none
beyond the radius; since gather rays are cosine-distributed, their plain mean is the cosine-weighted one.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import Scene
from ropebell.light.lookup import NONE
from ropebell.light.workers import run_chunks

CHUNK = 8192


def texel_places(scene: Scene, triangle: I32, weights: F32, count: I32) -> F64:
    """(N, 3) middle of each texel's open samples, metres.

    Args:
        triangle, weights, count: the sample tables of `OpenSamples`.
    """
    places = np.zeros((len(triangle), 3))
    _middles(scene.corners, triangle, weights, count, places)
    return places


@kernel
def _middles(corners: F64, triangle: I32, weights: F32, count: I32, places: F64) -> None:
    for i in range(len(triangle)):
        used = max(count[i], 1)
        for s in range(used):
            t = max(triangle[i, s], 0)
            b, c = np.float64(weights[i, s, 0]), np.float64(weights[i, s, 1])
            for a in range(3):
                places[i, a] += ((1.0 - b - c) * corners[t, 0, a] + b * corners[t, 1, a] + c * corners[t, 2, a]) / used


def occlusion(hits: I32, places: F64, radius: float, workers: int, tick: Callable[[float], None]) -> F32:
    """(N,) float32, 0 in the open … 1 wholly enclosed within arm's length.

    A ray that ends at distance d < radius counts 1 − d / radius. Distances are those between texels, good to a texel.

    Args:
        hits: (N, R) table of the transport stage. places: (N, 3) from `texel_places`.
    """
    out = np.zeros(len(hits), np.float32)

    def work(first: int, end: int) -> None:
        _near(hits, places, radius, first, end, out)

    run_chunks(len(hits), CHUNK, work, workers, tick)
    return out


@kernel
def _near(hits: I32, places: F64, radius: float, first: int, end: int, out: F32) -> None:
    for i in range(first, end):
        total, counted = 0.0, 0
        for k in range(hits.shape[1]):
            h = hits[i, k]
            if h == NONE:
                continue
            counted += 1
            if h >= 0:
                dx = places[h, 0] - places[i, 0]
                dy = places[h, 1] - places[i, 1]
                dz = places[h, 2] - places[i, 2]
                total += max(1.0 - math.sqrt(dx * dx + dy * dy + dz * dz) / radius, 0.0)
        if counted:
            out[i] = total / counted
