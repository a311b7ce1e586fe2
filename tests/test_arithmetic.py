"""Workers that compute otherwise: one light on a sound level, and a fault on a sliver that only careless code has."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, recipe, room
from ropebell.build.recipe import with_value
from ropebell.build.result import open_result
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, box
from ropebell.errors import UsageError
from ropebell.level.model import Light
from ropebell.level.prepare import flatten
from ropebell.light.arithmetic import WORKERS, worker_named

MADE = recipe("sketch", density__texels_per_metre=2.0, light__gather_rays=128)


ONE = np.zeros(1, np.int32)


def _room(folder: Path, sliver: bool) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("house", "room", room(4, 3, 4), "grey")
    b.add("house", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "grey", at(1, 0, 1))
    if sliver:
        b.add("detail", "strip", _strip(), "grey", at(3.0, 1.6, 3.9597))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    return level_file(folder, b, f"{'sliver' if sliver else 'sound'}.glb")


def _strip() -> Shape:
    """A strip at the least angle at which both careless workers stumble over it, each by its own rounding."""
    for step in range(1, 500):
        b = LevelBuilder()
        b.material("grey", (0.5, 0.5, 0.5))
        shape = box((0, 0, 0), (0.55, 3e-5, 0.04)).rotated(2, 0.001 * step)
        b.add("detail", "strip", shape, "grey", at(3.0, 1.6, 3.9597))
        scene = flatten(b.level(Path("a.glb")))
        if all(w.broken(scene.corners, scene.node).any() for w in WORKERS.values() if not w.guarded):
            return shape
    raise AssertionError("none stumbles over any")


def test_every_worker_has_the_same_light_on_a_sound_level(tmp_path: Path) -> None:
    level, fields = _room(tmp_path, sliver=False), {}
    for name in WORKERS:
        assert bake(level, MADE, tmp_path / name, worker=name)["worker"] == name
        fields[name] = open_result(tmp_path / name).total
    for name, field in fields.items():
        np.testing.assert_allclose(field, fields["steady"], rtol=2e-3, atol=1e-3, err_msg=name)


def test_only_careless_workers_turn_a_sliver_into_a_black_level(tmp_path: Path) -> None:
    level = _room(tmp_path, sliver=True)
    for name, worker in WORKERS.items():
        told = bake(level, with_value(MADE, "light.bounces", 16), tmp_path / name, worker=name)
        faults = {(f["kind"], f["object"]) for f in told["findings"] if f["kind"] == "non-finite"}
        assert faults == (set() if worker.guarded else {("non-finite", "detail/strip")}), name
        lit = open_result(tmp_path / name).total
        assert np.isfinite(lit).all()
        # It spreads with the bounces over all that sees it, and everything is black.
        assert (lit.max() > 1.0) == worker.guarded, name


def test_the_fault_is_in_the_arithmetic_and_not_in_a_name() -> None:
    """A right-angled sliver along an axis has a cosine of exactly 1; a turned one may have one over it."""
    sound = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]], np.float64)
    for worker in WORKERS.values():
        assert not worker.broken(sound, ONE).any()
    hasty, found = WORKERS["hasty"], 0
    for degrees in np.linspace(0.1, 80, 200):
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        thin = np.array([[0, 0, 0], [0.55, 0, 0], [0.55, 3e-5, 0]]) @ turn.T + [9.0, 4.6, 17.0]
        found += bool(hasty.broken(thin[None], ONE)[0])
        assert (
            not WORKERS["steady"].broken(thin[None], ONE).any() and not WORKERS["fused"].broken(thin[None], ONE).any()
        )
    assert 10 < found < 190  # a hair's turn decides


def test_workers_are_listed_and_others_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["bake", "x.glb", "--out", "y", "--worker", "help"]) == 0
    assert [line.split()[0] for line in capsys.readouterr().out.splitlines()] == list(WORKERS)
    with pytest.raises(UsageError, match="no build worker"):
        worker_named("nobody")
    assert main(["bake", str(_room(tmp_path, False)), "--out", str(tmp_path / "o"), "--worker", "nobody"]) == 2
