"""project.toml between several hands: a window, an editor, a checkout of version control, a second window.

A file is never overwritten unseen. Each save knows what the file was when it was last read or written; where it is
another one by now, both changes are merged key by key, and what both changed is for the person to decide.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import secrets
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ropebell.build.project import PROJECT_FILE, Project, load_project
from ropebell.errors import ProjectError, why
from ropebell.files import read_json, read_regular, write_text

WINDOW_FILE = ".rope-bell-window"
_NOTHING = object()


@dataclass(eq=False)
class Collision(Exception):
    """Both sides changed the same settings.

    Attributes:
        theirs: the project as the file has it. keys: names of what collides, with dots.
        with_theirs, with_ours: both changes in one, with what collides as they have it, or as we do.
    """

    theirs: Project
    keys: tuple[str, ...]
    with_theirs: Project
    with_ours: Project


class ProjectFile:
    """What is known of a project's file.

    Args:
        project: as it was read, or new.
    """

    def __init__(self, project: Project) -> None:
        self._known = project
        self._stamp = stamp(project.folder)

    @property
    def changed(self) -> bool:
        """Whether somebody else has written the file since."""
        return stamp(self._known.folder) != self._stamp

    def save(self, project: Project) -> Project:
        """Write the project; what others changed meanwhile is merged in.

        Returns:
            The project as it is written.

        Raises:
            ProjectError: the file cannot be read or written; it is unchanged.
            Collision: both changed the same settings; nothing is written.
        """
        project = self.merged(project)
        project.save()
        self._known, self._stamp = project, stamp(project.folder)
        return project

    def merged(self, project: Project) -> Project:
        """A project with what others wrote into its file since, which then counts as seen.

        Raises:
            ProjectError: the file cannot be read.
            Collision: both changed the same settings.
        """
        found = stamp(project.folder)
        if found == self._stamp or not found:
            return project  # unchanged, or gone: a file that is not there holds nothing to lose
        theirs = load_project(project.folder / PROJECT_FILE)
        base, ours, other = self._known.as_values(), project.as_values(), theirs.as_values()
        values, keys = merge(base, ours, other)
        merged = Project.of_values(values, project.folder)
        if keys:
            mine, _ = merge(base, other, ours)
            raise Collision(theirs, tuple(keys), merged, Project.of_values(mine, project.folder))
        self._known, self._stamp = theirs, found
        return merged

    def decide(self, theirs: Project) -> None:
        """What the file holds is seen and decided about; the next save writes over it."""
        self._known, self._stamp = theirs, stamp(theirs.folder)


def stamp(folder: Path) -> str:
    """Digest of the project file in a folder, empty where there is none."""
    try:
        return hashlib.sha256(read_regular(folder / PROJECT_FILE)).hexdigest()
    except FileNotFoundError:
        return ""
    except OSError as error:
        remedy = "Check its permissions"
        raise ProjectError(f"it cannot be read ({why(error)})", folder / PROJECT_FILE, remedy) from error


def merge(base: Any, ours: Any, theirs: Any, place: str = "") -> tuple[Any, list[str]]:
    """Two changes of the same nested values as one, and the dotted names of what both changed differently, where
    theirs is taken."""
    if ours == theirs or theirs == base:
        return ours, []
    if ours == base:
        return theirs, []
    tables = [x if isinstance(x, dict) else None for x in (base, ours, theirs)]
    if tables[1] is None or tables[2] is None:
        return theirs, [place]
    was, mine, other = tables[0] or {}, tables[1], tables[2]
    merged: dict[str, Any] = {}
    keys: list[str] = []
    for key in dict.fromkeys([*mine, *other]):
        name = f"{place}.{key}" if place else key
        value, collided = merge(
            was.get(key, _NOTHING), mine.get(key, _NOTHING), other.get(key, _NOTHING), name
        )  # fmt: skip
        keys += collided
        if value is not _NOTHING:
            merged[key] = value
    return merged, keys


class WindowClaim:
    """Which window edits a project. The first one does; another is told and only looks, unless it takes over.

    Args:
        folder: the project's, which need not exist yet.
    """

    def __init__(self, folder: Path) -> None:
        self._path = folder / WINDOW_FILE
        self._token = secrets.token_hex(8)
        self._lock: int | None = None

    def claim(self, take_over: bool = False) -> bool:
        """Become the window that edits; False where another one is, or where none can be told apart.

        Args:
            take_over: even if another one is; it finds out at its next edit.
        """
        if not self._path.parent.is_dir():
            return True  # nothing has been kept there yet
        try:
            lock = os.open(self._path, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
        except OSError:
            return True  # a folder that cannot be written has no editor anyway; saving tells
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(lock)
            if not take_over:
                return False
        else:
            self.release()
            self._lock = lock
        with contextlib.suppress(OSError):
            write_text(self._path.with_suffix(".token"), json.dumps({"token": self._token, "pid": os.getpid()}))
        return True

    @property
    def ours(self) -> bool:
        """Whether this window still is the one that edits."""
        try:
            return bool(read_json(self._path.with_suffix(".token"))["token"] == self._token)
        except FileNotFoundError:
            return True
        except (OSError, ValueError, KeyError, TypeError):
            return False

    def release(self) -> None:
        """Edit no more."""
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None
