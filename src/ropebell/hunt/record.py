"""The log of a hunt: one JSON line for each run, written as it ends. A hunt that was cut off goes on from it."""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from ropebell.errors import ProjectError, step, why
from ropebell.files import open_own, read_json, read_regular
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT
from ropebell.hunt.trial import Run

LOG, STEER, RESULT = "hunt.jsonl", "steer.json", "result.json"
VERSION = 1
# What else a hunt writes into its folder.
WRITTEN = (RESULT, "case.html", "fix.glb", "fix.txt")


@dataclass(frozen=True)
class Entry:
    """One run as it stands in the log.

    Attributes:
        key: of the trial. phase: of the hunt. what: it was for. objects: how many were in. some: of those, a few by
            name. box: of all of those, six numbers in metres. within: key of the trial that it was cut from.
    """

    key: str
    phase: str
    what: str
    objects: int
    some: tuple[str, ...]
    box: tuple[float, ...]
    within: str
    run: Run


@dataclass
class Record:
    """What was run so far.

    Args:
        folder: of the hunt, None: nothing is kept. about: what has to be the same for a log to go on from.

    Attributes:
        entries: in order.
    """

    folder: Path | None
    about: dict[str, Any]
    entries: list[Entry] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._left = dict[str, list[Run]]()
        self._file = -1
        if self.folder is None:
            return
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._is_a_hunts(self.folder)
            self._read(self.folder / LOG)
            self._file = open_own(self.folder, LOG, os.O_WRONLY | os.O_APPEND)
            if not os.fstat(self._file).st_size:
                self._write({"hunt": VERSION, **self.about})
        except OSError as error:
            raise ProjectError(f"no hunt can be kept there ({why(error)})", self.folder, step(error)) from error

    def _is_a_hunts(self, folder: Path) -> None:
        strange = [name for name in WRITTEN if os.path.lexists(folder / name)]
        if strange and not os.path.lexists(folder / LOG):
            raise ProjectError(f"it holds what is no hunt's ({strange[0]})", folder, "Name a new or an empty folder")

    def _read(self, path: Path) -> None:
        """Take in the runs of an earlier log of the same hunt; a log of another is put aside."""
        try:
            lines = read_regular(path).decode("utf-8", "replace").splitlines()
        except FileNotFoundError:
            return
        except ValueError:
            lines = []
        values = [v for v in map(_parsed, lines) if isinstance(v, dict)]
        if not values or {k: v for k, v in values[0].items() if k != "hunt"} != self.about:
            number = 1
            while (aside := path.with_name(f"{LOG}.before-{number}")).exists():
                number += 1
            os.replace(path, aside)
            return
        for value in values[1:]:
            entry = _entry(value)
            if entry is not None:
                self._left.setdefault(entry.key, []).append(entry.run)

    def kept(self, key: str) -> Run | None:
        """The next run of a trial that an earlier session made."""
        runs = self._left.get(key)
        return runs.pop(0) if runs else None

    def add(self, entry: Entry, anew: bool = True) -> None:
        """One more run.

        Args:
            anew: it was made now; else it stands in the log already.
        """
        self.entries.append(entry)
        if anew and self._file >= 0:
            self._write({**{k: v for k, v in asdict(entry).items() if k != "run"}, **asdict(entry.run)})

    def _write(self, values: dict[str, Any]) -> None:
        try:
            os.write(self._file, (json.dumps(values, ensure_ascii=False) + "\n").encode())
            os.fsync(self._file)
        except OSError as error:
            raise ProjectError(f"the log cannot be written ({why(error)})", self.folder or "", step(error)) from error

    def steering(self) -> dict[str, Any]:
        """What a person wants of the rest of the hunt; empty if nothing."""
        if self.folder is not None:
            with contextlib.suppress(OSError, ValueError):
                found = read_json(self.folder / STEER)
                if isinstance(found, dict):
                    return found
        return {}

    def close(self) -> None:
        """Close the log."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def _parsed(line: str) -> Any:
    try:
        return json.loads(line)
    except (ValueError, RecursionError):
        return None  # the last one may be half-written


def _entry(v: dict[str, Any]) -> Entry | None:
    try:
        if v["verdict"] not in (PRESENT, ABSENT, CANNOT_TELL):
            return None
        value = None if v.get("value") is None else float(v["value"])
        told, names = str(v.get("told", "")), tuple(v.get("names", ()))
        run = Run(v["verdict"], float(v["seconds"]), told, bool(v.get("near")), names, value)
        return Entry(
            str(v["key"]), str(v["phase"]), str(v["what"]), int(v["objects"]), tuple(v["some"]), tuple(v["box"]),
            str(v["within"]), run,
        )  # fmt: skip
    except (LookupError, TypeError, ValueError):
        return None


def read_log(folder: Path) -> list[Entry]:
    """The runs of a hunt as far as its log goes, for whoever watches it; empty if there is none."""
    try:
        lines = read_regular(folder / LOG).decode("utf-8", "replace").splitlines()
    except (OSError, ValueError):
        return []
    return [e for v in map(_parsed, lines[1:]) if isinstance(v, dict) and (e := _entry(v)) is not None]
