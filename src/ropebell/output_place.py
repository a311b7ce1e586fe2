"""Checks the places that people name for what a command or the window writes.

A place is a folder that is there or can be made, and one name in it. The name is checked here before anything is
written, so that no command writes over what a person made, through a link, or beside the place that was meant.
"""

from __future__ import annotations

import os
import re
import stat
from pathlib import Path

from ropebell.errors import UsageError, shown

# A report never replaces a file of these endings: people make them, or builds are made of them.
KEPT_ENDINGS = frozenset({".glb", ".gltf", ".bin", ".obj", ".mtl", ".toml", ".exr", ".hdr", ".png", ".jpg", ".jpeg",
                          ".sqlite", ".jsonl", ".zip", ".py"})  # fmt: skip
# A folder with one of these is a build, and nothing in it is replaced by a report.
MARKS_OF_A_BUILD = ("journal.jsonl", "manifest.json")
ZIP = ".zip"
# Names that mean the same on every system; others are packed under the program's own.
PORTABLE = re.compile(r"[\w][\w .()+-]{0,99}")
PACKAGE = "package"


def output_folder(path: Path) -> Path:
    """Checks the place of a folder that is to be written.

    Returns:
        The path with `.` and `..` at its end resolved, so that its last part is a name.

    Raises:
        UsageError: it is a link or a file.
    """
    named = _named(path)
    if named.is_symlink():
        raise UsageError("it is a link, and nothing is written through links", named, "Name the folder itself")
    if os.path.lexists(named) and not named.is_dir():
        raise UsageError("it is a file, not a folder", named, "Name a folder")
    return named


def output_file(path: Path) -> Path:
    """Checks the place of a file that is to be written, and replaced if it is there.

    Raises:
        UsageError: it is a link, a folder or a device; or a file that no report may replace.
    """
    if path.name in ("", ".", ".."):
        raise UsageError("it names a folder, not a file", shown(str(path)) or "''", "Name a file")
    if not os.path.lexists(path):
        return path
    mode = os.lstat(path).st_mode
    if stat.S_ISLNK(mode):
        raise UsageError("it is a link, and nothing is written through links", path, "Remove the link, or name a file")
    if stat.S_ISDIR(mode):
        raise UsageError("it is a folder, not a file", path, "Name a file in it")
    if not stat.S_ISREG(mode):
        raise UsageError("it is no regular file, and would be replaced by one", path, "Name another file")
    if path.suffix.lower() in KEPT_ENDINGS or path.name in MARKS_OF_A_BUILD:
        raise UsageError("it would be lost, and is none that this writes", path, "Name a new file")
    if any((path.absolute().parent / mark).is_file() for mark in MARKS_OF_A_BUILD):
        raise UsageError("it is a file of a build, and would be lost", path, "Name a file outside the build")
    return path


def output_package(path: Path) -> tuple[Path, str]:
    """Checks the place of a package, a new folder or a new `.zip`.

    Returns:
        The path, and the name of the folder that all its files are under.

    Raises:
        UsageError: there is something already, or it has no name.
    """
    name = path.name[: -len(ZIP)] if is_zip(path) else path.name
    if not name.strip(". "):
        raise UsageError("it has no name of its own", shown(str(path)) or "''", "Name a new place for the package")
    if os.path.lexists(path):
        raise UsageError("there is something already", path, "Name a new place for the package")
    return path, name if PORTABLE.fullmatch(name) else PACKAGE


def is_zip(path: Path) -> bool:
    """Whether a package at this place is one file."""
    return path.name.lower().endswith(ZIP)


def _named(path: Path) -> Path:
    if not str(path):
        raise UsageError("it has no name", "''", "Name a folder")
    return path.resolve() if path.name in ("", ".", "..") else path
