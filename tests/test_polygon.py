"""Clipping of small polygons against closed forms and against one another."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from ropebell.charts.polygon import area_and_middle, clip
from ropebell.charts.raster import clip_cell
from ropebell.checks.contact_kernels import clipped
from ropebell.level.model import F64

corner = st.tuples(st.floats(-3, 3, width=32), st.floats(-3, 3, width=32))
triangle = st.tuples(corner, corner, corner).map(lambda c: np.array(c, np.float64))


def area_of(t: F64) -> float:
    (ax, ay), (bx, by) = t[1] - t[0], t[2] - t[0]
    return 0.5 * abs(float(ax * by - ay * bx))


def room_for(t: F64) -> tuple[F64, F64]:
    work = np.zeros((12, 2))
    work[: len(t)] = t
    return work, np.zeros((12, 2))


def both() -> tuple[F64, F64]:
    return np.zeros((12, 2)), np.zeros((12, 2))


def test_a_square_cut_in_the_diagonal_leaves_half() -> None:
    poly, spare = room_for(np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]))
    count = clip(poly, spare, 4, 0.0, 0.0, 5.0, -5.0)
    area, x, y = area_and_middle(poly, count)
    assert (area, x, y) == pytest.approx((0.5, 2 / 3, 1 / 3))
    assert area_and_middle(*(poly, clip(poly, spare, count, 2.0, 0.0, 1.0, 0.0))) == (0.0, 0.0, 0.0)


@settings(deadline=None)
@given(triangle, st.floats(-2, 2), st.floats(-2, 2), st.floats(0, 2 * math.pi))
def test_both_sides_of_a_line_make_the_whole(t: F64, x: float, y: float, angle: float) -> None:
    total, parts = area_of(t), 0.0
    for sign in (1.0, -1.0):
        poly, spare = room_for(t)
        count = clip(poly, spare, 3, x, y, sign * math.cos(angle), sign * math.sin(angle))
        parts += area_and_middle(poly, count)[0]
    assert parts == pytest.approx(total, abs=1e-9)


@settings(deadline=None)
@given(triangle)
def test_the_cells_of_a_grid_share_out_a_triangle(t: F64) -> None:
    found = [(clip_cell(t, float(x), float(y), *both()), (x, y)) for x in range(-4, 4) for y in range(-4, 4)]
    assert sum(area for (area, _, _), _ in found) == pytest.approx(area_of(t), abs=1e-9)
    for (area, x, y), (i, j) in found:
        assert 0 <= area <= 1 + 1e-9
        assert i - 1e-6 <= x <= i + 1 + 1e-6 and j - 1e-6 <= y <= j + 1 + 1e-6


@settings(deadline=None)
@given(triangle, triangle)
def test_an_overlap_is_the_same_from_both_sides_and_no_larger_than_either(a: F64, b: F64) -> None:
    assume(area_of(a) > 1e-3 and area_of(b) > 1e-3)
    one, two = clipped(a, b, *both()), clipped(b, a, *both())
    assert one[0] == pytest.approx(two[0], abs=1e-6)
    assert one[0] <= min(area_of(a), area_of(b)) + 1e-9
    if one[0] > 1e-3:
        assert one[1:] == pytest.approx(two[1:], abs=1e-2)


def test_an_overlap_does_not_depend_on_which_way_round_corners_go() -> None:
    a = np.array([[0.0, 0], [2, 0], [0, 2]])
    b = np.array([[0.0, 0], [1, 0], [0, 1]])
    assert clipped(a, b, *both()) == pytest.approx((0.5, 1 / 3, 1 / 3))
    assert clipped(a, b[::-1].copy(), *both()) == pytest.approx((0.5, 1 / 3, 1 / 3))
    assert clipped(a, b + 5.0, *both())[0] == 0.0
