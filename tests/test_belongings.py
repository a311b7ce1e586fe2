"""Nothing of other people's is run, and nothing of theirs is removed."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, recipe
from ropebell.build.outputs import BUILD_FILES, BUILD_FOLDERS
from ropebell.build.pictures import LIVE, Pictures
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess, Standby
from ropebell.build.sample_days import write_demo_with_days
from ropebell.build.shooting import ARRAYS
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.build.store import META, Store
from ropebell.charts.unwrap_process import UnwrapProcess
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball
from ropebell.digest import digest_of
from ropebell.errors import BuildError, UsageError
from ropebell.files import own_size, remove_files, remove_own
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

TRAP = "import pathlib; pathlib.Path({!r}).write_text(__name__)\nraise SystemExit(7)\n"
ROOT = Path(__file__).parents[1]


@pytest.fixture
def level(tmp_path: Path) -> Path:
    (tmp_path / "level").mkdir()
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.add("g", "crate", floor(1, 1.0), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 50.0), at(0, 2, 0))
    return level_file(tmp_path / "level", b)


def trapped(folder: Path, sprung: Path) -> Path:
    """A folder with files that would be run if it were looked for code in."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("xatlas", "numpy", "json", "sitecustomize", "usercustomize", "embreex"):
        (folder / f"{name}.py").write_text(TRAP.format(str(sprung)))
    (folder / "ropebell").mkdir(exist_ok=True)
    (folder / "ropebell" / "__init__.py").write_text(TRAP.format(str(sprung)))
    return folder


@pytest.fixture
def traps(tmp_path: Path, level: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Traps where one stands, beside the level, in the output and wherever the environment leads; the file that
    they leave."""
    sprung = tmp_path / "sprung"
    for folder in (tmp_path / "here", level.parent, tmp_path / "out"):
        trapped(folder, sprung)
    monkeypatch.chdir(tmp_path / "here")
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path / 'here'}{os.pathsep}{level.parent}")
    monkeypatch.setenv("PYTHONSTARTUP", str(tmp_path / "here" / "json.py"))
    return sprung


@pytest.mark.parametrize("entry", ["installed command", "./run", "python -I -m"])
def test_a_file_beside_a_level_is_never_run(traps: Path, level: Path, tmp_path: Path, entry: str) -> None:
    # The installed command is a script, whose own interpreter reads the environment before any of our code: that a
    # person names other code there is theirs; what lies where they stand is not.
    environment = {k: v for k, v in os.environ.items() if entry == "python -I -m" or not k.startswith("PYTHON")}
    command = {
        "installed command": [str(Path(sys.executable).with_name("ropebell"))],
        "./run": [str(ROOT / "run"), "cli"],
        "python -I -m": [sys.executable, "-I", "-m", "ropebell.cli.main"],
    }[entry]
    done = subprocess.run(
        [*command, "bake", str(level), "--out", str(tmp_path / "out" / "build"), "--set", "draft=8"],
        env=environment, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert not traps.exists(), done.stderr
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("waiting", [False, True])
def test_a_build_process_runs_nothing_of_the_folder_it_is_started_in(
    traps: Path, level: Path, tmp_path: Path, waiting: bool
) -> None:
    standby = Standby((level, tmp_path / "cache")) if waiting else None
    request = Request(level, tmp_path / "out", tmp_path / "cache", recipe("sketch", draft=8))
    process = BuildProcess(request, standby)
    while (ended := process.poll()) is None:
        time.sleep(0.02)
    assert not traps.exists()
    assert ended.state == "done", ended.sentence


def test_unwrapping_runs_nothing_of_the_folder_it_is_started_in(traps: Path) -> None:
    made = ball(1.0, 8, 12)
    process = UnwrapProcess(made.positions[made.triangles], "missing")
    while not process.ended():
        process.wait(0.1)
    assert len(process.layout().chart) == len(made.triangles)
    assert not traps.exists()


# -- removing


def test_a_cache_is_measured_and_trimmed_while_others_end_their_work_in_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = Store(tmp_path, 0)
    for letter in "ab":
        store.put(digest_of(letter), {"x": np.zeros(100)})

    def gone_meanwhile(place: Path, files: str) -> int | None:
        size = own_size(place, files)
        if place.name == digest_of("a"):
            shutil.rmtree(place)
        return size

    monkeypatch.setattr("ropebell.build.store.own_size", gone_meanwhile)
    assert [place.name for _, _, place in store.sizes()] == [digest_of("b")]
    assert store.trim(set()) > 0 and store.sizes() == []


def test_only_folders_that_are_ours_throughout_are_removed(tmp_path: Path) -> None:
    theirs = tmp_path / "photographs"
    theirs.mkdir()
    (theirs / "sea.npy").write_bytes(b"x")
    cases = {"own": True, "strange file": False, "linked file": False, "a folder inside": False}
    for name, goes in cases.items():
        folder = tmp_path / name
        folder.mkdir()
        (folder / "a.npy").write_bytes(b"x")
        if name == "strange file":
            (folder / "holiday.jpg").write_bytes(b"x")
        if name == "linked file":
            (folder / "b.npy").symlink_to(theirs / "sea.npy")
        if name == "a folder inside":
            (folder / "more").mkdir()
        assert remove_own(folder, r"[a-z]\.npy") is goes
        assert folder.exists() is not goes
        assert goes or (folder / "a.npy").exists(), "all of it stays, or nothing"
    link = tmp_path / "link"
    link.symlink_to(theirs)
    assert not remove_own(link, ".*") and (theirs / "sea.npy").exists()
    remove_files(link, ["sea.npy"])
    assert (theirs / "sea.npy").exists()
    assert remove_own(tmp_path / "never was", ".*")


def test_a_cache_removes_only_its_own(tmp_path: Path) -> None:
    folder = tmp_path / "cache"
    store = Store(folder, limit_bytes=0)
    store.put(digest_of("a"), {"a": np.zeros(1000)})
    photographs = folder / "photographs"
    photographs.mkdir()
    (photographs / "sea.jpg").write_bytes(b"x" * 100_000)
    (folder / "notes.txt").write_text("mine")
    inside = folder / digest_of("b")
    inside.mkdir()
    (inside / "letter.txt").write_text("mine")
    elsewhere = tmp_path / "elsewhere"
    Store(elsewhere).put(digest_of("c"), {"a": np.zeros(1000)})
    (folder / digest_of("c")).symlink_to(elsewhere / digest_of("c"))
    (folder / f"{digest_of('d')}.begun").symlink_to(photographs)
    assert store.trim(set()) > 0
    left = {p.name for p in folder.iterdir()}
    assert left == {"photographs", "notes.txt", digest_of("b"), digest_of("c"), f"{digest_of('d')}.begun"}
    assert (photographs / "sea.jpg").exists() and (elsewhere / digest_of("c") / META).exists()
    # A link in an artifact's place is not read, and what it leads to is not written.
    assert store.get(digest_of("c")) is None
    store.put(digest_of("c"), {"a": np.ones(3)})
    assert len(np.load(elsewhere / digest_of("c") / "a.npy")) == 1000
    assert store.get(digest_of("c")) is not None
    with store.resuming(digest_of("d"), {}) as (begun, _):
        store.describe(begun, {})
    assert sorted(p.name for p in photographs.iterdir()) == ["sea.jpg"]


def test_a_cache_that_is_a_link_is_used_and_never_cleared(level: Path, tmp_path: Path) -> None:
    photographs = tmp_path / "photographs"
    (photographs / "2026").mkdir(parents=True)
    (photographs / "2026" / "sea.jpg").write_bytes(b"x" * 10_000)
    cache = tmp_path / "cache"
    cache.symlink_to(photographs)
    bake(level, recipe("sketch", draft=8), cache=cache)
    assert Store(cache, limit_bytes=0).trim(set()) == 0
    assert (photographs / "2026" / "sea.jpg").exists()


def test_pictures_of_a_build_are_cleared_and_nothing_beside_them(tmp_path: Path) -> None:
    live = tmp_path / LIVE
    live.mkdir()
    (live / "0003.npy").write_bytes(b"")
    Pictures.clear(tmp_path)
    assert not live.exists()
    live.mkdir()
    (live / "film.mp4").write_bytes(b"")
    Pictures.clear(tmp_path)
    assert (live / "film.mp4").exists()
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    (theirs / "0001.npy").write_bytes(b"")
    (live / "film.mp4").unlink()
    live.rmdir()
    live.symlink_to(theirs)
    Pictures.clear(tmp_path)
    assert (theirs / "0001.npy").exists()


def test_a_recording_that_was_interrupted_is_cleared_unless_it_holds_something_else(tmp_path: Path) -> None:
    import datetime

    scratch = tmp_path / "builds.part"
    (scratch / "0001" / "pages").mkdir(parents=True)
    (scratch / "0001" / "pages" / "page-00.exr").write_bytes(b"")
    (scratch / "0001" / "journal.jsonl").write_bytes(b"")
    assert remove_own(scratch, BUILD_FILES, BUILD_FOLDERS)
    (scratch / "0001").mkdir(parents=True)
    (scratch / "0001" / "diary.odt").write_bytes(b"mine")
    with pytest.raises(UsageError, match=r"builds\.part|cannot be written"):
        write_demo_with_days(tmp_path, lambda _a, _b: None, datetime.date(2026, 11, 26))
    assert (scratch / "0001" / "diary.odt").read_bytes() == b"mine"


def test_a_finished_build_is_of_what_may_be_removed(level: Path, tmp_path: Path) -> None:
    out = tmp_path / "builds" / "0001"
    out.mkdir(parents=True)
    bake(level, recipe("sketch", draft=8, output__directional=True, output__format="8-bit"), out)
    (out / "stderr.txt").write_text("")
    assert remove_own(tmp_path / "builds", BUILD_FILES, BUILD_FOLDERS)


# -- many at a time


def test_many_writers_of_one_artifact_never_fail(tmp_path: Path) -> None:
    # One removed the other's between its being written and read back.
    name, data = digest_of("x"), np.arange(500)

    def write(_: int) -> int:
        return int(Store(tmp_path).put(name, {"a": data}, durable=False).arrays["a"].sum())

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(write, range(600))) == {int(data.sum())}
    assert [p.name for p in tmp_path.iterdir()] == [name]


def test_many_writers_of_what_changes_never_fail(tmp_path: Path) -> None:
    name = digest_of("kin")

    def write(number: int) -> int:
        return len(Store(tmp_path).put(name, {}, {"known": [number]}, durable=False, over=True).meta["known"])

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(write, range(400))) == {1}
    assert [p.name for p in tmp_path.iterdir()] == [name]


def test_what_another_build_uses_is_not_trimmed(tmp_path: Path) -> None:
    store = Store(tmp_path, limit_bytes=0)
    store.put(digest_of("fresh"), {"a": np.zeros(100)})
    store.put(digest_of("long unused"), {"a": np.zeros(100)})
    long_ago = time.time() - 7200
    os.utime(tmp_path / digest_of("long unused"), (long_ago, long_ago))
    with Store(tmp_path).at_work():
        store.trim(set())
        assert store.has(digest_of("fresh")) and not store.has(digest_of("long unused"))
    store.trim(set())
    assert not store.has(digest_of("fresh"))


def test_a_cache_that_is_cleared_during_a_build_costs_time_and_nothing_else(level: Path, tmp_path: Path) -> None:
    over = threading.Event()
    cache = tmp_path / "cache"

    def clear() -> None:
        while not over.wait(0.001):
            for place in list(cache.iterdir()) if cache.is_dir() else ():
                if not place.name.endswith((".part", ".begun")) and place.is_dir():
                    remove_own(place, r".*")

    thread = threading.Thread(target=clear)
    thread.start()
    try:
        manifest = bake(level, recipe("sketch", draft=4), cache=cache)
    finally:
        over.set()
        thread.join()
    assert manifest["texels"] > 0


# -- damage


def test_a_full_disk_keeps_what_was_shot(tmp_path: Path) -> None:
    store, kinds = Store(tmp_path), {"a": ("<i4", [4])}
    name = digest_of("x")
    with pytest.raises(BuildError, match="the disk is full"), store.resuming(name, kinds) as (folder, _):
        np.save(folder / "a.npy", np.arange(4, dtype=np.int32))
        raise OSError(28, "No space left on device")
    kept = store.unfinished(name)
    assert kept is not None and kept.arrays["a"].tolist() == [0, 1, 2, 3]


@pytest.mark.parametrize("array", ARRAYS)
def test_a_changed_number_in_the_cache_never_reaches_a_kernel(level: Path, tmp_path: Path, array: str) -> None:
    made = recipe("sketch", draft=4)
    first = bake(level, made)
    place = tmp_path / "level" / "cache" / digests(Inputs(flatten(open_level(level)), made)).one("transport")
    changed = np.load(place / f"{array}.npy", mmap_mode="r+")
    changed.reshape(-1)[3] = 0x7FFFFFFF
    changed.flush()
    again = bake(level, made)
    assert "transport" in first["digests"] and "transport" not in again["reused"]
    assert again["energy"] == first["energy"] if "energy" in first else True
    journal = [json.loads(line) for line in (tmp_path / "level" / "out" / "journal.jsonl").read_text().splitlines()]
    assert any(e["event"] == "note" and "damaged" in e["text"] for e in journal)


def test_a_cache_made_to_harm_never_reaches_a_kernel(level: Path, tmp_path: Path) -> None:
    """Checksums hold, types and shapes too; only what is used as an index leads out of the tables."""
    made = recipe("sketch", draft=4)
    names = digests(Inputs(flatten(open_level(level)), made))
    harmful = {
        names.one("charts"): ("owner", "chart", "rects", "grid", "sample_triangle", "page", "column", "uv"),
        names.one("footing"): ("count", "triangle", "target"),
        names.one("transport"): ("hits",),
        names.one("direct", ("light", "lights/lamp")): ("texel",),
    }
    bake(level, made)
    store = Store(tmp_path / "level" / "cache")
    for digest, arrays in harmful.items():
        for name in arrays:
            kept = store.get(digest)
            assert kept is not None
            spoiled = {key: np.array(a) for key, a in kept.arrays.items()}
            spoiled[name].reshape(-1)[1] = 30_000_000
            store.put(digest, spoiled, kept.meta, over=True)
            manifest = bake(level, made)
            assert manifest["texels"] > 0
            mended = store.get(digest)
            assert mended is not None and mended.arrays[name].reshape(-1)[1] != 30_000_000, (digest, name)
