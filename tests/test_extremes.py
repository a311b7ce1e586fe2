"""What is out of the ordinary is said where it is set; what nobody starts by a slip of the hand is asked about."""

from __future__ import annotations

import pytest

from ropebell.build.estimate import Estimate
from ropebell.build.extremes import extremes, machine_bytes, too_much
from ropebell.build.recipe import SHIPPED, named, with_value

MB = 1 << 20
SHORT = Estimate(1000, 10_000, {"transport": 30.0}, 900 * MB, 700 * MB)


@pytest.mark.parametrize("name", SHIPPED)
@pytest.mark.parametrize("draft", [1, 2, 4, 8])
def test_nothing_is_odd_about_what_ships(name: str, draft: int) -> None:
    assert extremes(with_value(named(name), "draft", draft), SHORT) == {}


@pytest.mark.parametrize(
    ("key", "value", "told"),
    [
        ("density.texels_per_metre", 400.0, "2.5 mm"),
        ("density.padding", 0, "edges"),
        ("light.gather_rays", 8, "blotchy"),
        ("light.gather_rays", 8192, "noise target"),
        ("light.bounces", 0, "black"),
        ("light.bounce_gain", 1.5, "brighten without end"),
        ("limits.seconds", 10.0, "predicted"),
        ("limits.memory_mb", 500, "700 MB"),
    ],
)
def test_what_is_odd_is_said_of_its_setting(key: str, value: float, told: str) -> None:
    found = extremes(with_value(named("working"), key, value), SHORT)
    assert list(found) == [key] and told in found[key]


def test_a_draft_of_a_fine_density_is_not_odd() -> None:
    fine = with_value(named("working"), "density.texels_per_metre", 400.0)
    assert not extremes(with_value(fine, "draft", 4), SHORT)


def test_long_and_large_builds_are_asked_about() -> None:
    assert too_much(599.0, 900 * MB, 1000 * MB) is None
    long, large = too_much(601.0, 900 * MB, 1000 * MB), too_much(5.0, 1001 * MB, 1000 * MB)
    assert long is not None and (long.seconds, long.memory_bytes) == (601.0, 0)
    assert large is not None and (large.seconds, large.memory_bytes) == (0.0, 1001 * MB)
    assert machine_bytes() > 256 * MB
