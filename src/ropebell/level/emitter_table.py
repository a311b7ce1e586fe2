"""Emitter tables: how strongly materials glow, kept apart from the level so that several levels can share them.

A table is CSV in UTF-8 with a head line `material,r,g,b,strength`: a material's name, a linear RGB colour and the
radiance in cd/m² that it is multiplied with. Empty lines and lines that begin with `#` are skipped.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.errors import LevelError
from ropebell.files import lines_of
from ropebell.level.brief import Brief, Radiance
from ropebell.level.limits import read_limited
from ropebell.level.model import Level
from ropebell.level.prepare import Emission, material_emission

HEAD = ("material", "r", "g", "b", "strength")
MOST_BYTES = 8 << 20
MOST_RADIANCE = 1e9


@dataclass(frozen=True)
class Row:
    """One line of a table.

    Attributes:
        radiance: linear RGB in cd/m².
        line: counted from 1.
    """

    material: str
    radiance: Radiance
    line: int


@dataclass(frozen=True)
class EmitterTable:
    """A table that was read; a material named twice has its last line."""

    path: Path
    rows: dict[str, Row]


@dataclass(frozen=True)
class EmissionSource:
    """How strongly a material glows, and who says so.

    Attributes:
        radiance: linear RGB in cd/m².
        source: `level`, a table's file name, or `project`.
        overruled: sources that said something else, weakest first.
    """

    radiance: Radiance
    source: str
    overruled: tuple[str, ...] = ()


def read_table(path: Path) -> EmitterTable:
    """Read a table.

    Raises:
        LevelError: unreadable, not CSV with the right head, or a value that is no number of 0 or more; with the line.
    """
    remedy = f"Write a head line {','.join(HEAD)} and a line for each material"
    try:
        text = read_limited(path, MOST_BYTES).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise LevelError("the emitter table is not UTF-8 text", path, "Save it as CSV in UTF-8") from error
    lines = [(n, line) for n, line in enumerate(lines_of(text), 1) if line.strip() and line.lstrip()[0] != "#"]
    if not lines or tuple(c.strip().lower() for c in lines[0][1].split(",")) != HEAD:
        raise LevelError("the emitter table has no head line", path, remedy)
    rows = {}
    for number, line in lines[1:]:
        row = _row(line, number, path)
        rows[row.material] = row
    return EmitterTable(path, rows)


def read_tables(paths: Sequence[Path]) -> tuple[list[EmitterTable], list[str]]:
    """The tables that can be read, and a sentence for each that cannot."""
    read: list[EmitterTable] = []
    troubles: list[str] = []
    for path in paths:
        try:
            read.append(read_table(path))
        except LevelError as error:
            troubles.append(str(error))
    return read, troubles


def _row(line: str, number: int, path: Path) -> Row:
    where = f"{path}, line {number}"
    try:
        cells = next(csv.reader(io.StringIO(line)))
    except (csv.Error, StopIteration) as error:
        raise LevelError(f"the line is not CSV ({error})", where, "Correct the line") from error
    if len(cells) != len(HEAD):
        raise LevelError(f"the line has {len(cells)} values, not {len(HEAD)}", where, "Correct the line")
    try:
        r, g, b, strength = (float(cell) for cell in cells[1:])
    except ValueError as error:
        raise LevelError("a value is not a number", where, "Correct the line") from error
    values = (r * strength, g * strength, b * strength)
    if not all(math.isfinite(v) and 0 <= v <= MOST_RADIANCE for v in values):
        raise LevelError(f"a radiance is outside 0 … {MOST_RADIANCE:g} cd/m²", where, "Correct the line")
    return Row(cells[0].strip(), values, number)


def emission_sources(level: Level, brief: Brief, tables: list[EmitterTable]) -> dict[str, EmissionSource]:
    """Every material that glows or is said not to, with the source that decides: level, tables in order, project."""
    found: dict[str, EmissionSource] = {}

    def say(material: str, radiance: Radiance, source: str) -> None:
        before = found.get(material)
        overruled = (*before.overruled, before.source) if before is not None else ()
        found[material] = EmissionSource(radiance, source, overruled)

    for material in level.materials:
        own = material_emission(level, material, {})
        if own.max() > 0:
            say(material.name, (float(own[0]), float(own[1]), float(own[2])), "level")
    names = {m.name for m in level.materials}
    for table in tables:
        for row in table.rows.values():
            if row.material in names:
                say(row.material, row.radiance, table.path.name)
    for name, change in brief.emitters.items():
        if name not in names:
            continue
        if change.radiance is not None:
            say(name, change.radiance, "project")
        if change.counts is False:
            say(name, (0.0, 0.0, 0.0), "project")
    return found


def emission_of(sources: dict[str, EmissionSource]) -> Emission:
    """What differs from the level, for the scene."""
    return {name: found.radiance for name, found in sources.items() if found.source != "level"}


def looks_lit(level: Level, number: int) -> bool:
    """Whether a material looks lit to the eye: it glows in the level, or is drawn unlit and bright."""
    m = level.materials[number]
    return max(m.emission) > 0 or (m.unlit and float(np.mean(m.base_color[:3])) > 0.5)
