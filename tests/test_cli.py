"""The command line is a contract: exit status, one line of trouble, JSON and nothing else on standard output."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import floor, level_file, small_demo
from ropebell.bench import engine, measure
from ropebell.build.project import find_project
from ropebell.build.recipe import named, with_value
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.model import Light


@pytest.fixture
def level(tmp_path: Path) -> Path:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "m")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 400.0), at(0, 2, 0))
    b.light("sun", Light("sun", "directional", (1, 1, 1), 50.0), aimed((0, 5, 0), (0, 0, 0)))
    return level_file(tmp_path, b)


def said(capsys: pytest.CaptureFixture[str]) -> tuple[str, str]:
    captured = capsys.readouterr()
    return captured.out, captured.err


def call(*arguments: object) -> int:
    return main([str(a) for a in arguments])


def test_bake_and_meter_in_json(level: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out = tmp_path / "out"
    assert (
        call("bake", level, "--out", out, "--recipe", "sketch", "--set", "light.bounces=1", "--sky", "1,1,1", "--json")
        == 0
    )
    document = json.loads(said(capsys)[0])
    assert document["outcome"] == "done"
    assert document["manifest"]["recipe"]["light"]["bounces"] == 1
    assert call("meter", out, "0,0,0", "-1.5,0.25,-1", "--normal", "0,1,0", "--json") == 0
    points = json.loads(said(capsys)[0])["points"]
    first, second = points
    assert set(first) == {"position", "node", "distance", "irradiance", "direct", "bounced", "lights"}
    assert first["node"] == "g/floor" and first["distance"] == 0
    np.testing.assert_allclose(first["irradiance"], 100 + 50 + np.pi, rtol=0.02)
    assert set(first["lights"]) == {"lights/lamp", "lights/sun", "sky"}
    np.testing.assert_allclose(first["lights"]["lights/sun"], 50, rtol=0.02)
    np.testing.assert_allclose(np.add(first["direct"], first["bounced"]), first["irradiance"], rtol=1e-5)
    assert second["position"] == [-1.5, 0, -1] and second["distance"] == pytest.approx(0.25)


def test_meter_still_reads_when_the_cache_is_gone(
    level: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    import shutil

    assert call("bake", level, "--out", tmp_path / "out", "--recipe", "sketch") == 0
    shutil.rmtree(os.environ["XDG_CACHE_HOME"])
    said(capsys)
    assert call("meter", tmp_path / "out", "0,0,0", "--json") == 0
    point = json.loads(said(capsys)[0])["points"][0]
    assert point["lights"] == {} and point["irradiance"][0] > 100


def test_a_second_bake_into_the_same_folder_keeps_the_first(
    level: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for _ in range(2):
        assert call("bake", level, "--out", tmp_path / "out", "--recipe", "sketch") == 0
    assert (tmp_path / "out.before-1" / "manifest.json").exists()
    assert "kept as" in said(capsys)[1]


def test_check_finds_and_counts(level: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert call("check", level, "--json") == 0
    assert json.loads(said(capsys)[0])["errors"] == 0
    dark = LevelBuilder()
    dark.material("m", (0.99, 0.99, 0.99))
    dark.add("g", "floor", floor(4), "m")
    path = level_file(tmp_path, dark, "dark.glb")
    assert call("check", path, "--json") == 1
    found = json.loads(said(capsys)[0])["findings"]
    kinds = [f["kind"] for f in found]
    assert kinds[0] == "no-light" and {"too-white", "open-back", "no-region"} >= set(kinds[1:])
    assert all(f["reason"] and f["remedy"] for f in found)
    assert call("check", path, "--sky", "1,1,1") == 0
    assert "2 findings, 0 errors" in said(capsys)[0]


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["bake", "gone.glb", "--out", "o"], "no such file"),
        (["bake", "{level}", "--out", "{level}"], "not a folder"),
        (["bake", "{level}", "--out", "o", "--recipe", "fancy"], "no recipe 'fancy'"),
        (["bake", "{level}", "--out", "o", "--set", "x=1"], "no setting 'x'"),
        (["bake", "{level}", "--out", "o", "--sky", "1,2"], "three numbers"),
        (["bake", "{level}", "--out", "o", "--sky", "-1,2,3"], "cannot be negative"),
        (["bake", "{level}"], "--out"),
        (["meter", "gone", "0,0,0"], "no finished build"),
        (["meter", "gone", "nan,0,0"], "three numbers"),
        (["demo", "d", "--halls", "99"], "1 … 40"),
        (["frobnicate"], "invalid choice"),
        (["check", "gone.obj"], "no such file"),
    ],
)
def test_wrong_use_is_one_line_and_status_2(
    level: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str],
    arguments: list[str], words: str,
) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    assert call(*[a.format(level=level) for a in arguments]) == 2
    out, err = said(capsys)
    assert out == "" and err.count("\n") == 1 and words in err and err.startswith("ropebell: ")


def test_a_failed_build_is_3_and_a_limit_4(level: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert call("bake", level, "--out", tmp_path / "a", "--set", "limits.memory_mb=1") == 3
    assert "limits.memory_mb" in said(capsys)[1]
    assert (
        call("bake", level, "--out", tmp_path / "b", "--recipe", "final", "--set", "limits.seconds=0.01", "--json") == 4
    )
    assert json.loads(said(capsys)[0])["outcome"] == "tripwire"


def test_an_unreadable_level_is_2_even_from_the_build_process(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "bad.gltf").write_text('{"asset": {"version": "2.0"}, "nodes": 3}')
    assert call("bake", tmp_path / "bad.gltf", "--out", tmp_path / "o") == 2
    assert "nodes is not an array" in said(capsys)[1]


def test_interrupting_a_bake_is_130_and_leaves_no_manifest(level: Path, tmp_path: Path) -> None:
    start = [sys.executable, "-m", "ropebell.cli.main", "bake", str(level), "--out", str(tmp_path / "o")]
    command = [*start, "--recipe", "final", "--set", "density.texels_per_metre=200"]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    journal = tmp_path / "o" / "journal.jsonl"
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not (journal.exists() and "charts" in journal.read_text()):
        time.sleep(0.02)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=30)
    assert process.returncode == 130
    assert "Traceback" not in err
    assert not (tmp_path / "o" / "manifest.json").exists()


def test_a_project_supplies_sky_lights_and_cache(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert call("demo", "--bare", tmp_path / "mill") == 0
    assert said(capsys)[0].strip() == str(tmp_path / "mill")
    level = small_demo(tmp_path / "small") / LEVEL_NAME
    project = find_project(level)
    replace(project, recipe=with_value(named("final"), "draft", 8)).save()
    small = level.parent
    arguments: list[Any] = ["bake", small, "--out", tmp_path / "o", "--recipe", "sketch", "--set", "draft=8", "--json"]
    assert call(*arguments) == 0
    manifest = json.loads(said(capsys)[0])["manifest"]
    assert manifest["sky"] == [100.0, 100.0, 100.0]
    assert project.cache.is_dir()
    # Its own recipe counts when none is named.
    assert call("bake", small, "--out", tmp_path / "p", "--set", "light.gather_rays=64", "--json") == 0
    recipe = json.loads(said(capsys)[0])["manifest"]["recipe"]
    assert (recipe["name"], recipe["draft"], recipe["light"]["gather_rays"]) == ("final", 8, 64)


def test_help_and_version_and_no_command(capsys: pytest.CaptureFixture[str]) -> None:
    assert call("--version") == 0
    assert call("bake", "--help") == 0
    assert call() == 2
    assert "usage" in said(capsys)[0]


def test_without_a_display_open_says_so_in_one_line() -> None:
    bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    command = [sys.executable, "-m", "ropebell.cli.main", "open"]
    done = subprocess.run(command, env=bare, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 2
    assert "no display" in done.stderr and done.stderr.count("\n") == 1


def test_the_bench_measures_what_it_says(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """On a tiny level: every figure is there and makes sense; the values themselves are for the real bench."""
    monkeypatch.setattr(measure, "write_demo", small_demo)
    monkeypatch.setattr(engine, "write_demo", small_demo)
    monkeypatch.setattr(measure, "STRENGTHS", (100.0,))
    monkeypatch.setattr(measure, "READY_SECONDS", 0.0)
    monkeypatch.setattr(measure, "STOPPED_IN", ("transport",))
    monkeypatch.setattr(measure, "BIG_HALLS", 1)
    monkeypatch.setattr(engine, "SIZES", (400_000, 800_000))
    monkeypatch.setattr(engine, "LEAST_SECONDS", 0.05)
    monkeypatch.setattr(engine, "LIMITED_RAYS", 64)
    monkeypatch.setattr(engine, "LIVE_SIZES", (400_000,))
    assert call("bench", "--json", "--scale", "0.02", "--plot", str(tmp_path / "curve.svg")) == 0
    figures = json.loads(said(capsys)[0])
    assert 0 < figures["transport_vs_bare"] < 1.5
    assert figures["relight_s"] > 0 and figures["full_build_s"] > 0
    assert figures["relight_waiting_s"] > 0 and figures["full_waiting_s"] > 0
    assert 0 < figures["target_rays_vs_even"] <= 1 and 0 < figures["target_stored_share"] <= 1
    assert figures["changed_density_rays_kept"] > 0.5 and figures["changed_density_s"] > 0
    assert figures["denoise_s"] > -0.5 and figures["limited_peak_memory_mb"] < figures["limit_mb"]
    assert figures["peak_memory_mb_per_million_texels"] > 100
    small, large = figures["scaling"]
    assert 0 < small["texels"] < large["texels"] and large["seconds"] > 0 and figures["threads_vs_one"] > 0.3
    assert figures["engine_error"] < 0.2 and figures["equal_error_speedup"] > 1
    assert 0 < figures["live_relight"][0]["seconds"] < figures["full_build_s"]
    assert all(seconds >= 0 for seconds in figures["measured_in_s"].values()) and len(figures["measured_in_s"]) == 12
    assert all(told["time_factor"] >= 1 and told["memory_factor"] >= 1 for told in figures["foretold"])
    assert figures["moved_crate_vs_full"] > 0 and figures["left_out_nail_vs_full"] > 0
    picture = ET.parse(tmp_path / "curve.svg").getroot()
    assert len([e for e in picture if e.tag.endswith("circle")]) == 2


def test_the_bench_of_the_window_says_at_once_that_there_is_no_display() -> None:
    """In a process of its own: this one has a window system already. Its patience is far below a measurement's."""
    hidden = {"DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"}
    environment = {key: value for key, value in os.environ.items() if key not in hidden}
    ended = subprocess.run(
        [sys.executable, "-m", "ropebell.cli.main", "bench", "--window"], env=environment, capture_output=True,
        text=True, timeout=60,
    )  # fmt: skip
    assert ended.returncode == 2 and "no display" in ended.stderr and "Traceback" not in ended.stderr
    assert ended.stdout == ""
