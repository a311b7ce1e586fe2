"""What the arrays of each stage's artifact must be before a compiled kernel sees them: type, shape, and the range of
all that is used as an index. A kernel checks nothing; with a wrong index it reads memory that is not its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.build.store import Artifact, Fits
from ropebell.light.lookup import NONE
from ropebell.light.transport import PENDING

# Elements looked at in one go: little enough to stay in the processor's cache.
AT_ONCE = 1 << 20
COLORS = "colours"
Arrays = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class Array:
    """What an array must be.

    Attributes:
        dtype: in NumPy's notation. shape: a letter stands for a size that is the same wherever it stands; with
            `COLORS` at the end there may be a third number for each colour channel.
        low: least value, None where any will do.
        high: one more than the largest value, a number or a letter of a shape.
    """

    dtype: str
    shape: tuple[str | int, ...]
    low: int | None = None
    high: str | int = 0


CHARTS = {
    "uv": Array("<f4", ("T", 3, 2)),
    "chart": Array("<i4", ("T",), 0, "C"),
    "rects": Array("<i4", ("C", 5), 0, 1 << 16),
    "density": Array("<f4", ("T",)),
    "page": Array("<i4", ("N",), 0, "P"),
    "column": Array("<i4", ("N",), 0, "H"),
    "row": Array("<i4", ("N",), 0, "H"),
    "cover": Array("<f4", ("N",)),
    "owner": Array("<i4", ("N",), 0, "T"),
    "grid": Array("<i4", ("P", "H", "H"), -1, "N"),
    "sample_triangle": Array("<i4", ("N", "S"), -1, "T"),
    "sample_weights": Array("<f4", ("N", "S", 2)),
    "vertices": Array("<f4", ("T", 3, 3)),
}
FOOTING = {
    "count": Array("<i4", ("N",), 0, "S1"),
    "triangle": Array("<i4", ("N", "S"), -1, "T"),
    "weights": Array("<f4", ("N", "S", 2)),
    "target": Array("<i4", ("N",), 0, "N"),
    "key": Array("<u4", ("N",)),
    "faces": Array("<u8", ("T",)),
    "wary": Array("|u1", ("N",)),
}
FIELD = {
    "texel": Array("<i4", ("K",), 0, "N"),
    "value": Array("<f4", ("K", COLORS)),
    "gathered": Array("<i4", ("G",), 0, "N"),
}
TABLE = {"hits": Array("<i4", ("N", "R"), PENDING, "N"), "done": Array("<i4", ("N",), 0, "R1")}
HITS = {
    "hits": Array("<i4", ("N", "R"), NONE, "N"),
    "done": Array("<i4", ("N",), 0, "R1"),
    "counted": Array("<i4", ("N",), 0, "R1"),
    "open": Array("<i4", ("N",), 0, "R1"),
}
WAVE = {"rows": Array("<i4", ("K",), 0, "N"), "hits": Array("<i4", ("K", "R"), NONE, "N")}
SKY = {"sky": Array("<f4", ("N", 3))}
ALBEDO = {"albedo": Array("<f4", ("N", 3))}
READING = {
    "throws": Array("<f4", ("N", 3)),
    "reflecting": Array("<f4", ("N", 3)),
    "emitter": Array("<i4", ("N",), -1, "E"),
}
FINISHING = {
    "shade": Array("<f4", ("N",)),
    "point": Array("<i8", ("K",), 0, "K"),
    "column": Array("<i8", ("K",), 0, "N"),
    "weight": Array("<f8", ("K",)),
}
REFINED = {
    "total": Array("<f4", ("N", 3)),
    "direct": Array("<f4", ("N", 3)),
    "noise": Array("<f4", ("N",)),
}
SIGHT = {
    "trails": Array("<f8", ("V", 3)),
    "starts": Array("<i8", ("L1",), 0, "V1"),
    "places": Array("<f8", ("L", 3)),
    "low": Array("<f8", (3,)),
    "number": Array("<i4", ("X", "Y", "Z"), -1, "C"),
    "middles": Array("<f8", ("C", 3)),
    "seen": Array("|u1", ("S", "B")),
    "narrow": Array("<i4", ("K",), 0, "C"),
    "asked": Array("<f8", ("C",)),
    "unseen": Array("|b1", ("T",)),
    "hull": Array("|b1", ("O",)),
}


def expecting(what: dict[str, Array], **sizes: int) -> Fits:
    """A check of an artifact's arrays, for `Store.get`.

    Args:
        sizes: by letter, where they are known: T triangles, N texels, S samples of a texel, R rays.
    """
    known = {*sizes, *(letter for array in what.values() for letter in array.shape)}
    unknown = {a.high[0] for a in what.values() if isinstance(a.high, str) and a.low is not None} - known
    if unknown:
        raise ValueError(f"nothing says how large {', '.join(sorted(unknown))} is")

    def fits(artifact: Artifact) -> bool:
        return _all_fit(artifact.arrays, what, dict(sizes)) and (what is not CHARTS or _charts_fit(artifact))

    return fits


def _all_fit(arrays: Arrays, what: dict[str, Array], sizes: dict[str, int]) -> bool:
    if not arrays.keys() >= what.keys():
        return False
    for name, wanted in what.items():
        array, shape = arrays[name], wanted.shape
        if shape[-1] == COLORS:
            shape = (*shape[:-1], 3)[: max(array.ndim, len(shape) - 1)]
        if array.dtype.str != wanted.dtype or array.ndim != len(shape):
            return False
        for size, letter in zip(array.shape, shape):
            if size != (letter if isinstance(letter, int) else sizes.setdefault(letter, size)):
                return False
    return all(_in_range(arrays[name], wanted, sizes) for name, wanted in what.items())


def _in_range(array: NDArray[Any], wanted: Array, sizes: dict[str, int]) -> bool:
    if wanted.low is None:
        return True
    high = wanted.high
    if isinstance(high, str):
        # "R1" is one more than R.
        high = sizes[high[0]] + (1 if len(high) > 1 else 0)
    flat = array.reshape(-1)
    for first in range(0, len(flat), AT_ONCE):
        some = flat[first : first + AT_ONCE]
        if some.min() < wanted.low or some.max() >= high:
            return False
    return True


def _charts_fit(artifact: Artifact) -> bool:
    """Charts lie on the pages, and corners of triangles in their charts."""
    a, meta = artifact.arrays, artifact.meta
    pages, side = a["grid"].shape[:2]
    numbers = [meta["pages"], meta["side"], meta["written"]]
    if not all(isinstance(n, int) for n in numbers) or not 0 <= meta["written"] <= meta["pages"] <= pages:
        return False
    if meta["side"] != side or not all(len(n) == 3 for n in meta["notices"]):
        return False
    rects, corners = a["rects"].astype(np.int64), a["uv"]
    if not len(rects):
        return True
    ends = rects[:, 1:3] + rects[:, 3:5]
    inside = np.isfinite(corners).all() and (corners >= 0).all() and (corners <= side).all()
    return bool(inside and rects[:, 0].max() < pages and ends.max() <= side)
