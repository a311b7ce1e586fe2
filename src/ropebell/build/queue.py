"""Builds that wait for their turn: of several recipes, poses or levels, one after the other, unattended.

Each is a whole request, so what is edited meanwhile changes nothing of it. The list is a file of the person's, so that
it survives a restart; one that was under way when everything ended is begun again, with what it had shot by then.
"""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal, get_args

from ropebell.build.request import Request
from ropebell.errors import ProjectError
from ropebell.files import read_json, write_json

QUEUE, FORMAT = "queue.json", 1
MOST, MOST_BYTES = 200, 32 << 20
State = Literal["waiting", "running", "done", "failed"]


@dataclass(frozen=True)
class Entry:
    """One build that waits, or has been made.

    Attributes:
        title: for a person. project: its folder, whose `builds` gets the build. request: as JSON; its folder is chosen
            when it begins. state: where it is. told: how it ended, in words.
    """

    title: str
    project: str
    request: str
    state: State = "waiting"
    told: str = ""

    def begun(self, out: Path) -> Request:
        """What is asked for, into a folder.

        Raises:
            ProjectError: it cannot be read.
        """
        return replace(Request.from_json(self.request), out=out)

    def as_values(self) -> dict[str, Any]:
        """As plain values."""
        return {"title": self.title, "project": self.project, "request": self.request, "state": self.state,
                "told": self.told}  # fmt: skip


def queue_file() -> Path:
    """Where a person's queue is kept."""
    base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(base) / "ropebell" / QUEUE


def read_queue(path: Path) -> list[Entry]:
    """All entries in their order; nothing where the file is missing or damaged, which is kept beside then."""
    try:
        values = read_json(path, MOST_BYTES)
        if not isinstance(values, dict) or values.get("format") != FORMAT:
            raise ValueError("it is of another version")
        return [_entry(value) for value in values["entries"][:MOST]]
    except FileNotFoundError:
        return []
    except (OSError, ValueError, LookupError, TypeError, RecursionError, ProjectError):
        with contextlib.suppress(OSError):
            path.replace(path.with_suffix(".damaged.json"))
        return []


def _entry(value: dict[str, Any]) -> Entry:
    texts = [value[key] for key in ("title", "project", "request")]
    state = value["state"]
    if not all(isinstance(text, str) for text in texts) or state not in get_args(State):
        raise ValueError("it is no entry")
    json.loads(texts[2])
    # Nobody runs it any more, or this would not be read.
    return Entry(texts[0], texts[1], texts[2], "waiting" if state == "running" else state, str(value.get("told", "")))


def write_queue(path: Path, entries: list[Entry]) -> None:
    """Keep them, whole or not at all.

    Raises:
        OSError: the file cannot be written.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    write_json(path, {"format": FORMAT, "entries": [entry.as_values() for entry in entries[:MOST]]})
