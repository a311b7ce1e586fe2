"""Which faces can be seen from which cells: a face can where a cell that it lies in, or right beside, can."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import I64, Mask
from ropebell.level.scene import Scene
from ropebell.sight.rasterised import rasterised
from ropebell.sight.sight import Sight

# Cells whose faces are counted together.
AT_ONCE = 128


@dataclass(frozen=True, eq=False)
class InSight:
    """Faces by cells; T faces, n cells.

    Attributes:
        sight: which cell sees which. cells: (n,) how many others each sees.
        face, cell: (m,) pairs of a face and a cell that it lies in or beside. count: T.
    """

    sight: Sight
    cells: I64
    face: I64
    cell: I64
    count: int

    @staticmethod
    def of(sight: Sight, scene: Scene) -> InSight:
        """Find out what lies where.

        Args:
            scene: all that is drawn; more than what blocks sight, or less.
        """
        number = np.pad(sight.number, 1, constant_values=-1)
        shape = np.array(number.shape)
        # A rim of one cell, as faces of the hull lie outside of all.
        corners = np.ascontiguousarray(scene.corners - (sight.low - sight.size))
        at, face = rasterised(corners, shape, sight.size).T
        place = np.stack(np.unravel_index(at, number.shape), axis=1)
        n = len(sight.middles)
        found = [np.zeros(0, np.int64)]
        for step in np.ndindex(3, 3, 3):
            beside = np.clip(place + np.array(step) - 1, 0, shape - 1)
            cell = number[tuple(beside.T)].astype(np.int64)
            found.append(face[cell >= 0] * n + cell[cell >= 0])
        pairs = np.unique(np.concatenate(found))
        cells = np.bitwise_count(sight.seen).sum(axis=1).astype(np.int64) - 1 if n else np.zeros(0, np.int64)
        return InSight(sight, cells, pairs // max(n, 1), pairs % max(n, 1), len(scene))

    def faces(self, cell: int) -> Mask:
        """(T,) what can be seen from a cell; all of it where that is none."""
        if cell < 0:
            return np.ones(self.count, np.bool_)
        found = np.zeros(self.count, np.bool_)
        found[self.face[self.sight.row(cell)[self.cell]]] = True
        return found

    def face_counts(self) -> NDArray[np.int64]:
        """(n,) how many faces can be seen from each cell: what has to be drawn there at most."""
        from scipy.sparse import csr_matrix  # slow to load, and only wanted here

        n = len(self.cells)
        holds = csr_matrix((np.ones(len(self.face), np.float32), (self.face, self.cell)), shape=(self.count, n))
        counts = np.zeros(n, np.int64)
        for first in range(0, n, AT_ONCE):
            rows = np.unpackbits(self.sight.seen[first : first + AT_ONCE], axis=1, count=n).astype(np.float32)
            counts[first : first + AT_ONCE] = (holds @ rows.T > 0).sum(axis=0)
        return counts
