"""Builds as one looks back on them: notes, names, pins, removing and bringing back, the index, builds of others."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from helpers import bake, level_file, recipe, room
from ropebell.build import rope_index
from ropebell.build.journal import Journal
from ropebell.build.knots import (
    KnotWords,
    bring_back,
    clear_away,
    read_knot,
    read_words,
    set_aside,
    size_of,
    take_in,
    write_words,
)
from ropebell.build.manifest import MANIFEST, Manifest, read_manifest
from ropebell.build.numbering import build_folders, next_build_folder
from ropebell.build.rope_index import INDEX, read_knots
from ropebell.build.timing import digest_of_conditions, unlike_conditions
from ropebell.demo.builder import LevelBuilder, at
from ropebell.errors import ProjectError
from ropebell.level.model import Light


@pytest.fixture(scope="module")
def one(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A finished build."""
    folder = tmp_path_factory.mktemp("knots")
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(2, 2, 2), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 20.0), at(1, 1, 1))
    bake(level_file(folder, b), recipe("sketch"), folder / "0001")
    return folder / "0001"


@pytest.fixture
def builds(one: Path, tmp_path: Path) -> Path:
    """A rope with three builds: two that were done, and one that died between them."""
    folder = tmp_path / "project" / "builds"
    for number in (1, 3):
        shutil.copytree(one, folder / f"{number:04d}")
    (folder / "0002").mkdir()
    Journal(folder / "0002").close()
    return folder


def test_a_knot_tells_what_is_known_of_a_build(builds: Path) -> None:
    first, died, last = read_knots(builds)
    assert [k.number for k in (first, died, last)] == [1, 2, 3]
    assert first.outcome.state == "done" and died.outcome.state == "died"
    assert first.texels > 0 and first.pages == 1 and first.bytes > 0 and first.stages["transport"] > 0
    assert first.title == "Build 1" and "worker" in first.conditions and first.scope == ""


CHANGES = (
    {"machine": {"load": 0.2}}, {"machine": {"load": 3.0}}, {"machine": {"workers": 99}}, {"machine": {"system": "x"}},
    {"machine": {"watched": False}}, {"machine": {"libraries": {"numpy": "0"}}}, {"program": {"version": "0"}},
    {"reused": ("charts",)}, {"recipe": {"limits": {"workers": 7}}},
)  # fmt: skip


@pytest.mark.parametrize("change", CHANGES, ids=str)
def test_the_plot_joins_what_a_comparison_calls_comparable(one: Path, change: dict[str, Any]) -> None:
    m = read_manifest(one)
    m = m.model_copy(update={"machine": {**m.machine, "load": 0.1}})
    values = m.model_dump()
    for key, value in change.items():
        values[key] = {**values[key], **value} if isinstance(value, dict) else value
    other = Manifest.model_validate(values)
    unlike = unlike_conditions(m, other)
    assert (digest_of_conditions(m) == digest_of_conditions(other)) == (not unlike)
    # A little more load, or a wish for other workers than those that there were, changes no time.
    assert bool(unlike) == (change not in (CHANGES[0], CHANGES[-1]))


def test_what_people_write_stays_with_the_build(builds: Path) -> None:
    write_words(builds / "0001", KnotWords(note="leak at the sluice", name="Before the fix", pinned=True))
    knot = read_knots(builds)[0]
    assert (knot.note, knot.title, knot.pinned) == ("leak at the sluice", "Before the fix", True)
    (builds / "0001" / "knot.json").write_text("[")
    assert read_words(builds / "0001") == KnotWords()


def test_a_removed_build_comes_back_until_it_is_cleared_away(builds: Path) -> None:
    size = size_of(builds / "0003")
    assert set_aside(builds / "0003") == size > 1000
    assert [k.number for k in read_knots(builds)] == [1, 2]
    assert next_build_folder(builds).name == "0004"
    bring_back(builds / "0003")
    assert [k.number for k in read_knots(builds)] == [1, 2, 3, 4]
    for number in ("0003", "0004"):
        set_aside(builds / number)
    assert len(clear_away(builds)) == 2 and [f.name for f in build_folders(builds)] == ["0001", "0002"]
    with pytest.raises(ProjectError, match="cannot be brought back"):
        bring_back(builds / "0003")
    # Its number is not given again.
    assert next_build_folder(builds).name == "0005"


def test_pinned_and_running_builds_are_not_removed(builds: Path) -> None:
    write_words(builds / "0001", KnotWords(pinned=True))
    with pytest.raises(ProjectError, match="pinned"):
        set_aside(builds / "0001")
    journal = Journal(builds / "0002")
    with pytest.raises(ProjectError, match="under way"):
        set_aside(builds / "0002")
    journal.close()


def test_clearing_away_takes_builds_alone(builds: Path) -> None:
    set_aside(builds / "0003")
    (builds / ".removed-0003" / "holiday.jpg").write_bytes(b"x")
    other = builds / ".removed-9"
    other.symlink_to(builds.parent.parent)
    assert clear_away(builds) == [] and (builds / ".removed-0003" / MANIFEST).is_file() and other.is_symlink()


def test_the_index_is_made_again_when_it_is_damaged_or_old(builds: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    wanted = read_knots(builds)
    index = builds.parent / INDEX
    read = []
    monkeypatch.setattr(rope_index, "read_knot", lambda folder: read.append(folder.name) or read_knot(folder))
    assert read_knots(builds) == wanted and read == ["0002"]  # whether it still runs is asked each time
    index.write_bytes(b"no database at all, but long enough to be taken for one" * 100)
    assert read_knots(builds) == wanted and len(read) == 4
    assert index.with_name(f"{INDEX}.damaged").is_file()
    assert read_knots(builds) == wanted and len(read) == 5
    with sqlite3.connect(index) as base:
        base.execute("PRAGMA user_version = 99")
    assert read_knots(builds) == wanted and len(read) == 8
    with sqlite3.connect(index) as base:
        base.execute("UPDATE builds SET knot = '{' WHERE number = 1")
    assert read_knots(builds) == wanted and len(read) == 10


def test_an_entry_follows_the_files_it_is_made_of(builds: Path) -> None:
    read_knots(builds)
    write_words(builds / "0003", KnotWords(name="later"))
    (builds / "0001" / MANIFEST).write_text("{}")
    first, _, last = read_knots(builds)
    assert first.outcome.state == "damaged" and last.title == "later"
    shutil.rmtree(builds / "0001")
    assert [k.number for k in read_knots(builds)] == [2, 3]


def test_the_index_is_only_a_copy(builds: Path) -> None:
    """On a disk that cannot be written, the builds are read themselves."""
    index = builds.parent / INDEX
    index.symlink_to(builds / "elsewhere")
    assert [k.number for k in read_knots(builds)] == [1, 2, 3] and not (builds / "elsewhere").exists()


def test_a_build_from_elsewhere_is_taken_in(builds: Path, one: Path, tmp_path: Path) -> None:
    taken = take_in(one, builds)
    knot = read_knot(taken)
    assert taken.name == "0004" and knot.whose and knot.outcome.state == "done"
    for odd in (tmp_path, builds):
        with pytest.raises(ProjectError, match="no build"):
            take_in(odd, builds)
    strange = tmp_path / "strange"
    shutil.copytree(one, strange)
    (strange / "readme.txt").write_text("x")
    with pytest.raises(ProjectError, match=r"no build's \(readme.txt\)"):
        take_in(strange, builds)
    assert [k.number for k in read_knots(builds)] == [1, 2, 3, 4]


EVIL = {
    "a view named like the table": (
        "DROP TABLE builds; CREATE VIEW builds AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) "
        "SELECT x AS number, hex(zeroblob(100000)) AS stamp, hex(zeroblob(100000)) AS knot FROM n"
    ),
    "a trigger": "CREATE TRIGGER t AFTER INSERT ON builds BEGIN DELETE FROM builds; END",
    "another table": "CREATE TABLE more (x)",
    "other columns": "DROP TABLE builds; CREATE TABLE builds (number INTEGER PRIMARY KEY, stamp TEXT)",
    "a row as long as a disk": "UPDATE builds SET knot = hex(zeroblob(5000000))",
    "numbers for text": "UPDATE builds SET knot = 7, stamp = x'00ff'",
    "lists for numbers": 'UPDATE builds SET knot = replace(knot, \'"texels": \', \'"texels": [[1]], "was": \')',
    "no outcome": "UPDATE builds SET knot = replace(knot, '\"outcome\"', '\"income\"')",
    "an outcome that is a list": 'UPDATE builds SET knot = replace(knot, \'"outcome": {\', \'"outcome": [], "x": {\')',
    "infinite seconds": 'UPDATE builds SET knot = replace(knot, \'"seconds": \', \'"seconds": Infinity, "was": \')',
    "findings of wrong kinds": "UPDATE builds SET knot = replace(knot, '\"findings\": [', '\"findings\": [{}, 3,')",
    "deep nesting": "UPDATE builds SET knot = replace(hex(zeroblob(50000)), '00', '[')",
}


@pytest.mark.parametrize("how", EVIL)
def test_an_index_from_strangers_is_as_good_as_none(builds: Path, how: str) -> None:
    right = read_knots(builds)
    index = builds.parent / INDEX
    with sqlite3.connect(index) as base:
        base.executescript(EVIL[how])
    base.close()
    assert read_knots(builds) == right
    assert read_knots(builds) == right  # and what was made of it holds
