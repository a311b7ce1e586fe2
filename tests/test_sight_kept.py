"""What is kept of a look into a level is read as it was, and what is not of that kind is looked at anew."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import room
from ropebell.build.sighting import as_json, in_words, known_sight, sight_of
from ropebell.build.store import Store
from ropebell.checks.subject import Subject
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, box, quad
from ropebell.level.brief import Brief
from ropebell.level.prepare import prepare
from ropebell.sight.sight import digest_of_sight

CELL = 1.0


def _subject(*shapes: Shape) -> Subject:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    for number, shape in enumerate(shapes):
        b.add("g", f"piece {number}", shape, "grey", at(0.1, 0.2, 0.3))
    level = b.level(Path("a.glb"))
    return Subject(level, prepare(level, Brief(), {}).scene)


@pytest.fixture(scope="module")
def a_room() -> Subject:
    """A closed room of 3 × 2.5 × 3 m with a crate."""
    return _subject(room(3, 2.5, 3), box((1, 0, 1), (1.6, 0.6, 1.6)))


def test_what_is_kept_is_read_as_it_was(a_room: Subject, tmp_path: Path) -> None:
    store = Store(tmp_path)
    found, known = sight_of(a_room, CELL, 1, store)
    again = known_sight(a_room, CELL, store)
    assert not known and again is not None and found.sealed and found.inside
    assert as_json(again, a_room.scene, 8.0) == as_json(found, a_room.scene, 8.0)


SPOILED: dict[str, Any] = {
    "sealed is a word": ("meta", "sealed", "yes"),
    "no cell size": ("meta", "size", 0.0),
    "a width that is text": ("meta", "widths", ["wide"]),
    "more leaks than places": ("meta", "widths", [0.1]),
    "blockers that are lists": ("meta", "blockers", [["a", 1, 2.0, 0.5]]),
    "costs of wrong kinds": ("meta", "costs", [{"node": 3}]),
    "nodes that are numbers": ("meta", "nodes", [[1]]),
    "something missing": ("meta", "inside", None),
    "cells beyond the end": ("array", "number", lambda a: a + 1000),
    "cells of another kind": ("array", "number", lambda a: a.astype(np.float64)),
    "middles that are no numbers": ("array", "middles", lambda a: a * np.nan),
    "seen by too few": ("array", "seen", lambda a: a[:-1]),
    "starts that run backwards": ("array", "starts", lambda a: a - 1),
    "faces of another level": ("array", "unseen", lambda a: a[:-1]),
    "narrow cells that are none": ("array", "narrow", lambda a: np.array([-5], np.int32)),
}


@pytest.mark.parametrize("how", SPOILED)
def test_what_is_spoiled_with_a_right_checksum_is_looked_at_anew(a_room: Subject, tmp_path: Path, how: str) -> None:
    store = Store(tmp_path)
    right, _ = sight_of(a_room, CELL, 1, store)
    digest = digest_of_sight(a_room.level, a_room.scene, a_room.brief, CELL, False)
    kept = store.get(digest)
    assert kept is not None
    arrays, meta = {k: np.array(v) for k, v in kept.arrays.items()}, dict(kept.meta)
    where, name, value = SPOILED[how]
    if where == "meta":
        meta[name] = value
    else:
        arrays[name] = value(arrays[name])
    store.put(digest, arrays, meta, over=True)
    other = Store(tmp_path)
    assert known_sight(a_room, CELL, other) is None
    again, known = sight_of(a_room, CELL, 1, other)
    assert not known and again.pairs == right.pairs


FLOOR = quad([(-2, 0, 2), (2, 0, 2), (2, 0, -2), (-2, 0, -2)])
OPEN = {
    "a slab": (box((-2, -0.2, -2), (2, 0, 2)),),
    "a floor with a cube": (FLOOR, box((0.5, 0, 0), (1.1, 0.6, 0.6))),
    "a floor with a large cube in its middle": (FLOOR, box((-1, 0, -1), (1, 2, 1))),
    "three floors in one place": (FLOOR, FLOOR, FLOOR),
    "two walls": (box((-2, 0, -2), (-1.8, 2, 2)), box((1.8, 0, -2), (2, 2, 2))),
    "a solid in a solid": (box((-2, -2, -2), (2, 2, 2)), box((-1, -1, -1), (1, 1, 1))),
    "a cube of a tenth of a millimetre": (box((0, 0, 0), (1e-4, 1e-4, 1e-4)),),
    "a slab of a thousand kilometres": (box((-5e5, -1.0, -5e5), (5e5, 0.0, 5e5)),),
}


@pytest.mark.parametrize("what", OPEN)
def test_where_there_is_no_inside_nothing_is_called_sealed(what: str, tmp_path: Path) -> None:
    subject = _subject(*OPEN[what])
    found, _ = sight_of(subject, CELL, 1, Store(tmp_path))
    assert not found.sealed and found.open and not found.leaks and not found.inside
    assert "no inside" in in_words(found)


def test_a_room_is_found_where_the_levels_middle_is_a_solid(tmp_path: Path) -> None:
    pillar = box((1.2, 0, 1.2), (1.8, 2.5, 1.8))
    found, _ = sight_of(_subject(room(3, 2.5, 3), pillar), CELL, 1, Store(tmp_path))
    assert found.sealed and found.inside and len(found.middles) > 0
