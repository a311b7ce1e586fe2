"""The transport stage: for every texel and ray, what was hit. Shot once per geometry; all bounces are algebra on it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, HitTable
from ropebell.light.affected import mark_crossing
from ropebell.light.gather_rays import make_rays
from ropebell.light.lookup import BACK, NONE, SKY, hit_records, resolve
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import plain_points
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.workers import run_chunks

RAYS_PER_CHUNK = 32_768
# In a table under way: an entry that has to be found again.
PENDING = -4


def passes(rays: int) -> list[tuple[int, int]]:
    """Ray ranges that refine the picture: an eighth, up to a half, the rest."""
    marks = sorted({0, max(rays // 8, min(rays, 4)), max(rays // 2, min(rays, 4)), rays})
    return list(zip(marks[:-1], marks[1:]))


# Fewer rays say too little of how sure they are.
LEAST_SURE = 32


def doubling(rays: int) -> list[int]:
    """Rays after which texels are judged: an eighth, but enough for a judgement, then twice as many each time."""
    ends = [min(max(rays // 8, LEAST_SURE), rays)]
    while ends[-1] < rays:
        ends.append(min(2 * ends[-1], rays))
    return ends


@dataclass(frozen=True, eq=False)
class Gather:
    """The gather rays of a level's texels.

    Rays of a texel are cosine-distributed about the shading normal and start at its open samples; both by one
    scrambled Sobol' sequence. Rays that would start below their own face do not count.

    Attributes:
        surface, space: what rays start from and meet.
        samples: where they start.
        records, grid: of `hit_records` and `targets`: which texel they meet.
        chart: (N,) int32 of each texel; rays of one chart are shot one after the other, as they meet the same things.
        seed: decorrelates builds; equal seeds give equal tables on any number of workers.
    """

    surface: Surface
    space: RaySpace
    samples: OpenSamples
    records: F32
    grid: I32
    chart: I32
    seed: int

    @staticmethod
    def of(
        surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, samples: OpenSamples, seed: int
    ) -> Gather:  # fmt: skip
        """Ready to shoot from all texels of a level."""
        chart = atlas.chart[texels.owner] if len(texels) else np.zeros(0, np.int32)
        return Gather(surface, space, samples, hit_records(surface, atlas), targets(texels, samples), chart, seed)

    def among(self, rows: I32, seed: int) -> Gather:
        """From some texels only, under another seed."""
        return replace(self, samples=self.samples.among(rows), chart=self.chart[rows], seed=seed)

    @property
    def rows(self) -> I32:
        """(m,) int32 texels that rays start from, chart by chart."""
        return self.ordered(np.flatnonzero(self.samples.count > 0).astype(np.int32))

    def ordered(self, rows: I32) -> I32:
        """The same texels chart by chart."""
        return rows[np.argsort(self.chart[rows], kind="stable")]

    def shoot(
        self, rows: I32, rays: tuple[int, int], hits: I32, workers: int, tick: Callable[[float], None],
        done: I32 | None = None,
    ) -> None:  # fmt: skip
        """Fill columns `rays[0]` … `rays[1]` of some rows of the hit table.

        Args:
            rows: (m,) int32 texels with open samples.
            hits: (N, R) int32, written: a texel index, or `SKY`, `BACK`, `NONE`.
            done: (N,) int32 rays that a texel has, noted after they are in the table.
        """
        first_ray, end_ray = rays
        width = end_ray - first_ray
        plain = plain_points(first_ray, end_ray)

        def work(first: int, end: int) -> None:
            some = rows[first:end]
            origins, directions = self._made(some, plain)
            struck = self.space.first_hit(origins, directions)
            resolve(self.records, self.grid, some, first_ray, width, origins, directions, struck, hits)
            if done is not None:
                done[some] = end_ray

        run_chunks(len(rows), max(RAYS_PER_CHUNK // width, 1), work, workers, tick)

    def renew(
        self, rows: I32, width: int, hits: I32, workers: int, tick: Callable[[float], None],
        boxes: F64 | None = None, done: I32 | None = None,
    ) -> int:  # fmt: skip
        """Shoot again those of the first `width` rays of some rows whose entry is `PENDING`; how many there were.

        Args:
            boxes: (B, 2, 3), also those that pass through one of them. done: (N,) int32 rays that a texel has.
        """
        plain = plain_points(0, width)
        counts: list[int] = []

        def work(first: int, end: int) -> None:
            some = rows[first:end]
            origins, directions = self._made(some, plain)
            again = hits[some, :width].ravel() == PENDING
            if boxes is not None:
                mark_crossing(boxes, origins, directions, again)
            if done is not None:
                again &= (np.arange(width) < done[some, None]).ravel()
            wanted = np.flatnonzero(again)
            origins, directions = origins[wanted], directions[wanted]
            struck = self.space.first_hit(origins, directions)
            found = np.empty((1, len(wanted)), np.int32)
            resolve(self.records, self.grid, np.zeros(1, np.int32), 0, len(wanted), origins, directions, struck, found)
            hits[some[wanted // width], wanted % width] = found[0]
            counts.append(len(wanted))

        run_chunks(len(rows), max(RAYS_PER_CHUNK // width, 1), work, workers, tick)
        return sum(counts)

    def _made(self, rows: I32, plain: NDArray[np.uint32]) -> tuple[F32, F32]:
        origins = np.empty((len(rows) * plain.shape[1], 3), np.float32)
        directions = np.empty_like(origins)
        make_rays(self.surface.ground, self.samples.spots, rows, plain, self.seed, origins, directions)
        return origins, directions


def targets(texels: Texels, samples: OpenSamples) -> I32:
    """(P, H, W) the texel grid with closed texels replaced by those that speak for them."""
    grid = texels.grid.copy()
    inside = grid >= 0
    grid[inside] = samples.target[grid[inside]]
    return grid


def empty_hits(count: int, rays: int) -> I32:
    """(N, R) hit table with no ray counted yet."""
    return np.full((count, rays), NONE, np.int32)


@dataclass(frozen=True, eq=False)
class Hits:
    """What the gather rays met.

    Attributes:
        table: (N, R) int32: a texel index, or `SKY`, `BACK`, `NONE`.
        counted: (N,) int32 rays that count.
        open: (N,) int32 of them, those that left the level.
        shot: (N,) int32 rays that were shot, the first so many.
        columns: of the table, that are looked at.
    """

    table: HitTable
    counted: I32
    open: I32
    shot: I32
    columns: int

    @staticmethod
    def of(table: I32, rays: int | None = None) -> Hits:
        """Count a table's entries, those of its first rays only or all; taken as shot for every texel."""
        counted, open_ = np.zeros(len(table), np.int32), np.zeros(len(table), np.int32)
        columns = table.shape[1] if rays is None else rays
        for first in range(0, len(table), 100_000):  # stays interruptible
            end = min(first + 100_000, len(table))
            _tally(table, columns, first, end, counted, open_)
        return Hits(table, counted, open_, np.full(len(table), columns, np.int32), columns)

    def sky_share(self) -> F32:
        """(N,) share of each texel's counted rays that leave the level."""
        return (self.open / np.maximum(self.counted, 1)).astype(np.float32)

    def back_share(self) -> F32:
        """(N,) share of each texel's counted rays that met a back face, or a place without light."""
        found: F32 = np.zeros(len(self.table), np.float32)
        for first in range(0, len(self.table), 100_000):
            rows = slice(first, first + 100_000)
            found[rows] = (self.table[rows, : self.columns] == BACK).sum(axis=1)
        return np.asarray(found / np.maximum(self.counted, 1), np.float32)


@kernel
def _tally(table: I32, rays: int, first: int, end: int, counted: I32, open_: I32) -> None:
    for i in range(first, end):
        for k in range(rays):
            h = table[i, k]
            if h != NONE:
                counted[i] += 1
            if h == SKY:
                open_[i] += 1
