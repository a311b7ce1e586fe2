"""What checks used to miss, and what they used to cry at: each with and without the fault, at several sizes."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from ropebell.checks.run import check
from ropebell.demo.shapes import ball, box, cylinder, joined, quad
from ropebell.level.brief import Brief, Mark
from ropebell.level.finding import Finding
from ropebell.level.model import Light
from small_levels import SQUARE_WORLDS, WORLDS, Hall


def kinds(hall: Hall, brief: Brief | None = None) -> set[tuple[str, str]]:
    return {(f.kind, f.object) for f in _found(hall, brief)}


def _found(hall: Hall, brief: Brief | None) -> list[Finding]:
    return check(hall.subject(brief or Brief()))


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_a_door_leaf_is_thin_and_shelves_pictures_and_table_tops_are_not(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("door leaf", box((2.0, 0.0, 1.0), (2.9, 2.0, 1.03)))
    hall.add("picture", box((-1, 1, 3.56), (0.5, 2, 3.6)))
    hall.add("chair back", joined([box((-1, 0, -1), (-0.5, 0.45, -0.5)), box((-1, 0.45, -1), (-0.5, 0.95, -0.97))]))
    assert {name for kind, name in kinds(hall) if kind == "thin-wall"} == {"hall/door leaf"}


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_what_stands_in_the_ground_is_planted_and_what_crosses_is_told(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("post", box((3, -0.2, 0), (3.2, 1.5, 0.2)))
    hall.add("beam", box((-4.8, 3.0, 0), (4.8, 3.3, 0.3)))
    assert not [name for kind, name in kinds(hall) if kind == "crossing"]
    hall.add("parcel", box((-2.5, 0.5, -1.5), (-1.9, 1.0, -0.9)))
    assert {name for kind, name in kinds(hall) if kind == "crossing"} == {"hall/parcel"}


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_what_only_touches_or_lies_flush_crosses_nothing(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    for number in range(6):  # stairs side by side, and a landing that they lead to
        low = -3 + 0.3 * number
        hall.add(f"stair {number}", box((2, 0, low), (3, 0.2 * (number + 1), low + 0.3)))
    hall.add("landing", box((2, 0, -1.2), (3, 1.2, 0)))
    hall.add("crate below", box((-3, 0, 1), (-2.4, 0.6, 1.6)))
    hall.add("crate beside", box((-2.4, 0, 1), (-1.8, 0.6, 1.6)))
    hall.add("crate on both", box((-2.7, 0.6, 1.1), (-2.1, 1.2, 1.7)))
    hall.add("garden wall", box((-1, 0, 2), (-0.8, 1, 3)))
    hall.add("its cap", box((-1.1, 1, 1.9), (-0.7, 1.1, 3.1)))
    # A beam let into a lintel, its top in one plane with it.
    hall.add("lintel", box((-1.5, 2, 3), (2.5, 2.5, 3.25)))
    hall.add("beam", box((0.4, 2.2, -3), (0.6, 2.5, 3.1)))
    assert not [name for kind, name in kinds(hall) if kind == "crossing"]


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_what_runs_right_through_is_told_whichever_way_its_edges_go(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("pillar", box((2, 0, 0), (2.4, 3.5, 0.4)))
    hall.add("plank", box((0.5, 1, 0.1), (3.5, 1.05, 0.3)))
    # The rim of a flat face in triangles is an edge, its diagonal is none: a post there stands in it as elsewhere.
    hall.add("platform", box((-4, 0, 0.4), (-1, 0.3, 3.4)))
    hall.add("post", box((-2.55, 0.1, 1.85), (-2.45, 1, 1.95)))
    assert {name for kind, name in kinds(hall) if kind == "crossing"} == {"hall/plank"}


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_backs_that_nobody_sees_are_no_trouble(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    # A ground sheet below, and the one-sided lining of a cellar: their backs look into the earth.
    hall.add("ground", quad([(-30, -0.5, 30), (30, -0.5, 30), (30, -0.5, -30), (-30, -0.5, -30)]))
    hall.add("lining", box((-2, -3, -2), (2, -1, 2)).turned_inside_out())
    assert not [name for kind, name in kinds(hall) if kind == "open-back"]


@pytest.mark.parametrize("askew", [0.0, 0.31])
@pytest.mark.parametrize(("size", "turn"), SQUARE_WORLDS)
def test_a_level_that_stands_askew_has_axes_of_its_own(size: float, turn: float, askew: float) -> None:
    hall = Hall(size, turn + askew)
    assert not [name for kind, name in kinds(hall) if kind == "odd-angle"]
    hall.add("crooked", box((0, 1, 0), (1, 1.5, 0.5)).rotated(1, math.radians(0.4)))
    assert [name for kind, name in kinds(hall) if kind == "odd-angle"] == ["hall/crooked"]


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_a_ball_at_rest_touches_and_a_box_a_hair_off_does_not(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("ball", ball(0.4, 12, 18).moved(3, 0.4, 2))
    assert not [name for kind, name in kinds(hall) if kind == "hair-gap"]
    hall.add("box", box((3, 0.0005, -1), (3.6, 0.5, -0.4)))
    assert [name for kind, name in kinds(hall) if kind == "hair-gap"] == ["hall/box"]


def test_a_bulb_in_a_globe_that_casts_nothing_is_free() -> None:
    hall = Hall()
    hall.add("lamp globe", ball(0.3, 10, 14).moved(1.0, 2.5, 0.0))
    assert ("light-in-solid", "lights/lamp") in kinds(hall)
    free = Brief(marks={"hall/lamp globe": Mark(casts=False)})
    assert ("light-in-solid", "lights/lamp") not in kinds(hall, free)


@pytest.mark.parametrize("color", [(-1.0, -0.5, -0.2), (0.5, -0.1, 0.5)])
def test_a_light_below_zero_in_any_channel_is_negative_and_not_off(color: tuple[float, float, float]) -> None:
    hall = Hall()
    hall.b.light("odd", Light("odd", "point", color, 10.0), hall.at((0, 2, 0)))
    found = kinds(hall)
    assert ("negative-light", "lights/odd") in found and ("light-off", "lights/odd") not in found


@pytest.mark.parametrize(("white", "told"), [(0.86, False), (0.9, False), (0.92, True), (0.99, True)])
def test_real_surfaces_stay_below_ninety_percent(white: float, told: bool) -> None:
    hall = Hall()
    hall.b.material("paint", (white, white, white))
    hall.add("painted", box((1, 0, -3), (2, 1, -2)), "paint")
    assert (("too-white", "paint") in kinds(hall)) is told


@pytest.mark.parametrize(("squeeze", "told"), [(1.0, False), (1.5, False), (3.0, True), (8.0, True)])
def test_coordinates_squeezed_along_one_way_are_stretched(squeeze: float, told: bool) -> None:
    hall = Hall()
    sheet = quad([(0, 0.5, 0), (2, 0.5, 0), (2, 1.5, 0), (0, 1.5, 0)])
    # Sides of 2 by 1 on a square page: by the same factor everywhere, so that no area tells it.
    uv = np.abs(sheet.uv) * [0.5, squeeze / 2]
    hall.b.add("hall", "sheet", sheet, "wood", hall.world)
    assert (("coordinates-stretched", "hall/sheet") in _with_own(hall, "hall/sheet", uv / uv.max())) is told


def _with_own(hall: Hall, path: str, uv: np.ndarray) -> set[tuple[str, str]]:
    """The findings where an object has lightmap coordinates of its own."""
    subject = hall.subject()
    node = subject.scene.node_names.index(path)
    rows = subject.scene.node == node
    uv1 = subject.scene.uv1.copy()
    uv1[rows] = uv[subject.scene.vertices[rows]]
    scene = replace(subject.scene, uv1=uv1)
    return {(f.kind, f.object) for f in check(replace(subject, scene=scene))}


def test_cylinders_of_columns_stand_on_floors_without_a_word() -> None:
    hall = Hall()
    for k in range(6):
        hall.add(f"column {k}", cylinder(0.2, 4.0, 12).moved(-3.5 + 1.2 * k, 0, 3))
    quiet: Callable[[str], bool] = lambda kind: kind in ("crossing", "hair-gap", "open-back", "thin-wall")  # noqa: E731
    assert not [found for found in kinds(hall) if quiet(found[0])]
