"""The index of builds: what the rope and the table need of each, so that five hundred are listed without reading them.

It is a copy, in `rope.sqlite` beside the builds: an entry holds as long as the build's files are as they were when it
was made, and an index that is damaged, or of another version, is made again from the folders. It may come with a
project from strangers, so nothing in it is trusted: it has the one table, of bounded rows, or it is laid aside.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path

from pydantic import TypeAdapter

from ropebell.build.journal import JOURNAL
from ropebell.build.knots import WORDS, Knot, read_knot
from ropebell.build.manifest import MANIFEST
from ropebell.build.numbering import build_folders

INDEX, VERSION = "rope.sqlite", 2
TABLE = "CREATE TABLE builds (number INTEGER PRIMARY KEY, stamp TEXT, knot TEXT)"
# Of what kinds and how long entries may be, and how many are read.
ROWS = """SELECT number, stamp, knot FROM builds WHERE typeof(number) = 'integer' AND typeof(stamp) = 'text'
    AND typeof(knot) = 'text' AND length(stamp) < 200 AND length(knot) < ? LIMIT ?"""
MOST_BYTES, MOST_ROWS = 4 << 20, 100_000
KNOT = TypeAdapter(Knot)
# States that no file says: they are looked up each time.
PASSING = ("running", "died")
# Seconds that another window may hold it.
PATIENCE = 2.0


def read_knots(builds: Path) -> list[Knot]:
    """All builds, oldest first."""
    folders = build_folders(builds)
    if not folders:
        return []
    stamps = {folder: _stamp(folder) for folder in folders}
    path = builds.parent / INDEX
    known = _read(path)
    found, fresh = [], []
    for folder, stamp in stamps.items():
        had = known.get(int(folder.name))
        knot = _of(had[1], folder) if had is not None and had[0] == stamp else None
        if knot is None:
            knot = read_knot(folder)
            if knot.outcome.state not in PASSING:
                fresh.append((stamp, knot))
        found.append(knot)
    gone = known.keys() - {int(folder.name) for folder in folders}
    if fresh or gone:
        _write(path, fresh, gone)
    return found


def _stamp(folder: Path) -> str:
    """Changes with whatever the entry is made of."""
    parts = []
    for name in (MANIFEST, JOURNAL, WORDS):
        try:
            state = (folder / name).stat()
            parts.append(f"{state.st_mtime_ns}.{state.st_size}")
        except OSError:
            parts.append("")
    return " ".join(parts)


def _of(text: str, folder: Path) -> Knot | None:
    try:
        values = json.loads(text)
        return KNOT.validate_python({**values, "folder": folder, "number": int(folder.name)})
    except (ValueError, TypeError, RecursionError):  # a model's refusal is a ValueError, too
        return None


def _open(path: Path) -> sqlite3.Connection:
    base = sqlite3.connect(path, timeout=PATIENCE, isolation_level=None)
    try:
        base.execute("PRAGMA trusted_schema = OFF")
        base.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, 2 * MOST_BYTES)
        (version,) = base.execute("PRAGMA user_version").fetchone()
        schema = base.execute("SELECT type, name, sql FROM sqlite_schema LIMIT 2").fetchall()
        if schema not in ([], [("table", "builds", TABLE)]) or version not in (0, VERSION):
            raise sqlite3.DatabaseError("it is no index of this version")
        base.execute("PRAGMA journal_mode = WAL")
        base.execute("PRAGMA synchronous = NORMAL")
        if not schema:
            base.execute(TABLE)
        base.execute(f"PRAGMA user_version = {VERSION}")
    except sqlite3.Error:
        base.close()
        raise
    return base


def _read(path: Path) -> dict[int, tuple[str, str]]:
    """Stamp and entry by number; nothing where there is no index, or it is damaged."""
    if path.is_symlink() or not path.is_file():
        return {}
    try:
        with contextlib.closing(_open(path)) as base:
            rows = base.execute(ROWS, (MOST_BYTES, MOST_ROWS)).fetchall()
        return {number: (stamp, knot) for number, stamp, knot in rows}
    except sqlite3.OperationalError as error:
        if "locked" not in str(error) and "readonly" not in str(error):
            _drop(path)
        return {}  # held by another window, or on a disk that cannot be written
    except (sqlite3.DatabaseError, ValueError, TypeError):
        _drop(path)
        return {}


def _write(path: Path, fresh: list[tuple[str, Knot]], gone: Iterable[int]) -> None:
    if path.is_symlink():
        return
    rows = [(knot.number, stamp, _text(knot)) for stamp, knot in fresh]
    with contextlib.suppress(sqlite3.Error, OSError), contextlib.closing(_open(path)) as base:
        base.execute("BEGIN IMMEDIATE")
        base.executemany("DELETE FROM builds WHERE number = ?", [(number,) for number in gone])
        base.executemany("INSERT OR REPLACE INTO builds VALUES (?, ?, ?)", rows)
        base.execute("COMMIT")


def _text(knot: Knot) -> str:
    values = asdict(knot)
    del values["folder"], values["number"]
    return json.dumps(values)


def _drop(path: Path) -> None:
    """Make room for a new one; what else may lie there stays."""
    for name in (path.name, f"{path.name}-wal", f"{path.name}-shm"):
        with contextlib.suppress(OSError):
            part = path.with_name(name)
            if part.is_file() and not part.is_symlink():
                part.rename(path.with_name(f"{name}.damaged"))
