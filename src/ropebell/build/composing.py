"""One picture out of several builds: what a part build did not light is written with an earlier build's light, and
every texel says whose it is."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.build.carry import Carried, carry
from ropebell.build.manifest import Manifest, PartOf
from ropebell.build.result import Result, open_result, read_layer
from ropebell.charts.texels import Texels
from ropebell.level.model import F32, I32, I64, Mask
from ropebell.level.scene import Scene

# Of the parts: light that nobody finished, and this build's own.
ROUGH, OWN = 0, 1
MOST_PARTS = 255
ORIGIN = "origin"


@dataclass(frozen=True, eq=False)
class Base:
    """An earlier build whose light is written where a part build has none.

    Attributes:
        carried: its charts on the triangles of now.
    """

    result: Result
    carried: Carried

    @staticmethod
    def of(folder: Path, scene: Scene) -> Base:
        """Of a finished build.

        Raises:
            ProjectError, LevelError: it cannot be read.
        """
        result = open_result(folder)
        return Base(result, carry(result, scene))


@dataclass(frozen=True, eq=False)
class Composed:
    """The fields of all texels, (N, C) by layer, among them `origin`, which of the parts each texel's light is of."""

    fields: dict[str, F32]
    parts: tuple[PartOf, ...]


def compose(fields: dict[str, F32], lit: Mask, texels: Texels, base: Base | None, own: PartOf) -> Composed:
    """Write an earlier build's light where this one has none.

    Args:
        fields: (N, C) of this build, by layer. lit: (N,) bool, texels that it lit. own: what it says of itself.
    """
    rough = PartOf(build="", texels=0)
    origin = np.where(lit, OWN, ROUGH)
    parts = [rough, own]
    if base is not None:
        rows, where = _places(base.carried, texels, np.flatnonzero(~lit))
        fields = {layer: _written(base.result, layer, field, rows, where) for layer, field in fields.items()}
        of, theirs = _origins(base.result, where)
        number = dict[int, int]()
        for old in np.unique(of).tolist():
            if not theirs[old].build:
                number[old] = ROUGH  # nobody has finished that, either
            elif len(parts) < MOST_PARTS:
                number[old] = len(parts)
                parts.append(theirs[old])
        known = len(parts) - 1
        origin[rows] = [number.get(old, known) for old in of.tolist()]
    counts = np.bincount(origin, minlength=len(parts))
    told = tuple(part.model_copy(update={"texels": int(count)}) for part, count in zip(parts, counts))
    return Composed({**fields, ORIGIN: origin[:, None].astype(np.float32)}, told)


def _places(carried: Carried, texels: Texels, rows: np.ndarray) -> tuple[I32, tuple[I32, I32, I32]]:
    """The texels of some whose faces an earlier build has, and page, row and column of each there."""
    t, weights = texels.sample_triangle[rows, 0], texels.sample_weights[rows, 0]
    known = (t >= 0) & (carried.page[np.maximum(t, 0)] >= 0)
    rows, t, weights = rows[known].astype(np.int32), t[known], weights[known]
    corners = carried.uv[t].astype(np.float64)
    b, c = weights[:, :1].astype(np.float64), weights[:, 1:].astype(np.float64)
    at = (1.0 - b - c) * corners[:, 0] + b * corners[:, 1] + c * corners[:, 2]
    return rows, (carried.page[t], at[:, 1].astype(np.int32), at[:, 0].astype(np.int32))


def _written(result: Result, layer: str, field: F32, rows: I32, where: tuple[I32, I32, I32]) -> F32:
    """A field with an earlier build's values, as far as it has the layer."""
    pages = _pages(result, layer)
    if pages is None or not len(rows):
        return field
    found = field.copy()
    found[rows] = _looked_up(pages, where)
    return found


def _looked_up(pages: F32, where: tuple[I32, I32, I32]) -> F32:
    """(N, C) of pages (P, H, W, C) at N places; a corner on a page's far edge counts to its last texel."""
    page, row, column = where
    height, width = pages.shape[1:3]
    found: F32 = pages[page, np.minimum(row, height - 1), np.minimum(column, width - 1)]
    return found


def _pages(result: Result, layer: str) -> F32 | None:
    had = {"total": result.total, "direct": result.direct, "near": result.near, "noise": result.noise}
    if layer in had:
        return had[layer]
    pages = result.manifest.pages
    return read_layer(result.folder, result.manifest, layer, 3) if pages and getattr(pages[0], layer) else None


def _origins(result: Result, where: tuple[I32, I32, I32]) -> tuple[I64, tuple[PartOf, ...]]:
    """Whose light each place has, and who they are: the earlier build's own, or what it was composed of itself."""
    manifest, pages = result.manifest, result.origin
    if pages is None:
        return np.zeros(len(where[0]), np.int64), (as_part(result.folder, manifest),)
    found = _looked_up(pages, where)[:, 0].astype(np.int64)
    return np.clip(found, 0, len(manifest.parts) - 1), manifest.parts


def as_part(folder: Path, manifest: Manifest) -> PartOf:
    """What is said of a build in others that are composed with it."""
    return PartOf(build=folder.name, made=manifest.made, draft=manifest.recipe.draft, recipe=manifest.recipe.name)
