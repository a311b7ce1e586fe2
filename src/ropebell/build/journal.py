"""The journal of a build: one JSON object a line, appended as things happen, readable at any moment.

The kinds of event are in `events`. A journal without `end` whose writer is gone is that of a build that died.
"""

from __future__ import annotations

import fcntl
import json
import os
import threading
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TextIO

from ropebell.build.events import Event, parse_event
from ropebell.errors import BuildError
from ropebell.files import open_own, open_regular
from ropebell.light.gate import GATE

JOURNAL = "journal.jsonl"
# Read at a time, and the longest line.
MOST_BYTES = 64 << 20


class Journal:
    """Writes a build's journal and holds a lock on it, by which others see that the build lives.

    Args:
        folder: the build's folder, which exists.

    Raises:
        BuildError: another build is writing there.
        OSError: it cannot be written.
    """

    def __init__(self, folder: Path) -> None:
        handle = open_own(folder, JOURNAL, os.O_WRONLY | os.O_APPEND)
        self._file: TextIO = open(handle, "a", encoding="utf-8")  # noqa: SIM115 - open for the build's life
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            self._file.close()
            raise BuildError("another build is under way in it", folder, "Name another folder") from error
        self._began = GATE.now()
        self._writing = threading.Lock()

    @property
    def seconds(self) -> float:
        """Seconds since the build began, without those at rest."""
        return GATE.now() - self._began

    def write(self, event: str, **values: Any) -> None:
        """Append one event."""
        line = {"event": event, "t": round(self.seconds, 3), **values}
        text = json.dumps(line, ensure_ascii=False) + "\n"
        with self._writing:  # threads of the build, and the timer that ends it, tell at their own times
            if not self._file.closed:
                self._file.write(text)
                self._file.flush()

    def close(self) -> None:
        """Flush to disk and release the lock."""
        with self._writing:
            if not self._file.closed:
                self._file.flush()
                os.fsync(self._file.fileno())
                self._file.close()


@dataclass
class Reader:
    """Follows a journal that is still being written.

    Attributes:
        path: the journal file; it need not exist yet.
    """

    path: Path
    _offset: int = 0
    _rest: bytes = field(default=b"", repr=False)

    def new_events(self) -> list[Event]:
        """Events written since the last call; a half-written last line waits, a damaged line is passed over."""
        try:
            with open_regular(self.path) as file:
                file.seek(self._offset)
                read = file.read(MOST_BYTES)
        except OSError:
            return []
        self._offset += len(read)
        *lines, rest = (self._rest + read).split(b"\n")
        self._rest = rest if len(rest) < MOST_BYTES else b""
        return [event for event in map(parse_event, lines) if event is not None]


def read_events(folder: Path) -> list[Event]:
    """All events of a build's journal; empty if there is none."""
    return Reader(folder / JOURNAL).new_events()


def is_alive(folder: Path) -> bool:
    """Whether a process still holds the journal of the build in `folder`."""
    try:
        with open_regular(folder / JOURNAL) as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False
