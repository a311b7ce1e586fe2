"""Steps that can be done and undone, and the list of them from one session to the next."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtGui import QUndoCommand, QUndoStack

from ropebell.app.history import Edit, read_history, write_history
from ropebell.build.project import PROJECT_FILE, Project


class Step(QUndoCommand):
    """Anything that can be done and undone; steps of one gesture merge.

    Attributes:
        at: when it was done, seconds since 1970.
    """

    def __init__(self, title: str, act: Callable[[], None], back: Callable[[], None], gesture: str = "") -> None:
        super().__init__(title)
        self._act, self._back, self._gesture = act, back, gesture
        self.at = time.time()

    def id(self) -> int:
        return hash(self._gesture) % (2**31 - 1) if self._gesture else -1

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, Step) or other._gesture != self._gesture:
            return False
        self._act = other._act
        return True

    def redo(self) -> None:
        self._act()

    def undo(self) -> None:
        self._back()


class ProjectStep(Step):
    """A change of the project.

    Attributes:
        before, after: it.
    """

    def __init__(self, take: Callable[[Project], None], edit: Edit, gesture: str = "", done: bool = False) -> None:
        super().__init__(edit.title, lambda: take(self.after), lambda: take(self.before), gesture)
        self.at, self.before, self.after = edit.at, edit.before, edit.after
        # How often it is gone through without doing anything: it was done, or undone, in an earlier session.
        self.silent = int(done)

    def redo(self) -> None:
        if self.silent:
            self.silent -= 1
        else:
            super().redo()

    def undo(self) -> None:
        if self.silent:
            self.silent -= 1
        else:
            super().undo()

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, ProjectStep) or not super().mergeWith(other):
            return False
        self.after, self.at = other.after, other.at
        return True

    @property
    def edit(self) -> Edit:
        """The same as it is kept."""
        return Edit(self.text(), self.at, self.before, self.after)


class UndoHistory:
    """The undo list of a project as it is kept.

    Args:
        take: makes a project the one that is edited.
    """

    def __init__(self, undo: QUndoStack, take: Callable[[Project], None]) -> None:
        self._undo, self._take_project = undo, take

    @property
    def edits(self) -> list[Edit]:
        """All steps, oldest first, also those that are undone now."""
        steps = [self._undo.command(index) for index in range(self._undo.count())]
        return [step.edit for step in steps if isinstance(step, ProjectStep)]

    def since(self, moment: float) -> list[Edit]:
        """What was done after a moment to what light depends on, and is in force now, oldest first.

        Args:
            moment: seconds since 1970.
        """
        steps = [self._undo.command(index) for index in range(self._undo.index())]
        edits = [step.edit for step in steps if isinstance(step, ProjectStep) and step.at > moment]
        return [e for e in edits if (e.before.recipe, e.before.brief) != (e.after.recipe, e.after.brief)]

    def remember(self, project: Project) -> None:
        """Take up the list where it was left."""
        edits, undone = read_history(project)
        steps = [ProjectStep(self._take_project, edit, done=True) for edit in edits]
        for step in steps[len(steps) - undone :]:
            step.silent += 1  # it is undone once, too
        for step in steps:
            self._undo.push(step)
        self._undo.setIndex(len(edits) - undone)

    def keep(self, project: Project, read_only: bool) -> None:
        """Keep the list beside the project."""
        if not read_only and (project.folder / PROJECT_FILE).exists():
            write_history(self.edits, self._undo.count() - self._undo.index(), project.folder)
