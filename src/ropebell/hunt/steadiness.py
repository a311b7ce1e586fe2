"""When runs of one trial are enough to believe what they say.

A fault may show in some runs only. What a run says is counted, and a verdict stands once it is 99 % sure. Nine faults
in ten are taken to be steady before anything is known; how often an unsteady one shows is unknown at first (even over
0 … 1), and learned from the runs in which it is known to be there (Beta-Bernoulli; A. Gelman et al., "Bayesian Data
Analysis", 3rd ed., 2.1 – 2.4).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Literal

Verdict = Literal["present", "absent", "cannot tell"]
PRESENT: Verdict = "present"
ABSENT: Verdict = "absent"
CANNOT_TELL: Verdict = "cannot tell"

STEADY = 0.9
WRONG = 0.01
WRONG_PROOF = 0.001
# Where a fault may be unsteady, nothing is called gone in a proof after fewer runs.
LEAST_PROOF = 4
# Of one trial; a fault that shows more seldom than one run in four is not followed.
MOST_RUNS = 20
# What was measured near its limit says now this, now that: the one has to lead by so many runs.
LEAD, MOST_NEAR = 2, 9


@dataclass
class Runs:
    """What the runs of one trial said."""

    present: int = 0
    absent: int = 0
    unknown: int = 0
    # Of those, how many were measured so near the limit that chance may have decided.
    near: int = 0

    @property
    def total(self) -> int:
        """How many."""
        return self.present + self.absent + self.unknown

    def add(self, verdict: Verdict, near: bool = False) -> None:
        """One more."""
        self.present += verdict == PRESENT
        self.absent += verdict == ABSENT
        self.unknown += verdict == CANNOT_TELL
        self.near += near


@dataclass
class Steadiness:
    """How sure a fault shows where it is.

    Attributes:
        steady: the same run always says the same, so that one is enough.
        shown, missed: runs of what is known to have the fault, in which it did and did not show.
    """

    steady: bool
    shown: int = 0
    missed: int = 0
    _counted: dict[object, tuple[int, int]] = field(default_factory=dict)

    def learn(self, key: object, runs: Runs) -> None:
        """Take in the runs of a trial that has the fault: it showed at least once."""
        if runs.present:
            shown, missed = self._counted.get(key, (0, 0))
            self.shown += runs.present - shown
            self.missed += runs.absent - missed
            self._counted[key] = runs.present, runs.absent

    @property
    def share(self) -> float:
        """How often it shows where it is, 0 … 1."""
        return 1.0 if self.steady or not self.missed else (self.shown + 1) / (self.shown + self.missed + 2)

    def miss(self, runs: int) -> float:
        """Probability that so many runs all miss a fault that is there."""
        if self.steady:
            return 0.0 if runs else 1.0
        a, b = self.shown + 1.0, self.missed + 1.0
        unsteady = math.exp(_log_beta(a, b + runs) - _log_beta(a, b))
        if self.missed:
            return unsteady
        doubt = (1 - STEADY) / a
        return unsteady * doubt / (STEADY + doubt) if runs else 1.0

    def verdict(self, runs: Runs, wrong: float = WRONG) -> Verdict | None:
        """What the runs of a trial say, None while there have to be more.

        Args:
            wrong: how often it may be wrong.
        """
        if runs.near:
            lead = runs.present - runs.absent
            if abs(lead) >= LEAD or runs.near < runs.total:
                return PRESENT if lead > 0 else ABSENT if lead < 0 else None
            return CANNOT_TELL if runs.total >= MOST_NEAR else None
        if runs.present:
            return PRESENT
        enough = self.steady or wrong > WRONG_PROOF or runs.absent >= LEAST_PROOF
        if runs.absent and enough and self.miss(runs.absent) < wrong:
            return ABSENT
        if runs.unknown and not runs.absent and (self.steady or not self.missed or runs.unknown > 1):
            return CANNOT_TELL
        return CANNOT_TELL if runs.total >= MOST_RUNS else None


def _log_beta(a: float, b: float) -> float:
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)
