"""Two builds compared in all there is: settings, contents, light, causes, faults, times, pages."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from ropebell.build.found import of_light, told_everywhere
from ropebell.build.manifest import Manifest
from ropebell.build.result import Result, open_result
from ropebell.build.setting_words import setting_title
from ropebell.compare.causes import Causes, causes
from ropebell.compare.changes import Changes, changes
from ropebell.compare.ledger import Ledger, beside, ledger
from ropebell.compare.light import LightDifference, light_difference
from ropebell.faults.over_builds import Seen, over_builds


@dataclass(frozen=True, eq=False)
class Comparison:
    """B against A."""

    a: Result
    b: Result
    changes: Changes
    light: LightDifference
    causes: Causes
    faults: Seen

    @cached_property
    def ledgers(self) -> tuple[Ledger, Ledger]:
        """Where the time and memory of A and of B went."""
        return ledger(self.a), ledger(self.b)

    @property
    def worst(self) -> tuple[tuple[float, float, float], float] | None:
        """Where the light differs most beyond noise, and lux by which B has more; None where it differs nowhere."""
        rows = self.light.worst(1, 0.0)
        if not rows:
            return None
        x, y, z = (float(v) for v in self.light.places.position(self.light.base.scene.corners)[rows[0]])
        return (x, y, z), float(self.light.b[rows[0]] - self.light.a[rows[0]])


def compare(a: Path, b: Path) -> Comparison:
    """Compare two finished builds.

    Raises:
        ProjectError, LevelError: one is not done, or damaged. UsageError: they are of different levels.
    """
    first, second = open_result(a), open_result(b)
    light = light_difference(first, second)
    changed = changes(first, second)
    known: Mapping[str, str] = second.manifest.brief.known
    objects = set(second.scene.node_names)
    seen = over_builds(
        of_light(second.manifest), of_light(first.manifest), known, objects, told_everywhere(second.manifest)
    )  # fmt: skip
    found = causes(first, second, light, changed) if light.differ or changed.of_light else Causes()
    return Comparison(first, second, changed, light, found, seen)


def times(a: Manifest, b: Manifest) -> list[tuple[str, float | None, float | None]]:
    """(stage, seconds in A, in B), the whole last."""
    stages = [s for s in (*a.seconds, *(s for s in b.seconds if s not in a.seconds)) if s != "total"]
    return [(s, a.seconds.get(s), b.seconds.get(s)) for s in [*stages, "total"]]


def spent(c: Comparison, what: str) -> list[tuple[str, float, float]]:
    """(name, seconds in A, in B) by `object` or `light`, most of both first."""
    return beside(*c.ledgers, what)


def as_json(c: Comparison) -> dict[str, Any]:
    """The contract's JSON."""
    worst = c.worst
    faults = {
        state: [f.as_json() for f, of in c.faults.found if of == state or (state == "still" and of == "known")]
        for state in ("new", "still")
    }
    return {
        "settings": [{"key": s.key, "a": s.a, "b": s.b} for s in c.changes.settings],
        "contents": [{"node": x.node, "what": x.what} for x in c.changes.contents],
        "light": {
            "mean": c.light.mean,
            "largest": {"place": list(worst[0]), "lux": worst[1]} if worst is not None else None,
            "beyond_noise": c.light.beyond_noise,
            "matched": c.light.matched,
        },
        "causes": [{"cause": x.name, "share": x.share, "members": list(x.members)} for x in c.causes.causes],
        "told": c.causes.told,
        "faults": {**faults, "gone": [f.as_json() for f in (*c.faults.gone, *c.faults.taken_away)]},
        "times": [{"stage": stage, "a": x, "b": y} for stage, x, y in times(c.a.manifest, c.b.manifest)],
        "spent": {
            what: [{"name": name, "a": x, "b": y} for name, x, y in spent(c, what)] for what in ("object", "light")
        },
        "conditions": [{"key": s.key, "a": s.a, "b": s.b} for s in c.changes.conditions],
        "pages": {"a": _pages(c.a.manifest), "b": _pages(c.b.manifest)},
        "differ": c.light.differ,
    }


def _pages(m: Manifest) -> dict[str, Any]:
    return {"pages": len(m.pages), "texels": m.texels, "bytes": sum(p.bytes for p in m.pages),
            "memory_mb": m.peak_memory_mb}  # fmt: skip


def in_words(c: Comparison) -> str:
    """What the comparison comes to, in a sentence or two."""
    if not c.light.differ:
        words = "The light is the same within noise."
        names = ", ".join(map(setting_title, c.changes.of_light[:3])) + (" …" if len(c.changes.of_light) > 3 else "")
        return words + (f" Changed all the same: {names}." if names else "")
    more = "more" if c.light.mean >= 0 else "less"
    words = (
        f"B has {abs(100 * c.light.mean):.2g} % {more} light; {100 * c.light.beyond_noise:.2g} % of the area differs"
    )
    words += " beyond noise."
    shares = c.causes.causes
    if len(shares) == 1:
        words += f" It comes of {setting_title(shares[0].name)}."
    elif shares and all(-0.005 <= x.share <= 1.005 for x in shares):
        words += f" {100 * shares[0].share:.0f} % of it comes of {setting_title(shares[0].name)}."
    elif shares:
        words += f" Changes work against each other, {setting_title(shares[0].name)} most."
    return words
