"""Watches the level's file: an export that has come to rest is read again, a vanished file is waited for."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, QTimer, pyqtSignal

# An export is written in pieces; it counts once its size and time have been the same for so long.
REST_MS = 500
MISSING_MS = 1500


class LevelWatch(QObject):
    """Follows one file, by whatever means it is replaced.

    Signals:
        changed: the file is another one than before, and has come to rest.
        vanished: the file is gone.
    """

    changed = pyqtSignal()
    vanished = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._path: Path | None = None
        self._known: tuple[int, int, int] | None = None
        self._resting: tuple[int, int, int] | None = None
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(self._look_soon)
        self._watcher.directoryChanged.connect(self._look_soon)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._look)

    def follow(self, path: Path) -> None:
        """Watch this file from now on, as it is now."""
        self.close()
        self._path, self._known = path, _state(path)
        self._watcher.addPaths([str(p) for p in (path, path.parent) if p.exists()])

    def close(self) -> None:
        """Watch nothing."""
        self._timer.stop()
        watched = self._watcher.files() + self._watcher.directories()
        if watched:
            self._watcher.removePaths(watched)
        self._path = None

    def _look_soon(self) -> None:
        if self._path is not None:
            self._timer.start(REST_MS)

    def _look(self) -> None:
        if self._path is None:
            return
        state = _state(self._path)
        if state is None:
            if self._known is not None:
                self._known = None
                self.vanished.emit()
            self._timer.start(MISSING_MS)
            return
        if str(self._path) not in self._watcher.files():
            # A file that was replaced by a rename is no longer watched.
            self._watcher.addPath(str(self._path))
        if state == self._known:
            return
        if state != self._resting:
            self._resting = state
            self._timer.start(REST_MS)
            return
        self._known, self._resting = state, None
        self.changed.emit()


def _state(path: Path) -> tuple[int, int, int] | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino
