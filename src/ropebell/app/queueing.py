"""The queue at work: one build after the other, while no other build runs."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.builds import Builds, request_of
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.state import State
from ropebell.build.numbering import next_build_folder
from ropebell.build.plan import active_profile
from ropebell.build.queue import Entry, queue_file, read_queue, write_queue
from ropebell.build.request import Request
from ropebell.build.result import Outcome
from ropebell.build.runner import BuildProcess
from ropebell.build.scope import EVERYTHING, Scope
from ropebell.errors import RopeBellError, why

POLL_MS = 250
# An entry is made for this folder; the one it gets is chosen when its turn comes.
LATER = Path("/")


class Queueing(QObject):
    """Runs what waits.

    Signals:
        changed: the list, or what is under way, is another one.
    """

    changed = pyqtSignal()

    def __init__(self, state: State, builds: Builds, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state, self._builds, self._path = state, builds, queue_file()
        self.entries = read_queue(self._path)
        self.on = False
        self._process: BuildProcess | None = None
        self._at = -1
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._turn)
        builds.ended.connect(lambda *_: self._turn())

    # -- the list

    def add(self, scope: Scope = EVERYTHING) -> None:
        """Let what is set now wait for its turn.

        Args:
            scope: how much of the level it lights.
        """
        now = self._state.level.now
        if now is None:
            return
        p = now.project
        p.require_sky()
        self._state.document.save_now()
        profile, unchanged = active_profile(p)
        words = [p.name, f"{DRAFT_WORDS[p.recipe.draft]} of {p.recipe.name}"]
        words += [f"profile '{profile}'"] if unchanged else []
        words += [scope.words] if scope != EVERYTHING else []
        request = request_of(p, LATER, self._state.rope.rates, scope, pictures=False)
        self._set([*self.entries, Entry(", ".join(words), str(p.folder), request.to_json())])

    def add_made(self, title: str, request: Request) -> None:
        """A build that was made up elsewhere waits for its turn."""
        now = self._state.level.now
        if now is not None:
            self._set([*self.entries, Entry(title, str(now.project.folder), replace(request, out=LATER).to_json())])

    def remove(self, row: int) -> None:
        """Take one out, unless it is under way."""
        if 0 <= row < len(self.entries) and self.entries[row].state != "running":
            self._at -= row < self._at
            self._set([e for index, e in enumerate(self.entries) if index != row])

    def clear_done(self) -> None:
        """Forget those that have been made."""
        if self._process is None:
            self._set([e for e in self.entries if e.state == "waiting"])

    def _set(self, entries: list[Entry]) -> None:
        self.entries = entries
        try:
            write_queue(self._path, entries)
        except OSError as error:
            self._state.tell(f"{self._path}: the queue cannot be kept ({why(error)}). Free some space.", "queue")
        self.changed.emit()

    # -- at work

    @property
    def running(self) -> bool:
        """Whether one of them is under way."""
        return self._process is not None

    def switch(self) -> None:
        """Work through the queue, or stop with the one that is under way."""
        self.on = not self.on
        if self.on:
            self._timer.start()
            self._turn()
        elif self._process is not None:
            self._process.stop()
        self.changed.emit()

    def _turn(self) -> None:
        if self._process is not None:
            self._process.new_events()
            ended = self._process.poll()
            if ended is not None:
                self._ended(ended)
        if self.on and self._process is None and not self._builds.running:
            self._begin()

    def _begin(self) -> None:
        row = next((index for index, e in enumerate(self.entries) if e.state == "waiting"), -1)
        if row < 0:
            self.on = False
            self._timer.stop()
            self.changed.emit()
            return
        entry = self.entries[row]
        try:
            out = next_build_folder(Path(entry.project) / "builds")
            self._process, self._at = BuildProcess(entry.begun(out)), row
        except (OSError, RopeBellError) as error:
            words = why(error) if isinstance(error, OSError) else str(error)
            self._note(row, replace(entry, state="failed", told=words))
            return
        self._note(row, replace(entry, state="running", told=f"build {int(out.name)}"))

    def _ended(self, ended: Outcome) -> None:
        process, self._process = self._process, None
        assert process is not None
        entry, number = self.entries[self._at], int(process.request.out.name)
        if ended.state == "stopped":
            self._note(self._at, replace(entry, state="waiting", told="was stopped; goes on where it was"))
        elif ended.state == "done":
            self._note(self._at, replace(entry, state="done", told=f"build {number}"))
        else:
            self._note(self._at, replace(entry, state="failed", told=f"build {number}: {ended.sentence}"))
        now = self._state.level.now
        if now is not None and str(now.project.folder) == entry.project:
            self._state.rope.refresh()

    def _note(self, row: int, entry: Entry) -> None:
        self._set([entry if index == row else e for index, e in enumerate(self.entries)])

    def close(self) -> None:
        """End what is under way; it is begun again the next time the queue runs."""
        self.on = False
        self._timer.stop()
        if self._process is not None:
            self._process.stop()
            while (ended := self._process.poll()) is None:
                time.sleep(0.02)
            self._ended(ended)
