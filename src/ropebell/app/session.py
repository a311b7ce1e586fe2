"""The state behind the window: project, level, selection, the build that is looked at, undo, what is stale."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from ropebell.app.jobs import Jobs
from ropebell.app.reading import Knot, Opened, Shown, arranged, read_build, read_builds, read_level, relit
from ropebell.app.watch import LevelWatch
from ropebell.build.checked import read_checked, write_checked
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import check_kept
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe
from ropebell.build.result import Result
from ropebell.build.stale import Stale, changes_since, stale_stages
from ropebell.build.store import Store
from ropebell.checks.remedies import apply_fix
from ropebell.checks.run import Sorted, sort_out
from ropebell.checks.shapes import hull_refusal
from ropebell.errors import ProjectError
from ropebell.level.brief import Brief, BriefError, LightChange
from ropebell.level.differences import Differences, differences
from ropebell.level.finding import Finding
from ropebell.level.guard import refusal
from ropebell.level.light_edits import with_light
from ropebell.level.open import open_level

SAVE_AFTER_MS = 400
STALE_AFTER_MS = 120
CHECK_AFTER_MS = 250
# Parts of a brief that say where objects stand, whether they count, and how they are divided.
ARRANGING = ("marks", "branches", "moves", "added", "density_boxes", "test_density", "region", "tables")


class _Edit(QUndoCommand):
    """Replaces the project's editable part; edits of one gesture merge."""

    def __init__(self, session: Session, title: str, before: Project, after: Project, gesture: str) -> None:
        super().__init__(title)
        self._session, self._before, self._after, self._gesture = session, before, after, gesture

    def id(self) -> int:
        return hash(self._gesture) % (2**31 - 1) if self._gesture else -1

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, _Edit) or other._gesture != self._gesture:
            return False
        self._after = other._after
        return True

    def redo(self) -> None:
        self._session._take(self._after)

    def undo(self) -> None:
        self._session._take(self._before)


class Session(QObject):
    """One open project.

    Signals:
        opened: a level was read (again); geometry, lights and findings are new.
        edited: the project's settings changed.
        rearranged: objects stand, count or are divided differently; the camera and selection stay.
        checked: the findings before a build are known anew.
        hidden_changed: other objects are hidden.
        told: a sentence that is no trouble.
        selected: index of the selected node, −1 for none.
        builds_changed: the list of builds is new.
        looking_at: the build that the stage shows changed; a `Shown` or None.
        stale_changed: what the next build would have to do is known anew.
        trouble: a sentence for the person.
    """

    opened = pyqtSignal()
    edited = pyqtSignal()
    rearranged = pyqtSignal()
    checked = pyqtSignal()
    hidden_changed = pyqtSignal()
    told = pyqtSignal(str)
    selected = pyqtSignal(int)
    builds_changed = pyqtSignal()
    looking_at = pyqtSignal(object)
    stale_changed = pyqtSignal()
    trouble = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = Jobs(self)
        self.jobs.failed.connect(self.trouble)
        self.undo = QUndoStack(self)
        self.now: Opened | None = None
        self.knots: list[Knot] = []
        self.shown: Result | None = None
        self.shown_number = 0
        self.selection = -1
        self.chosen: tuple[int, ...] = ()
        self.hidden: frozenset[str] = frozenset()
        self.movers_below = False
        self.findings: Sorted = Sorted((), (), (), ())
        self._checked_before: frozenset[str] | None = None
        self.stale: Stale | None = None
        # What changed since the build began that is under way, in words.
        self.behind: tuple[str, ...] = ()
        self._building: Opened | None = None
        self.last_manifest: Manifest | None = None
        self.rates: dict[str, float] = {}
        self._gestures = 0
        self._save_timer = self._timer(SAVE_AFTER_MS, self._save)
        self._stale_timer = self._timer(STALE_AFTER_MS, self._find_stale)
        self._check_timer = self._timer(CHECK_AFTER_MS, self._check)
        self._watch = LevelWatch(self)
        self._watch.changed.connect(self.reload)
        self._watch.vanished.connect(self._level_vanished)

    def _timer(self, milliseconds: int, act: Callable[[], None]) -> QTimer:
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.setInterval(milliseconds)
        timer.timeout.connect(act)
        return timer

    # -- opening

    def open(self, target: Path) -> None:
        """Read a project or level in the background; `opened` or `trouble` follows."""
        self.save_now()
        self.jobs.start("open", lambda: read_level(target), self._opened)

    def _opened(self, opened: Opened) -> None:
        self.now = opened
        self.undo.clear()
        self.selection, self.shown, self.shown_number = -1, None, 0
        self.chosen, self.hidden = (), frozenset()
        self.knots, self.stale, self.last_manifest = [], None, None
        self.findings, self._checked_before = Sorted((), (), (), ()), read_checked(opened.project)
        self._watch.follow(opened.project.level)
        self.opened.emit()
        self._check_timer.start()
        self.looking_at.emit(None)
        self.refresh_builds(show_newest=True)

    def reload(self) -> None:
        """Read the level's file again in the background; camera, selection and marks stay."""
        if self.now is None:
            return
        before = self.now

        def read() -> tuple[Opened, Differences]:
            level = open_level(before.project.level)
            return arranged(before.project, level, None), differences(before.source, level)

        self.jobs.start("reload", read, self._reloaded)

    def _level_vanished(self) -> None:
        if self.now is not None:
            path = self.now.project.level
            self.trouble.emit(f"{path.name} is gone. What was read of it stays; it is read again once it is back.")

    def _reloaded(self, answer: tuple[Opened, Differences]) -> None:
        opened, changed = answer
        if self.now is None or changed.nothing:
            return
        if self.now.project.brief != opened.project.brief:
            opened = replace(opened, project=self.now.project)
            self._arrange_soon()
        self._replace(opened)
        self.told.emit(f"The level was exported again: {changed.sentence()}.")

    def _replace(self, opened: Opened) -> None:
        """Take in the same level arranged anew."""
        assert self.now is not None
        names = self.now.scene.node_names
        paths = [names[i] for i in (self.selection, *self.chosen) if 0 <= i < len(names)]
        number = {name: i for i, name in enumerate(opened.scene.node_names)}
        kept = [number[path] for path in paths if path in number]
        self.now = replace(opened, project=self.now.project)
        self.selection = kept[0] if kept else -1
        self.chosen = tuple(dict.fromkeys(kept))
        self._stale_timer.start()
        self._check_timer.start()
        self.rearranged.emit()
        self.selected.emit(self.selection)

    @property
    def settled(self) -> bool:
        """Whether nothing is under way or about to be: no job, and what is stale and wrong is known."""
        waiting = self._stale_timer.isActive() or self._check_timer.isActive()
        return not self.jobs.busy and not waiting

    @property
    def project(self) -> Project | None:
        """The open project with its current settings."""
        return self.now.project if self.now is not None else None

    # -- editing

    def edit(self, title: str, change: Callable[[Project], Project], gesture: str = "") -> None:
        """Change the project's settings, undoably.

        Args:
            title: for the undo list.
            gesture: edits in a row with the same gesture become one entry.
        """
        if self.now is None:
            return
        before, after = self.now.project, change(self.now.project)
        if after != before:
            self.undo.push(_Edit(self, title, before, after, gesture))

    def _take(self, project: Project) -> None:
        assert self.now is not None
        before, self.now = self.now.project, replace(self.now, project=project)
        if any(getattr(before.brief, key) != getattr(project.brief, key) for key in ARRANGING):
            self._arrange_soon()
        elif before.brief != project.brief:
            self.now = replace(self.now, gathered=relit(self.now.gathered, project))
            self._check_timer.start()
        self._save_timer.start()
        self._stale_timer.start()
        self.edited.emit()

    def follow(self, act: Callable[[], None]) -> None:
        """Call `act` whenever the level, what is decided about it, or where things stand has changed."""
        for signal in (self.opened, self.edited, self.rearranged):
            signal.connect(act)

    def reference(self, path: Path) -> str | None:
        """A file's path as the project file may hold it; None, and a notice, where it lies outside the project."""
        if self.now is None:
            return None
        folder = self.now.project.folder
        reference = os.path.relpath(path, folder)
        if not reference.startswith(".."):
            return reference
        self.trouble.emit(f"{path.name} lies outside the project. Copy it into {folder} first.")
        return None

    def reload_tables(self) -> None:
        """Read the emitter tables again, and what follows from them."""
        if self.now is not None:
            self._arrange_soon()

    def _arrange_soon(self) -> None:
        assert self.now is not None
        now = self.now
        self.jobs.start("arrange", lambda: arranged(now.project, now.source, now), self._replace)

    def edit_brief(self, title: str, change: Callable[[Brief], Brief], gesture: str = "") -> None:
        """Change the brief, undoably; refused where a guard stands."""
        if self.now is None:
            return
        brief = self.now.project.brief
        try:
            after = change(brief)
            refused = refusal(self.now.source, brief, after) or hull_refusal(self.now.gathered.subject, after)
        except BriefError as error:
            after, refused = brief, f"That cannot be: {error}."
        if refused:
            self.trouble.emit(refused)
            # Whoever showed the change shows what is true again.
            self.edited.emit()
            return
        self.edit(title, lambda p: replace(p, brief=after), gesture)

    def set_light(self, path: str, change: LightChange, gesture: str = "") -> None:
        """Change one light, undoably."""
        self.edit_brief(f"Change {path.rsplit('/', 1)[-1]}", lambda b: with_light(b, path, change), gesture)

    def set_recipe(self, title: str, recipe: Recipe, gesture: str = "") -> None:
        """Change the recipe, undoably."""
        self.edit(title, lambda p: replace(p, recipe=recipe), gesture)

    def keep_view(self, view: dict[str, Any]) -> None:
        """Keep the camera with the project; not an edit, so not undoable."""
        if self.now is None or self.now.project.rest.get("view") == view:
            return
        self.now = replace(self.now, project=replace(self.now.project, rest={**self.now.project.rest, "view": view}))
        if (self.now.project.folder / "project.toml").exists():
            self._save_timer.start()

    def new_gesture(self) -> str:
        """A name for the next gesture, such as one drag of a slider."""
        self._gestures += 1
        return f"gesture {self._gestures}"

    def _save(self) -> None:
        if self.now is not None:
            try:
                self.now.project.save()
            except ProjectError as error:
                self.trouble.emit(str(error))

    def save_now(self) -> None:
        """Write pending changes."""
        if self._save_timer.isActive():
            self._save_timer.stop()
            self._save()

    # -- selection

    def select(self, node: int) -> None:
        """Select a node of the level by index, −1 for none."""
        self.select_many((node,) if node >= 0 else ())

    def select_many(self, nodes: tuple[int, ...]) -> None:
        """Select several nodes; the first is the one that is described."""
        first = nodes[0] if nodes else -1
        if nodes != self.chosen or first != self.selection:
            self.selection, self.chosen = first, nodes
            self.selected.emit(first)

    @property
    def chosen_paths(self) -> tuple[str, ...]:
        """Paths of the selected nodes."""
        return tuple(self.now.scene.node_names[i] for i in self.chosen) if self.now is not None else ()

    def hide(self, paths: frozenset[str]) -> None:
        """Hide just these objects on the stage; nothing else changes."""
        if paths != self.hidden:
            self.hidden = paths
            self.hidden_changed.emit()

    # -- findings

    def _check(self) -> None:
        if self.now is None:
            return
        now, before = self.now, self._checked_before

        def find() -> Sorted:
            found = check_kept(now.gathered.subject, Store(now.project.cache))
            return sort_out(found, before, now.project.brief.known)

        def receive(found: Sorted) -> None:
            self.findings = found
            self.checked.emit()

        self.jobs.start("check", find, receive)

    def remember_findings(self) -> None:
        """What is found now counts as seen: from here on, only what comes later is new."""
        if self.now is None:
            return
        found = self.findings
        keys = frozenset(f.key for f in (*found.new, *found.old, *found.known))
        try:
            write_checked(self.now.project, keys)
        except OSError as error:
            self.trouble.emit(
                f"What was found cannot be kept ({error.strerror}). Free some space or check permissions."
            )
            return
        self._checked_before = keys
        self._check_timer.start()

    def remedy(self, finding: Finding) -> None:
        """Apply a finding's remedy, undoably."""
        self.edit_brief(f"Remedy: {finding.kind}", lambda b: apply_fix(b, finding))

    def know(self, finding: Finding, note: str) -> None:
        """Accept a finding as fine here, with a note; an empty note takes that back."""

        def change(brief: Brief) -> Brief:
            known = {k: v for k, v in brief.known.items() if k != finding.key}
            return replace(brief, known={**known, finding.key: note} if note else known)

        self.edit_brief("Known here" if note else "No longer known", change)

    # -- builds

    def refresh_builds(self, show_newest: bool = False) -> None:
        """Read the list of builds anew, in the background."""
        if self.now is None:
            return
        builds = self.now.project.builds

        def receive(found: tuple[list[Knot], Manifest | None, dict[str, float]]) -> None:
            self.knots, self.last_manifest, self.rates = found
            self.builds_changed.emit()
            self._stale_timer.start()
            done = [k for k in self.knots if k.outcome.state == "done"]
            if show_newest and done:
                self.look_at(done[-1].number)

        self.jobs.start("builds", lambda: read_builds(builds), receive)

    def look_at(self, number: int) -> None:
        """Show a build on the stage; 0 shows the level as it is now, without light."""
        knot = next((k for k in self.knots if k.number == number), None)
        if knot is None or knot.outcome.state != "done":
            self.jobs.forget("look")
            self.shown, self.shown_number = None, number if knot is not None else 0
            self.looking_at.emit(None)
            return

        def receive(shown: Shown) -> None:
            self.shown, self.shown_number = shown.result, number
            self.looking_at.emit(shown)

        now, below = self.now, self.movers_below
        assert now is not None
        self.jobs.start("look", lambda: read_build(knot.folder, now, below), receive)

    def step_build(self, by: int) -> None:
        """Look at the finished build before (−1) or after (+1) the one shown."""
        done = [k.number for k in self.knots if k.outcome.state == "done"]
        if not done:
            return
        if self.shown_number not in done:
            self.look_at(done[-1])
            return
        at = done.index(self.shown_number) + by
        if 0 <= at < len(done):
            self.look_at(done[at])

    def _find_stale(self) -> None:
        if self.now is None:
            return
        now, manifest, rates = self.now, self.last_manifest, self.rates

        def receive(stale: Stale) -> None:
            self.stale = stale
            self.stale_changed.emit()

        self.jobs.start("stale", lambda: stale_stages(now.baking, now.project, manifest, rates), receive)
        self._find_behind()

    def build_began(self) -> None:
        """Note what the build that just began is made of."""
        self._building, self.behind = self.now, ()

    def build_ended(self) -> None:
        """No build is under way any more."""
        self._building, self.behind = None, ()

    def _find_behind(self) -> None:
        now, begun = self.now, self._building
        if now is None or begun is None:
            return

        def receive(behind: tuple[str, ...]) -> None:
            if self._building is begun:
                self.behind = behind
                self.stale_changed.emit()

        self.jobs.start("behind", lambda: changes_since(now.baking, now.project, begun.baking, begun.project), receive)

    def close(self) -> None:
        """Save and end the background work."""
        self.save_now()
        self._stale_timer.stop()
        self._check_timer.stop()
        self._watch.close()
        self.jobs.close()
