"""The Hunt step, which says what it will hold."""

from __future__ import annotations

from ropebell.app.later import LaterBench
from ropebell.app.steps.step import Step


class HuntStep(Step):
    """To come."""

    id, title = "hunt", "Hunt"

    def make_bench(self) -> LaterBench:
        return LaterBench(self.title)
