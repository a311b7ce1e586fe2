"""The undo list, kept beside the project from one session to the next.

Each step is what the project was before it and after it, as project.toml would hold them. A list that does not lead to
the project as it is now (another program wrote it meanwhile) is not taken: undo never brings back what nobody had.
"""

from __future__ import annotations

import contextlib
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ropebell.build.project import Project
from ropebell.errors import ProjectError
from ropebell.files import read_json, write_text

HISTORY, FORMAT = "history.json", 1
MOST_STEPS, MOST_BYTES = 60, 8 << 20
# Of a project's values: what is no edit, and changes without one.
NO_EDIT = ("view", "prints")


@dataclass(frozen=True)
class Edit:
    """One step: its title, when it was done (seconds since 1970), and the project on both sides."""

    title: str
    at: float
    before: Project
    after: Project


def write_history(edits: list[Edit], undone: int, folder: Path) -> None:
    """Keep the newest steps, whole or not at all; that they cannot be kept is no reason to disturb anyone.

    Args:
        undone: of the last steps, that are undone now.
    """
    some = _chained(edits)[-MOST_STEPS:]
    steps = [{"title": e.title, "at": round(e.at, 1), "after": e.after.as_values()} for e in some]
    base = some[0].before.as_values() if some else {}
    try:
        values = {"format": FORMAT, "undone": min(undone, len(some)), "base": base, "steps": steps}
        text = json.dumps(values, default=list)
    except (TypeError, ValueError):
        return
    if len(text) <= MOST_BYTES:
        with contextlib.suppress(OSError):
            write_text(folder / HISTORY, text)


def read_history(project: Project) -> tuple[list[Edit], int]:
    """The steps that lead to a project, oldest first, and how many of the last are undone; nothing where there are
    none, or they lead elsewhere."""
    try:
        values = read_json(project.folder / HISTORY, MOST_BYTES)
        if values["format"] != FORMAT or not values["steps"]:
            return [], 0
        at, edits = Project.of_values(values["base"], project.folder), []
        for step in values["steps"][:MOST_STEPS]:
            after = Project.of_values(step["after"], project.folder)
            edits.append(Edit(str(step["title"]), float(step["at"]), at, after))
            at = after
        undone = int(values["undone"])
    except (OSError, ValueError, LookupError, TypeError, AttributeError, RecursionError, ProjectError):
        return [], 0
    if not 0 <= undone <= len(edits):
        return [], 0
    now = edits[-1 - undone].after if undone < len(edits) else edits[0].before
    return (edits, undone) if same_edits(now, project) else ([], 0)


def same_edits(a: Project, b: Project) -> bool:
    """Whether two projects say the same, but for what changes without an edit."""
    return _told(a) == _told(b)


def _told(project: Project) -> dict[str, Any]:
    return {key: value for key, value in project.as_values().items() if key not in NO_EDIT}


def _chained(edits: list[Edit]) -> list[Edit]:
    """The last of them that follow from one another without a gap."""
    found: list[Edit] = []
    for edit in reversed(edits):
        if found and not same_edits(edit.after, found[0].before):
            break
        found.insert(0, edit)
    return found
