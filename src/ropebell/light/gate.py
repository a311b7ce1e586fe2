"""A gate that all work passes chunk by chunk: closed, a build rests and gives its cores back, and its clock stands."""

from __future__ import annotations

import threading
import time


class Gate:
    """Open to begin with. May be used from any thread."""

    def __init__(self) -> None:
        self._open = threading.Event()
        self._open.set()
        self._lost = 0.0
        self._closed_at = 0.0

    def close(self) -> None:
        """Let nothing more begin."""
        if self._open.is_set():
            self._closed_at = time.monotonic()
            self._open.clear()

    def open(self) -> None:
        """Go on."""
        if not self._open.is_set():
            self._lost += time.monotonic() - self._closed_at
            self._open.set()

    @property
    def closed(self) -> bool:
        """Whether work rests."""
        return not self._open.is_set()

    def wait(self, most: float | None = None) -> None:
        """Come back once it is open, or after so many seconds."""
        self._open.wait(most)

    def now(self) -> float:
        """Seconds by a clock that stands still while the gate is closed."""
        return (self._closed_at if self.closed else time.monotonic()) - self._lost


# Of this process: a build has one of its own.
GATE = Gate()
