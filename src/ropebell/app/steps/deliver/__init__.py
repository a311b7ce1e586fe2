"""The Deliver step: a build handed over whole, and nothing by accident."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import cast

from PyQt6.QtWidgets import QFileDialog

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.steps.deliver.bench import DeliverBench
from ropebell.app.steps.deliver.delivering import Delivering
from ropebell.app.steps.step import Step


class DeliverStep(Step):
    """What speaks against it, what goes along, and whether others get the same."""

    id, title = "deliver", "Deliver"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.delivering = Delivering(desk)
        for signal in (desk.rope.looking_at, desk.rope.builds_changed, desk.level.rearranged, desk.document.edited):
            signal.connect(lambda *_: self._look())

    def make_bench(self) -> DeliverBench:
        return DeliverBench(self.desk, self.delivering)

    @property
    def deliver_bench(self) -> DeliverBench:
        """The panel."""
        return cast(DeliverBench, self.bench)

    def _look(self) -> None:
        if self.active:
            self.delivering.look()

    def enter(self) -> None:
        super().enter()
        self.delivering.look()

    def commands(self) -> Sequence[Command]:
        return (
            Command("deliver.package", "Write a package of the build", self._package, "", lambda: (
                self.delivering.ready
            )),
            Command("deliver.numbers", "Hold the build against expected numbers", self._numbers, "", lambda: (
                bool(self.desk.rope.shown_number)
            )),
        )  # fmt: skip

    def _package(self) -> None:
        now = self.desk.level.now
        if now is None:
            return
        self.desk.go_to_step(self.id)
        name = str(now.project.folder.parent / f"{now.project.level.stem}-build-{self.delivering.number}.zip")
        path, _ = QFileDialog.getSaveFileName(self.desk.stage, "Write a package", name, "Packages (*.zip);;Folders (*)")
        if path:
            self.delivering.write(Path(path))

    def _numbers(self) -> None:
        self.desk.go_to_step(self.id)
        path, _ = QFileDialog.getOpenFileName(self.desk.stage, "Expected numbers", "", "Expected numbers (*.json)")
        if path:
            self.delivering.hold_against(Path(path))
