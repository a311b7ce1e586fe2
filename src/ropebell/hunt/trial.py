"""What one run of a trial is asked, and what it says."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from ropebell.build.conditions import Condition
from ropebell.hunt.steadiness import ABSENT, PRESENT, Verdict
from ropebell.level.model import Level

# A time or an amount within this factor of its limit may fall on either side of it by chance.
NEAR = 1.25


@dataclass(frozen=True)
class Run:
    """One run.

    Attributes:
        told: what it said, one line. near: it was measured so near the limit that chance may have decided.
        names: of objects that it named, under suspicion for that. value: what was measured, None where nothing was.
    """

    verdict: Verdict
    seconds: float
    told: str = ""
    near: bool = False
    names: tuple[str, ...] = ()
    value: float | None = None


class Runner(Protocol):
    """Runs a level and says whether the condition shows.

    Attributes:
        steady: the same level always gives the same verdict. condition: what is looked for.
    """

    steady: bool
    condition: Condition

    def run(self, level: Level, limit: float) -> Run:
        """Run a level.

        Args:
            limit: seconds after which nobody waits any longer.

        Raises:
            UsageError: it can never be run.
        """
        ...


def measured(value: float, limit: float) -> tuple[Verdict, bool]:
    """Verdict of an amount over its limit, and whether it is near it."""
    near = limit / NEAR <= value <= limit * NEAR
    return (PRESENT if value > limit else ABSENT), near
