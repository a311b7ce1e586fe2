"""Which findings were seen before, kept beside the project so that new ones stand out."""

from __future__ import annotations

from ropebell.build.project import Project
from ropebell.files import read_json, remove_files, write_json

CHECKED_FILE = "checked.json"


def read_checked(project: Project) -> frozenset[str] | None:
    """Keys of the findings that were seen, None if none ever were or the file is damaged."""
    try:
        values = read_json(project.folder / CHECKED_FILE)
        return frozenset(str(key) for key in values["seen"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def write_checked(project: Project, keys: frozenset[str] | None) -> None:
    """Keep the keys, whole or not at all; None: none ever were seen.

    Raises:
        OSError: the folder cannot be written.
    """
    project.folder.mkdir(parents=True, exist_ok=True)
    if keys is None:
        remove_files(project.folder, [CHECKED_FILE])
        return
    write_json(project.folder / CHECKED_FILE, {"seen": sorted(keys)})
