"""The journal of a build: one JSON object a line, appended as things happen, readable at any moment.

Every event has `event` and `t` (seconds since the build began). The events are `begin`, `stage`, `progress`,
`warning`, `table`, `picture`, `note` and one last `end` with `outcome` done, stopped, tripwire or failed. A journal
without `end` whose writer is gone is that of a build that died.
"""

from __future__ import annotations

import fcntl
import json
import os
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TextIO

JOURNAL = "journal.jsonl"


class Journal:
    """Writes a build's journal and holds a lock on it, by which others see that the build lives.

    Args:
        folder: the build's folder, which exists.
    """

    def __init__(self, folder: Path) -> None:
        self._file: TextIO = open(folder / JOURNAL, "a", encoding="utf-8")  # noqa: SIM115 - open for the build's life
        fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        self._began = time.monotonic()

    @property
    def seconds(self) -> float:
        """Seconds since the build began."""
        return time.monotonic() - self._began

    def write(self, event: str, **values: Any) -> None:
        """Append one event."""
        line = {"event": event, "t": round(self.seconds, 3), **values}
        self._file.write(json.dumps(line, ensure_ascii=False) + "\n")
        self._file.flush()

    def close(self) -> None:
        """Flush to disk and release the lock."""
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
    _rest: str = field(default="", repr=False)

    def new_events(self) -> list[dict[str, Any]]:
        """Events written since the last call; a half-written last line waits, a damaged line is passed over."""
        try:
            with open(self.path, encoding="utf-8", errors="replace") as file:
                file.seek(self._offset)
                text = self._rest + file.read()
                self._offset = file.tell()
        except OSError:
            return []
        *lines, self._rest = text.split("\n")
        events = []
        for line in lines:
            try:
                event = json.loads(line)
            except ValueError:
                continue
            if isinstance(event, dict) and "event" in event:
                events.append(event)
        return events


def read_events(folder: Path) -> list[dict[str, Any]]:
    """All events of a build's journal; empty if there is none."""
    return Reader(folder / JOURNAL).new_events()


def is_alive(folder: Path) -> bool:
    """Whether a process still holds the journal of the build in `folder`."""
    try:
        with open(folder / JOURNAL, encoding="utf-8") as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False
