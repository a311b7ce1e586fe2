"""What makes light appear soon: lamps at a glance, and meshes laid out before a build is asked for."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import events, level_file, recipe, room
from ropebell.build.journal import Journal
from ropebell.build.layouts import StoredLayouts
from ropebell.build.pictures import Pictures
from ropebell.build.pipeline import build
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess, Standby
from ropebell.build.standby import ahead_line, wanted
from ropebell.build.store import Store
from ropebell.charts.layout import unwrap
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.digest import digest_of
from ropebell.level.model import F32, Light


def shaded(folder: Path) -> Path:
    """A room with a crate that throws a shadow, and two lamps."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "wall")
    b.add("g", "crate", box((2, 0, 2), (3, 1, 3)), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(1, 2, 1))
    b.light("ball", Light("ball", "point", (1, 0.5, 0.2), 20.0), at(4, 2, 4))
    return level_file(folder, b)


def watched(
    folder: Path, monkeypatch: pytest.MonkeyPatch, name: str = "out", **settings: Any
) -> list[tuple[str, F32]]:  # fmt: skip
    """The pictures of a build, as they come."""
    seen: list[tuple[str, F32]] = []
    monkeypatch.setattr(Pictures, "due", lambda self: self.wanted)
    monkeypatch.setattr(Pictures, "show", lambda self, field, what: seen.append((what, field.copy())))
    out = folder / name
    out.mkdir()
    journal = Journal(out)
    made = recipe("working", **{"density__texels_per_metre": 8.0, "light__gather_rays": 32, **settings})
    build(Request(shaded(folder), out, folder / "cache", made, pictures=True), journal)
    journal.close()
    return seen


def test_all_lamps_are_seen_at_a_glance_before_anything_else(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    seen = watched(tmp_path, monkeypatch)
    assert seen[0][0] == "lamps at a glance"
    direct = next(field for what, field in reversed(seen) if what == "direct light")
    stages = [e["stage"] for e in events(tmp_path / "out") if e["event"] == "stage"]
    tables = [i for i, e in enumerate(events(tmp_path / "out")) if e["event"] == "table"]
    footing = next(i for i, e in enumerate(events(tmp_path / "out")) if e.get("stage") == "footing")
    assert tables[0] < footing < tables[1] and stages.count("footing") == 2
    glance = seen[0][1]
    assert glance.shape == direct.shape and (glance >= 0).all()
    # One sample a texel instead of all: right in the mean, rough along shadows.
    assert glance.sum() == pytest.approx(direct.sum(), rel=0.05)
    assert np.median(np.abs(glance - direct).sum(axis=1)) < 0.1 * direct.sum(axis=1).mean()


def test_rough_light_is_shown_without_its_noise_if_the_recipe_takes_it_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    few, many = ({"light__bounces": 2, "light__gather_rays": rays} for rays in (128, 1024))
    runs = (
        watched(tmp_path, monkeypatch, "plain", **few),
        watched(tmp_path, monkeypatch, "smooth", finish__denoise=True, light__seed=2, **few),
    )
    (said, noisy), (told, calm) = (next(x for x in run if " rays, " in x[0]) for run in runs)
    assert said == "16 of 128 rays, 2 bounces" and told == f"{said}, smoothed"
    light = [field for what, field in watched(tmp_path, monkeypatch, "many", **many) if " rays, " in what][-1]
    assert np.abs(calm - light).mean() < 0.6 * np.abs(noisy - light).mean()
    assert calm.mean() == pytest.approx(light.mean(), rel=0.02)


def test_no_picture_takes_a_lamp_away_that_was_seen_before(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    seen = watched(tmp_path, monkeypatch)
    part = next(field for what, field in seen if what == "direct light 1 of 2")
    assert part.sum() == pytest.approx(seen[0][1].sum(), rel=0.05)


def test_what_is_known_already_is_not_glanced_at(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    watched(tmp_path, monkeypatch)
    again = watched(tmp_path, monkeypatch, "again")
    assert "lamps at a glance" not in [what for what, _ in again]


def cluttered(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for n in range(6):
        b.add("g", f"ball {n}", ball(0.5 + 0.1 * n, 12, 12 + n), "m", at(3 * n, 0, 0))
    return level_file(folder, b)


def layouts(cache: Path) -> set[str]:
    return {p.name for p in cache.glob("layout-*")}


def piped(*lines: bytes) -> int:
    source, into = os.pipe()
    os.write(into, b"".join(lines))
    os.close(into)
    return source


def test_a_waiting_process_lays_out_the_meshes_of_the_level(tmp_path: Path) -> None:
    level, cache = cluttered(tmp_path), tmp_path / "cache"
    request = Request(level, tmp_path / "out", cache, recipe("sketch"), (1.0, 1.0, 1.0))
    standby = Standby((level, cache))
    while len(layouts(cache)) < 6:
        assert standby._process is None or standby._process.poll() is None
    process = BuildProcess(request, standby)
    events: list[dict[str, Any]] = []
    while (ended := process.poll()) is None:
        events += process.new_events()
    assert ended.state == "done" and len(layouts(cache)) == 6
    standby.close()


def test_a_build_comes_before_what_is_laid_out_ahead(tmp_path: Path) -> None:
    level, cache = cluttered(tmp_path), tmp_path / "cache"
    request = Request(level, tmp_path / "out", cache, recipe("sketch"), (1.0, 1.0, 1.0)).to_json()
    source = piped(ahead_line(level, cache), request.encode() + b"\n")
    assert wanted(source) == request
    assert len(layouts(cache)) < 6  # the request was there from the first
    os.close(source)
    # Nobody wants a build any more, and a level that cannot be read is for a build to tell.
    for file in (level, tmp_path / "missing.glb"):
        source = piped(ahead_line(file, cache))
        assert wanted(source) == ""
        os.close(source)


def test_two_processes_may_keep_the_same_layout(tmp_path: Path) -> None:
    key = digest_of("x")
    store = Store(tmp_path)
    layout = unwrap(np.random.default_rng(1).random((4, 3, 3)))
    StoredLayouts(store).save(key, layout)
    with store.writing(f"layout-{key}") as folder:
        (folder / "meta.json").write_text("{}")
        StoredLayouts(store).save(key, layout)  # another was first
    kept = StoredLayouts(store).load(key)
    assert kept is None or (kept.uv == layout.uv).all()
    StoredLayouts(store).save(key, layout)
    kept = StoredLayouts(store).load(key)
    assert kept is not None and (kept.uv == layout.uv).all() and (kept.chart == layout.chart).all()
