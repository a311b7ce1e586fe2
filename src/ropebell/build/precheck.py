"""The check stage: a level, its brief and its files brought together, checked, and kept by digest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ropebell.build.recipe import Recipe
from ropebell.build.sighting import Known
from ropebell.build.store import Store
from ropebell.checks.run import check
from ropebell.checks.subject import Subject
from ropebell.errors import LevelError
from ropebell.level.brief import Box, Brief
from ropebell.level.emitter_table import emission_of, emission_sources, read_tables
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.prepare import Emission, prepare
from ropebell.level.scene import Scene


@dataclass(frozen=True, eq=False)
class Gathered:
    """A level with all that is decided about it.

    Attributes:
        source: the level as its file has it.
        subject: arranged, with marks, tables and sky.
        emission: radiance of materials where it is not what the level says.
    """

    source: Level
    subject: Subject
    emission: Emission

    @property
    def scene(self) -> Scene:
        """Everything that is placed."""
        return self.subject.scene


def gather(
    source: Level, brief: Brief, recipe: Recipe, sky: tuple[float, float, float], tables: Sequence[Path],
    box: Box | None = None, store: Store | None = None, sky_trouble: LevelError | None = None,
) -> Gathered:  # fmt: skip
    """Read the tables, arrange the level, and place it.

    Args:
        box: everything outside is cut away. store: where it may be known already who sees whom.
        sky_trouble: why the sky's picture cannot be read.
    """
    read, troubles = read_tables(tables)
    sources = emission_sources(source, brief, read)
    emission = emission_of(sources)
    prepared = prepare(source, brief, emission, box)
    d = recipe.density
    subject = Subject(
        prepared.level, prepared.scene, brief, d.texels_per_metre, d.page_size, d.padding, sky, sources, tuple(read),
        tuple(troubles), str(sky_trouble or ""), *([Known(recipe.sight.cell, store)] if store is not None else []),
    )  # fmt: skip
    return Gathered(source, subject, emission)


def check_kept(s: Subject, store: Store) -> list[Finding]:
    """`checks.run.check`, with findings taken from the store while what they depend on is unchanged."""
    return check(s, StoreShelf(store))


@dataclass(frozen=True)
class StoreShelf:
    """Findings in a store; see `checks.run.Shelf`."""

    store: Store

    def get(self, digest: str) -> dict[str, list[Finding]]:
        """What is known of parts of this digest."""
        kept = self.store.get(digest)
        if kept is None:
            return {}
        try:
            return {by: [Finding.of(values) for values in many] for by, many in kept.meta["findings"].items()}
        except (KeyError, TypeError, ValueError, AttributeError):
            return {}  # of another version: found anew

    def put(self, digest: str, found: dict[str, list[Finding]]) -> None:
        """Keep it."""
        values = {by: [f.as_json() for f in many] for by, many in found.items()}
        self.store.put(digest, {}, {"findings": values}, durable=False, over=True)
