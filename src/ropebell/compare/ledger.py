"""Where the time and memory of a build went: by stage, object and light, so that the sums are the manifest's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.build.events import Stage
from ropebell.build.journal import read_events
from ropebell.build.result import Result
from ropebell.build.stage import BYTES_OF_RAY, BYTES_OF_TRIANGLE, bytes_of_texel
from ropebell.build.stored import StoredBuild
from ropebell.compare.places import places_of
from ropebell.level.model import F64

# Stages whose work goes with the texels of an object, and those that go with the rays shot from them.
BY_TEXELS = ("charts", "footing", "surfaces", "solve", "finish", "write", "inspect")
BY_RAYS = ("transport",)
LAID_OUT = "charts"
WHOLE, PROGRAM = "", "the program"


@dataclass(frozen=True)
class Entry:
    """One line.

    Attributes:
        stage: of the build. object: path, or empty. light: name, or empty; neither: the stage as a whole.
        seconds, rays, texels: what it took. memory_mb: what of the peak it held.
    """

    stage: str
    object: str
    light: str
    seconds: float
    rays: int
    texels: int
    memory_mb: float = 0.0


@dataclass(frozen=True, eq=False)
class Ledger:
    """All lines of a build. objects: seconds by path, largest first. memory_mb: peak of the build."""

    entries: tuple[Entry, ...]
    total: float
    memory_mb: int

    def by(self, what: str, of_all: bool = True, quantity: str = "seconds") -> list[tuple[str, float]]:
        """A quantity by `stage`, `object` or `light`, most first.

        Args:
            of_all: with what belongs to none, named by its stage. quantity: `seconds`, `memory_mb`, `rays` or `texels`.
        """
        sums = dict[str, float]()
        for e in self.entries:
            if not of_all and not getattr(e, what):
                continue
            if quantity == "texels" and e.stage != LAID_OUT:
                continue  # every stage works on the same ones
            name = getattr(e, what) or f"({e.stage})"
            sums[name] = sums.get(name, 0.0) + getattr(e, quantity)
        return sorted(((name, value) for name, value in sums.items() if value > 0), key=lambda pair: -pair[1])


def beside(a: Ledger, b: Ledger, what: str, quantity: str = "seconds") -> list[tuple[str, float, float]]:
    """(name, of A, of B) by `stage`, `object` or `light`, most of both first; nothing where only the other has it."""
    of_a, of_b = (dict(one.by(what, False, quantity)) for one in (a, b))
    rows = [(name, of_a.get(name, 0.0), of_b.get(name, 0.0)) for name in {**of_a, **of_b}]
    return sorted(rows, key=lambda row: -(row[1] + row[2]))


def ledger(result: Result) -> Ledger:
    """The ledger of a finished build, shared out by what its stages work on."""
    m = result.manifest
    names, texels, rays = _work(result)
    entries: list[Entry] = []
    for stage, seconds in m.seconds.items():
        if stage == "total":
            continue
        if stage == "direct":
            entries += _lights(result, seconds)
        elif stage in (*BY_TEXELS, *BY_RAYS) and texels.sum() > 0:
            share = rays if stage in BY_RAYS and rays.sum() > 0 else texels
            for name, part, count, shot in zip(names, share / share.sum(), texels, rays):
                if part > 0:
                    shot = int(shot) if stage in BY_RAYS else 0
                    entries.append(Entry(stage, name, WHOLE, seconds * float(part), shot, int(count)))
        else:
            entries.append(Entry(stage, WHOLE, WHOLE, seconds, 0, 0))
    known = sum(e.seconds for e in entries)
    rest = m.total_seconds - known
    if rest > 0:
        # Between stages: reading the journal, placing, planning.
        entries.append(Entry("between stages", WHOLE, WHOLE, rest, 0, 0))
    entries += _memory(result, names, texels)
    return Ledger(tuple(entries), m.total_seconds, m.peak_memory_mb)


def _work(result: Result) -> tuple[list[str], F64, F64]:
    """Objects, and of each its texels and the gather rays that were shot from them."""
    places = places_of(result)
    node = result.scene.node[places.triangle]
    names = list(result.scene.node_names)
    texels = np.bincount(node, minlength=len(names)).astype(np.float64)
    stored = StoredBuild.of(result.manifest)
    if stored is None:
        return names, texels, texels * result.manifest.recipe.gather_rays
    grid, shot = stored.layout.texels.grid, stored.hits.counted
    inside = places.page < len(grid)
    at = grid[places.page[inside], places.row[inside], places.column[inside]]
    rays = np.bincount(node[inside][at >= 0], shot[at[at >= 0]].astype(np.float64), len(names))
    return names, texels, rays.astype(np.float64)


def _memory(result: Result, names: list[str], texels: F64) -> list[Entry]:
    """What each object and light held at the peak, by what is kept of a texel, a ray, a triangle and a light's field;
    what is left of the peak is the program itself, its libraries, and what stages work with."""
    m, scene = result.manifest, result.scene
    of_texel = bytes_of_texel(m.recipe)
    triangles = np.bincount(scene.node, minlength=len(names)).astype(np.float64)
    held = {
        ("scene", name, WHOLE): float(count) * BYTES_OF_TRIANGLE for name, count in zip(names, triangles)
    } | {
        (stage, name, WHOLE): float(count) * each
        for stage, each in (("footing", of_texel), ("transport", BYTES_OF_RAY * m.recipe.gather_rays))
        for name, count in zip(names, texels)
    }  # fmt: skip
    stored = StoredBuild.of(m)
    if stored is not None:
        fields = {**stored.sources.lights, **stored.sources.emitters}
        held |= {
            ("direct", WHOLE, name): float(sum(part.nbytes for part in (field.texel, field.value, field.gathered)))
            for name, field in fields.items()
        }  # fmt: skip
    peak = float(m.peak_memory_mb << 20)
    # Under a limit, stored rays are given back to their file.
    scale = min(peak / max(sum(held.values()), 1.0), 1.0)
    found = [Entry(*of, 0.0, 0, 0, scale * size / (1 << 20)) for of, size in held.items() if size > 0]
    rest = peak / (1 << 20) - sum(e.memory_mb for e in found)
    return [*found, Entry(PROGRAM, WHOLE, WHOLE, 0.0, 0, 0, max(rest, 0.0))]


def _lights(result: Result, seconds: float) -> list[Entry]:
    """Of the direct stage, by the journal's lines for each light."""
    events = [e for e in read_events(result.folder) if isinstance(e, Stage) and e.stage == "direct" and e.item]
    each = dict[str, float]()
    for e in events:
        if e.state != "begun":
            each[e.item] = each.get(e.item, 0.0) + e.seconds
    known = sum(each.values())
    if known <= 0:
        return [Entry("direct", WHOLE, WHOLE, seconds, 0, 0)]
    found = [Entry("direct", WHOLE, name, seconds * part / known, 0, 0) for name, part in each.items()]
    return found


def as_json(found: Ledger) -> dict[str, object]:
    """Plain values."""
    return {
        "total": found.total,
        "memory_mb": found.memory_mb,
        "entries": [vars(e) for e in found.entries],
    }
