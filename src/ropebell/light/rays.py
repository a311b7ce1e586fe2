"""The ray casting library behind one class."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore import EmbreeDevice
from embreex.rtcore_scene import EmbreeScene
from numpy.typing import NDArray

from ropebell.level.cutouts import Cutouts
from ropebell.level.model import F32, F64, I32, Mask
from ropebell.level.triangles import corner_bounds, longest_squared
from ropebell.light.piercing import pierce

# Rays start this far off their triangle, in shares of how far it lies from the centre and of how long it is: single
# precision rounds where it lies by a step of the one, and where a ray meets it by some steps of the other. A start
# closer than that would meet its own triangle; one farther off sees past the edges of what stands there.
START_PLACE, START_SIZE = 2e-6, 2e-6
# What lies so many times as far from the middle as three quarters of a level's surfaces is not its core, which a few
# thousand triangles tell.
CORE, MOST_TELLING = 24.0, 4096
# The centre is a multiple of a power of two of metres, of which at least so many go into a level.
STEPS_ACROSS = 8.0
# Shadow rays end this share short of the light, so that a fixture's own triangle at the light does not count.
END_SHORT = 1e-4
RAYS_PER_THREAD = 20_000
MOST_LAYERS = 64


class RaySpace:
    """Triangles to shoot at. Calls release the interpreter lock and may run on several threads.

    Args:
        corners: (T, 3, 3) float64 world positions; T may be 0.
        blocks: (T,) bool, triangles that rays meet; None: all. Numbers of hits are those of all triangles.
        cutouts: surfaces with holes, which `first_hit` and `blocked` go through; `distances` does not.
    """

    def __init__(self, corners: F64, blocks: NDArray[np.bool_] | None = None, cutouts: Cutouts | None = None) -> None:
        self.centre, self.extent, self.vertices = centred(corners)
        self._device = EmbreeDevice()
        self._number = None if blocks is None or blocks.all() else np.flatnonzero(blocks).astype(np.int32)
        met = self.vertices if self._number is None else np.ascontiguousarray(self.vertices[self._number])
        self._empty = not len(met)
        self._scene = self._tree(met)
        self._cutouts = cutouts
        if cutouts is not None:
            self.lift = start_lift(self.vertices)
            self._row_of = np.full(len(corners), -1, np.int32)
            self._row_of[cutouts.triangle] = np.arange(len(cutouts.triangle), dtype=np.int32)
            holed = (self._row_of if self._number is None else self._row_of[self._number]) >= 0
            self._whole, self._holed = (self._tree(np.ascontiguousarray(met[of])) for of in (~holed, holed))

    def _tree(self, corners: F32) -> EmbreeScene:
        """(n, 3, 3) triangles as the library searches them."""
        tree = EmbreeScene(self._device)
        if len(corners):
            TriangleMesh(tree, corners)  # without an index, whose copying takes as long again
            # The library builds its tree at the first call, which must not happen on two threads at once.
            tree.run(np.zeros((1, 3), np.float32), np.array([[0, 1, 0]], np.float32), query="OCCLUDED")
        return tree

    def first_hit(self, origins: F32, directions: F32) -> I32:
        """(n,) int32 index of the nearest triangle along each ray, −1 for none.

        Args:
            origins: (n, 3) float32 relative to `centre`.
            directions: (n, 3) float32, any length but zero.
        """
        hit = self._met(origins, directions)
        if self._cutouts is not None:
            rows = np.flatnonzero((hit >= 0) & (self._row_of[hit] >= 0))
            hit[rows] = self._behind_holes(origins[rows], directions[rows], hit[rows])[0]
        return hit

    def _met(self, origins: F32, directions: F32) -> I32:
        """`first_hit` as if nothing had holes."""
        if self._empty:
            return np.full(len(origins), -1, np.int32)
        return self._numbered(self._scene.run(origins, directions, query="INTERSECT"))

    def _numbered(self, hit: I32) -> I32:
        """Hits told by the number among all triangles."""
        return hit if self._number is None else np.where(hit >= 0, self._number[hit], -1).astype(np.int32)

    def _behind_holes(self, origins: F32, directions: F32, hit: I32) -> tuple[I32, F64]:
        """What rays meet that go on through holes, and how far along, in lengths of the direction.

        A ray that meets `MOST_LAYERS` holes one behind the other is taken to be stopped by the last.

        Args:
            hit: what they meet first; written over.
        """
        cut = self._cutouts
        assert cut is not None
        at, gone = origins.copy(), np.zeros(len(hit))
        along = np.full(len(hit), np.inf)
        rows = np.arange(len(hit))
        for _ in range(MOST_LAYERS):
            hole, far = np.empty(len(rows), np.bool_), np.empty(len(rows))
            pierce(
                self.vertices, self._row_of, cut.uv, cut.mask, cut.shape, cut.solid, at[rows], directions[rows],
                hit[rows], hole, far,
            )  # fmt: skip
            along[rows] = gone[rows] + far
            rows, far = rows[hole], far[hole]
            if not len(rows):
                break
            length = np.linalg.norm(directions[rows], axis=1)
            nudge = self.lift[hit[rows]] / length
            gone[rows] += far + nudge
            at[rows] = (origins[rows] + directions[rows] * gone[rows][:, None]).astype(np.float32)
            hit[rows] = self._met(at[rows], directions[rows])
        return hit, along

    def blocked_by(self, origins: F32, directions: F32, distances: F32, workers: int) -> NDArray[np.bool_]:
        """`blocked` on several threads, for many rays at once."""
        if len(origins) < 2 * RAYS_PER_THREAD or workers < 2:
            return self.blocked(origins, directions, distances)
        cuts = np.linspace(0, len(origins), workers + 1).astype(np.int64)

        def part(span: tuple[int, int]) -> NDArray[np.bool_]:
            rows = slice(*span)
            return self.blocked(origins[rows], directions[rows], distances[rows])

        with ThreadPoolExecutor(workers, thread_name_prefix="rays") as pool:
            return np.concatenate(list(pool.map(part, zip(cuts[:-1], cuts[1:]))))

    def distances(self, origins: F32, directions: F32) -> F32:
        """(n,) float32 distance to the nearest triangle in lengths of the direction; above 1e30 for none."""
        if self._empty:
            return np.full(len(origins), np.inf, np.float32)
        found: F32 = self._scene.run(origins, directions, query="DISTANCE")
        return found

    def nearest(self, origins: F32, directions: F32) -> tuple[I32, F32]:
        """(n,) int32 as of `first_hit`, and (n,) float32 as of `distances`, in lengths of the direction; as if nothing
        had holes."""
        if self._empty or not len(origins):
            return np.full(len(origins), -1, np.int32), np.full(len(origins), np.inf, np.float32)
        found = self._scene.run(origins, directions, query="INTERSECT", output=True)
        return self._numbered(found["primID"]), found["tfar"]

    def first_within(self, origins: F32, directions: F32, distances: F32) -> I32:
        """(n,) int32 index of the first triangle on the segment from each origin to origin + direction·distance, −1 for
        none; as if nothing had holes."""
        if self._empty or not len(origins):
            return np.full(len(origins), -1, np.int32)
        return self._numbered(self._scene.run(origins, directions, dists=distances, query="INTERSECT"))

    def blocked(self, origins: F32, directions: F32, distances: F32) -> NDArray[np.bool_]:
        """(n,) whether anything lies on the segment from each origin to origin + direction·distance."""
        if self._empty or not len(origins):
            return np.zeros(len(origins), np.bool_)
        if self._cutouts is None:
            return _stopped(self._scene, origins, directions, distances)
        blocked = _stopped(self._whole, origins, directions, distances)
        # Only of what nothing whole stops the holes count, which takes far longer to tell.
        rows = np.flatnonzero(~blocked)
        rows = rows[_stopped(self._holed, origins[rows], directions[rows], distances[rows])]
        first = self._met(origins[rows], directions[rows])
        hit, along = self._behind_holes(origins[rows], directions[rows], first)
        blocked[rows] = (hit >= 0) & (along < distances[rows])
        return blocked


def _stopped(tree: EmbreeScene, origins: F32, directions: F32, distances: F32) -> NDArray[np.bool_]:
    if not len(origins):
        return np.zeros(0, np.bool_)
    found: NDArray[np.bool_] = tree.run(origins, directions, dists=distances, query="OCCLUDED") >= 0
    return found


def centred(corners: F64) -> tuple[F64, float, F32]:
    """(3,) centre of a level, metres across it, and (T, 3, 3) float32 corners relative to the centre."""
    low, high = core_bounds(corners)
    extent = float(np.linalg.norm(high - low))
    centre = _rounded((low + high) / 2, extent)
    return centre, extent, np.ascontiguousarray((corners - centre).astype(np.float32))


def core_bounds(corners: F64) -> tuple[F64, F64]:
    """(3,) bounds of a level without what lies far from nearly all of it: a crate lost a kilometre away shall not cost
    the rest its precision. Of an ordinary level, the bounds of everything.

    Args:
        corners: (T, 3, 3) metres.
    """
    if not len(corners):
        return np.zeros(3), np.zeros(3)
    low, high = corner_bounds(corners)
    some = corners[:: max(len(corners) // MOST_TELLING, 1)]
    middles = some.mean(axis=1)
    # By their width, so that neither many small things in one place nor a few vast ones speak for all.
    weight = np.sqrt(longest_squared(some))
    centre = np.array([_quantile(middles[:, axis], weight, 0.5) for axis in range(3)])
    spread = _quantile(np.abs(middles - centre).max(axis=1) + weight, weight, 0.75)
    away = np.maximum(centre - low, high - centre).max(axis=1)
    near: Mask = away < max(CORE * spread, float(away.min()) * (1 + 1e-9))
    return low[near].min(axis=0), high[near].max(axis=0)


def _rounded(centre: F64, extent: float) -> F64:
    """A place near the middle that stays where it is when some object moves, so that all others keep the very bits of
    their corners, and what was found for them still holds."""
    if extent <= 0.0 or not math.isfinite(extent):
        return centre
    step = 2.0 ** math.floor(math.log2(extent / STEPS_ACROSS))
    return np.asarray(np.round(centre / step) * step, np.float64)


def _quantile(values: F64, weight: F64, share: float) -> float:
    """The value that so much of the weight lies below."""
    order = np.argsort(values)
    running = np.cumsum(weight[order])
    return float(values[order[min(int(np.searchsorted(running, share * running[-1])), len(order) - 1)]])


def start_lift(vertices: F32) -> F32:
    """(T,) float32 metres that rays start off each triangle.

    Args:
        vertices: (T, 3, 3) relative to the centre.
    """
    place = np.abs(vertices).max(axis=(1, 2), initial=0.0)
    lift: F32 = (START_PLACE * place + START_SIZE * np.sqrt(longest_squared(vertices.astype(np.float64)))).astype(
        np.float32
    )
    return lift
