"""The log of a hunt: one JSON line for each run, written as it ends. A hunt that was cut off goes on from it."""

from __future__ import annotations

import contextlib
import json
import math
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ropebell.errors import ProjectError, step, why
from ropebell.files import open_own, read_json, read_regular
from ropebell.hunt.steadiness import Verdict
from ropebell.hunt.trial import Run

LOG, STEER, RESULT = "hunt.jsonl", "steer.json", "result.json"
VERSION = 1
# What else a hunt writes into its folder.
WRITTEN = (RESULT, "case.html", "fix.glb", "fix.txt")


Text = Annotated[str, Field(max_length=1 << 20)]
Names = Annotated[tuple[Text, ...], Field(max_length=1 << 20)]


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


class Steering(BaseModel):
    """What a person wants of the rest of a hunt, as the window writes it.

    Attributes:
        first: paths of objects to be tried first. trust: that are left in. leave_out: that are left out.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    rest: bool = False
    stop: bool = False
    first: Names = Field((), alias="try")
    trust: Names = ()
    leave_out: Names = ()

    @property
    def search(self) -> tuple[tuple[str, ...], ...]:
        """What of it bears on the search."""
        return self.first, self.trust, self.leave_out


class _Line(BaseModel):
    """A run as a line of the log, which anyone may have written."""

    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)

    key: Text
    phase: Text
    what: Text
    objects: Annotated[int, Field(ge=0, le=2**40)]
    some: Names
    box: Annotated[tuple[float, ...], Field(max_length=6)]
    within: Text
    verdict: Verdict
    seconds: Annotated[float, Field(ge=0, le=1e9)]
    told: Text = ""
    near: bool = False
    names: Names = ()
    value: float | None = None


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
            values = _values(path)
        except FileNotFoundError:
            return
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
            run = asdict(entry.run)
            if run["value"] is not None and not math.isfinite(run["value"]):
                run["value"] = None  # JSON has no such number
            self._write({**{k: v for k, v in asdict(entry).items() if k != "run"}, **run})

    def _write(self, values: dict[str, Any]) -> None:
        try:
            os.write(self._file, (json.dumps(values, ensure_ascii=False) + "\n").encode())
            os.fsync(self._file)
        except OSError as error:
            raise ProjectError(f"the log cannot be written ({why(error)})", self.folder or "", step(error)) from error

    def steering(self) -> Steering:
        """What a person wants of the rest of the hunt; nothing where the file is none of that kind."""
        if self.folder is not None:
            with contextlib.suppress(OSError, ValueError):  # a model's refusal is a ValueError, too
                return Steering.model_validate(read_json(self.folder / STEER))
        return Steering()

    def close(self) -> None:
        """Close the log."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def _values(path: Path) -> list[dict[str, Any]]:
    """The lines of a log as they stand in it; damaged ones are left out.

    Raises:
        OSError: it cannot be read.
    """
    try:
        text = read_regular(path).decode("utf-8", "replace")
    except ValueError:
        return []
    # By line feeds alone: names of objects may hold what else counts as the end of a line.
    parsed = (_parsed(line) for line in text.split("\n") if line)
    return [v for v in parsed if isinstance(v, dict)]


def _parsed(line: str) -> Any:
    try:
        return json.loads(line)
    except (ValueError, RecursionError):
        return None  # the last one may be half-written


def _entry(values: dict[str, Any]) -> Entry | None:
    try:
        v = _Line.model_validate(values)
    except ValidationError:
        return None
    run = Run(v.verdict, v.seconds, v.told, v.near, v.names, v.value)
    return Entry(v.key, v.phase, v.what, v.objects, v.some, v.box, v.within, run)


def read_log(folder: Path) -> list[Entry]:
    """The runs of a hunt as far as its log goes, for whoever watches it; empty if there is none."""
    try:
        return [e for v in _values(folder / LOG)[1:] if (e := _entry(v)) is not None]
    except OSError:
        return []
