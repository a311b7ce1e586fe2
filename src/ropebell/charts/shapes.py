"""One layout per distinct shape: instances share it, stretched ones get their own, dense ones unwrap in parallel."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from ropebell.charts.layout import Layout, coordinate_trouble, from_file, needs_library, unwrap
from ropebell.charts.unwrap_process import UnwrapProcess
from ropebell.level.model import F32, F64
from ropebell.level.scene import Scene

# Below this an unwrap takes a few milliseconds, less than handing it to another process.
DENSE_SHAPE = 1500


class LayoutCache(Protocol):
    """Where layouts are kept between builds."""

    def load(self, key: str) -> Layout | None:
        """The layout under `key`, or None."""

    def save(self, key: str, layout: Layout) -> None:
        """Keep a layout."""


@dataclass(frozen=True, eq=False)
class PlacedShape:
    """A node's layout.

    Attributes:
        node: index of the node.
        first, end: its triangles in the scene.
        scale: metres per unit of the layout.
    """

    node: int
    first: int
    end: int
    scale: float
    layout: Layout


def rigid_and_scale(world: F64) -> tuple[F64, float]:
    """Rotation and uniform scale of a (4, 4) transform; scale 1 where it is not uniform, since the stretch
    then stays in the shape.

    Returns:
        (3, 3) proper or improper rotation from the polar decomposition, and the scale.
    """
    u, s, vt = np.linalg.svd(world[:3, :3])
    uniform = s[0] > 0 and (s[0] - s[2]) < 1e-4 * s[0]
    return u @ vt, float(s.mean()) if uniform else 1.0


def placed_shapes(scene: Scene, cache: LayoutCache, workers: int, tick: Callable[[float], None]) -> list[PlacedShape]:
    """Layouts for every node with triangles.

    Args:
        workers: processes that unwrap dense shapes.
        tick: called with the share done, may raise `Stopped`.
    """
    keys: list[str] = []
    scales: list[float] = []
    wanted: dict[str, tuple[F64, F32]] = {}
    layouts: dict[str, Layout] = {}
    ranges = scene.node_ranges()
    for node, first, end in ranges:
        world = scene.node_world[node]
        turn, scale = rigid_and_scale(world)
        corners = _unplaced((scene.corners[first:end] - world[:3, 3]) @ turn / scale)
        uv1 = scene.uv1[first:end]
        key = _key(corners, uv1)
        keys.append(key)
        scales.append(scale)
        if key not in layouts and key not in wanted:
            kept = cache.load(key)
            if kept is None or not kept.fits(len(corners)):
                wanted[key] = (corners, uv1)
            else:
                layouts[key] = kept
    for key, layout in _made(wanted, workers, tick):
        cache.save(key, layout)
        layouts[key] = layout
    return [
        PlacedShape(node, first, end, scale, layouts[key])
        for (node, first, end), key, scale in zip(ranges, keys, scales)
    ]


def _unplaced(corners: F64) -> F64:
    """Without the rounding that a placement leaves: the numbers of the file again, which are of single precision. So a
    layout does not depend on which of its instances was laid out first, nor on where that stood then."""
    grid = 2.0 ** (np.ceil(np.log2(max(float(np.abs(corners).max()), 1e-300))) - 30.0)
    found: F64 = (np.round(corners / grid) * grid).astype(np.float32).astype(np.float64)
    return found


def _key(corners: F64, uv1: F32) -> str:
    """Digest of a shape, blind to the rounding that different placements leave."""
    size = max(float(np.abs(corners).max()), 1e-300)
    digest = hashlib.sha256(b"layout 2")
    digest.update(np.float64(size).astype(np.float32).tobytes())
    digest.update(np.round(corners / size * 1e5).astype(np.int32).tobytes())
    digest.update(np.nan_to_num(uv1, nan=-1e9).tobytes())
    return digest.hexdigest()[:32]


def _lay_out(item: tuple[str, F64, F32]) -> tuple[str, Layout]:
    key, corners, uv1 = item
    trouble = coordinate_trouble(uv1, corners)
    return key, unwrap(corners, trouble) if trouble else from_file(uv1, corners)


def _made(
    wanted: dict[str, tuple[F64, F32]], workers: int, tick: Callable[[float], None]
) -> Iterator[tuple[str, Layout]]:
    """Layouts as they come to be."""
    slow = {k for k, (c, _) in wanted.items() if len(c) >= DENSE_SHAPE and needs_library(c) >= DENSE_SHAPE}
    small = [(k, c, u) for k, (c, u) in wanted.items() if k not in slow]
    dense = sorted(((k, c, u) for k, (c, u) in wanted.items() if k in slow), key=lambda i: -len(i[1]))
    total = max(sum(len(c) for c, _ in wanted.values()), 1)
    done = 0
    if dense:
        yield from _made_in_parallel(dense, workers, total, tick)
        done = sum(len(c) for _, c, _ in dense)
    for item in small:
        yield _lay_out(item)
        done += len(item[1])
        tick(done / total)


def _made_in_parallel(
    items: list[tuple[str, F64, F32]], workers: int, total: int, tick: Callable[[float], None]
) -> Iterator[tuple[str, Layout]]:
    """Unwrap in other processes: the library holds the interpreter lock and cannot be interrupted."""
    running: list[tuple[str, int, UnwrapProcess]] = []
    waiting = list(items)
    done = 0
    try:
        while waiting or running:
            while waiting and len(running) < max(workers, 1):
                key, corners, uv1 = waiting.pop(0)
                trouble = coordinate_trouble(uv1, corners)
                if trouble:
                    running.append((key, len(corners), UnwrapProcess(corners, trouble)))
                else:
                    yield key, from_file(uv1, corners)
            for entry in [e for e in running if e[2].ended()]:
                running.remove(entry)
                yield entry[0], entry[2].layout()
                done += entry[1]
            tick(done / total)
            if running:
                running[0][2].wait(0.05)
    finally:
        for _, _, process in running:
            process.kill()
