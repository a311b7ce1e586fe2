"""Conditions are read as the contract has them, and tripwires stop builds where they are met."""

from __future__ import annotations

import contextlib
import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import level_file, recipe, room
from ropebell.build.conditions import Condition, parse_condition, parse_conditions
from ropebell.build.journal import Journal
from ropebell.build.pipeline import build
from ropebell.build.request import Request
from ropebell.build.stages import STAGES
from ropebell.build.tripwires import Baked, Tripped, Tripwires, black
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import Stopped, UsageError
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import Light

NAMES = tuple(stage.name for stage in STAGES)
GOOD = {
    "nonfinite": Condition("nonfinite", "nonfinite"),
    "black>0.25": Condition("black>0.25", "black", limit=0.25),
    " clipped > 1e-3": Condition("clipped > 1e-3", "clipped", limit=1e-3),
    "seconds>90": Condition("seconds>90", "seconds", limit=90.0),
    "seconds:transport>1.5": Condition("seconds:transport>1.5", "seconds", "transport", 1.5),
    "memory>2000": Condition("memory>2000", "memory", limit=2000.0),
    "stall>30": Condition("stall>30", "stall", limit=30.0),
    "fault:bake-leak": Condition("fault:bake-leak", "fault", "bake-leak"),
    "fault:seam@1,-2.5,3,0.5": Condition("fault:seam@1,-2.5,3,0.5", "fault", "seam", place=(1.0, -2.5, 3.0, 0.5)),
    "warning:no-region": Condition("warning:no-region", "warning", "no-region"),
    "log:no (sky|light)": Condition("log:no (sky|light)", "log", "no (sky|light)"),
    "status:3": Condition("status:3", "status", limit=3.0),
}
BAD = [
    "", "black", "black>", "black>x", "black>1.5", "black>-1", "black>nan", "seconds:nothing>1", "memory:charts>1",
    "fault:", "fault:Big", "fault:a@1,2,3", "fault:a@1,2,3,0", "fault:a@1,2,3,x", "warning:a@1,2,3,4", "log:", "log:(",
    "status:", "status:300", "status:-1", "nonfinite>0", "dark>1", "seconds>1e10",
]  # fmt: skip


@pytest.mark.parametrize("text", GOOD)
def test_conditions_are_read(text: str) -> None:
    assert parse_condition(text, NAMES) == GOOD[text]


def test_any_part_of_a_fault_may_be_near_the_place() -> None:
    wide = parse_condition("fault:seam@5,0,0,0.5", NAMES)
    told = Finding("seam", "warning", "wall", "It jumps", "Stitch", (0.0, 0.0, 0.0), area=2.0, proved=False)
    assert not wide.shown_by(told)
    parts = np.stack([np.linspace(0, 4.7, 40), np.zeros(40), np.zeros(40)], axis=1)
    assert wide.shown_by(replace(told, parts=parts)) and not wide.shown_by(replace(told, parts=parts[:20]))
    assert "parts" not in told.as_json() and replace(told, parts=parts) == told


@pytest.mark.parametrize("text", BAD)
def test_what_is_no_condition_is_refused_by_a_sentence(text: str) -> None:
    with pytest.raises(UsageError) as caught:
        parse_condition(text, NAMES)
    assert text in caught.value.what or caught.value.what.startswith("'")


@given(st.text(max_size=40))
def test_any_text_is_read_or_refused(text: str) -> None:
    with contextlib.suppress(UsageError):
        assert parse_condition(text, NAMES).text == text.strip()


def test_each_is_kept_once() -> None:
    assert [c.text for c in parse_conditions(["stall>3", "nonfinite", " stall>3"], NAMES)] == ["stall>3", "nonfinite"]


def test_a_fault_has_to_be_near_where_it_is_asked_for() -> None:
    there = Finding("seam", "warning", "a", "A seam.", "Mend it", (1.0, 0.0, 0.0))
    assert parse_condition("fault:seam@0,0,0,1", NAMES).shown_by(there)
    assert not parse_condition("fault:seam@0,0,0,0.9", NAMES).shown_by(there)
    assert not parse_condition("fault:leak", NAMES).shown_by(there)


def test_black_is_under_a_thousandth_of_the_mean_and_shares_are_of_area() -> None:
    light = np.array([[0, 0, 0], [1.0, 1.0, 1.0], [5e-4, 5e-4, 5e-4], [2e-3, 2e-3, 2e-3]], np.float32)
    areas = np.array([1.0, 8.0, 1.0, 0.0])
    assert black(light, areas).tolist() == [True, False, True, False]
    baked = Baked(areas, np.array([0, 1, 2, 2]), ("a", "b", "c"))
    share, node = baked.share(np.array([True, False, True, True]))
    assert share == pytest.approx(0.2) and node in ("a", "c")
    wires = Tripwires(parse_conditions(["clipped>0.05"], NAMES), white=0.5)
    wires.lit(light[[0, 2]], Baked(areas[:2], np.array([0, 0]), ("a",)), whole=False)
    with pytest.raises(Tripped, match="80 % of the baked area is clipped, most of it on 'b'"):
        wires.lit(light, baked, whole=False)
    dark = Tripwires(parse_conditions(["black>0.1"], NAMES))
    dark.lit(light, baked, whole=False)  # more light may come
    with pytest.raises(Tripped, match="20 % of the baked area is black"):
        dark.lit(light, baked, whole=True)


def test_a_build_has_no_exit_status_to_wait_for() -> None:
    with pytest.raises(UsageError, match="status:3"):
        Tripwires(parse_conditions(["status:3"], NAMES))


@pytest.fixture(scope="module")
def half_dark(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A lit room, and one behind it that no light comes to."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "lit", room(4, 3, 4), "wall")
    b.add("g", "dark", room(4, 3, 4), "wall", at(6, 0, 0))
    b.add("g", "crate", box((1, 0, 1), (1.5, 0.5, 1.5)), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(2, 2, 2))
    return level_file(tmp_path_factory.mktemp("wires"), b)


def tripped(level: Path, out: Path, condition: str, brief: Brief | None = None) -> Tripped:
    out.mkdir()
    journal = Journal(out)
    wires = Tripwires(parse_conditions([condition], NAMES), (brief or Brief()).white)
    try:
        with pytest.raises(Stopped) as caught:
            build(
                Request(level, out, level.parent / "cache", recipe("sketch"), brief=brief or Brief()),
                journal,
                wires=wires,
            )
    finally:
        journal.close()
    assert isinstance(caught.value, Tripped)
    return caught.value


@pytest.mark.parametrize(
    ("condition", "stage", "node"),
    [("black>0.4", "solve", "g/dark"), ("seconds>0.0001", "scene", ""), ("seconds:footing>0.0001", "footing", ""),
     ("memory>1", "scene", ""), ("stall>0", "", ""), ("warning:no-region", "check", ""), ("log:region", "check", "")],
)  # fmt: skip
def test_a_tripwire_says_where_it_was_met(
    half_dark: Path, tmp_path: Path, condition: str, stage: str, node: str
) -> None:
    told = tripped(half_dark, tmp_path / "out", condition).told
    assert told["condition"] == condition and told["object"] == node
    assert told["stage"] in ((stage,) if stage else NAMES)


def test_what_is_clipped_is_seen_before_any_ray_bounces(half_dark: Path, tmp_path: Path) -> None:
    met = tripped(half_dark, tmp_path / "out", "clipped>0.01", Brief(white=20.0))
    assert met.told["stage"] == "direct" and met.told["object"] == "g/lit"
    assert 0.01 < float(str(met.told["value"])) < 0.5


def test_a_tripped_build_is_gone_on_with(
    half_dark: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    words = ["bake", str(half_dark), "--out", str(tmp_path / "b"), "--recipe", "sketch", "--json"]
    assert main([*words, "--stop-when", "black>0.4"]) == 4
    told = json.loads(capsys.readouterr().out)
    assert told["outcome"] == "tripwire" and told["manifest"] is None
    assert told["tripwire"]["stage"] == "solve" and 0.4 < told["tripwire"]["value"] < 0.6
    assert main([*words, "--clear-earlier"]) == 0
    assert {"charts", "footing", "direct", "transport"} <= set(
        json.loads(capsys.readouterr().out)["manifest"]["reused"]
    )
    for wrong in ("black>2", "status:1", "nothing"):
        assert main([*words, "--stop-when", wrong]) == 2
