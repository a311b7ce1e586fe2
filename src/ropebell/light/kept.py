"""What is known of texels that stayed the same while others changed: carried over to a new layout of the level.

Rays depend on geometry alone, and a texel's rays on nothing but the texel. So where an object gets another density, all
that has to be found anew is its own texels, and the rays of others that met it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, I32, Mask
from ropebell.light.direct import DirectField
from ropebell.light.lookup import BACK
from ropebell.light.surface import OpenSamples
from ropebell.light.transport import PENDING
from ropebell.light.workers import run_chunks

CHUNK = 10_000


@dataclass(frozen=True, eq=False)
class Kept:
    """How the texels of an earlier layout map to those of now.

    Attributes:
        before: (N,) int32 the earlier texel of each, −1 for those that are new.
        after: (M,) int32 the other way round.
    """

    before: I32
    after: I32

    @staticmethod
    def of(before: I32, count: int) -> Kept:
        """From the earlier texel of each, of `count` there were."""
        after = np.full(count, -1, np.int32)
        rows = np.flatnonzero(before >= 0)
        after[before[rows]] = rows
        return Kept(before, after)

    @property
    def rows(self) -> I32:
        """(k,) int32 texels that are as they were."""
        return np.flatnonzero(self.before >= 0).astype(np.int32)

    @property
    def fresh(self) -> I32:
        """(m,) int32 texels that are new."""
        return np.flatnonzero(self.before < 0).astype(np.int32)

    @property
    def share(self) -> float:
        """Of the texels that are as they were."""
        return float((self.before >= 0).mean()) if len(self.before) else 0.0

    def without(self, rows: Mask) -> Kept:
        """Less some of the texels of now, (N,) bool."""
        return Kept.of(np.where(rows, -1, self.before).astype(np.int32), len(self.after))


def carried_samples(
    kept: Kept, old: OpenSamples, number: I32 | None, count: I32, triangle: I32, weights: F32
) -> None:  # fmt: skip
    """Write the open samples of kept texels into tables of now (N, …).

    Args:
        number: of each old triangle now; None: as it was.
    """
    rows = kept.rows
    at = kept.before[rows]
    count[rows], triangle[rows], weights[rows] = old.count[at], old.triangle[at], old.weights[at]
    if number is not None:
        triangle[rows] = np.where(triangle[rows] >= 0, number[triangle[rows]], -1)


def carried_field(kept: Kept, old: DirectField, fresh: DirectField) -> DirectField:
    """A light's field of now.

    Args:
        fresh: of the new texels alone, numbered among `kept.fresh`.
    """
    rows = kept.fresh
    at = kept.after[old.texel]
    stays = at >= 0
    texel = np.concatenate([at[stays], rows[fresh.texel]])
    value = np.concatenate([old.value[stays], fresh.value])
    order = np.argsort(texel, kind="stable")
    gathered = kept.after[old.gathered]
    wide = np.sort(np.concatenate([gathered[gathered >= 0], rows[fresh.gathered]]))
    return DirectField(texel[order], np.ascontiguousarray(value[order]), wide.astype(np.int32))


def carried_dense(kept: Kept, old: F32, fresh: F32) -> F32:
    """(N, 3) the same of a field that has a value everywhere."""
    out = np.zeros((len(kept.before), *old.shape[1:]), np.float32)
    rows = kept.rows
    out[rows] = old[kept.before[rows]]
    out[kept.fresh] = fresh
    return out


def carry_hits(kept: Kept, old: I32, had: I32, want: I32, hits: I32, workers: int = 1) -> tuple[I32, I32]:
    """Write what is still true of an earlier hit table into one of now; what is not becomes `PENDING`.

    Args:
        old: (M, R) the earlier table; had: (M,) rays that its texels have.
        want: (N,) rays wanted. hits: (N, R′), written.

    Returns:
        (N,) rays that each texel has now, and (k,) int32 texels with something pending.
    """
    done = np.zeros(len(want), np.int32)
    pending = np.zeros(len(want), np.bool_)
    rows = kept.rows

    def carry(first: int, end: int) -> None:
        _carry(rows[first:end], kept.before, kept.after, old, had, want, hits, done, pending)

    run_chunks(len(rows), CHUNK, carry, workers, lambda _: None)
    return done, np.flatnonzero(pending).astype(np.int32)


@kernel
def _carry(
    rows: I32, before: I32, after: I32, old: I32, had: I32, want: I32, hits: I32,
    done: I32, pending: Mask,
) -> None:  # fmt: skip
    for m in range(len(rows)):
        i = rows[m]
        o = before[i]
        rays = min(had[o], want[i], old.shape[1])
        done[i] = rays
        for k in range(rays):
            h = old[o, k]
            if h >= 0:
                h = after[h]
            if h == BACK or (old[o, k] >= 0 and h < 0):
                # A place without a texel then may have one now.
                h = PENDING
                pending[i] = True
            hits[i, k] = h
