"""The Build step: start, watch and stop builds, and what became of them."""

from __future__ import annotations

from collections.abc import Sequence

from ropebell.app.commands import Command
from ropebell.app.steps.build.bench import BuildBench
from ropebell.app.steps.build.noise import NOISE
from ropebell.app.steps.step import Step
from ropebell.app.views import View


class BuildStep(Step):
    """One button, and the light as it comes."""

    id, title = "build", "Build"

    def make_bench(self) -> BuildBench:
        return BuildBench(self.desk)

    def commands(self) -> Sequence[Command]:
        return (
            Command("build.start", "Build", self._start, "Ctrl+B", self._can_build),
            Command(
                "build.stop", "Stop the build", self.desk.builds.stop, "Ctrl+.", lambda: self.desk.builds.running
            ),
        )  # fmt: skip

    def views(self) -> Sequence[View]:
        return (NOISE,)

    def _can_build(self) -> bool:
        """Whether a build would do something: none is under way, or what is set changed since it began."""
        running = self.desk.builds.running
        return self.desk.level.now is not None and (not running or bool(self.desk.rope.behind))

    def _start(self) -> None:
        """Build, and turn to this step to watch."""
        self.desk.go_to_step(self.id)
        if self.desk.builds.running:
            self.desk.builds.again()
        else:
            self.desk.builds.start()
