"""Processes that run beside the window."""

from __future__ import annotations

from PyQt6.QtCore import QProcess

PATIENCE_MS = 1500


def end(process: QProcess) -> None:
    """End a process that nobody listens to any more: it is asked first, and then not."""
    process.blockSignals(True)
    if process.state() != QProcess.ProcessState.NotRunning:
        process.terminate()
        if not process.waitForFinished(PATIENCE_MS):
            process.kill()
            process.waitForFinished(PATIENCE_MS)
