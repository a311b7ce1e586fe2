"""The engine against every closed form of the accuracy table, at the final recipe."""

from __future__ import annotations

import datetime
import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import small_demo
from ropebell.bench import accuracy, told_noise
from ropebell.bench.closed_forms import ClosedForm, closed_forms, lambert_polygon, middles
from ropebell.cli.main import main

CASES = closed_forms()


@pytest.mark.parametrize("case", CASES, ids=[c.name for c in CASES])
def test_light_is_that_of_the_closed_form(case: ClosedForm) -> None:
    """Within 1 % at final, each texel within a few times its noise, and the noise falls at least as 1/√N."""
    found = accuracy.accuracy(case)
    assert abs(found.mean) < 0.01
    assert (found.noise == ()) == case.mean_only
    if found.noise:
        assert found.noise[-1] < 0.013
    if found.slope is not None:
        assert found.slope >= 0.5


def test_a_wrong_engine_would_be_seen() -> None:
    """The table tells a light that is 3 % too bright from a right one."""
    point = next(c for c in CASES if c.name == "point light")
    found = accuracy.accuracy(replace(point, expected=point.expected / 1.03))
    assert found.mean == pytest.approx(0.03, abs=0.005)


def test_the_cases_are_many_and_their_formulas_agree_with_each_other() -> None:
    assert len(CASES) >= 14 and len({c.name for c in CASES}) == len(CASES)
    assert all(len(c.places) == len(c.expected) and (c.expected > 0).all() for c in CASES)
    # A square seen from far off axis fills less than one overhead; a huge one fills all of the view: π.
    h = 1e5
    huge = np.array([[-h, 1, -h], [h, 1, -h], [h, 1, h], [-h, 1, h]], dtype=float)
    np.testing.assert_allclose(lambert_polygon(huge, middles(8)), np.pi, rtol=1e-4)
    # The published mean of Lambert's formula over a square: form factor 0.19982.
    panel = np.array([[-0.5, 1, -0.5], [0.5, 1, -0.5], [0.5, 1, 0.5], [-0.5, 1, 0.5]])
    grid = middles(1, 1.0, 40.0)
    assert lambert_polygon(panel, grid).mean() / np.pi == pytest.approx(0.19982, abs=1e-4)


def test_the_page_is_written_and_its_figures_are_those_measured(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    some = [c for c in CASES if c.name in ("sun", "parallel unit squares, 1 m apart")]
    monkeypatch.setattr(accuracy, "closed_forms", lambda: some)
    monkeypatch.setattr(told_noise, "write_demo", small_demo)
    monkeypatch.setattr(told_noise, "DENSITY", 1.5)
    monkeypatch.setattr(told_noise, "TRUE_RAYS", 1024)
    assert main(["accuracy", "--out", str(tmp_path / "page.md"), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [c["name"] for c in told["cases"]] == [c.name for c in some]
    page = (tmp_path / "page.md").read_text()
    assert f"{100 * told['cases'][0]['mean']:+.2f} %" in page and "not known apart" in page and "no noise" in page
    assert {t["rays"] for t in told["told_noise"]} == {64, 256}
    for band in told["told_noise"]:
        assert 0 <= band["once"] <= band["twice"] <= 1 and f"| {100 * band['twice']:.0f} % |" in page
    # Texels by the thousand are off about as often as errors spread by Gauss would be.
    many = [t for t in told["told_noise"] if t["texels"] > 3000 and t["rays"] == 256]
    assert many
    for band in many:
        assert 0.55 < band["once"] < 0.95 and band["twice"] > 0.8
    assert main(["accuracy", "--out", str(tmp_path / "no" / "folder.md")]) == 2
    assert "cannot be written" in capsys.readouterr().err
    made = accuracy.Accuracy("x", "y", 3, -0.004, (0.1, 0.05, 0.02), 0.58)
    assert "| x | y | 3 | -0.40 % | 10.00 %, 5.00 %, 2.00 % | 0.58 |" in accuracy.report(
        [made], [], datetime.date.today()
    )
