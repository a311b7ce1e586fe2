"""Under what a build was timed: one answer for the rope, the plot over builds, and the comparison of two."""

from __future__ import annotations

from typing import Any

from ropebell.build.manifest import Manifest
from ropebell.digest import digest_of

# With more other processes than this that want a core, a build was not alone.
ALONE = 0.5
# Shown as it was measured, and judged by whether the build was alone.
LOAD = "machine.load"


def _conditions(m: Manifest) -> dict[str, Any]:
    found: dict[str, Any] = {f"machine.{key}": value for key, value in m.machine.items()}
    found |= {f"program.{key}": value for key, value in m.program.items()}
    if "workers" not in m.machine:
        found["limits.workers"] = m.recipe.limits.workers
    return {**found, "reused": sorted(m.reused)}


def _judged(key: str, value: Any) -> Any:
    return value > ALONE if key == LOAD and isinstance(value, int | float) else value


def unlike_conditions(a: Manifest, b: Manifest) -> list[tuple[str, Any, Any]]:
    """The conditions that differ between two builds, as (key, of A, of B); times are compared only where none does."""
    mine, theirs = _conditions(a), _conditions(b)
    keys = [*mine, *(key for key in theirs if key not in mine)]
    return [
        (key, mine.get(key), theirs.get(key))
        for key in keys
        if _judged(key, mine.get(key)) != _judged(key, theirs.get(key))
    ]


def digest_of_conditions(m: Manifest) -> str:
    """A name of the conditions of a build, the same for two builds if and only if `unlike_conditions` finds none."""
    return digest_of({key: _judged(key, value) for key, value in _conditions(m).items() if value is not None})


def conditions_in_words(m: Manifest) -> str:
    """The conditions that matter most, such as "2 workers, alone"."""
    parts = []
    if "workers" in m.machine:
        parts.append(f"{m.machine['workers']} worker{'s' if m.machine['workers'] != 1 else ''}")
    load = m.machine.get("load")
    if isinstance(load, int | float):
        parts.append("other work beside it" if _judged(LOAD, load) else "alone")
    if m.machine.get("watched"):
        parts.append("watched")
    if m.reused:
        parts.append("re-used stages")
    return ", ".join(parts)
