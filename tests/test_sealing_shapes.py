"""Round walls of many faces, windows into the open, a missing stone: what is closed is told as closed, what is open as
one way out, at its narrowest, with exactly the pieces round it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, ball, box, quad
from ropebell.level.brief import Brief
from ropebell.level.prepare import prepare
from ropebell.sight.survey import Sealing, survey

START = at(0.1, 0.06, 0.2)


class Made:
    """A level of one material with a start, and what is found of its hull."""

    def __init__(self) -> None:
        self.b = LevelBuilder()
        self.b.material("grey", (0.5, 0.5, 0.5))
        self.b.spot("h", "start", START)

    def add(self, name: str, shape: Shape, place: np.ndarray | None = None) -> None:
        """Put a shape in."""
        self.b.add("g", name, shape, "grey", place)

    def found(self) -> tuple[Sealing, list[set[str]]]:
        """What is found, and the names round each gap."""
        level = self.b.level(Path("a.glb"))
        scene = prepare(level, Brief(), {}).scene
        found = survey(level, scene, Brief(), meant_sealed=True)
        return found, [{scene.node_names[n].removeprefix("g/") for n in nodes} for nodes in found.nodes]


def _dome(missing: int | None) -> Made:
    """A sphere of 4 m with 3,600 faces that look inward, cut by a floor; one of them may be missing."""
    sphere = ball(4.0, 30, 60).turned_inside_out()
    keep = np.ones(len(sphere.triangles), np.bool_)
    if missing is not None:
        high = np.flatnonzero(sphere.positions[sphere.triangles].mean(axis=1)[:, 1] > 1.5)
        keep[high[missing]] = False
    made = Made()
    made.add(
        "dome", Shape(sphere.positions, sphere.normals, sphere.uv, sphere.triangles[keep]), at(0.37, 0.2, 0.11, 0.3)
    )
    made.add("floor", quad([(-6, 0.05, 6), (6, 0.05, 6), (6, 0.05, -6), (-6, 0.05, -6)]))
    return made


def test_a_dome_of_many_faces_is_sealed() -> None:
    found, _ = _dome(None).found()
    assert found.sealed and not found.leaks and found.decided


def test_a_dome_with_one_face_missing_has_one_way_out() -> None:
    found, _ = _dome(400).found()
    (leak,) = found.leaks
    # The largest circle in a face of about 0.42 × 0.35 m.
    assert 0.1 < leak.width < 0.35 and np.linalg.norm(leak.place - [0.37, 0.2, 0.11]) == pytest.approx(4.0, abs=0.15)


@pytest.mark.parametrize(
    ("low", "high", "depth"),
    [((-0.5, 1.0), (0.5, 2.0), 0.3), ((-1.5, 0.8), (1.5, 2.2), 0.3), ((-0.1, 1.3), (0.1, 1.5), 0.3),
     ((-0.3, 0.5), (1.7, 2.6), 0.15)],
)  # fmt: skip
def test_a_window_into_the_open_is_one_way_out_in_its_wall(
    low: tuple[float, float], high: tuple[float, float], depth: float
) -> None:
    made, inner = Made(), 3 - depth
    made.add("floor", box((-4, -0.3, -3), (4, 0, 3)))
    made.add("ceiling", box((-4, 3, -3), (4, 3.3, 3)))
    made.add("west", box((-4, 0, -3), (-3.7, 3, 3)))
    made.add("east", box((3.7, 0, -3), (4, 3, 3)))
    made.add("north", box((-3.7, 0, -3), (3.7, 3, -2.7)))
    made.add("left", box((-3.7, 0, inner), (low[0], 3, 3)))
    made.add("right", box((high[0], 0, inner), (3.7, 3, 3)))
    made.add("below", box((low[0], 0, inner), (high[0], low[1], 3)))
    made.add("above", box((low[0], high[1], inner), (high[0], 3, 3)))
    found, names = made.found()
    (leak,) = found.leaks
    narrow = min(high[0] - low[0], high[1] - low[1])
    assert leak.width == pytest.approx(narrow, rel=0.08)
    assert inner - 0.05 <= leak.place[2] <= 3.05
    assert names == [{"left", "right", "below", "above"}]


def _stone(row: int, number: int, count: int, height: float, radius: float, thick: float) -> Shape:
    """A block of a round tower, whose rows are shifted by half a block."""
    begin, end = (2 * np.pi * (number + k + 0.5 * (row % 2)) / count for k in (0, 1))
    corners = np.array([
        (r * np.cos(a), y, r * np.sin(a))
        for y in (row * height, (row + 1) * height)
        for r, a in ((radius, begin), (radius, end), (radius + thick, end), (radius + thick, begin))
    ], np.float32)  # fmt: skip
    sides = [(0, 1, 2, 3), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]
    faces = np.array([corners[list(t)] for a, b, c, d in sides for t in ((a, b, c), (a, c, d))])
    normals = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    inward = ((faces.mean(axis=1) - corners.mean(axis=0)) * normals).sum(axis=1) < 0
    faces[inward] = faces[inward][:, ::-1]
    normals[inward] *= -1
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    points = faces.reshape(-1, 3).astype(np.float32)
    order = np.arange(len(points), dtype=np.int32).reshape(-1, 3)
    return Shape(points, np.repeat(normals, 3, axis=0).astype(np.float32), points[:, :2].copy(), order)


def test_a_missing_stone_is_told_with_the_six_that_stand_round_it() -> None:
    made = Made()
    for row in range(6):
        for number in range(12):
            if (row, number) != (3, 4):
                made.add(f"stone {row} {number}", _stone(row, number, 12, 0.5, 2.0, 0.4))
    made.add("floor", box((-3, -0.3, -3), (3, 0, 3)))
    made.add("roof", box((-3, 3, -3), (3, 3.3, 3)))
    found, names = made.found()
    (leak,) = found.leaks
    assert leak.width == pytest.approx(0.5, rel=0.1)
    assert names == [{"stone 3 3", "stone 3 5", "stone 2 4", "stone 2 5", "stone 4 4", "stone 4 5"}]
