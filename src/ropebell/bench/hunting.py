"""How well hunts end: cases made by code whose truth is known, over levels of boxes of 10 to 2,000 objects.

The judge of each case is an outside one that looks at which objects are in the level, so that the search alone is
measured; the figures of hunts with real builds stand in docs/performance.md.
"""

from __future__ import annotations

import datetime
import math
import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from ropebell.build.conditions import Condition
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.hunt.hunt import Hunt
from ropebell.hunt.options import Options
from ropebell.hunt.record import Record
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT
from ropebell.hunt.trial import Run
from ropebell.level.model import Level

SIZES = (10, 40, 150, 600, 2000)
KINDS = ("single", "pair", "triple", "several", "unsteady", "decoys", "carriers", "neighbours")
STATUS = Condition("status:1", "status", limit=1.0)


@dataclass(frozen=True)
class Case:
    """A hunt whose truth is known.

    Attributes:
        culprits: sets of objects by name, each of which causes the fault when all of it is there. shows: in so many
            runs. needs: without these nobody can tell. hides: with one of these and not all culprits, nobody can tell.
    """

    kind: str
    objects: int
    level: Level
    culprits: tuple[frozenset[str], ...]
    shows: float = 1.0
    needs: frozenset[str] = frozenset()
    hides: frozenset[str] = frozenset()


@dataclass
class Told:
    """What came of a case. minimal: exactly the truth. wrong: said to be proved and not the truth."""

    case: Case
    trials: int
    minimal: bool
    proved: bool

    @property
    def wrong(self) -> bool:
        """A proof of what is not so."""
        return self.proved and not self.minimal


@dataclass
class Known:
    """A judge that knows the truth."""

    case: Case
    draw: random.Random
    condition: Condition = field(default=STATUS)
    steady: bool = False

    def run(self, level: Level, limit: float) -> Run:
        """By which objects are there."""
        names = {n.path for n in level.nodes if n.mesh >= 0}
        there = any(culprit <= names for culprit in self.case.culprits)
        if not self.case.needs <= names or (self.case.hides & names and not there and self.draw.random() < 0.5):
            return Run(CANNOT_TELL, 0.0)
        return Run(PRESENT if there and self.draw.random() < self.case.shows else ABSENT, 0.0)


def made_level(count: int, draw: random.Random) -> Level:
    """Boxes of several sizes, materials and branches, some of which touch."""
    b = LevelBuilder()
    for name in ("stone", "oak", "iron"):
        b.material(name, (0.5, 0.5, 0.5))
    for i in range(count):
        x, y, z = (draw.uniform(0, 4 * count ** (1 / 3)) for _ in range(3))
        size = (draw.uniform(0.1, 2), draw.uniform(0.1, 2), draw.uniform(0.1, 2))
        branch, material = draw.choice(("structure", "detail", "props")), draw.choice(("stone", "oak", "iron"))
        b.add(branch, f"thing {i + 1}", box((0, 0, 0), size), material, at(x, y, z))
    return b.level(Path())


def cases(each: int, sizes: Sequence[int] = SIZES, seed: int = 1) -> Iterator[Case]:
    """So many of each kind and size."""
    for kind in KINDS:
        for count in sizes:
            for number in range(each):
                draw = random.Random(f"{seed} {kind} {count} {number}")
                level = made_level(count, draw)
                names = [n.path for n in level.nodes if n.mesh >= 0]
                some = draw.sample(names, 8)
                one = frozenset(some[:1])
                match kind:
                    case "pair":
                        yield Case(kind, count, level, (frozenset(some[:2]),))
                    case "triple":
                        yield Case(kind, count, level, (frozenset(some[:3]),))
                    case "several":
                        yield Case(kind, count, level, (one, frozenset(some[1:3]), frozenset(some[3:4])))
                    case "unsteady":
                        yield Case(kind, count, level, (one,), draw.uniform(0.3, 0.9))
                    case "decoys":
                        yield Case(kind, count, level, (one,), hides=frozenset(some[1:4]))
                    case "carriers":
                        yield Case(kind, count, level, (one,), needs=frozenset(some[1:2]))
                    case "neighbours":
                        yield Case(kind, count, level, (frozenset(_nearest(level, names, some[0])),))
                    case _:
                        yield Case(kind, count, level, (one,))


def _nearest(level: Level, names: Sequence[str], name: str) -> tuple[str, str]:
    place = {n.path: n.world[:3, 3] for n in level.nodes}
    others = [other for other in names if other != name]
    return name, min(others, key=lambda other: float(((place[other] - place[name]) ** 2).sum()))


def hunted(case: Case, seed: int = 1) -> Told:
    """Hunt a case."""
    draw = random.Random(f"{seed} {case.kind} {case.objects} {sorted(case.culprits[0])}")
    found = Hunt(case.level, Known(case, draw), Record(None, {}), Options(most_trials=5000)).run()
    told = {frozenset(node for node, _ in group) for group in found.culprits}
    return Told(case, found.trials, found.shown and told == set(case.culprits), found.proved)


def run(each: int = 1, sizes: Sequence[int] = SIZES) -> list[Told]:
    """All cases."""
    return [hunted(case) for case in cases(each, sizes)]


def report(told: Sequence[Told], day: datetime.date) -> str:
    """A page on how hunts ended."""
    lines = [
        "# Hunts whose truth is known",
        "",
        f"Measured {day.isoformat()} by `ropebell bench --hunts FILE`: {len(told)} cases over levels of "
        f"{SIZES[0]} to {SIZES[-1]:,} objects, fixes tried and counted. Minimal: exactly the objects that cause it, in "
        "the right groups. Wrong: said to be proved and not the truth.",
        "",
        "| kind | cases | minimal | wrong proofs | trials, median | most | single culprits: 4·log₂ n + 20 kept |",
        "| --- | --- | --- | --- | --- | --- | --- |",
    ]
    for kind in KINDS:
        some = [t for t in told if t.case.kind == kind]
        trials = sorted(t.trials for t in some)
        within = sum(t.trials <= 4 * math.log2(t.case.objects) + 20 for t in some)
        kept = f"{within} of {len(some)}" if kind in ("single", "decoys", "carriers") else ""
        lines.append(
            f"| {kind} | {len(some)} | {sum(t.minimal for t in some)} | {sum(t.wrong for t in some)} | "
            f"{trials[len(trials) // 2]} | {trials[-1]} | {kept} |"
        )
    right = sum(t.minimal for t in told)
    lines += ["", f"In all {right} of {len(told)} minimal ({100 * right / len(told):.1f} %), "
              f"{sum(t.wrong for t in told)} wrong proofs.", ""]  # fmt: skip
    return "\n".join(lines)
