"""Checks of what glows, of the tables that say how strongly, and of the sky."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.checks.before import BEFORE, GLOW, MARKS, SHAPES, SKY
from ropebell.checks.remedies import DROP_TABLE, SKY_COUNTS
from ropebell.checks.subject import Place, Subject, as_place, listed
from ropebell.level.emitter_table import looks_lit
from ropebell.level.finding import Finding
from ropebell.level.model import LUMINANCE

# An emitter so many times stronger than the next one is more often a slip of the decimal point than meant.
OUTLIER = 15.0
# A table of which no more than this share is in the level is most likely another level's.
FOREIGN = 0.34


def _where(s: Subject, material: int) -> tuple[str, Place | None]:
    """An object that shows a material, and a place on it."""
    rows = np.flatnonzero(s.baking.material == material)
    if not len(rows):
        return "", None
    return s.baking.node_names[s.baking.node[rows[0]]], as_place(s.baking.corners[rows[0]].mean(axis=0))


@BEFORE.detector(
    {"glow-not-counted": "Looks lit, gives no light", "emitter-outlier": "Emitter far too strong"}, SHAPES, GLOW
)
def glowing(s: Subject) -> Iterator[Finding]:
    """Materials that look lit but give no light, and one that is far stronger than all others."""
    strengths: list[tuple[float, int]] = []
    for number, material in enumerate(s.level.materials):
        name, place = _where(s, number)
        if place is None:
            continue
        found = s.emission.get(material.name)
        strength = float(LUMINANCE @ np.array(found.radiance)) if found is not None else 0.0
        if strength > 0:
            strengths.append((strength, number))
        elif looks_lit(s.level, number):
            who = f" ({found.source} says so)" if found is not None else ""
            reason = f"Material '{material.name}' looks lit, but is not counted as an emitter{who}: it gives no light."
            remedy = "Give it a radiance on the Lights step, or note here that it only looks so"
            yield Finding("glow-not-counted", "warning", name, reason, remedy, place)
    strengths.sort()
    if len(strengths) >= 2 and strengths[-1][0] > OUTLIER * strengths[-2][0]:
        (second, _), (strength, number) = strengths[-2:]
        material = s.level.materials[number]
        name, place = _where(s, number)
        source = s.emission[material.name].source
        reason = (
            f"Material '{material.name}' glows with {strength:,.0f} cd/m² (by {source}), {strength / second:.0f} times "
            f"as strongly as the next one."
        )
        yield Finding("emitter-outlier", "warning", name, reason, "Check its decimal point", place)


@BEFORE.detector(
    {
        "table-unreadable": "Emitter table unreadable",
        "foreign-table": "Another level's emitter table",
        "table-unknown-material": "Unknown materials in a table",
    }
)
def tables(s: Subject) -> Iterator[Finding]:
    """Emitter tables that cannot be read, name unknown materials, or belong to another level."""
    for trouble in s.troubles:
        yield Finding("table-unreadable", "error", "", trouble, "Correct the file, or take it off the list")
    names = {material.name for material in s.level.materials}
    for number, table in enumerate(s.tables):
        unknown = sorted(table.rows.keys() - names)
        if not unknown:
            continue
        if number > 0 and len(unknown) >= (1 - FOREIGN) * len(table.rows):
            reason = (
                f"Emitter table {table.path.name} names {len(unknown)} materials of which the level has none, and "
                f"{len(table.rows) - len(unknown)} that it has: it looks like another level's."
            )
            fix = DROP_TABLE.of(s.brief.tables[number] if number < len(s.brief.tables) else table.path.name)
            yield Finding("foreign-table", "warning", table.path.name, reason, "Take it off the list", None, fix)
        elif number > 0:
            reason = f"Emitter table {table.path.name} names materials that the level does not have: {listed(unknown)}."
            yield Finding("table-unknown-material", "note", table.path.name, reason, "Correct the names")


@BEFORE.detector(
    {"sky-not-counted": "Sky not counted", "dark-sky": "Dark sky", "unreadable-sky": "Sky that cannot be read"},
    SHAPES, MARKS, SKY,
)  # fmt: skip
def sky(s: Subject) -> Iterator[Finding]:
    """A sky that is seen but gives no light, or a dark one over an open level."""
    now = s.brief.sky_now
    if s.sky_trouble:
        reason = f"The picture of the sky '{s.brief.sky}' cannot be read, so it gives no light. {s.sky_trouble}"
        yield Finding("unreadable-sky", "error", "", reason, "Export the picture again, or choose another sky")
    bright = any(now.color) or bool(now.picture)
    if bright and not now.counts:
        reason = f"The sky '{s.brief.sky}' is seen but not counted: it gives no light."
        yield Finding("sky-not-counted", "note", "", reason, "Let it count, if it should", None, SKY_COUNTS.of())
    if max(s.sky) <= 0 and not bright and _open_share(s) > 0.02:
        reason = "The level is open to a sky that is dark: what only the sky can reach stays black."
        yield Finding("dark-sky", "note", "", reason, "Choose a sky on the Lights step")


def _open_share(s: Subject) -> float:
    """Share of the places a player can stand at with nothing overhead; 0 where no start point tells."""
    floors = s.floors
    if floors is None or not len(floors.floors):
        return 0.0
    start = (floors.eyes - s.space.centre).astype(np.float32)
    up = np.repeat(np.array([[0, 1, 0]], np.float32), len(start), axis=0)
    return float((s.space.first_hit(start, up) < 0).mean())
