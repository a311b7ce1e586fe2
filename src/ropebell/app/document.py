"""The project as it is edited: settings, undo, saving. One window edits; nothing in the file is overwritten unseen."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtGui import QUndoStack

from ropebell.app.history import Edit
from ropebell.app.telling import Telling
from ropebell.app.undoing import ProjectStep, Step, UndoHistory
from ropebell.build.project import Project
from ropebell.build.project_file import Collision, ProjectFile, WindowClaim
from ropebell.build.recipe import Recipe
from ropebell.errors import ProjectError
from ropebell.level.brief import Brief, BriefError, LightChange
from ropebell.level.light_edits import with_light

SAVE_AFTER_MS = 400
GUARDED = "The level is guarded. Free it first to change its recipe."
GUARDED_WHOLE = "The level is guarded. Free it first to go to a variant."


class Document(QObject):
    """The project of the open level.

    Attributes:
        refuses: asked with the brief of now and the one that is wanted; a sentence refuses the edit.

    Signals:
        changed: the project before and after, for whoever has to follow before `edited` is told.
        edited: the project's settings changed. saved: its file was written.
    """

    saved = pyqtSignal()
    changed = pyqtSignal(object, object)
    edited = pyqtSignal()

    def __init__(self, telling: Telling, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._telling = telling
        self.undo = QUndoStack(self)
        self.history = UndoHistory(self.undo, self._take)
        self.project: Project | None = None
        self.refuses: Callable[[Brief, Brief], str] = lambda before, after: ""
        self._file: ProjectFile | None = None
        self._claim: WindowClaim | None = None
        self.read_only = False
        self._collision: Collision | None = None
        self._gestures = 0
        self._save_timer = QTimer(self)
        self._save_timer.setSingleShot(True)
        self._save_timer.setInterval(SAVE_AFTER_MS)
        self._save_timer.timeout.connect(self._save)

    # -- one project after the other

    def take(self, project: Project) -> None:
        """Edit this project from now on; what was to be saved of the one before is saved."""
        self.close()
        self.undo.clear()
        self.project, self._file, self._collision = project, ProjectFile(project), None
        self._claim = WindowClaim(project.folder)
        self.read_only = not self._claim.claim()
        self.history.remember(self.project)
        if self.read_only:
            self._say_read_only()

    def _say_read_only(self) -> None:
        self._telling.trouble(
            "Another window edits this project, so this one only looks. Edits made there are read here.",
            "claim", ("Take over", self.take_over),
        )  # fmt: skip

    def take_over(self) -> None:
        """Edit here, and no more in the other window."""
        if self._claim is not None and self._claim.claim(take_over=True):
            self.read_only = False
            self._telling.over("claim")
            self.look_at_file()

    # -- editing

    def edit(self, title: str, change: Callable[[Project], Project], gesture: str = "") -> None:
        """Change the project's settings, undoably.

        Args:
            title: for the undo list.
            gesture: edits in a row with the same gesture become one entry.
        """
        before = self.project
        if before is None:
            return
        after = change(before)
        if after == before:
            return
        refused = self._refused()
        if refused:
            self._telling.trouble(refused, "edit")
            self.edited.emit()  # whoever showed the change shows what is true again
            return
        self._telling.over("edit")
        self.undo.push(ProjectStep(self._take, Edit(title, time.time(), before, after), gesture))

    def _refused(self) -> str:
        if self._claim is not None and not self.read_only and not self._claim.ours:
            self.read_only = True
            self._claim.release()
        return "Another window edits this project; this one only looks." if self.read_only else ""

    def _take(self, project: Project) -> None:
        before = self.project
        assert before is not None
        self.project = project
        self.changed.emit(before, project)
        self._save_timer.start()
        self.edited.emit()

    def edit_brief(self, title: str, change: Callable[[Brief], Brief], gesture: str = "") -> None:
        """Change the brief, undoably; refused where a guard stands."""
        if self.project is None:
            return
        brief = self.project.brief
        try:
            after = change(brief)
            refused = self.refuses(brief, after)
        except BriefError as error:
            after, refused = brief, f"That cannot be: {error}."
        if refused:
            self._telling.trouble(refused, "edit")
            self.edited.emit()
            return
        self.edit(title, lambda p: replace(p, brief=after), gesture)

    def edit_all(self, title: str, brief: Brief, recipe: Recipe) -> None:
        """Take another brief and recipe as a whole, undoably; refused where a guard stands."""
        if self.project is None:
            return
        refused = GUARDED_WHOLE if self.project.brief.guard else self.refuses(self.project.brief, brief)
        if refused:
            self._telling.trouble(refused, "edit")
            return
        self.edit(title, lambda p: replace(p, brief=brief, recipe=recipe))

    def set_light(self, path: str, change: LightChange, gesture: str = "") -> None:
        """Change one light, undoably."""
        self.edit_brief(f"Change {path.rsplit('/', 1)[-1]}", lambda b: with_light(b, path, change), gesture)

    def set_recipe(self, title: str, recipe: Recipe, gesture: str = "") -> None:
        """Change the recipe, undoably; refused where a guard stands on the level."""
        if self.project is not None and self.project.brief.guard and recipe != self.project.recipe:
            self._telling.trouble(GUARDED, "edit")
            self.edited.emit()
            return
        self.edit(title, lambda p: replace(p, recipe=recipe), gesture)

    def keep_view(self, view: dict[str, Any]) -> None:
        """Keep the camera with the project; not an edit, so not undoable."""
        if self.project is None or self.project.rest.get("view") == view or self.read_only:
            return
        before = self.project
        self.project = replace(before, rest={**before.rest, "view": view})
        self.changed.emit(before, self.project)
        if (self.project.folder / "project.toml").exists():
            self._save_timer.start()

    def keep_prints(self, prints: dict[str, str]) -> None:
        """Keep what the objects are that something is decided about; not an edit, so not undoable."""
        before = self.project
        if before is None or self.read_only or before.brief.prints == prints:
            return
        self.project = before.with_brief(prints=prints)
        self.changed.emit(before, self.project)
        if (before.folder / "project.toml").exists():
            self._save_timer.start()

    def new_gesture(self) -> str:
        """A name for the next gesture, such as one drag of a slider."""
        self._gestures += 1
        return f"gesture {self._gestures}"

    def reference(self, path: Path) -> str | None:
        """A file's path as the project file may hold it; None, and a notice, where it lies outside the project."""
        if self.project is None:
            return None
        folder = self.project.folder
        reference = os.path.relpath(path, folder)
        if not reference.startswith(".."):
            return reference
        self._telling.trouble(f"{path.name} lies outside the project. Copy it into {folder} first.", "reference")
        return None

    # -- the file

    def _save(self) -> None:
        if self.project is None or self._file is None or self._collision is not None or self._refused():
            return
        try:
            saved = self._file.save(self.project)
        except ProjectError as error:
            self._telling.trouble(str(error), "save")
        except Collision as collision:
            self._ask(collision)
        else:
            self._telling.over("save")
            self._merged(saved)
            self.history.keep(self.project, self.read_only)
            self.saved.emit()

    def look_at_file(self) -> None:
        """Somebody may have written the file: what changed in it is taken in."""
        if self.project is None or self._file is None or self._collision is not None or not self._file.changed:
            return
        try:
            self._merged(self._file.merged(self.project))
        except ProjectError as error:
            self._telling.trouble(str(error), "save")
        except Collision as collision:
            self._ask(collision)

    def _merged(self, project: Project) -> None:
        before = self.project
        if before is None or project == before:
            return
        self._telling.news("The project file was changed elsewhere; its changes are taken in.")
        step = Step("Changes of the project file", lambda: self._take(project), lambda: self._take(before))
        self.undo.push(step)

    def _ask(self, collision: Collision) -> None:
        self._collision = collision
        keys = ", ".join(collision.keys[:3]) + (" and more" if len(collision.keys) > 3 else "")
        self._telling.trouble(
            f"The project file was changed elsewhere, and so was the same here: {keys}. Nothing is saved until you say "
            "whose to keep.", "save", ("Keep mine", self.keep_mine), ("Take theirs", self.take_theirs),
        )  # fmt: skip

    def keep_mine(self) -> None:
        """What both changed stays as it is here; everything else of theirs is taken in."""
        collision, self._collision = self._collision, None
        if collision is None or self.project is None or self._file is None:
            return
        self._file.decide(collision.theirs)
        self._telling.over("save")
        self._merged(collision.with_ours)
        self._save()

    def take_theirs(self) -> None:
        """What both changed becomes as the file has it."""
        collision, self._collision = self._collision, None
        if collision is not None and self._file is not None:
            self._file.decide(collision.theirs)
            self._telling.over("save")
            self._merged(collision.with_theirs)
            self._save()

    def save_for_build(self) -> None:
        """Write the project even if nothing changed, so that a build finds its folder; a window that only looks writes
        nothing."""
        self._save_timer.stop()
        if self.project is not None and not self.read_only:
            self.project.folder.mkdir(parents=True, exist_ok=True)
            if self._claim is not None:
                self._claim.claim()
            self._save()

    def save_now(self) -> None:
        """Write pending changes."""
        if self._save_timer.isActive():
            self._save_timer.stop()
            self._save()

    def close(self) -> None:
        """Save, and let another window edit. What waits for a decision is kept beside the project file."""
        self.save_now()
        if self.project is not None:
            self.history.keep(self.project, self.read_only)
        if self._collision is not None and self.project is not None:
            aside = self.project.folder / "project.mine.toml"
            self.project.save_as(aside)
            self._telling.news(f"Your settings that were not saved are kept in {aside}.")
            self._collision = None
        if self._claim is not None:
            self._claim.release()
            self._claim = None
