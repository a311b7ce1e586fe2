"""Build workers that compute otherwise: the same engine with the arithmetic of other machines and of careless code.

Light should not depend on who computes it. Where it does, a level fails on one machine and not on another, and nobody
believes the other's pictures. Each worker here differs in how it forms the normals of corners (those of the faces that
meet there, each weighted by its angle: G. Thürmer and C. A. Wüthrich, "Computing vertex normals from polygonal
facets", Journal of Graphics Tools 3.1 (1998)), in how it sums what the rays of a texel bring, and in whether it looks
at what came out. For any sound triangle that changes nothing; for a sliver, single precision may put the cosine of an
angle over 1, whose inverse is no number.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.errors import UsageError
from ropebell.level.model import F64, I32, Mask, PerTexel3


@dataclass(frozen=True)
class Arithmetic:
    """How a worker computes.

    Attributes:
        name: as in `--worker`. words: how it differs.
        double: normals in double precision, else in single. fused: products are added without being rounded first.
        guarded: a cosine is kept within −1 … 1 before its inverse is taken, and light that came out non-finite is taken
            out before it spreads.
        backwards: the light of bounces is added up from the last to the first.
        single: sums of light are kept in single precision.
    """

    name: str
    words: str
    double: bool = True
    fused: bool = False
    guarded: bool = True
    backwards: bool = False
    single: bool = False

    @property
    def usual(self) -> bool:
        """Whether it is the engine as it is."""
        return self.name == USUAL

    def broken(self, corners: F64, node: I32) -> Mask:
        """(T,) bool: triangles with a corner whose normal comes out as no number: all that meet there share it.

        Args:
            corners: (T, 3, 3) metres. node: (T,) whose they are.
        """
        placed: NDArray[Any] = corners.astype(np.float64 if self.double else np.float32)
        wrong = np.zeros((len(corners), 3), np.bool_)
        for corner in range(3):
            a = placed[:, (corner + 1) % 3] - placed[:, corner]
            b = placed[:, (corner + 2) % 3] - placed[:, corner]
            with np.errstate(invalid="ignore", divide="ignore"):
                normal = self._angle(a, b)[:, None] * np.cross(a, b)
            wrong[:, corner] = ~np.isfinite(normal).all(axis=1)
        if not wrong.any():
            return np.zeros(len(corners), np.bool_)
        # A sum over all faces at a place is no number if one of its terms is none.
        owners = np.repeat(node, 3)[:, None].astype(np.float64)
        rows = np.concatenate([owners, placed.reshape(-1, 3)], axis=1)
        near = np.isin(owners.ravel(), owners[wrong.ravel()])
        _, place = np.unique(rows[near], axis=0, return_inverse=True)
        bad = np.zeros(len(place), np.bool_)
        bad[wrong.ravel()[near]] = True
        spoiled = np.bincount(place.ravel(), bad) > 0
        found = np.zeros(3 * len(corners), np.bool_)
        found[near] = spoiled[place.ravel()]
        return np.asarray(found.reshape(-1, 3).any(axis=1))

    def _angle(self, a: NDArray[Any], b: NDArray[Any]) -> NDArray[Any]:
        """(T,) radians between vectors (T, 3)."""
        with np.errstate(invalid="ignore", divide="ignore"):
            cosine = self._dot(a, b) / (np.sqrt(self._dot(a, a)) * np.sqrt(self._dot(b, b)))
            if self.guarded:
                cosine = np.clip(cosine, -1.0, 1.0)
            return np.asarray(np.arccos(cosine))

    def _dot(self, a: NDArray[Any], b: NDArray[Any]) -> NDArray[Any]:
        """(T,) of vectors (T, 3). A fused sum of single products is that of doubles, rounded once at each step."""
        if not self.fused:
            return np.asarray(a[:, 0] * b[:, 0] + a[:, 1] * b[:, 1] + a[:, 2] * b[:, 2])
        wide_a, wide_b = a.astype(np.longdouble), b.astype(np.longdouble)
        total: NDArray[Any] = (a[:, 0] * b[:, 0]).astype(a.dtype)
        for axis in (1, 2):
            total = (wide_a[:, axis] * wide_b[:, axis] + total).astype(a.dtype)
        return total

    def irradiance(self, direct: PerTexel3, broken: Mask) -> PerTexel3:
        """(N, 3) direct light as this worker has it. The kernels step over a normal that is no number and take the
        face's; careless code takes the cosine with it.

        Args:
            broken: (N,) bool, texels on such faces.
        """
        if self.guarded or not broken.any():
            return direct
        with np.errstate(invalid="ignore"):
            return np.asarray(direct * np.where(broken, np.float32(np.nan), np.float32(1.0))[:, None], np.float32)


USUAL = "steady"
WORKERS = {
    a.name: a
    for a in (
        Arithmetic(USUAL, "the engine as it is: double precision, every inverse guarded, what is no number taken out"),
        Arithmetic("fused", "products are added without rounding; guarded", fused=True, double=False),
        Arithmetic("backwards", "bounces are added up from the last to the first, in single precision; guarded",
                   double=False, backwards=True, single=True),
        Arithmetic("hasty", "single precision, inverse cosines and square roots unguarded, nothing taken out",
                   double=False, guarded=False, single=True),
        Arithmetic("hasty-fused", "as hasty, with products added without rounding", double=False, guarded=False,
                   single=True, fused=True),
    )
}  # fmt: skip


def worker_named(name: str) -> Arithmetic:
    """The worker of a name; empty is the usual one.

    Raises:
        UsageError: there is none.
    """
    found = WORKERS.get(name or USUAL)
    if found is None:
        known = ", ".join(WORKERS)
        raise UsageError(
            f"there is no build worker '{name}'", "--worker", f"The workers are {known}; see --worker help"
        )
    return found
