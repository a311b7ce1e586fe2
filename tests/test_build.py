"""The build process: re-use, stopping, dying, limits, whole-or-nothing results."""

from __future__ import annotations

import json
import os
import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import bake, events, floor, level_file, recipe, room
from ropebell.build import outputs, worker
from ropebell.build.events import Event, Fact
from ropebell.build.events import Progress as ProgressEvent
from ropebell.build.journal import JOURNAL, Journal, Reader, is_alive
from ropebell.build.manifest import read_manifest
from ropebell.build.memory import MemoryKeeper, resident_bytes
from ropebell.build.numbering import next_build_folder
from ropebell.build.pages import read_page, write_page
from ropebell.build.progress import Progress
from ropebell.build.request import Request
from ropebell.build.result import Outcome, open_result, outcome
from ropebell.build.runner import BuildProcess, Standby
from ropebell.build.store import META, Store
from ropebell.demo.builder import LevelBuilder, at
from ropebell.digest import digest_of
from ropebell.errors import BuildError, LevelError, ProjectError, Stopped
from ropebell.fault_report import EXIT_FAULT, FAULT
from ropebell.level.brief import LightChange
from ropebell.level.model import Light


def lit_room(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.light("second", Light("second", "point", (1, 1, 1), 20.0), at(4, 1, 4))
    return level_file(folder, b)


def reused(folder: Path) -> dict[str, str]:
    """Final state of every stage (and item) in a journal."""
    return {f"{e['stage']} {e.get('item', '')}".strip(): e["state"] for e in events(folder) if e["event"] == "stage"}


def test_a_strength_change_reuses_everything_but_the_algebra(tmp_path: Path) -> None:
    path = lit_room(tmp_path)
    bake(path, recipe("sketch"), tmp_path / "a")
    assert "reused" not in reused(tmp_path / "a").values()
    second = bake(path, recipe("sketch"), tmp_path / "b", lights={"lights/lamp": LightChange(160.0)})
    states = reused(tmp_path / "b")
    for stage in ("charts", "footing", "direct lights/lamp", "direct lights/second", "transport"):
        assert states[stage] == "reused"
    assert {states[s] for s in ("scene", "solve", "finish", "write")} == {"done"}
    assert set(second["reused"]) == {"charts", "footing", "direct", "surfaces", "transport"}


@pytest.mark.parametrize(
    ("change", "again"),
    [
        ({"light__bounces": 0}, set()),
        ({"light__bounce_gain": 0.5}, set()),
        ({"light__gather_rays": 32}, {"transport"}),
        ({"light__seed": 9}, {"transport"}),
        ({"density__padding": 5}, {"charts", "footing", "direct", "transport"}),
    ],
)
def test_each_setting_makes_only_its_own_stages_stale(tmp_path: Path, change: dict, again: set) -> None:
    path = lit_room(tmp_path)
    bake(path, recipe("sketch"), tmp_path / "a")
    manifest = bake(path, recipe("sketch", **change), tmp_path / "b")
    assert {"charts", "footing", "direct", "transport"} - set(manifest["reused"]) == again


def test_a_moved_light_is_shot_anew_and_no_other(tmp_path: Path) -> None:
    path = lit_room(tmp_path)
    bake(path, recipe("sketch"), tmp_path / "a")
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(5, 3, 5), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2.5))
    b.light("second", Light("second", "point", (1, 1, 1), 20.0), at(4, 1, 4))
    bake(level_file(tmp_path, b), recipe("sketch"), tmp_path / "b")
    states = reused(tmp_path / "b")
    assert states["direct lights/lamp"] == "done"
    assert states["direct lights/second"] == states["transport"] == states["charts"] == "reused"


def test_relit_result_equals_a_build_from_nothing(tmp_path: Path) -> None:
    path = lit_room(tmp_path)
    bake(path, recipe("sketch"), tmp_path / "a")
    lights = {"lights/lamp": LightChange(200.0, (1.0, 0.2, 0.1))}
    bake(path, recipe("sketch"), tmp_path / "b", lights=lights)
    bake(path, recipe("sketch"), tmp_path / "c", lights=lights, cache=tmp_path / "other cache")
    np.testing.assert_array_equal(open_result(tmp_path / "b").total, open_result(tmp_path / "c").total)


def test_the_manifest_records_what_was_done(tmp_path: Path) -> None:
    manifest = bake(lit_room(tmp_path), recipe("sketch", light__seed=5))
    assert manifest == read_manifest(tmp_path / "out").as_json()
    assert manifest["seed"] == 5
    assert manifest["texels"] > 500 and manifest["rays"]["gather"] == manifest["texels"] * 64
    assert {"scene", "charts", "transport", "solve", "finish", "write", "total"} <= set(manifest["seconds"])
    assert manifest["machine"]["cores"] and manifest["machine"]["libraries"]["embreex"]
    assert (tmp_path / "out" / "thumbnail.png").stat().st_size > 300
    assert outcome(tmp_path / "out") == Outcome("done", "Done.")


def test_journal_progress_only_rises_and_ends_at_one(tmp_path: Path) -> None:
    bake(lit_room(tmp_path), recipe("working"))
    shares = [e["share"] for e in events(tmp_path / "out") if e["event"] == "progress"]
    assert len(shares) > 5 and shares == sorted(shares)
    assert shares[-1] == pytest.approx(1.0, abs=0.01)
    rest = [e["remaining"] for e in events(tmp_path / "out") if e["event"] == "progress"]
    assert rest[-1] < 0.1 and min(rest) >= 0


def test_progress_scales_its_remaining_time_by_experience(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [0.0]
    monkeypatch.setattr(time, "monotonic", lambda: now[0])
    told: list[tuple[str, float, float]] = []
    progress = Progress({"a": 10.0, "b": 10.0}, lambda *t: told.append(t), lambda: None)
    now[0] = 20.0  # twice as slow as predicted
    progress.stage("a")(1.0)
    assert told[-1] == ("a", pytest.approx(0.5), pytest.approx(20.0))
    with pytest.raises(Stopped):
        Progress({"a": 1.0}, lambda *_: None, Stopped).stage("a")(0.1)


def test_a_stage_that_is_silent_in_its_middle_does_not_drive_the_end_away(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [0.0]
    monkeypatch.setattr(time, "monotonic", lambda: now[0])
    told: list[tuple[str, float, float]] = []
    progress = Progress({"a": 10.0, "b": 10.0}, lambda *t: told.append(t), lambda: None)
    tick = progress.stage("a")
    # All of it is one step: nothing is told until it is done, just as long after as was foretold.
    ends = []
    for second in (0.2, *range(1, 10)):
        now[0] = float(second)
        tick(0.02)
        ends.append(second + told[-1][2])
    assert len(told) == 10 and all(19.0 <= end <= 21.0 for end in ends)
    now[0] = 10.0
    tick(1.0)
    assert told[-1][2] == pytest.approx(10.0)
    # One that moves, but at half the speed that was foretold, is told as that.
    following = progress.stage("b")
    for step in range(1, 40):
        now[0] = 10.0 + 0.2 * step
        following(0.01 * step)
    assert now[0] + told[-1][2] > 24.0


# -- in its own process


def request(folder: Path, **values: Any) -> Request:
    made = recipe("final", density__texels_per_metre=24.0, **values)
    return Request(lit_room(folder), folder / "out", folder / "cache", made)


def until(process: BuildProcess, condition: Callable[[list[Event]], bool]) -> list[Event]:
    """Follow a build until its events fulfil a condition, or it ends."""
    events: list[Event] = []
    deadline = time.monotonic() + 120
    while time.monotonic() < deadline:
        ended = process.poll()
        events += process.new_events()
        if condition(events) or ended is not None:
            return events
        time.sleep(0.01)
    pytest.fail("the build neither ended nor came that far")


def ended(process: BuildProcess) -> Outcome:
    until(process, lambda _: False)
    found = process.poll()
    assert found is not None
    return found


def in_transport(events: list[Event]) -> bool:
    return any(isinstance(e, ProgressEvent) and e.stage == "transport" and e.share > 0 for e in events)


def test_stop_keeps_finished_stages_and_writes_no_result(tmp_path: Path) -> None:
    process = BuildProcess(request(tmp_path))
    until(process, in_transport)
    asked = time.monotonic()
    process.stop()
    found = ended(process)
    assert time.monotonic() - asked < 5  # the bench holds the exact figure; a loaded test machine may be slow
    assert found.state == "stopped"
    assert outcome(tmp_path / "out").state == "stopped"
    assert not (tmp_path / "out" / "manifest.json").exists()
    assert not (tmp_path / "out" / "live").exists()
    names = [p.name for p in (tmp_path / "cache").iterdir()]
    assert names and not any(name.endswith(".part") for name in names)
    manifest = bake(
        tmp_path / "level.glb", recipe("final", density__texels_per_metre=24.0, light__gather_rays=16), tmp_path / "b"
    )
    assert {"charts", "footing", "direct"} <= set(manifest["reused"])


def test_a_build_stopped_before_it_began_leaves_nothing(tmp_path: Path) -> None:
    process = BuildProcess(request(tmp_path))
    process.stop()
    assert ended(process).state == "stopped" and not (tmp_path / "out").exists()


def test_a_build_that_does_not_hear_is_stopped_and_not_dead(tmp_path: Path) -> None:
    process = BuildProcess(request(tmp_path))
    until(process, in_transport)
    os.kill(process.pid, signal.SIGSTOP)
    process.stop()
    assert ended(process).state == "stopped"
    assert outcome(tmp_path / "out") == Outcome("stopped", "stopped on request")


def test_a_killed_build_is_recorded_as_died(tmp_path: Path) -> None:
    process = BuildProcess(request(tmp_path))
    until(process, in_transport)
    assert outcome(tmp_path / "out").state == "running"
    os.kill(process.pid, signal.SIGKILL)
    assert ended(process).state == "died"
    assert outcome(tmp_path / "out").state == "died"
    assert events(tmp_path / "out")[0]["event"] == "begin"


def test_a_tripwire_stops_with_its_own_exit_status(tmp_path: Path) -> None:
    process = BuildProcess(request(tmp_path, limits__seconds=1.0))
    found = ended(process)
    assert (found.state, process.exit_code) == ("tripwire", 4)
    assert "limits.seconds" in found.sentence


def test_unreadable_level_fails_with_the_readers_sentence(tmp_path: Path) -> None:
    (tmp_path / "bad.gltf").write_text("{")
    process = BuildProcess(Request(tmp_path / "bad.gltf", tmp_path / "out", tmp_path / "cache", recipe("sketch")))
    found = ended(process)
    assert (found.state, process.exit_code) == ("failed", 2)
    assert "not valid JSON" in found.sentence


def test_a_fault_of_the_program_is_told_with_its_traceback(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from ropebell.build import worker

    def broken(*_: object) -> dict:
        raise ZeroDivisionError("planted")

    monkeypatch.setattr(worker, "build", broken)
    monkeypatch.setattr(worker, "_listen", lambda *_: None)
    assert worker.run(request(tmp_path), gentle=False) == EXIT_FAULT
    last = events(tmp_path / "out")[-1]
    assert last["outcome"] == "failed" and "planted" in last["message"] and "Traceback" in last["traceback"]


def test_a_process_on_standby_takes_one_request(tmp_path: Path) -> None:
    standby = Standby()
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(1), "m")
    asked = Request(level_file(tmp_path, b), tmp_path / "out", tmp_path / "cache", recipe("sketch"), (1.0, 1.0, 1.0))
    assert ended(BuildProcess(asked, standby)).state == "done"
    assert standby.take() is None
    standby.close()


def test_memory_limit_refuses_before_the_work(tmp_path: Path) -> None:
    with pytest.raises(BuildError, match=r"limits\.memory_mb"):
        bake(lit_room(tmp_path), recipe("final", density__texels_per_metre=200.0, limits__memory_mb=1000))


def test_levels_that_cannot_be_lit_are_refused_in_words(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(1), "m")
    with pytest.raises(BuildError, match="nothing gives light"):
        bake(level_file(tmp_path, b), recipe("sketch"))
    empty = LevelBuilder()
    empty.light("lamp", Light("lamp", "point"), at(0, 0, 0))
    with pytest.raises(BuildError, match="no node of the level has a mesh"):
        bake(level_file(tmp_path, empty, "empty.glb"), recipe("sketch"), tmp_path / "e")


def test_a_full_disk_fails_the_build_and_leaves_no_manifest(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(outputs, "write_bytes", full)
    with pytest.raises(BuildError, match="the disk is full"):
        bake(lit_room(tmp_path), recipe("sketch"))
    assert not (tmp_path / "out" / "manifest.json").exists()


# -- the store and the journal

X, Y = digest_of("x"), digest_of("y")


def test_artifacts_are_whole_or_absent(tmp_path: Path) -> None:
    store = Store(tmp_path / "cache")
    assert store.get(X) is None
    kept = store.put(X, {"a": np.arange(5), "none": np.zeros((0, 3))}, {"k": 1})
    np.testing.assert_array_equal(kept.arrays["a"], np.arange(5))
    assert kept.meta == {"k": 1}
    with pytest.raises(RuntimeError), store.writing(Y) as folder:
        (folder / "a.npy").write_bytes(b"half")
        raise RuntimeError
    assert store.get(Y) is None
    assert [p.name for p in store.folder.iterdir()] == [X]


@pytest.mark.parametrize("spoil", ["truncate", "delete", "meta", "zeros"])
def test_damaged_artifacts_are_made_anew(tmp_path: Path, spoil: str) -> None:
    store = Store(tmp_path)
    store.put(X, {"a": np.arange(1000)})
    file = tmp_path / X / "a.npy"
    if spoil == "truncate":
        file.write_bytes(file.read_bytes()[:200])
    elif spoil == "delete":
        file.unlink()
    elif spoil == "zeros":
        file.write_bytes(b"\0" * file.stat().st_size)
    else:
        (tmp_path / X / META).write_text("{")
    assert store.get(X) is None
    store.put(X, {"a": np.arange(3)})
    assert store.get(X) is not None


def test_mapped_arrays_never_write_to_the_file(tmp_path: Path) -> None:
    store = Store(tmp_path)
    store.put(X, {"a": np.arange(4)}).arrays["a"][:] = 9
    again = store.get(X)
    assert again is not None
    np.testing.assert_array_equal(again.arrays["a"], np.arange(4))


def test_the_longest_unused_artifacts_go_first(tmp_path: Path) -> None:
    store = Store(tmp_path, limit_bytes=20_000)
    a, b, c = (digest_of(name) for name in "abc")
    for i, name in enumerate((a, b, c)):
        store.put(name, {"a": np.zeros(1000)})
        os.utime(tmp_path / name, (i, i))
    store.trim({a})
    assert {p.name for p in tmp_path.iterdir()} == {a, c}


def test_digests_see_shape_type_and_value() -> None:
    a = np.arange(6)
    variants = [a, a.reshape(2, 3), a.astype(np.int32), a + 1]
    assert len({digest_of(v) for v in variants}) == 4
    assert digest_of(1, "a") != digest_of("1", "a")
    assert digest_of({"a": 1, "b": 2}) == digest_of({"b": 2, "a": 1})


def test_journal_reader_waits_for_whole_lines_and_skips_damage(tmp_path: Path) -> None:
    reader = Reader(tmp_path / JOURNAL)
    assert reader.new_events() == []
    with open(tmp_path / JOURNAL, "a") as file:
        file.write('{"event": "note", "text": "a"}\nnonsense\n{"event": "unheard of"}\n{"eve')
        file.flush()
        assert [e.values for e in reader.new_events() if isinstance(e, Fact)] == [{"text": "a"}]
        file.write('nt": "note", "text": "')
        file.flush()
    told = "half of an ü".encode()
    with open(tmp_path / JOURNAL, "ab") as raw:
        raw.write(told[:-1])
        raw.flush()
        assert reader.new_events() == []
        raw.write(told[-1:] + b'"}\n')
        raw.flush()
    assert [e.values for e in reader.new_events() if isinstance(e, Fact)] == [{"text": "half of an ü"}]


def test_a_journal_that_is_held_is_alive(tmp_path: Path) -> None:
    journal = Journal(tmp_path)
    assert is_alive(tmp_path)
    journal.close()
    assert not is_alive(tmp_path)
    assert outcome(tmp_path).state == "died"


def test_build_numbers_are_never_used_twice(tmp_path: Path) -> None:
    assert next_build_folder(tmp_path).name == "0001"
    (tmp_path / "0007").mkdir()
    (tmp_path / "notes").mkdir()
    assert next_build_folder(tmp_path).name == "0008"


def test_pages_round_trip_and_damage_is_named(tmp_path: Path) -> None:
    page = np.random.default_rng(1).random((8, 16, 3)).astype(np.float32) * 100
    write_page(tmp_path / "p.exr", page)
    np.testing.assert_allclose(read_page(tmp_path / "p.exr"), page, rtol=1e-3)
    (tmp_path / "p.exr").write_bytes(b"nonsense")
    with pytest.raises(LevelError, match="missing or damaged"):
        read_page(tmp_path / "p.exr")


def test_damaged_manifests_are_named(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match="no finished build"):
        read_manifest(tmp_path)
    (tmp_path / "manifest.json").write_text(json.dumps([1]))
    with pytest.raises(ProjectError, match="damaged"):
        read_manifest(tmp_path)


def test_mapped_tables_are_given_back_before_memory_runs_out(tmp_path: Path) -> None:
    shape = (200_000, 100)
    table = np.lib.format.open_memmap(tmp_path / "t.npy", mode="w+", dtype=np.int32, shape=shape)
    before = resident_bytes()
    keeper = MemoryKeeper(before + (60 << 20))
    keeper.watch(table)
    keeper.watch(np.zeros(3))  # not mapped: left alone
    with keeper.watching():
        for first in range(0, len(table), 1000):
            table[first : first + 1000] = np.arange(first, first + 1000)[:, None]
    assert keeper.given_back > 0
    keeper.give_back()
    assert resident_bytes() < before + (20 << 20)
    assert (table[:, 7] == np.arange(len(table))).all()


def test_a_build_keeps_to_its_memory_limit_and_gives_the_same_light(tmp_path: Path) -> None:
    level = lit_room(tmp_path)
    made = recipe("working", density__texels_per_metre=10.0)
    free = bake(level, made, tmp_path / "a", sky=(1.0, 1.0, 1.0))
    kept = bake(level, recipe("working", density__texels_per_metre=10.0, limits__memory_mb=700), tmp_path / "b",
                sky=(1.0, 1.0, 1.0), cache=tmp_path / "other")  # fmt: skip
    for page in free["pages"]:
        assert (tmp_path / "a" / page["file"]).read_bytes() == (tmp_path / "b" / page["file"]).read_bytes()
    assert kept["recipe"]["limits"]["memory_mb"] == 700


def test_a_fault_of_the_program_leaves_a_report_that_can_be_sent(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:  # fmt: skip
    level = tmp_path / "secret level.glb"

    def broken(*_: object) -> None:
        raise KeyError(f"no {level}")

    monkeypatch.setattr(worker, "build", broken)
    monkeypatch.setattr(worker, "_listen", lambda *_: None)
    monkeypatch.setattr(Path, "home", lambda: tmp_path.parent)
    out = tmp_path / "builds" / "0001"
    assert worker.run(Request(level, out, tmp_path / "cache", recipe("sketch")), gentle=False) == EXIT_FAULT
    report = (out / FAULT).read_text()
    assert report.startswith("Rope Bell ") and "KeyError" in report and "broken" in report
    assert "secret" not in report and str(tmp_path) not in report and str(tmp_path.parent) not in report
    end = events(out)[-1]
    assert end["outcome"] == "failed" and FAULT in end["message"] and "secret" in end["traceback"]
