"""What the Deliver step knows: what speaks against handing over the build that is looked at, and what was packed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.desk import Desk
from ropebell.build.recipe import with_value
from ropebell.build.result import open_result
from ropebell.compare.expected import Check, check_expected
from ropebell.deliver.objections import left_of, limit_of, objections, with_limit
from ropebell.deliver.package import Packed, package
from ropebell.errors import RopeBellError
from ropebell.level.finding import Finding

Answer = TypeVar("Answer")


class Delivering(QObject):
    """One build at a time: the one that is looked at.

    Attributes:
        number: of that build, 0 for none. against: what speaks against it, None while that is being found out.
        accepted: kinds that are handed over all the same. packed: what was written last of this build.
        check: how it stands to numbers of another machine. trouble: why something could not be done.
        busy: what is being done, in words.

    Signals:
        changed: any of that is new.
    """

    changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self.number = 0
        self.against: list[Finding] | None = None
        self.accepted: frozenset[str] = frozenset()
        self.packed: Packed | None = None
        self.check: Check | None = None
        self.trouble, self.busy = "", ""
        desk.level.opened.connect(self._opened)

    def _opened(self) -> None:
        """Nothing is known of the builds of another project, and answers about the one before do not come any more."""
        self.number, self.against, self.accepted = 0, None, frozenset()
        self.packed, self.check, self.trouble, self.busy = None, None, "", ""
        self.changed.emit()

    @property
    def left(self) -> Sequence[Finding]:
        """What still stands in the way."""
        return left_of(self.against or (), self.accepted)

    @property
    def ready(self) -> bool:
        """Whether the build can be handed over as it is."""
        return bool(self.number) and self.against is not None and not self.left and not self.busy

    @property
    def most_mb(self) -> float:
        """What the project's pages may take, 0 for no limit."""
        project = self._desk.document.project
        return limit_of(project) if project is not None else 0.0

    def look(self) -> None:
        """Find out anew what speaks against the build that is looked at."""
        shown = self._desk.rope.shown
        number = self._desk.rope.shown_number if shown is not None else 0
        if number != self.number:
            self.accepted, self.packed, self.check = frozenset(), None, None
        self.number, self.against, self.trouble = number, None, ""
        self.changed.emit()
        if shown is None or not number:
            return
        folder, most = shown.folder, self.most_mb
        try:
            # It is asked of what is decided, which the project's file must know.
            self._desk.document.save_for_build()
        except RopeBellError as error:
            self._failed(error)
            return

        def receive(found: list[Finding]) -> None:
            self.against = found

        self._ask("objections", lambda: objections(folder, most), receive)

    def _ask(self, kind: str, work: Callable[[], Answer], receive: Callable[[Answer], None]) -> None:
        """Do something in the background; what goes wrong is told on the bench."""

        def tried() -> Answer | RopeBellError:
            try:
                return work()
            except RopeBellError as error:
                return error

        def answered(answer: Answer | RopeBellError | None) -> None:
            if isinstance(answer, RopeBellError):
                self._failed(answer)
            elif answer is not None:
                self.busy = ""
                receive(answer)
                self.changed.emit()

        self._desk.jobs.start(kind, tried, answered)

    def _failed(self, error: RopeBellError) -> None:
        self.busy, self.trouble = "", str(error)
        self.changed.emit()

    def build_again(self) -> None:
        """Set the recipe to its final values, undoably, and go where it is built."""
        project = self._desk.document.project
        if project is not None and project.recipe.draft > 1:
            self._desk.document.set_recipe("Build final", with_value(project.recipe, "draft", 1))
        self._desk.go_to_step("build")

    def accept(self, kind: str, on: bool) -> None:
        """Hand over although this speaks against it, or not."""
        self.accepted = self.accepted | {kind} if on else self.accepted - {kind}
        self.changed.emit()

    def limit(self, most_mb: float) -> None:
        """What pages may take, for this project; undoable."""
        if most_mb != self.most_mb:
            self._desk.document.edit("Limit of the pages' size", lambda p: with_limit(p, most_mb))
            self.look()

    def write(self, out: Path) -> None:
        """Write a package of the build."""
        shown = self._desk.rope.shown
        if shown is None or not self.ready:
            return
        folder, accepted = shown.folder, list(self.against or ())
        self.busy, self.trouble, self.packed = "Packing, and holding it against the build …", "", None
        self.changed.emit()

        def receive(packed: Packed) -> None:
            self.packed = packed
            self._desk.telling.news(f"Build {self.number} is packed: {packed.path}")

        self._ask("package", lambda: package(folder, out, accepted), receive)

    def hold_against(self, numbers: Path) -> None:
        """Hold the build against numbers that were kept of one elsewhere."""
        shown = self._desk.rope.shown
        if shown is None:
            return
        folder = shown.folder
        self.busy, self.trouble, self.check = "Comparing numbers …", "", None
        self.changed.emit()

        def receive(check: Check) -> None:
            self.check = check

        # What is shown may stand on the level of now.
        self._ask("numbers", lambda: check_expected(numbers, open_result(folder)), receive)


def grouped(found: Sequence[Finding]) -> list[list[Finding]]:
    """Findings by kind, in the order in which kinds come first."""
    by_kind: dict[str, list[Finding]] = {}
    for one in found:
        by_kind.setdefault(one.kind, []).append(one)
    return list(by_kind.values())
