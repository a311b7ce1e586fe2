"""Converged light, against closed forms of rooms that have nothing to do with each other."""

from __future__ import annotations

import numpy as np
import pytest

from ropebell.light.series import BounceSeries
from ropebell.light.settling import CONVERGED
from ropebell.light.solve import solve
from ropebell.light.transport import Hits


def rooms(*sizes: int, rays: int = 64) -> np.ndarray:
    """(N, R) hit table of closed rooms, whose texels see each other evenly."""
    parts, first = [], 0
    for size in sizes:
        turns = np.arange(size)[:, None] + np.arange(rays)[None, :]
        parts.append(first + turns % size)
        first += size
    return np.concatenate(parts).astype(np.int32)


def grey(*values: float) -> np.ndarray:
    return np.repeat(np.array(values, np.float32)[:, None], 3, axis=1)


def test_a_dim_white_room_is_not_settled_because_sunlit_ground_is() -> None:
    # Ground under the sun that throws nothing back to itself, and a furnace: E = E0 / (1 - albedo).
    table = np.concatenate([np.full((400, 64), -1, np.int32), 400 + rooms(8)])
    light = np.concatenate([grey(*[100_000.0] * 400), grey(*[50.0] * 8)])
    albedo = np.concatenate([grey(*[0.3] * 400), grey(*[0.9] * 8)])
    found = solve(table, light, albedo, None, 1, lambda _: None)
    np.testing.assert_allclose(found.total[400:], 500.0, rtol=CONVERGED)
    np.testing.assert_allclose(found.total[:400], 100_000.0)


@pytest.mark.parametrize(("dark", "white"), [(0.1, 0.95), (0.5, 0.8), (0.9, 0.9)])
def test_every_room_of_a_mixture_settles(dark: float, white: float) -> None:
    table = rooms(16, 8)
    light = np.concatenate([grey(*[3000.0] * 16), grey(*[0.02] * 8)])
    albedo = np.concatenate([grey(*[dark] * 16), grey(*[white] * 8)])
    found = solve(table, light, albedo, None, 1, lambda _: None)
    np.testing.assert_allclose(found.total[:16], 3000 / (1 - dark), rtol=CONVERGED)
    np.testing.assert_allclose(found.total[16:], 0.02 / (1 - white), rtol=CONVERGED)


def test_light_that_subtracts_settles_as_late_as_light_that_adds() -> None:
    # The first room gets less than nothing in all, which once ended the bounces of the second after the first one.
    table = rooms(16, 8)
    light = np.concatenate([grey(*[-500.0] * 15), grey(100.0), grey(*[5.0] * 8)])
    albedo = np.concatenate([grey(*[0.5] * 16), grey(*[0.9] * 8)])
    found = solve(table, light, albedo, None, 1, lambda _: None)
    np.testing.assert_allclose(found.total[16:], 50.0, rtol=CONVERGED)
    np.testing.assert_allclose(found.total[:15], 0.0)


def test_light_to_and_fro_between_two_sides_settles_soon() -> None:
    # Floor and ceiling see only each other, and only the floor is lit: each side is dark at every other bounce.
    table = np.concatenate([np.full((5, 8), 5, np.int32), np.full((5, 8), 0, np.int32)])
    light = np.concatenate([grey(*[100.0] * 5), grey(*[0.0] * 5)])
    found = solve(table, light, grey(*[0.5] * 10), None, 1, lambda _: None)
    np.testing.assert_allclose(found.total[:5], 100.0 / (1 - 0.25), rtol=CONVERGED)
    np.testing.assert_allclose(found.total[5:], 50.0 / (1 - 0.25), rtol=CONVERGED)
    assert found.bounces < 20


@pytest.mark.parametrize("gain", [0.5, 1.0, 1.2])
def test_kept_bounces_settle_as_the_solve_does(gain: float) -> None:
    table = rooms(16, 8)
    light = np.concatenate([grey(*[3000.0] * 16), grey(*[0.5] * 8)])
    albedo = np.concatenate([grey(*[0.2] * 16), grey(*[0.8] * 8)])
    kept, bounces = BounceSeries(table, light, None, albedo, 1).light(None, gain, lambda _: None)
    np.testing.assert_allclose(kept[16:], 0.5 / (1 - 0.8 * gain), rtol=CONVERGED)
    solved = solve(table, light, (albedo * gain).astype(np.float32), None, 1, lambda _: None)
    assert bounces == solved.bounces
    np.testing.assert_allclose(kept, solved.total, rtol=1e-5)


def test_a_room_that_loses_no_light_ends_all_the_same() -> None:
    found = solve(rooms(4), grey(1, 1, 1, 1), grey(1, 1, 1, 1), None, 1, lambda _: None)
    assert found.bounces == 512 and Hits.of(rooms(4)).counted[0] == 64


def test_without_light_there_is_nothing_to_wait_for() -> None:
    assert solve(rooms(4), grey(0, 0, 0, 0), grey(0.9, 0.9, 0.9, 0.9), None, 1, lambda _: None).bounces <= 1
