"""The Deliver step, which says what it will hold."""

from __future__ import annotations

from ropebell.app.later import LaterBench
from ropebell.app.steps.step import Step


class DeliverStep(Step):
    """To come."""

    id, title = "deliver", "Deliver"

    def make_bench(self) -> LaterBench:
        return LaterBench(self.title)
