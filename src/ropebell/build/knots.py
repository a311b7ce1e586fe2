"""The builds of a level as one looks back on them: what is known of each without reading it whole, and what people
wrote to it. Removing one is done on purpose, and undone until it is cleared away."""

from __future__ import annotations

import contextlib
import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, with_config

from ropebell.build.events import Begin, End, Event, Warned
from ropebell.build.journal import JOURNAL, is_alive, read_events
from ropebell.build.manifest import MANIFEST, read_manifest
from ropebell.build.numbering import ASIDE, keep_number, next_build_folder
from ropebell.build.outputs import BUILD_FILES, BUILD_FOLDERS
from ropebell.build.relocation import Relocation
from ropebell.build.request import Request
from ropebell.build.result import Outcome, outcome
from ropebell.build.timing import conditions_in_words, digest_of_conditions
from ropebell.errors import ProjectError, RopeBellError
from ropebell.files import holds_only, read_json, remove_own, write_json

WORDS = "knot.json"
# How a build ended that was to run some stages only.
STAGES_ONLY = "stages"


class KnotWords(BaseModel):
    """What people wrote to a build, beside it in `knot.json`.

    Attributes:
        note: free text. name: in place of its number. pinned: it is never removed. whose: of which machine, if it was
            taken in from elsewhere.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")
    note: Annotated[str, Field(max_length=20_000)] = ""
    name: Annotated[str, Field(max_length=200)] = ""
    pinned: bool = False
    whose: Annotated[str, Field(max_length=200)] = ""


def read_words(folder: Path) -> KnotWords:
    """What was written to a build; nothing where there is nothing, or it is damaged."""
    try:
        return KnotWords.model_validate(read_json(folder / WORDS, 1 << 20))
    except (OSError, ValueError, ValidationError, RecursionError):
        return KnotWords()


def write_words(folder: Path, words: KnotWords) -> None:
    """Write it, whole or not at all.

    Raises:
        OSError: the folder cannot be written.
    """
    write_json(folder / WORDS, words.model_dump())


@with_config(ConfigDict(allow_inf_nan=False, str_max_length=1 << 20))
@dataclass(frozen=True)
class Knot:
    """One build on the rope.

    Attributes:
        number: counted from 1, never re-used.
        folder: where it lies.
        outcome: how it ended.
        seconds: how long it took, or ran.
        draft: the draft factor, 1 for full.
        faults: findings of weight (errors and warnings).
        recipe: name of the recipe.
        made: when it was done, or began if it never was; an ISO time, empty where nothing tells.
        note, name, pinned, whose: see `KnotWords`.
        scope: how much of the level it lit, in words; empty for everything.
        texels, pages, bytes, memory_mb: of it. stages: seconds by stage.
        conditions: of its timing, in words, such as "2 workers, alone". timed: a name of all of them; times of builds
            are compared where it is the same. findings: keys of all that was found.
    """

    number: int
    folder: Path
    outcome: Outcome
    seconds: float
    draft: int
    faults: int
    recipe: str
    made: str = ""
    note: str = ""
    name: str = ""
    pinned: bool = False
    whose: str = ""
    scope: str = ""
    texels: int = 0
    pages: int = 0
    bytes: int = 0
    memory_mb: int = 0
    conditions: str = ""
    timed: str = ""
    stages: dict[str, float] = field(default_factory=dict)
    findings: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """Its name, or its number."""
        return self.name or f"Build {self.number}"


def read_knot(folder: Path) -> Knot:
    """What a build's folder says of it, whatever state it is in."""
    ended, words = outcome(folder), read_words(folder)
    said: dict[str, Any] = {"name": words.name, "pinned": words.pinned, "whose": words.whose}
    try:
        m = read_manifest(folder)
    except RopeBellError as error:
        if (folder / MANIFEST).is_file():
            ended = Outcome("damaged", str(error))
        return _unfinished(folder, ended, words.note, said)
    return Knot(
        int(folder.name), folder, ended, m.total_seconds, m.recipe.draft,
        sum(f.severity != "note" for f in m.findings), m.recipe.name, m.made, words.note or m.note, **said,
        scope="" if m.scope.everywhere else m.scope.words, texels=m.texels, pages=len(m.pages),
        bytes=sum(p.bytes for p in m.pages), memory_mb=m.peak_memory_mb, conditions=conditions_in_words(m),
        timed=digest_of_conditions(m), stages={name: seconds for name, seconds in m.seconds.items() if name != "total"},
        findings=tuple(f.key for f in m.findings),
    )  # fmt: skip


def _unfinished(folder: Path, ended: Outcome, note: str, said: dict[str, Any]) -> Knot:
    events = read_events(folder)
    found = [e.finding for e in events if isinstance(e, Warned)]
    faults = sum(f.severity != "note" for f in found)
    end = next((e for e in reversed(events) if isinstance(e, End)), None)
    if end is not None and end.outcome == "done" and end.stage:
        ended = Outcome(STAGES_ONLY, f"Done up to the stage '{end.stage}', as was asked; what it gave is kept.")
    seconds = events[-1].t if events else 0.0
    asked = asked_for(events, folder)
    begun = next((e.begun for e in events if isinstance(e, Begin)), "")
    draft, recipe, scope = 1, "", ""
    if asked is not None:
        draft, recipe, note = asked.recipe.draft, asked.recipe.name, note or asked.note
        scope = "" if asked.scope.everywhere and not asked.scope.stage else asked.scope.words
    return Knot(
        int(folder.name), folder, ended, seconds, draft, faults, recipe, begun, note, **said, scope=scope,
        findings=tuple(f.key for f in found),
    )  # fmt: skip


def asked_for(events: list[Event], folder: Path) -> Request | None:
    """The request that a build's journal holds, with the places that its files have now.

    Args:
        folder: of the build.
    """
    begin = next((e for e in events if isinstance(e, Begin)), None)
    try:
        asked = Request.from_json(begin.request) if begin is not None else None
        return None if asked is None else Relocation(str(asked.out), folder).request(asked, folder)
    except RopeBellError:
        return None


# -- removing


def set_aside(folder: Path) -> int:
    """Take a build off the rope; it is still there to be brought back. The bytes that clearing it away frees.

    Raises:
        ProjectError: it is pinned or under way, or cannot be moved.
    """
    if read_words(folder).pinned:
        raise ProjectError("it is pinned", folder, "Unpin it first")
    if is_alive(folder):
        raise ProjectError("it is under way", folder, "Stop it first")
    freed = size_of(folder)
    try:
        folder.rename(_aside(folder))
    except OSError as error:
        raise ProjectError(f"it cannot be moved ({error.strerror})", folder, "Check the permissions") from error
    return freed


def bring_back(folder: Path) -> None:
    """Put a build that was set aside back on the rope.

    Raises:
        ProjectError: it is gone, or cannot be moved.
    """
    try:
        _aside(folder).rename(folder)
    except OSError as error:
        remedy = "It was cleared away; build again"
        raise ProjectError(f"it cannot be brought back ({error.strerror})", folder, remedy) from error


def clear_away(builds: Path) -> list[Path]:
    """Remove what was set aside for good; a folder that holds anything but a build stays."""
    if not builds.is_dir():
        return []
    found = sorted(p for p in builds.iterdir() if ASIDE.fullmatch(p.name))
    if found:
        with contextlib.suppress(OSError):
            keep_number(builds)
    return [p for p in found if remove_own(p, BUILD_FILES, BUILD_FOLDERS)]


def size_of(folder: Path) -> int:
    """Bytes in a build's folder."""
    total = 0
    for base, _, files in os.walk(folder):
        for name in files:
            with contextlib.suppress(OSError):
                total += (Path(base) / name).lstat().st_size
    return total


def _aside(folder: Path) -> Path:
    return folder.with_name(f".removed-{folder.name}")


# -- from elsewhere


def take_in(source: Path, builds: Path) -> Path:
    """Copy a build of another machine onto this rope, as the newest; its folder.

    Raises:
        ProjectError: it is no build, or it cannot be copied.
    """
    if not (source / MANIFEST).is_file() and not (source / JOURNAL).is_file():
        raise ProjectError("there is no build in it", source, "Name the folder of a build")
    try:
        strange = holds_only(source, BUILD_FILES, BUILD_FOLDERS)
        if strange:
            raise ProjectError(f"it holds what is no build's ({strange})", source, "Name the folder of a build")
        folder = next_build_folder(builds)
        shutil.copytree(source, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("live", ".*"))
        words = read_words(folder)
        if not words.whose:
            machine = _machine_of(folder)
            write_words(folder, words.model_copy(update={"whose": machine or source.resolve().parent.name}))
    except OSError as error:
        remedy = "Check the disk and the permissions"
        raise ProjectError(f"it cannot be copied ({error.strerror or error})", source, remedy) from error
    return folder


def _machine_of(folder: Path) -> str:
    try:
        return str(read_manifest(folder).machine.get("system", ""))[:80]
    except RopeBellError:
        return ""
