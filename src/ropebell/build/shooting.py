"""The transport stage of a build: shoots the gather rays in passes, straight into a file that outlives a stop or a
kill, and takes over what earlier builds of the same ground have shot."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ropebell.arrays import load_array
from ropebell.build.kin import LOOKING, Kin, tables_of
from ropebell.build.mapped import new_table
from ropebell.build.memory import MemoryKeeper
from ropebell.build.sound import TABLE, expecting
from ropebell.build.store import Artifact, Kind, Store
from ropebell.kernel import kernel
from ropebell.level.model import I32, I64
from ropebell.light.affected import facing
from ropebell.light.kept import carry_hits
from ropebell.light.lookup import NONE
from ropebell.light.transport import Gather, Hits, doubling, empty_hits, passes

FILLED_AT_ONCE = 8 << 20
ARRAYS = ("hits", "done", "counted", "open")


@dataclass(frozen=True)
class Shot:
    """What shooting took.

    Attributes:
        rays: that were shot. kept: that were there already.
    """

    rays: int
    kept: int


Unsure = Callable[[I32, I32, int], NDArray[np.bool_]]
"""Hit table, (N,) rays of each texel and the number of columns to look at, to (N,) which texels want more rays."""


def shoot_hits(
    gather: Gather, want: I32, rays: int, first_rows: NDArray[np.bool_] | None, digest: str, store: Store,
    kin: list[Kin], workers: int, tick: Callable[[float], None], shown: Callable[[I32, int], None],
    memory: MemoryKeeper, unsure: Unsure | None = None,
) -> tuple[Artifact, Shot]:  # fmt: skip
    """Fill the hit table of a level.

    Args:
        want: (N,) rays of each texel, at most `rays`.
        first_rows: (N,) texels to be served before the others in each pass, such as those in view; None: no order.
        kin: earlier layouts that rays can be taken over from.
        tick: called with the share done, may raise `Stopped`; what was shot by then stays.
        shown: called with the table and the number of its columns that are shot, once in a while.
        memory: keeps the tables from filling it.
        unsure: asked after each pass which texels want more; None: all of them get all they may have. What it says
            may depend on nothing but those columns, so that a table is the same whatever was there before.
    """
    shape = (len(want), rays)
    if 0 in shape:
        none = np.zeros(shape[0], np.int32)
        table = empty_hits(*shape)
        return store.put(digest, dict(zip(ARRAYS, (table, none, none, none))), {"rays": 0}), Shot(0, 0)
    kinds: dict[str, Kind] = {"hits": ("<i4", list(shape)), "done": ("<i4", [shape[0]])}
    with store.resuming(digest, kinds, expecting(TABLE, N=shape[0], R=rays)) as (folder, begun):
        hits, done = _tables(folder, shape, begun, memory)
        if not begun:
            done[gather.samples.count == 0] = rays  # nothing to shoot
            kept = _carry(gather, want, hits, done, digest, store, kin, workers, tick, memory)
        else:
            kept = int(np.minimum(done, want)[gather.samples.count > 0].sum())
        if unsure is None:
            shot = _shoot(gather, want, hits, done, first_rows, workers, tick, shown)
        else:
            shot = _shoot_until(gather, want, hits, done, first_rows, workers, tick, shown, unsure)
        hits.flush()
        done.flush()
        tally = Hits.of(hits)
        np.save(folder / "counted.npy", tally.counted)
        np.save(folder / "open.npy", tally.open)
        store.describe(folder, {"rays": shot})
        arrays = {name: load_array(folder / f"{name}.npy", "c") for name in ARRAYS}
        del hits, done, tally
    # Should the cache be cleared just now, what is mapped stays as long as it is held.
    return store.get(digest) or Artifact(digest, arrays, {"rays": shot}), Shot(shot, kept)


def _tables(
    folder: Path, shape: tuple[int, int], begun: bool, memory: MemoryKeeper
) -> tuple[np.memmap, np.memmap]:  # fmt: skip
    if begun:
        hits = np.lib.format.open_memmap(folder / "hits.npy", mode="r+")
        memory.watch(hits)
        return hits, np.lib.format.open_memmap(folder / "done.npy", mode="r+")
    hits = new_table(folder / "hits.npy", shape)
    done = new_table(folder / "done.npy", shape[:1])
    memory.watch(hits)
    step = max(FILLED_AT_ONCE // (4 * shape[1]), 1)  # stays interruptible, and lets memory be given back meanwhile
    for first in range(0, len(hits), step):
        hits[first : first + step] = NONE
    return hits, done


def _carry(
    gather: Gather, want: I32, hits: I32, done: I32, digest: str, store: Store, kin: list[Kin], workers: int,
    tick: Callable[[float], None], memory: MemoryKeeper,
) -> int:  # fmt: skip
    """Take over the table that has most in common; how many rays that spared."""
    tables = list(tables_of(store, kin, want, digest))
    if not tables:
        return 0
    # Where something is new, each ray has to be looked at.
    count, one, artifact = max(
        tables, key=lambda t: t[0] * (1.0 - LOOKING * (t[1].change is not None and t[1].change.adds))
    )
    if not count:
        return 0
    memory.watch(artifact.arrays["hits"])
    had, pending = carry_hits(
        one.met or one.kept, artifact.arrays["hits"], artifact.arrays["done"], want, hits, workers
    )
    boxes = None
    if one.change is not None and len(one.change.new):
        boxes = one.change.new
        sees = facing(boxes, gather.surface, gather.samples.spots) & (had > 0)
        pending = np.union1d(pending, np.flatnonzero(sees)).astype(np.int32)
    renewed = 0
    if len(pending):
        width = int(had[pending].max())
        renewed = gather.renew(gather.ordered(pending), width, hits, workers, lambda _: tick(0.0), boxes, had)
    rows = np.flatnonzero((had > 0) & (gather.samples.count > 0))
    done[rows] = had[rows]
    return max(int(had[gather.samples.count > 0].sum()) - renewed, 0)


def _shoot_until(
    gather: Gather, want: I32, hits: I32, done: I32, first_rows: NDArray[np.bool_] | None, workers: int,
    tick: Callable[[float], None], shown: Callable[[I32, int], None], unsure: Unsure,
) -> int:  # fmt: skip
    """In passes, each twice as long as all before it, of those texels that are not sure yet."""
    rays, shot, share = hits.shape[1], 0, 0.0
    going = gather.samples.count > 0
    for end in doubling(rays):
        upto = np.where(going, np.minimum(want, end), 0).astype(np.int32)
        coming = int(np.maximum(upto - done, 0).sum())
        at_most = coming + int(np.maximum(np.where(going, want, 0) - np.maximum(done, end), 0).sum())

        def told(part: float, base: float = share, load: float = coming / max(at_most, 1)) -> None:
            tick(base + (1.0 - base) * load * part)

        shot += _shoot(gather, upto, hits, done, first_rows, workers, told, shown)
        share += (1.0 - share) * coming / max(at_most, 1)
        more = unsure(hits, done, end) & going & (want > end)
        # What an earlier table had of a texel beyond what is needed would be light of another table.
        rows = np.flatnonzero(going & ~more & (done > upto))
        for start in range(0, len(rows), 50_000):  # stays interruptible
            _forget(hits, done, rows[start : start + 50_000], upto)
        going = more
        if going.any():
            shown(hits, end)
    return shot


@kernel
def _forget(hits: I32, done: I32, rows: I64, keep: I32) -> None:
    for m in range(len(rows)):
        i = rows[m]
        hits[i, keep[i] : done[i]] = NONE
        done[i] = keep[i]


def _shoot(
    gather: Gather, want: I32, hits: I32, done: I32, first_rows: NDArray[np.bool_] | None, workers: int,
    tick: Callable[[float], None], shown: Callable[[I32, int], None],
) -> int:  # fmt: skip
    rays = hits.shape[1]
    missing = np.maximum(want - done, 0)
    total, shot = max(int(missing.sum()), 1), 0
    # Tables taken over may end anywhere; whole passes otherwise, as a prefix of the sequence is as even as the whole.
    marks = sorted({0, *(end for _, end in passes(rays)), *np.unique(done).tolist(), *np.unique(want).tolist()})
    for first, end in zip(marks[:-1], marks[1:]):
        ready = (done == first) & (want > first)
        parts = [ready] if first_rows is None else [ready & first_rows, ready & ~first_rows]
        for number, part in enumerate(parts):
            rows = gather.ordered(np.flatnonzero(part).astype(np.int32))
            if not len(rows):
                continue
            load = len(rows) * (end - first)

            def told(share: float, load: int = load, before: int = shot) -> None:
                tick((before + share * load) / total)

            gather.shoot(rows, (first, end), hits, workers, told, done)
            shot += load
            if shot < total and (number + 1 == len(parts) or first == 0 or end == rays):
                shown(hits, end)
    return shot
