"""The sample level for a person who has none: written, and its past recorded, by a process of its own."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QProcess, pyqtSignal

from ropebell.app.processes import end
from ropebell.interpreter import own_command


class SampleWriter(QObject):
    """Runs `ropebell demo` and tells how far it is.

    Signals:
        told: a few words on how far it is.
        ready: the project's folder.
        failed: a sentence.
    """

    told = pyqtSignal(str)
    ready = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder = Path()
        self._process = QProcess(self)
        self._process.readyReadStandardError.connect(self._hear)
        self._process.finished.connect(self._ended)
        self._last = ""

    @property
    def running(self) -> bool:
        """Whether the sample is being written."""
        return self._process.state() != QProcess.ProcessState.NotRunning

    def write(self, folder: Path) -> None:
        """Write the sample into a folder; what is there already is kept."""
        if self.running:
            return
        self._folder, self._last = folder, ""
        self.told.emit("Writing the sample level")
        program, *arguments = own_command("ropebell.cli.main", "demo", str(folder))
        self._process.start(program, arguments)

    def _hear(self) -> None:
        text = bytes(self._process.readAllStandardError().data()).decode(errors="replace")
        parts = [part.strip() for part in text.replace("\r", "\n").split("\n") if part.strip()]
        if parts:
            self._last = parts[-1]
            self.told.emit(self._last[0].upper() + self._last[1:])

    def _ended(self, code: int, _status: QProcess.ExitStatus) -> None:
        if code == 0:
            self.ready.emit(self._folder)
        else:
            self.failed.emit(f"The sample level could not be written: {self._last or f'exit status {code}'}")

    def close(self) -> None:
        """End it; a recording that is under way is begun anew the next time."""
        end(self._process)
