"""Advice that was taken: what it was said to save, what it saved, and what the next prediction learns from that."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.manifest import Manifest
from ropebell.build.recipe import Recipe
from ropebell.build.remedied import Changed, changed_from, holds
from ropebell.compare.advice import Advice
from ropebell.files import read_kept, write_json
from ropebell.level.brief import Brief

FILE = "advice.json"
MOST = 200
# What is learned is kept within these, however odd a single build was.
LEAST, LARGEST = 0.2, 3.0


@dataclass(frozen=True)
class Taken:
    """One that was taken.

    Attributes:
        kind, title: of the advice. predicted: seconds. loss: predicted share of what players see that changes.
        build: the last one before. actual: seconds really saved, None while no build tells.
        changed: what it set.
    """

    kind: str
    title: str
    predicted: float
    loss: float
    build: int
    actual: float | None = None
    changed: Changed = ()


def read_taken(folder: Path) -> list[Taken]:
    """What was taken in a project; nothing where nothing is kept, or it is damaged."""
    return read_kept(folder / FILE, "taken", _of)


def _of(v: dict[str, Any]) -> Taken:
    actual = None if v["actual"] is None else float(v["actual"])
    predicted, loss, changed = float(v["predicted"]), float(v["loss"]), changed_from(v.get("changed", ()))
    return Taken(str(v["kind"]), str(v["title"]), predicted, loss, int(v["build"]), actual, changed)


def write_taken(folder: Path, taken: Sequence[Taken]) -> None:
    """Keep it, whole or not at all.

    Raises:
        OSError: the folder cannot be written.
    """
    write_json(folder / FILE, {"taken": [asdict(t) for t in taken[-MOST:]]})


def taking(advice: Advice, build: int, changed: Changed = ()) -> Taken:
    """An advice that is taken after a build."""
    return Taken(advice.kind, advice.title, advice.saving, advice.loss, build, changed=changed)


def not_undone(taken: Sequence[Taken], brief: Brief, recipe: Recipe) -> list[Taken]:
    """The same without advice that was taken back before any build judged it."""
    return [t for t in taken if t.actual is not None or holds(t.changed, brief, recipe)]


def judged(taken: Sequence[Taken], before: Manifest | None, build: int, now: Manifest) -> list[Taken]:
    """The same, with what was taken between two builds from nothing judged by their times, shared by prediction.

    Args:
        before: of the build before the advice. build: number of the one after it.
    """
    open_ = [t for t in taken if t.actual is None and t.build < build and holds(t.changed, now.brief, now.recipe)]
    if not open_ or before is None or before.reused or now.reused or not _alike(before, now):
        return list(taken)
    saved, predicted = before.total_seconds - now.total_seconds, sum(t.predicted for t in open_)
    share = saved / max(predicted, 1e-9)
    return [replace(t, actual=t.predicted * share) if t in open_ else t for t in taken]


def _alike(a: Manifest, b: Manifest) -> bool:
    """Whether two times can be held against each other."""
    machine = ("processor", "cores", "system")
    same = all(a.machine.get(k) == b.machine.get(k) for k in machine)
    return same and a.recipe.draft == b.recipe.draft and a.recipe.limits == b.recipe.limits and a.scope == b.scope


def learned(taken: Sequence[Taken]) -> dict[str, float]:
    """By kind of advice, what it really saved over what was predicted: the median of what was seen."""
    by: dict[str, list[float]] = {}
    for t in taken:
        if t.actual is not None and t.predicted > 0:
            by.setdefault(t.kind, []).append(t.actual / t.predicted)
    return {kind: float(np.clip(np.median(ratios), LEAST, LARGEST)) for kind, ratios in by.items()}
