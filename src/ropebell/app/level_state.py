"""The level as it is open: read from its files, arranged by the brief, read again when an editor exports it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.document import Document
from ropebell.app.jobs import Jobs
from ropebell.app.reading import Opened, arranged, read_level, relit
from ropebell.app.telling import Telling
from ropebell.app.watch import FileWatch
from ropebell.build.project import PROJECT_FILE, Project
from ropebell.checks.blocking import hull_refusal
from ropebell.checks.unmatched import unmatched
from ropebell.errors import LevelError, RopeBellError
from ropebell.level.brief import Brief
from ropebell.level.differences import Differences, differences
from ropebell.level.guard import refusal
from ropebell.level.model import Level
from ropebell.level.open import open_level

# Parts of a brief that say where objects stand, whether they count, and how they are divided.
ARRANGING = ("marks", "branches", "moves", "added", "density_boxes", "test_density", "region", "tables", "left_out")


class LevelState(QObject):
    """What is open.

    Attributes:
        now: the level as it is arranged, with the project of now; None before one is open.

    Signals:
        opened: a level was read; all that belonged to another one is gone.
        rearranged: objects stand, count or are divided differently; the camera and selection stay.
        recolored: the same triangles under other lights, emitters or sky.
    """

    opened = pyqtSignal()
    rearranged = pyqtSignal()
    recolored = pyqtSignal()

    def __init__(self, document: Document, jobs: Jobs, telling: Telling, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document, self._jobs, self._telling = document, jobs, telling
        self.now: Opened | None = None
        # What the file held when it was last read; what is arranged may still be of an older reading.
        self._source: Level | None = None
        self._changed_files: tuple[str, ...] = ()
        # What is to be told once the new reading is shown.
        self._news = ""
        self._watch = FileWatch(self)
        self._watch.changed.connect(self._files_changed)
        self._watch.vanished.connect(self._vanished)
        self._project_watch = FileWatch(self)
        self._project_watch.changed.connect(lambda _: document.look_at_file())
        document.saved.connect(self._follow_project)
        document.changed.connect(self._project_changed)
        document.refuses = self._refusal

    def follow(self, act: Callable[[], None]) -> None:
        """Call `act` whenever the level, what is decided about it, or where things stand has changed."""
        for signal in (self.opened, self._document.edited, self.rearranged):
            signal.connect(act)

    # -- opening

    def open(self, target: Path) -> None:
        """Read a project or level in the background; `opened` or a trouble follows."""
        self._document.save_now()
        self._jobs.start("open", lambda: read_level(target), self._opened)

    def _opened(self, opened: Opened) -> None:
        # Whatever was asked of the level before is not about this one.
        self._jobs.renew()
        self._document.take(opened.project)
        self.now, self._source = opened, opened.source
        self._follow_files()
        self._follow_project()
        self._document.keep_prints(opened.prints)
        self.opened.emit()

    def _follow_project(self) -> None:
        project = self._document.project
        if project is not None and project.folder.is_dir():
            self._project_watch.follow(project.folder / PROJECT_FILE)

    def _follow_files(self) -> None:
        project, source = self._document.project, self._source
        assert project is not None and source is not None
        others: list[Path] = list(source.files)
        try:
            others += project.tables
            picture = project.brief.sky_now.picture
            others += [project.beside(picture)] if picture else []
        except LevelError:
            pass  # told by the checks
        self._watch.follow(project.level, others)

    def reload(self) -> None:
        """Read the level's files again in the background; camera, selection and marks stay."""
        if self.now is None or self._source is None:
            return
        before, path = self._source, self.now.project.level

        def read() -> tuple[Level, Differences]:
            level = open_level(path)
            return level, differences(before, level)

        self._jobs.start("reload", read, self._reread)

    def _files_changed(self, paths: tuple[Path, ...]) -> None:
        self._telling.over("vanished")
        self._changed_files = tuple(path.name for path in paths)
        self.reload()

    def _reread(self, answer: tuple[Level, Differences]) -> None:
        level, changed = answer
        files, self._changed_files = self._changed_files, ()
        self._source = level
        self._follow_files()
        self._arrange_soon()
        if not changed.nothing:
            self._news = f"The level was exported again: {changed.sentence()}."
        elif files:
            self._news = f"Read again: {', '.join(files[:3])}{' and more' if len(files) > 3 else ''}."

    def _vanished(self) -> None:
        if self.now is not None:
            name = self.now.project.level.name
            sentence = f"{name} is gone. What was read of it stays; it is read again once it is back."
            self._telling.trouble(sentence, "vanished")

    # -- following the project

    def _refusal(self, before: Brief, after: Brief) -> str:
        assert self.now is not None
        return refusal(self.now.source, before, after) or hull_refusal(self.now.gathered.subject, after)

    def _project_changed(self, before: Project, after: Project) -> None:
        assert self.now is not None
        self.now = replace(self.now, project=after)
        if any(getattr(before.brief, key) != getattr(after.brief, key) for key in ARRANGING):
            self._arrange_soon()
        elif replace(before.brief, prints=after.brief.prints) != after.brief:
            self._recolor(after)
        if (before.brief.tables, before.brief.skies, before.brief.sky) != (
            after.brief.tables, after.brief.skies, after.brief.sky,
        ):  # fmt: skip
            self._follow_files()

    def _recolor(self, project: Project) -> None:
        assert self.now is not None
        try:
            self.now = replace(self.now, gathered=relit(self.now.gathered, project))
        except RopeBellError as error:
            self._telling.trouble(str(error), "lights")
            return
        self.recolored.emit()

    def reload_tables(self) -> None:
        """Read the emitter tables again, and what follows from them."""
        if self.now is not None:
            self._arrange_soon()

    def _arrange_soon(self) -> None:
        now, source = self.now, self._source
        assert now is not None and source is not None
        self._jobs.start("arrange", lambda: arranged(now.project, source, now), self._rearranged)

    def _rearranged(self, opened: Opened) -> None:
        """Take in the level arranged anew; the newest request always is of the newest reading and project."""
        project = self._document.project
        assert project is not None
        self.now = replace(opened, project=project)
        self._document.keep_prints(opened.prints)
        self.rearranged.emit()
        if self._news and opened.source is self._source:
            lost = len(unmatched(opened.source, project.brief))
            many = f"{lost} settings, notes or fixtures are" if lost > 1 else "A setting, note or fixture is"
            self._telling.news(
                f"{self._news} {many} for what is not there any more: see Checks." if lost else self._news
            )
            self._news = ""

    def close(self) -> None:
        """Watch no more."""
        self._watch.close()
        self._project_watch.close()
