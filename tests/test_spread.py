"""How light is spread over surface: closed forms, and places that stand for equal areas."""

from __future__ import annotations

import numpy as np
import pytest

from ropebell.light.spread import BINS, even_places, spread


def test_light_even_by_logarithm_fills_the_scale_evenly() -> None:
    lux = np.geomspace(0.1, 10_000.0, 60_000)
    found = spread(lux, np.full(len(lux), 2.5), white=100.0)
    assert found.count == len(lux) and found.shares.sum() == pytest.approx(1.0)
    np.testing.assert_allclose(found.shares, 1 / BINS, rtol=0.01)
    assert found.median == pytest.approx(np.sqrt(0.1 * 10_000.0), rel=0.001)
    # Black under 0.2 lx, clipped over 400 lx, of five decades.
    assert found.black == pytest.approx(np.log10(2.0) / 5, abs=1e-3)
    assert found.clipped == pytest.approx(np.log10(25.0) / 5, abs=1e-3)


def test_surface_counts_and_not_samples_and_the_ends_keep_what_is_beyond() -> None:
    found = spread(np.array([0.0, 50.0, 1e6]), np.array([1.0, 6.0, 3.0]), white=50.0)
    assert (found.shares[0], found.shares[-1]) == pytest.approx((0.1, 0.3))
    assert (found.black, found.clipped, found.median) == pytest.approx((0.1, 0.3, 50.0))
    nothing = spread(np.zeros(0), np.zeros(0), white=1.0)
    assert nothing.count == 0 and not nothing.shares.any()


def test_places_stand_for_equal_areas_and_fill_triangles_evenly() -> None:
    areas = np.array([3.0, 0.0, 1.0, 4.0])
    triangle, weights = even_places(areas, 8_000)
    np.testing.assert_allclose(np.bincount(triangle, minlength=4), areas * 1000, atol=1)
    np.testing.assert_allclose(weights.sum(axis=1), 1.0)
    assert (weights >= 0).all()
    # The mean of each weight is a third, of its square a sixth.
    for t in (0, 2, 3):
        np.testing.assert_allclose(weights[triangle == t].mean(axis=0), 1 / 3, atol=0.01)
        np.testing.assert_allclose((weights[triangle == t] ** 2).mean(axis=0), 1 / 6, atol=0.01)
    assert len(even_places(np.zeros(3), 10)[0]) == 0 and len(even_places(np.zeros(0), 10)[0]) == 0
