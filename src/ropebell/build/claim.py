"""A folder that is to become a build: made, or emptied of an earlier build by moving that aside, and nobody else's.

A build's journal is its mark, and the lock on it says that it is under way. Nothing is written into a folder that holds
anything but a build, and nothing in it that is read by the build is ever moved.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

from ropebell.build.journal import JOURNAL, is_alive
from ropebell.build.manifest import MANIFEST
from ropebell.build.outputs import BUILD_FILES, BUILD_FOLDERS
from ropebell.errors import UsageError
from ropebell.files import holds_only, remove_own

# Another build into a folder beside this one holds the place no longer than it takes to begin.
PATIENCE = 60.0


@contextlib.contextmanager
def claimed(out: Path, sources: Iterable[Path]) -> Iterator[Path | None]:
    """Hold the place of a build while it begins; until its journal is there, nobody else can begin one in it.

    Args:
        out: the folder that the build is to have. sources: what it reads.

    Yields:
        Where an earlier build went that lay there, or None.

    Raises:
        UsageError: it is no place for a build, with the reason.
        OSError: it cannot be made.
    """
    out = out.resolve()
    if out.exists() and not out.is_dir():
        raise UsageError("it is a file, not a folder", out, "Name a folder for the build")
    for source in sources:
        if source.resolve().is_relative_to(out):
            raise UsageError(f"{source.name} lies in it, which the build reads", out, "Name another folder")
    out.parent.mkdir(parents=True, exist_ok=True)
    with _held(out.parent, out):
        kept = _make_room(out)
        out.mkdir(exist_ok=True)
        yield kept


@contextlib.contextmanager
def _held(parent: Path, out: Path) -> Iterator[None]:
    """A lock on the folder above: it leaves nothing behind."""
    handle = os.open(parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        until = time.monotonic() + PATIENCE
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until:
                    raise UsageError("another build is about to begin there", out, "Try again") from None
                time.sleep(0.05)
        yield
    finally:
        os.close(handle)


def _make_room(out: Path) -> Path | None:
    if not out.exists():
        return None
    if not any(out.iterdir()):
        return None
    strange = holds_only(out, BUILD_FILES, BUILD_FOLDERS)
    if strange:
        raise UsageError(f"it holds what is no build's ({strange})", out, "Name a new or an empty folder")
    if not any((out / name).is_file() for name in (JOURNAL, MANIFEST)):
        raise UsageError("it is not empty, and holds no build", out, "Name a new or an empty folder")
    if is_alive(out):
        raise UsageError("a build is under way in it", out, "Wait for it, or name another folder")
    number = 1
    while os.path.lexists(kept := out.with_name(f"{out.name}.before-{number}")):
        number += 1
    out.rename(kept)
    return kept


def earlier(out: Path) -> list[Path]:
    """Earlier builds that were kept aside of a folder, oldest first."""
    pattern = re.compile(rf"{re.escape(out.name)}\.before-([0-9]{{1,9}})")
    found = [(int(m[1]), p) for p in out.resolve().parent.iterdir() if (m := pattern.fullmatch(p.name))]
    return [path for _, path in sorted(found)]


def clear_earlier(out: Path) -> list[Path]:
    """Remove them, and return those that are gone; one that holds anything but a build stays."""
    kept = [path for path in earlier(out) if not is_alive(path)]
    return [path for path in kept if remove_own(path, BUILD_FILES, BUILD_FOLDERS)]
