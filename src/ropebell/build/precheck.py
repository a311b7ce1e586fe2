"""The check stage: a level, its brief and its files brought together, checked, and kept by digest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.build.recipe import Recipe
from ropebell.build.store import Store, digest_of
from ropebell.checks.contents import contents
from ropebell.checks.run import arrangement, geometry, in_order, lighting
from ropebell.checks.subject import Subject
from ropebell.level.brief import Brief, to_values
from ropebell.level.emitter_table import emission_of, emission_sources, read_tables
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.scene import Emission, Scene, prepare

VERSION = 3
# Without one of these a build cannot be right anywhere; other errors are of one object.
BLOCKING = ("no-surfaces", "no-light", "negative-light")


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
    source: Level, brief: Brief, recipe: Recipe, sky: tuple[float, float, float], tables: Sequence[Path]
) -> Gathered:
    """Read the tables, arrange the level, and place it."""
    read, troubles = read_tables(tables)
    sources = emission_sources(source, brief, read)
    emission = emission_of(sources)
    prepared = prepare(source, brief, emission)
    d = recipe.density
    subject = Subject(
        prepared.level, prepared.scene, brief, d.texels_per_metre, d.page_size, d.padding, sky, sources, tuple(read),
        tuple(troubles),
    )  # fmt: skip
    return Gathered(source, subject, emission)


def check_kept(s: Subject, store: Store) -> list[Finding]:
    """`checks.run.check`, with findings taken from the store while what they depend on is unchanged.

    Those on shapes cost most and depend on no strength, colour or sky, so a changed lamp leaves them as they are.
    """
    scene, brief = s.scene, to_values(s.brief)
    places = [[x.name, x.kind, x.position.tolist(), x.direction.tolist(), x.reach] for x in scene.lights]
    stands = {key: value for key, value in brief.items() if key not in ("lights", "emitters", "skies", "sky", "known")}
    shapes = digest_of(
        "shapes", VERSION, scene.corners, np.nan_to_num(scene.uv1, nan=-1e9), scene.node, scene.material, scene.part,
        scene.bare, scene.double_sided, scene.factor, list(scene.node_names), stands, s.texels_per_metre, places,
    )  # fmt: skip
    light = digest_of(
        "lighting", shapes, brief, list(s.sky), list(s.troubles),
        [[m.name, *m.base_color, *m.emission, m.unlit] for m in s.level.materials],
        [[t.path.name, *((r.material, *r.radiance) for r in t.rows.values())] for t in s.tables],
        [[x.name, x.intensity > 0] for x in scene.lights],
    )  # fmt: skip
    found = [
        *_kept(shapes, store, lambda: [*geometry(s), *arrangement(s)]), *_kept(light, store, lambda: lighting(s))
    ]  # fmt: skip
    return in_order([*contents(s.level, s.baking, s.sky), *found])


def _kept(digest: str, store: Store, find: Callable[[], list[Finding]]) -> list[Finding]:
    kept = store.get(digest)
    if kept is not None:
        try:
            return [Finding.of(values) for values in kept.meta["findings"]]
        except (KeyError, TypeError, ValueError):
            pass  # of another version: found anew
    found = find()
    store.put(digest, {}, {"findings": [f.as_json() for f in found]}, durable=False)
    return found
