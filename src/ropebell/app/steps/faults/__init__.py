"""The Faults step, which says what it will hold."""

from __future__ import annotations

from ropebell.app.later import LaterBench
from ropebell.app.steps.step import Step


class FaultsStep(Step):
    """To come."""

    id, title = "faults", "Faults"

    def make_bench(self) -> LaterBench:
        return LaterBench(self.title)
