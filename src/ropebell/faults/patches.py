"""Neighbouring texels that show the same fault are one finding."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.subject import as_place, rows_by
from ropebell.faults.lit import Lit
from ropebell.level.connected import connected
from ropebell.level.finding import Finding

# Texels of one object are neighbours, also across charts, when they lie no further apart than so many widths.
NEAR = 2.3


def patches(lit: Lit, rows: NDArray[Any]) -> Iterator[NDArray[np.int64]]:
    """Some texels as groups of neighbours on one object, largest first.

    Args:
        rows: (m,) texels, each once.
    """
    rows = np.sort(np.asarray(rows, dtype=np.int64))
    if not len(rows):
        return
    place = np.full(len(lit), -1, np.int64)
    place[rows] = np.arange(len(rows))
    pairs = []
    for dx, dy in ((1, 0), (0, 1), (1, 1), (-1, 1)):
        other = lit.beside(dx, dy)[rows]
        both = np.flatnonzero((other >= 0) & (place[np.maximum(other, 0)] >= 0))
        pairs.append(np.stack([both, place[other[both]]]))
    # Across charts, only texels at a border of what is flagged can have partners.
    inner = np.zeros(len(rows), np.int64)
    for one in pairs:
        np.add.at(inner, one[0], 1)
        np.add.at(inner, one[1], 1)
    edge = np.flatnonzero(inner < 8)
    for _, mine in rows_by(lit.node[rows[edge]]):
        pairs.append(_near(lit, rows, edge[mine]))
    a, b = np.concatenate(pairs, axis=1)
    label = connected(len(rows), a, b)
    groups = [mine for _, mine in rows_by(label.astype(np.int32))]
    for mine in sorted(groups, key=lambda m: -float(lit.area[rows[m]].sum())):
        yield rows[mine]


def _near(lit: Lit, rows: NDArray[np.int64], some: NDArray[np.int64]) -> NDArray[np.int64]:
    """(2, k) pairs of texels of one object that lie beside each other."""
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    places, pitch = lit.places[rows[some]], lit.pitch[rows[some]]
    reach = NEAR * float(np.median(pitch))
    found = cKDTree(places).query_pairs(reach, output_type="ndarray")
    far = np.linalg.norm(places[found[:, 0]] - places[found[:, 1]], axis=1)
    kept = found[far <= NEAR * np.maximum(pitch[found[:, 0]], pitch[found[:, 1]])]
    pairs: NDArray[np.int64] = some[kept].T
    return pairs


def finding(
    lit: Lit, kind: str, severity: str, rows: NDArray[Any], worst: int, reason: str, remedy: str, *,
    measure: tuple[float, str], also: list[str] | None = None, fix: tuple[str, ...] = (), proved: bool = False,
    others: Sequence[tuple[str, ...]] = (),
    node: int | None = None, area: float | None = None, place: NDArray[np.float64] | None = None,
) -> Finding:  # fmt: skip
    """A finding of a patch of texels.

    Args:
        worst: the texel that it points at. place: where exactly, if that is not the texel's middle.
    """
    t = lit.texels
    name = lit.scene.node_names[lit.node[worst] if node is None else node]
    where = as_place(lit.places[worst] if place is None else place)
    made = Finding(
        kind, severity, name, reason, remedy, where, fix, tuple(a for a in also or [] if a != name),
        round(float(lit.area[rows].sum()) if area is None else area, 6),
        (float(f"{measure[0]:.6g}"), measure[1]), int(t.page[worst]), (int(t.column[worst]), int(t.row[worst])), proved,
        lit.places[rows], tuple(others),
    )  # fmt: skip
    lit.shown.append((made, np.asarray(rows, dtype=np.int64)))
    return made


def large_enough(lit: Lit, rows: NDArray[Any], least: float) -> bool:
    """Whether a patch has so many m², or, in a level that is small as a whole, as large a share of it as that is of a
    room of 400 m²."""
    area, whole = float(lit.area[rows].sum()), float(lit.area[lit.counts].sum())
    return area >= min(least, least / 400.0 * whole)
