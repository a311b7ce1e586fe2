"""Watches files: a change that has come to rest is told, a vanished main file is waited for."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, QTimer, pyqtSignal

# An export is written in pieces; it counts once size and time of all its files have been the same for so long.
REST_MS = 500
MISSING_MS = 1500
State = tuple[int, int, int] | None


class FileWatch(QObject):
    """Follows a file and those it needs, by whatever means they are replaced.

    Signals:
        changed: some of the files are others than before, and have come to rest; their paths.
        vanished: the main file is gone.
    """

    changed = pyqtSignal(object)
    vanished = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._main: Path | None = None
        self._known: dict[Path, State] = {}
        self._resting: dict[Path, State] | None = None
        self._told_gone = False
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(self._look_soon)
        self._watcher.directoryChanged.connect(self._look_soon)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._look)

    def follow(self, main: Path, others: Iterable[Path] = ()) -> None:
        """Watch these files from now on, as they are now; of those that were watched already a change is not lost."""
        paths = {main, *others}
        before = self._known if main == self._main else {}
        self._main, self._told_gone = main, False
        self._known = {path: before[path] if path in before else _state(path) for path in paths}
        watched = {*self._watcher.files(), *self._watcher.directories()}
        wanted = {str(p) for path in paths for p in (path, path.parent) if p.exists()}
        if watched - wanted:
            self._watcher.removePaths(list(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(list(wanted - watched))
        if self._states() != self._known:
            self._look_soon()

    def close(self) -> None:
        """Watch nothing."""
        self._timer.stop()
        watched = self._watcher.files() + self._watcher.directories()
        if watched:
            self._watcher.removePaths(watched)
        self._main, self._known = None, {}

    def _states(self) -> dict[Path, State]:
        return {path: _state(path) for path in self._known}

    def _look_soon(self) -> None:
        if self._main is not None:
            self._timer.start(REST_MS)

    def _look(self) -> None:
        if self._main is None:
            return
        states = self._states()
        if states[self._main] is None:
            if not self._told_gone:
                self._told_gone = True
                self._known[self._main] = None
                self.vanished.emit()
            self._timer.start(MISSING_MS)
            return
        self._told_gone = False
        # Files that were replaced by a rename are no longer watched.
        lost = [str(p) for p, s in states.items() if s is not None and str(p) not in self._watcher.files()]
        if lost:
            self._watcher.addPaths(lost)
        if states == self._known:
            return
        if states != self._resting:
            self._resting = states
            self._timer.start(REST_MS)
            return
        changed = tuple(path for path, state in states.items() if state != self._known[path])
        self._known, self._resting = states, None
        self.changed.emit(changed)


def _state(path: Path) -> State:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino
