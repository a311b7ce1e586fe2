"""Which texels players can look at."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.faults.lit import Lit
from ropebell.level.model import F64, Mask

# Eyes that are tried for a texel: the nearest ones in turn with some that are spread over all.
NEAREST, SPREAD = 6, 10
# A ray from a texel starts this share of its width off its face.
OFF = 0.02
# Charts with more texels than this are tried by so many of them.
MANY, FIRST = 1500, 300
# Texels along each side of a block that one of them is looked at for; charts with fewer are looked at one by one.
BLOCK, FEW = 2, 100
SIDES, SEEN = {False: "front", True: "back"}, 2


def far_from(side: str) -> str:
    """What the distances of a side are kept as."""
    return f"{side}_far"


class Seen:
    """Asked texel by texel, and remembers.

    Args:
        lit: the build.
        known: of `kept`, what was found out on the same texels by the same eyes.
    """

    def __init__(self, lit: Lit, known: Mapping[str, NDArray[Any]] | None = None) -> None:
        self._lit = lit
        self._known: dict[bool, tuple[Mask, Mask, F64]] = {}
        for behind, name in SIDES.items():
            if known is None:
                break
            found, far = known[name], known[far_from(name)].astype(np.float64)
            self._known[behind] = found > 0, found == SEEN, far

    @property
    def kept(self) -> dict[str, NDArray[Any]]:
        """(N,) uint8 of each side: 0 not asked, 1 not seen, 2 seen; and (N,) float32 from how far."""
        found: dict[str, NDArray[Any]] = {}
        for behind, name in SIDES.items():
            nothing = np.zeros(len(self._lit), np.bool_)
            asked, seen, far = self._known.get(behind, (nothing, nothing, np.full(len(self._lit), np.inf)))
            found[name] = np.where(asked, np.where(seen, SEEN, 1), 0).astype(np.uint8)
            found[far_from(name)] = far.astype(np.float32)
        return found

    def of(self, rows: np.ndarray, from_behind: bool = False) -> Mask:
        """(m,) bool: whether players can see the front of each texel, or its back.

        Args:
            rows: (m,) texels.
        """
        if self._lit.eyes is None:
            return np.ones(len(rows), np.bool_)
        asked, seen, _ = self._looked(rows, from_behind)
        assert asked[rows].all()
        found: Mask = seen[rows]
        return found

    def spots(self, places: F64, rows: np.ndarray) -> Mask:
        """(m,) bool: whether players can see places on the faces of some texels.

        Args:
            places: (m, 3) metres. rows: (m,) texels whose faces they are on.
        """
        if self._lit.eyes is None or not len(rows):
            return np.ones(len(rows), np.bool_)
        return self._shot(rows, False, places)[0]

    def distance(self, rows: np.ndarray) -> F64:
        """(m,) metres from the nearest eye that was found to see each texel; infinite where none does."""
        if self._lit.eyes is None:
            return np.full(len(rows), np.inf)
        far: F64 = self._looked(rows, False)[2][rows]
        return far

    def _looked(self, rows: np.ndarray, from_behind: bool) -> tuple[Mask, Mask, F64]:
        count = len(self._lit)
        if from_behind not in self._known:
            nothing = np.zeros(count, np.bool_)
            self._known[from_behind] = nothing, nothing.copy(), np.full(count, np.inf)
        asked, seen, far = self._known[from_behind]
        new = np.unique(rows[~asked[rows]])
        if len(new):
            seen[new], far[new] = self._shot_by_charts(new, from_behind)
            asked[new] = True
        return asked, seen, far

    def _shot_by_charts(self, rows: np.ndarray, from_behind: bool) -> tuple[Mask, F64]:
        """Of charts with very many texels some are looked at first; all are, unless these agree that none is seen."""
        chart = self._lit.chart[rows]
        many = np.bincount(chart)[chart] > MANY
        seen, far = np.zeros(len(rows), np.bool_), np.full(len(rows), np.inf)
        order = np.argsort(chart, kind="stable")
        rank = np.empty(len(rows), np.int64)
        rank[order] = np.arange(len(rows)) - np.searchsorted(chart[order], chart[order])
        size = np.bincount(chart)[chart]
        first = many & (rank % np.maximum(size // FIRST, 1) == 0)
        seen[first], far[first] = self._shot(rows[first], from_behind)
        any_seen = np.bincount(chart[first], seen[first], minlength=int(chart.max()) + 1) > 0
        rest = ~first & (~many | any_seen[chart])
        seen[rest], far[rest] = self._shot_by_blocks(rows[rest], from_behind)
        return seen, far

    def _shot_by_blocks(self, rows: np.ndarray, from_behind: bool) -> tuple[Mask, F64]:
        """One texel of each small block is looked at for all of it; all are where blocks beside each other differ, and
        on charts of few."""
        texels, chart = self._lit.texels, self._lit.chart[rows]
        height, width = ((n + BLOCK - 1) // BLOCK + 2 for n in texels.grid.shape[1:])
        key = (chart.astype(np.int64) * height + texels.row[rows] // BLOCK + 1) * width + texels.column[rows] // BLOCK
        few = np.bincount(chart, minlength=1)[chart] < FEW
        blocks, one, block = np.unique(np.where(few, -1 - np.arange(len(rows)), key), True, True)
        known, from_there = self._shot(rows[one], from_behind)
        differ = np.zeros(len(blocks), np.bool_)
        for beside in (1, width - 1, width, width + 1):
            other = np.minimum(np.searchsorted(blocks, blocks + beside), len(blocks) - 1)
            found = np.flatnonzero((blocks >= 0) & (blocks[other] == blocks + beside))
            apart = found[known[found] != known[other[found]]]
            differ[apart] = differ[other[apart]] = True
        seen, far = known[block], from_there[block]
        again = differ[block]
        again[one] = False
        seen[again], far[again] = self._shot(rows[again], from_behind)
        return seen, far

    def _shot(self, rows: np.ndarray, from_behind: bool, places: F64 | None = None) -> tuple[Mask, F64]:
        from scipy.spatial import cKDTree  # slow to load, and only wanted here

        if not len(rows):
            return np.zeros(0, np.bool_), np.zeros(0)
        lit, eyes = self._lit, self._lit.eyes
        assert eyes is not None
        normals = -lit.normals[rows] if from_behind else lit.normals[rows]
        places = lit.places[rows] if places is None else places
        start = places + normals * (OFF * lit.pitch[rows] + lit.surface.ground.lift[lit.texels.owner[rows]])[:, None]
        _, near = cKDTree(eyes).query(start, k=min(NEAREST * 3, len(eyes)), workers=lit.settings.workers)
        near = near.reshape(len(rows), -1)
        spread = np.linspace(0, len(eyes) - 1, min(SPREAD, len(eyes))).astype(np.int64)
        tries = [near[:, i] for i in range(0, near.shape[1], 3)]
        for i, number in enumerate(spread):
            tries.insert(min(2 * i + 1, len(tries)), np.full(len(rows), number))
        two_sided = lit.scene.double_sided[lit.texels.owner[rows]]
        seen, far = np.zeros(len(rows), np.bool_), np.full(len(rows), np.inf)
        for eye in tries:
            left = np.flatnonzero(~seen)
            if not len(left):
                break
            way = eyes[eye[left]] - start[left]
            facing = np.einsum("ij,ij->i", way, normals[left])
            left, way, facing = (x[(facing > 0) | two_sided[left]] for x in (left, way, facing))
            origin = np.where((facing > 0)[:, None], start[left], 2 * places[left] - start[left])
            relative = (origin - lit.space.centre).astype(np.float32)
            free = ~lit.space.blocked_by(
                relative, way.astype(np.float32), np.full(len(left), 0.999, np.float32), lit.settings.workers
            )  # fmt: skip
            seen[left[free]] = True
            far[left[free]] = np.linalg.norm(way[free], axis=1)
        return seen, far
