"""What can be done with a build on the rope: write to it, pin it, use what it was made with, remove it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QObject, QPoint
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMenu, QWidget

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.undoing import Step
from ropebell.app.words import megabytes
from ropebell.build.journal import read_events
from ropebell.build.knots import (
    Knot,
    KnotWords,
    asked_for,
    bring_back,
    clear_away,
    read_words,
    set_aside,
    take_in,
    write_words,
)
from ropebell.build.manifest import read_manifest
from ropebell.build.recipe import Recipe
from ropebell.errors import BuildError, ProjectError, RopeBellError, step, why
from ropebell.level.brief import Brief

MENU = (
    "rope.note", "rope.name", "rope.pin", "", "rope.recipe", "rope.level", "", "rope.remove",
)  # fmt: skip


class KnotActs(QObject):
    """Acts on the build that is looked at.

    Args:
        window: on which questions are asked.
    """

    def __init__(self, desk: Desk, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._window = desk, window
        self._builds: Path | None = None
        desk.level.opened.connect(self._opened)

    def commands(self) -> tuple[Command, ...]:
        """All of them."""
        there = lambda: self._knot is not None  # noqa: E731 - a condition, not a function of its own
        opened = lambda: self._desk.level.now is not None  # noqa: E731
        return (
            Command("rope.note", "Write a note to the build", self.ask_note, "Ctrl+N", there),
            Command("rope.name", "Name the build", self.ask_name, "", there),
            Command("rope.pin", "Pin the build, or unpin it", self.toggle_pin, "", there),
            Command("rope.recipe", "Use the build's recipe again", self.use_recipe, "", there),
            Command("rope.level", "Set everything as it was for the build", self.use_all, "", there),
            Command("rope.remove", "Remove the build", self.remove, "", there),
            Command("rope.take_in", "Take in a build from another machine", self.ask_take_in, "", opened),
        )

    @property
    def _knot(self) -> Knot | None:
        number = self._desk.rope.shown_number
        return next((k for k in self._desk.rope.knots if k.number == number), None)

    def popup(self, number: int, at: QPoint) -> None:
        """Show what can be done with a build; it is looked at meanwhile."""
        self._desk.rope.look_at(number)
        menu = QMenu(self._window)
        for command_id in MENU:
            if not command_id:
                menu.addSeparator()
                continue
            command = self._desk.commands.get(command_id)
            knot = next((k for k in self._desk.rope.knots if k.number == number), None)
            title = command.title
            if command_id == "rope.pin" and knot is not None:
                title = "Unpin the build" if knot.pinned else "Pin the build"
            action = menu.addAction(title)
            if action is not None:
                action.triggered.connect(partial(self._later, number, command_id))
        menu.exec(at)

    def _later(self, number: int, command_id: str) -> None:
        """Act on the build that the menu was asked of, whatever is looked at by then."""
        self._desk.rope.shown_number = number
        self._desk.commands.run(command_id)

    # -- words

    def ask_note(self) -> None:
        """Ask for a note."""
        knot = self._knot
        if knot is not None:
            words, done = QInputDialog.getMultiLineText(self._window, f"Note to build {knot.number}", "Note", knot.note)
            if done:
                self.write("Note", note=words.strip())

    def ask_name(self) -> None:
        """Ask for a name."""
        knot = self._knot
        if knot is not None:
            name, done = QInputDialog.getText(
                self._window, f"Name of build {knot.number}", "Name; empty for its number", text=knot.name
            )
            if done:
                self.write("Name", name=name.strip()[:200])

    def toggle_pin(self) -> None:
        """A pinned build cannot be removed."""
        knot = self._knot
        if knot is not None:
            self.write("Unpin" if knot.pinned else "Pin", pinned=not knot.pinned)

    def write(self, title: str, **changes: object) -> None:
        """Write something to the build that is looked at, undoably."""
        knot = self._knot
        if knot is None:
            return
        before = read_words(knot.folder)
        after = KnotWords.model_validate({**before.model_dump(), "note": knot.note, **changes})
        self._push(
            f"{title} of build {knot.number}", partial(self._write, knot, after), partial(self._write, knot, before)
        )

    def _write(self, knot: Knot, words: KnotWords) -> None:
        try:
            write_words(knot.folder, words)
        except OSError as error:
            self._desk.tell(f"Build {knot.number} cannot be written to ({why(error)}). {step(error)}.", "knot")
        self._desk.rope.refresh()

    def _push(self, title: str, act: Callable[[], None], back: Callable[[], None]) -> None:
        self._desk.document.undo.push(Step(title, act, back))

    # -- what it was made with

    def use_recipe(self) -> None:
        """Set the recipe as it was."""
        knot = self._knot
        made = self._made_with(knot) if knot is not None else None
        if knot is not None and made is not None:
            self._desk.document.set_recipe(f"Recipe of build {knot.number}", made[1])
            self._desk.news(f"The recipe is as it was for build {knot.number}. Undo brings yours back.")

    def use_all(self) -> None:
        """Set marks, lights, sky and recipe as they were."""
        knot = self._knot
        made = self._made_with(knot) if knot is not None else None
        if knot is not None and made is not None:
            self._desk.document.edit_all(f"All as for build {knot.number}", *made)
            self._desk.news(
                f"Marks, lights, sky and recipe are as for build {knot.number}; the level file is as it is now. "
                "Undo brings yours back."
            )

    def _made_with(self, knot: Knot) -> tuple[Brief, Recipe] | None:
        try:
            manifest = read_manifest(knot.folder)
            return manifest.brief, manifest.recipe
        except RopeBellError:
            asked = asked_for(read_events(knot.folder), knot.folder)
        if asked is None:
            self._desk.tell(f"Build {knot.number} does not say what it was made with.", "knot")
            return None
        return asked.brief, asked.recipe

    # -- removing, and taking in

    def remove(self) -> None:
        """Take the build off the rope; undo brings it back until the session ends."""
        knot = self._knot
        if knot is None:
            return
        if self._desk.document.read_only:
            raise BuildError("this window only looks", knot.folder, "Take over first")
        if knot.pinned:
            raise ProjectError("it is pinned", knot.folder, "Unpin it first")
        self._push(f"Remove build {knot.number}", partial(self._set_aside, knot), partial(self._bring_back, knot))

    def _set_aside(self, knot: Knot) -> None:
        try:
            freed = set_aside(knot.folder)
        except ProjectError as error:
            self._desk.tell(str(error), "knot")
            return
        self._desk.news(
            f"Build {knot.number} is removed. Undo brings it back; once the session ends it frees {megabytes(freed)}."
        )
        self._desk.rope.refresh(show_newest=True)

    def _bring_back(self, knot: Knot) -> None:
        try:
            bring_back(knot.folder)
        except ProjectError as error:
            self._desk.tell(str(error), "knot")
        self._desk.rope.refresh(show_newest=True)

    def ask_take_in(self) -> None:
        """Ask for the folder of a build."""
        folder = QFileDialog.getExistingDirectory(self._window, "Folder of a build from another machine")
        if folder:
            self.take_in(Path(folder))

    def take_in(self, folder: Path) -> None:
        """Copy a build of another machine onto the rope."""
        now = self._desk.level.now
        if now is None or self._desk.document.read_only:
            return
        builds = now.project.builds

        def receive(taken: Path) -> None:
            self._desk.news(f"Taken in as build {int(taken.name)}.")
            self._desk.rope.refresh(show_newest=True)

        self._desk.jobs.start("take in", lambda: take_in(folder, builds), receive)

    def _opened(self) -> None:
        now = self._desk.level.now
        builds = now.project.builds if now is not None else None
        if builds != self._builds:
            self.close()
            self._builds = builds

    def close(self) -> None:
        """The session ends: what was removed is cleared away."""
        if self._builds is not None and not self._desk.document.read_only:
            clear_away(self._builds)
