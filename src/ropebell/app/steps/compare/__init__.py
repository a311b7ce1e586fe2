"""The Compare step, which says what it will hold."""

from __future__ import annotations

from ropebell.app.later import LaterBench
from ropebell.app.steps.step import Step


class CompareStep(Step):
    """To come."""

    id, title = "compare", "Compare"

    def make_bench(self) -> LaterBench:
        return LaterBench(self.title)
