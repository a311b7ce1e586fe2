"""A build writes into its own folder: never over a source, a stranger's file, through a link, or into another build."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import time
from pathlib import Path

import pytest

from helpers import bake, floor, level_file, recipe
from ropebell.build.claim import claimed
from ropebell.build.journal import Journal, is_alive
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess, next_build_folder
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder
from ropebell.errors import BuildError, UsageError
from ropebell.interpreter import own_command

SKETCH = ("--recipe", "sketch", "--sky", "1,1,1")


@pytest.fixture
def level(tmp_path: Path) -> Path:
    return small(tmp_path)


def small(folder: Path, size: float = 1.0, name: str = "level.glb") -> Path:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(size), "m")
    return level_file(folder, b, name)


def tree(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def test_a_level_is_never_built_over(tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir()
    level = small(home, name="level-baked.glb")
    before = tree(home)
    assert main(["bake", str(level), "--out", str(home), *SKETCH]) == 2
    assert tree(home) == before


def test_a_build_that_is_built_again_stays_where_it_is(tmp_path: Path, level: Path) -> None:
    assert main(["bake", str(level), "--out", str(tmp_path / "a"), *SKETCH]) == 0
    before = tree(tmp_path / "a")
    baked = tmp_path / "a" / "level-baked.glb"
    assert main(["bake", str(baked), "--out", str(tmp_path / "a"), *SKETCH]) == 2
    assert tree(tmp_path / "a") == before


@pytest.mark.parametrize("name", ["manifest.json", "project.toml", "notes.txt", ".hidden"])
def test_a_folder_that_holds_anything_else_is_left_alone(tmp_path: Path, level: Path, name: str) -> None:
    out = tmp_path / "mine"
    out.mkdir()
    (out / name).write_text("{}")
    if name == "notes.txt":  # beside a whole build
        bake(level, recipe("sketch"), out, sky=(1.0, 1.0, 1.0))
    before = tree(out)
    if name == "manifest.json":
        (out / "letters").mkdir()
    assert main(["bake", str(level), "--out", str(out), *SKETCH]) == 2
    assert tree(out) == before and not list(tmp_path.glob("mine.before-*"))


@pytest.mark.parametrize("name", ["pages", "layers", "stderr.txt", "journal.jsonl", "live"])
def test_nothing_is_written_through_a_link(tmp_path: Path, level: Path, name: str) -> None:
    target = tmp_path / "elsewhere"
    if name.endswith((".txt", ".jsonl")):
        target.write_text("dear diary")
    else:
        target.mkdir()
    out = tmp_path / "out"
    out.mkdir()
    (out / name).symlink_to(target)
    assert main(["bake", str(level), "--out", str(out), *SKETCH]) == 2
    # As if it had come there later: whoever builds into it is told, and the target stays as it was.
    request = Request(level, out, tmp_path / "cache", recipe("sketch"), (1.0, 1.0, 1.0))
    process = BuildProcess(request)
    while process.poll() is None:
        time.sleep(0.01)
    assert process.exit_code not in (0, None)
    assert target.read_text() == "dear diary" if target.is_file() else not list(target.iterdir())


def test_builds_of_a_project_are_not_written_through_a_link(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "builds").symlink_to(tmp_path / "elsewhere")
    with pytest.raises(OSError, match="link"):
        next_build_folder(tmp_path / "builds")
    assert not list((tmp_path / "elsewhere").iterdir())


def test_two_bakes_into_one_folder_one_is_refused(tmp_path: Path) -> None:
    level, out = small(tmp_path, 6.0), tmp_path / "out"
    command = own_command("ropebell.cli.main", "bake", str(level), "--out", str(out), *SKETCH, "--json")
    for _ in range(3):
        both = [subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) for _ in range(2)]
        said = [process.communicate(timeout=60) for process in both]
        codes = sorted(process.returncode for process in both)
        # The second is refused while the first is under way, or keeps it aside once that is done.
        assert codes in ([0, 2], [0, 0]) and not any("Traceback" in err for _, err in said)
        for out_text, err in said:
            assert json.loads(out_text)["outcome"] == "done" if out_text else "under way" in err


def test_a_folder_being_built_into_is_held(tmp_path: Path) -> None:
    out = tmp_path / "out"
    with claimed(out, []) as kept:
        assert kept is None
        journal = Journal(out)
    assert is_alive(out)
    with pytest.raises(UsageError, match="under way"), claimed(out, []):
        pass
    with pytest.raises(BuildError, match="under way"):
        Journal(out)
    journal.write("end", outcome="stopped", message="x")
    journal.close()
    with claimed(out, []) as kept:
        assert kept == tmp_path / "out.before-1" and (kept / "journal.jsonl").is_file() and out.is_dir()


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGHUP])
def test_a_build_ends_with_whoever_wanted_it(tmp_path: Path, how: signal.Signals) -> None:
    level, out = small(tmp_path, 60.0), tmp_path / "out"
    command = own_command(
        "ropebell.cli.main", "bake", str(level), "--out", str(out), *SKETCH, "--set", "light.gather_rays=4096"
    )
    master = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while not is_alive(out):
        assert master.poll() is None
        time.sleep(0.01)
    os.kill(master.pid, how)
    master.wait(timeout=10)
    began = time.monotonic()
    while is_alive(out):
        assert time.monotonic() - began < 10
        time.sleep(0.01)
    assert json.loads((out / "journal.jsonl").read_text().splitlines()[-1])["outcome"] == "stopped"
