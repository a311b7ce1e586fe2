"""Waves of rays beyond the stored ones, for texels that are noisier than wanted; kept, so that a build under other
light or another target need not shoot them again."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass

import numpy as np

from ropebell.build.mapped import new_table
from ropebell.build.sound import WAVE, expecting
from ropebell.build.store import Artifact, Store
from ropebell.digest import digest_of
from ropebell.level.model import I32
from ropebell.light.transport import Gather, empty_hits

# Bytes of hits at a time.
AT_ONCE = 32 << 20
# Room on the disk, in times of what is to be kept.
SPARE = 2
# Between the seeds of two waves.
STRIDE = 7919


@dataclass
class Waves:
    """Makes and keeps them.

    Attributes:
        gather: the rays of all texels. base: names what they depend on besides the wave.
        rays: of each texel and wave.
        room: bytes that may still be kept.
        watch: told of tables that memory may be given back of.
        tick: called now and then, may raise `Stopped`.
        known: rays that were there already.
    """

    gather: Gather
    store: Store
    base: str
    rays: int
    room: int
    watch: Callable[[I32], None]
    workers: int
    tick: Callable[[float], None]
    known: int = 0

    def shoot(self, rows: I32, wave: int) -> Iterator[tuple[slice, I32]]:
        """Hit tables of some texels, some of them at a time.

        Args:
            rows: (m,) int32 ascending. wave: from 1 on.
        """
        digest = digest_of("wave", self.base, self.rays, wave)
        old = self.store.get(digest, expecting(WAVE, N=len(self.gather.samples.count), R=self.rays))
        if old is not None:
            self.watch(old.arrays["hits"])
        had = old.arrays["rows"] if old is not None else np.zeros(0, np.int32)
        union = np.union1d(had, rows).astype(np.int32)
        fresh = self.gather.among(rows, self.gather.seed + STRIDE * wave)
        size = 4 * self.rays * len(union)
        with ExitStack() as stack:
            kept = None
            if len(union) > len(had) and size <= self.room and self._fits(size):
                folder = stack.enter_context(self.store.writing(digest, durable=False, over=True))
                kept = new_table(folder / "hits.npy", (len(union), self.rays))
                self.watch(kept)
                np.save(folder / "rows.npy", union)
                if old is not None:
                    _copy(old.arrays["hits"], kept, np.searchsorted(union, had))
            self.room -= size
            step = max(AT_ONCE // (4 * self.rays), 1)
            for first in range(0, len(rows), step):
                part = slice(first, min(first + step, len(rows)))
                table = self._table(fresh, rows, part, had, old)
                if kept is not None:
                    kept[np.searchsorted(union, rows[part])] = table
                yield part, table
            if kept is not None:
                kept.flush()
                self.store.describe(folder, {})

    def _fits(self, size: int) -> bool:
        """Whether the disk has room to spare; a build must not fail for want of what only spares the next one time."""
        return shutil.disk_usage(self.store.folder).free > SPARE * size

    def _table(self, fresh: Gather, rows: I32, part: slice, had: I32, old: Artifact | None) -> I32:
        some = rows[part]
        table = empty_hits(len(some), self.rays)
        at = np.searchsorted(had, some)
        there = np.isin(some, had, assume_unique=True)
        if old is not None:
            table[there] = old.arrays["hits"][at[there]]
        self.known += int(there.sum()) * self.rays
        missing = np.flatnonzero(~there).astype(np.int32)
        if len(missing):
            # Numbered among the wave's texels, as `fresh` is.
            chosen = fresh.among(missing + np.int32(part.start), fresh.seed)
            shot = empty_hits(len(missing), self.rays)
            chosen.shoot(chosen.rows, (0, self.rays), shot, self.workers, self.tick)
            table[missing] = shot
        return table


def _copy(old: I32, into: I32, places: np.ndarray) -> None:
    step = max(AT_ONCE // (4 * old.shape[1]), 1)
    for first in range(0, len(old), step):
        into[places[first : first + step]] = old[first : first + step]
