"""Numbers of builds: counted from 1, and never given twice, whatever was removed since."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

from ropebell.files import make_folder, read_json, write_json

NUMBER = re.compile(r"[0-9]{1,9}")
# Builds that are set aside until the session ends; they keep their numbers.
ASIDE = re.compile(r"\.removed-([0-9]{1,9})")
# The highest number that was ever given, once a build was cleared away.
LAST = ".last.json"


def build_folders(builds: Path) -> list[Path]:
    """The numbered build folders, oldest first."""
    if not builds.is_dir():
        return []
    return sorted((p for p in builds.iterdir() if p.is_dir() and NUMBER.fullmatch(p.name)), key=lambda p: int(p.name))


def highest_number(builds: Path) -> int:
    """The highest number that a build ever had in this folder."""
    names = [p.name for p in builds.iterdir()]
    numbers = [int(name) for name in names if NUMBER.fullmatch(name)]
    numbers += [int(m[1]) for name in names if (m := ASIDE.fullmatch(name))]
    with contextlib.suppress(OSError, ValueError, RecursionError):
        last = read_json(builds / LAST, 64)
        numbers += [last] if isinstance(last, int) and 0 <= last < 10**9 else []
    return max(numbers, default=0)


def keep_number(builds: Path) -> None:
    """Note the highest number before builds are cleared away.

    Raises:
        OSError: the folder cannot be written.
    """
    write_json(builds / LAST, highest_number(builds))


def next_build_folder(builds: Path) -> Path:
    """A fresh numbered folder below `builds`, created.

    Raises:
        OSError: the folder cannot be made.
    """
    builds.parent.mkdir(parents=True, exist_ok=True)
    make_folder(builds)
    number = highest_number(builds) + 1
    while True:
        folder = builds / f"{number:04d}"
        try:
            folder.mkdir()
        except FileExistsError:
            number += 1
        else:
            return folder
