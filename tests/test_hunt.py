"""Hunts from the outside and with real builds: command, log, resuming, steering, proof, fixes, the case."""

from __future__ import annotations

import datetime
import json
import os
import random
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import level_file, recipe, room
from ropebell.bench.hunting import SIZES, Case, Known, hunted, made_level, report
from ropebell.bench.hunting import run as run_hunts
from ropebell.build.conditions import Condition, parse_condition
from ropebell.build.recipe import named
from ropebell.build.request import Request
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import Stopped, UsageError
from ropebell.hunt.effects import pairs_in_sight, pixels_apart
from ropebell.hunt.fixes import Fix, candidates
from ropebell.hunt.hunt import Hunt
from ropebell.hunt.options import Options
from ropebell.hunt.outcome import read_result, sight_words
from ropebell.hunt.outside import OutsideCommand
from ropebell.hunt.own import Way, shorter_ways
from ropebell.hunt.record import LOG, RESULT, STEER, Record, read_log
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT
from ropebell.hunt.trial import Run
from ropebell.level.brief import Brief, Move
from ropebell.level.gltf_read import read_gltf
from ropebell.level.model import Level, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten
from ropebell.light.arithmetic import WORKERS

# Reads which objects are in a level, and ends with 7 if all of some are there, with 3 if one that it needs is not.
JUDGE = """
import json, struct, sys
data = open(sys.argv[1], "rb").read()
document = json.loads(data[20 : 20 + struct.unpack("<I", data[12:16])[0]])
names = {n.get("name") for n in document.get("nodes", []) if "mesh" in n}
assert not __import__("os").listdir(".") and sys.argv[2].split("+")
print("met", *sorted(set(sys.argv[2].split("+")) & names))
if len(sys.argv) > 3 and sys.argv[3] not in names:
    sys.exit(3)
sys.exit(7 if set(sys.argv[2].split("+")) <= names else 0)
"""


def _level(folder: Path, count: int = 24) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    for i in range(count):
        b.add("things", f"crate {i + 1}", box((0, 0, 0), (0.8, 0.8, 0.8)), "grey", at(i % 5, 0, i // 5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 3, 2))
    return level_file(folder, b)


def _judge(folder: Path, wanted: str) -> str:
    script = folder / "judge.py"
    script.write_text(JUDGE)
    return f"{sys.executable} '{script}' {{level}} {wanted}"


def _hunt(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, dict[str, object]]:
    status = main(["hunt", *arguments, "--json"])
    return status, json.loads(capsys.readouterr().out)


def test_a_command_judges_a_pair(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    command = _judge(tmp_path, '"crate 4+crate 17" "crate 9"')
    status, told = _hunt(capsys, str(_level(tmp_path)), "--while", "status:7", "--command", command, "--no-fixes")
    assert status == 1 and told["shown"] is True and told["proved"] is True
    assert {c["node"] for c in told["culprit"]} == {"things/crate 4", "things/crate 17"}  # type: ignore[attr-defined]
    assert told["carriers"] == ["things/crate 9"]


def test_files_that_a_command_names_are_where_the_person_stands(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    _judge(tmp_path, "x")
    monkeypatch.chdir(tmp_path)
    command = f"{sys.executable} judge.py {{level}} 'crate 2'"
    _, told = _hunt(capsys, str(_level(tmp_path, 4)), "--while", "status:7", "--command", command, "--no-fixes")
    assert [c["node"] for c in told["culprit"]] == ["things/crate 2"]  # type: ignore[attr-defined]


def test_what_does_not_show_is_no_hunt(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    level = str(_level(tmp_path, 3))
    status, told = _hunt(capsys, level, "--while", "status:7", "--command", _judge(tmp_path, "nobody"))
    assert status == 0 and told["shown"] is False and told["culprit"] == [] and "does not show" in str(told["words"])
    status, told = _hunt(
        capsys, level, "--while", "log:bang", "--command", f"{sys.executable} -c 'raise SystemExit(3)'"
    )
    assert status == 0 and told["control"] == CANNOT_TELL


def test_conditions_of_a_command(tmp_path: Path) -> None:
    level = read_gltf(_level(tmp_path, 2))

    def judged(condition: str, code: str, limit: float = 30.0) -> Run:
        asked = parse_condition(condition, ())
        return OutsideCommand(f'{sys.executable} -c "{code}"', asked, tmp_path).run(level, limit)

    assert judged("log:ba+ng", "print('a baang')").verdict == PRESENT
    assert judged("log:ba+ng", "print('nothing')").verdict == ABSENT
    assert judged("log:ba+ng", "raise SystemExit(1)").verdict == CANNOT_TELL
    assert judged("status:2", "raise SystemExit(2)").verdict == PRESENT
    assert judged("status:139", "import os; os.kill(os.getpid(), 11)").verdict == PRESENT
    slow = judged("seconds>0.2", "import time; time.sleep(30)")
    assert slow.verdict == PRESENT and slow.seconds < 5
    assert judged("seconds>20", "pass").verdict == ABSENT
    assert judged("status:2", "import time; time.sleep(30)", 0.3).verdict == CANNOT_TELL
    for wrong in ("nonfinite", "black>0.3", "fault:seam", "seconds:solve>3"):
        with pytest.raises(UsageError, match="cannot tell"):
            OutsideCommand("true", parse_condition(wrong, ("solve",)), tmp_path)
    with pytest.raises(UsageError, match="no program"):
        OutsideCommand("no-such-compiler {level}", Condition("status:1", "status", limit=1), tmp_path)


def test_a_command_goes_with_all_that_it_started(tmp_path: Path) -> None:
    """Also with what has left its session and lost its parent."""
    told = tmp_path / "pids"
    script = tmp_path / "start.py"
    script.write_text(
        "import os, subprocess, sys, time\n"
        "p = subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(600)'], start_new_session=True)\n"
        f"open({str(told)!r}, 'a').write(f'{{p.pid}} ')\n"
        "time.sleep(float(sys.argv[1]))\n"
    )
    level, status = read_gltf(_level(tmp_path, 2)), Condition("status:1", "status", limit=1)
    OutsideCommand(f"{sys.executable} '{script}' 0", status, tmp_path).run(level, 30.0)
    OutsideCommand(f"{sys.executable} '{script}' 600", status, tmp_path).run(level, 1.5)
    pids = [int(p) for p in told.read_text().split()]
    assert len(pids) == 2 and not [p for p in pids if os.path.exists(f"/proc/{p}")]
    assert not list(tmp_path.glob("run-*"))


def test_a_hunt_goes_on_from_its_log(tmp_path: Path) -> None:
    case = Case("single", 60, made_level(60, random.Random(1)), (frozenset({"detail/thing 1"}),))
    name = next(n.path for n in case.level.nodes if n.mesh >= 0)
    case = Case("single", 60, case.level, (frozenset({name}),))
    made = list[str]()

    class Counting(Known):
        def run(self, level: Level, limit: float) -> Run:
            made.append("")
            if len(made) == 6:
                raise Stopped
            return super().run(level, limit)

    draw = random.Random(1)
    record = Record(tmp_path / "hunt", {"a": 1})
    with pytest.raises(Stopped):
        Hunt(case.level, Counting(case, draw), record, Options()).run()
    record.close()
    # As after a crash: the last line is half-written.
    with open(tmp_path / "hunt" / LOG, "a") as log:
        log.write('{"key": "ab')
    assert len(read_log(tmp_path / "hunt")) == 5
    again = Record(tmp_path / "hunt", {"a": 1})
    found = Hunt(case.level, Counting(case, draw), again, Options()).run()
    again.close()
    assert found.proved and found.culprits == [[(name, None)]] and found.trials == len(made) - 1
    # The log of another hunt is put aside, never written over.
    other = Record(tmp_path / "hunt", {"a": 2})
    other.close()
    assert (tmp_path / "hunt" / f"{LOG}.before-1").is_file() and not other.entries


def test_a_person_steers_a_hunt(tmp_path: Path) -> None:
    draw = random.Random(2)
    level = made_level(40, draw)
    names = [n.path for n in level.nodes if n.mesh >= 0]
    case = Case("pair", 40, level, (frozenset(names[3:5]),))
    (tmp_path / STEER).write_text(json.dumps({"trust": [names[3]], "try": [names[4]]}))
    record = Record(tmp_path, {})
    found = Hunt(level, Known(case, draw, steady=True), record, Options()).run()
    record.close()
    assert found.culprits == [[(names[4], None)]] and found.proved
    # What was wanted, beside what is trusted.
    assert next(e for e in record.entries if e.phase == "search").objects == 2
    (tmp_path / STEER).write_text('{"stop": true}')
    with pytest.raises(Stopped):
        Hunt(level, Known(case, draw), Record(tmp_path, {"b": 1}), Options()).run()


def test_no_more_trials_than_allowed_and_then_nothing_is_proved() -> None:
    draw = random.Random(3)
    level = made_level(40, draw)
    name = next(n.path for n in level.nodes if n.mesh >= 0)
    found = Hunt(level, Known(Case("", 40, level, (frozenset({name}),)), draw), Record(None, {}), Options(5)).run()
    assert found.trials == 5 and not found.proved and "5 trials" in found.words


def test_most_made_up_hunts_end_in_the_truth_and_none_in_a_wrong_proof() -> None:
    told = run_hunts(1, sizes=SIZES[:3])
    assert sum(t.minimal for t in told) >= 0.95 * len(told) and not any(t.wrong for t in told)
    for t in told:
        if t.case.kind == "single":
            assert t.trials <= 4 * np.log2(t.case.objects) + 20
    assert "wrong proofs" in report(told, datetime.date(2026, 1, 1))


def test_a_cut_down_level_is_what_the_judge_is_told_of() -> None:
    told = hunted(Case("", 10, made_level(10, random.Random(5)), (frozenset({"nobody"}),)))
    assert not told.minimal and not told.proved


def test_a_shorter_build_is_looked_for_where_it_can_show_the_same() -> None:
    way = Way(named("final"))
    short = shorter_ways(way, parse_condition("nonfinite", ()))
    assert [w.recipe.draft for w in short] == [8, 4, 2, 1] and {w.stage for w in short} == {"solve"}
    assert shorter_ways(way, parse_condition("warning:sliver", ()))[0].stage == "check"
    assert shorter_ways(way, parse_condition("seconds>3", ())) == []
    assert [w.stage for w in shorter_ways(way, parse_condition("seconds:solve>3", ("solve",)))] == ["solve"]


def _mill(folder: Path) -> Path:
    """A room of crates with one strip that hasty workers stumble over."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("house", "room", room(6, 3, 6), "grey")
    for i in range(14):
        b.add("things", f"crate {i + 1}", box((0, 0, 0), (0.4, 0.4, 0.4)), "grey", at(i % 5, 0.01, i // 5))
    for step in range(1, 200):
        strip = box((0, 0, 0), (0.55, 3e-5, 0.04)).rotated(2, 0.001 * step)
        alone = LevelBuilder()
        alone.material("grey", (0.5, 0.5, 0.5))
        alone.add("a", "strip", strip, "grey", at(3, 1.6, 5.9597))
        scene = flatten(alone.level(Path("a.glb")))
        if WORKERS["hasty"].broken(scene.corners, scene.node).any():
            break
    b.add("detail", "strip", strip, "grey", at(3, 1.6, 5.9597))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    return level_file(folder, b)


def test_a_hunt_with_real_builds_finds_proves_and_mends(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    level, out = _mill(tmp_path), tmp_path / "hunt"
    before = level.read_bytes()
    asked = [str(level), "--while", "nonfinite", "--worker", "hasty", "--recipe", "sketch", "--out", str(out)]
    status, told = _hunt(capsys, *asked)
    assert status == 1 and told["proved"] is True
    assert [c["node"] for c in told["culprit"]] == ["detail/strip"]  # type: ignore[attr-defined]
    mended = [f for f in told["fixes"] if f["verdict"] == ABSENT and f["again"] == ABSENT]  # type: ignore[attr-defined]
    assert mended[0]["touches"] == []
    differ, of = mended[0]["pixels"]
    assert of == 5 * 160 * 90 and differ < 0.001 * of
    assert mended and told["trials"] <= 4 * np.log2(16) + 20  # type: ignore[operator]
    assert level.read_bytes() == before  # the level is never touched
    page = (out / "case.html").read_text()
    assert "detail/strip" in page and "everything but the culprit" in page and "<svg" in page and "http" not in page
    kept = read_result(out / RESULT)
    assert kept["words"] == told["words"] and kept["fixes"][0]["edit"] == told["fixes"][0]["edit"]  # type: ignore[index]
    for spoiled in ("[]", "{}", '{"words": 1}', (out / RESULT).read_text().replace('"verdict"', '"other"')):
        (out / "spoiled.json").write_text(spoiled)
        assert read_result(out / "spoiled.json") == {}
    patch = read_gltf(out / "fix.glb")
    assert [n.path for n in patch.nodes if n.mesh >= 0] == ["detail/strip"]
    assert "detail/strip" in (out / "fix.txt").read_text()
    # Once more with the same folder: all of it is known, and nothing is built.
    runs = len(read_log(out))
    assert _hunt(capsys, *asked)[1] == told and len(read_log(out)) == runs == told["trials"]
    # On the engine as it is there is nothing.
    status, told = _hunt(capsys, str(level), "--while", "nonfinite", "--recipe", "sketch", "--set", "draft=8")
    assert status == 0 and told["shown"] is False


def test_fixes_start_with_the_least_and_say_how_far_they_go(tmp_path: Path) -> None:
    level = read_gltf(_mill(tmp_path))
    node = next(i for i, n in enumerate(level.nodes) if n.path == "detail/strip")
    fixes = list(candidates(level, node, True))
    assert fixes[0].unit == "degrees" and fixes[0].amount == 0.1 and 0 < fixes[0].changed < 2.0
    kinds = {f.what for f in fixes}
    assert {"move off its neighbour", "weld and take out slivers", "thicken", "give it no lightmap"} <= kinds
    thick = next(f for f in fixes if f.what == "thicken")
    mesh = thick.level(level)
    spots = np.concatenate([p.positions for p in mesh.meshes[mesh.nodes[node].mesh].primitives])
    axes = np.linalg.svd(spots - spots.mean(axis=0), full_matrices=False)[2]
    assert np.ptp((spots - spots.mean(axis=0)) @ axes.T, axis=0).min() == pytest.approx(0.005, rel=1e-3)
    shift = next(f for f in fixes if f.what == "move off its neighbour" and f.amount == 10.0)
    assert shift.changed == pytest.approx(10.0, rel=1e-6) and shift.move is not None
    assert shift.move.move[2] < -0.009  # the wall is at its back
    assert level.meshes[level.nodes[node].mesh] is not mesh.meshes[mesh.nodes[node].mesh]


def test_pixels_that_look_otherwise_are_those_it_left_and_those_it_went_to(tmp_path: Path) -> None:
    """A square metre four metres before a wall, seen squarely from four metres away; moved aside by two metres."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("house", "wall", box((-20, -20, -8.2), (20, 20, -8)), "grey")
    b.add("things", "square", box((-0.5, -0.5, -4.01), (0.5, 0.5, -4.0)), "grey")
    level = level_file(tmp_path, b)
    views = "\n".join(f'[places."{n}"]\neye = [0.0, 0.0, 0.0]\nyaw = 0.0\npitch = 0.0' for n in range(7))
    (tmp_path / "project.toml").write_text(f'level = "level.glb"\n{views}\n')
    request = Request(level, tmp_path / "out", tmp_path / "cache", recipe(), (0.0, 0.0, 0.0))
    source = open_level(level)

    def moved(by: float) -> tuple[int, int]:
        def brief(b: Brief) -> Brief:
            return replace(b, moves={"things/square": Move((by, 0.0, 0.0))})

        fix = Fix("moved", "things/square", by, "m", 1e3 * by, lambda x: x, brief)
        return pixels_apart(source, fix, request)

    assert moved(0.0) == (0, 5 * 160 * 90)
    differ, of = moved(2.0)
    # A metre at four metres, of a picture that spans 2 · 4 m · tan 35° in width, and 9/16 of that in height.
    span = 2 * 4.0 * np.tan(np.radians(35.0))
    assert differ / of == pytest.approx(2 / (span * span * 9 / 16), rel=0.05)
    # By a tenth of its width: a tenth on either side.
    assert moved(0.1)[0] == pytest.approx(0.1 * differ, rel=0.15)


def test_what_a_fix_opens_is_told_in_pairs_of_sight_cells(tmp_path: Path) -> None:
    """A board stands before a doorway; aside, one room sees into the other."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    for name, low, high in (
        ("shell", (-0.2, -0.2, -0.2), (8.2, 3.2, 4.2)), ("wall a", (4.0, 0, 0), (4.2, 3, 3)),
        ("lintel", (4.0, 2.0, 3), (4.2, 3, 4)), ("board", (4.25, 0.01, 2.9), (4.3, 2.3, 3.99)),
    ):  # fmt: skip
        b.add("house", name, box(low, high).turned_inside_out() if name == "shell" else box(low, high), "grey")
    b.spot("marks", "start", at(1, 0, 1))
    level = level_file(tmp_path, b)
    asked = recipe(sight__enabled=True, sight__cell=1.0)
    request = Request(level, tmp_path / "out", tmp_path / "cache", asked, (0.0, 0.0, 0.0))
    source = open_level(level)

    def moved(by: float) -> Fix:
        def brief(b: Brief) -> Brief:
            return replace(b, moves={"house/board": Move((0.0, 0.0, by))})

        return Fix("moved", "house/board", by, "m", 1e3 * by, lambda x: x, brief)

    aside = pairs_in_sight(source, moved(-1.5), request)
    assert aside is not None and aside[1] > 1.05 * aside[0]
    assert f"{aside[1] - aside[0]:,} pairs of sight cells more see each other" in sight_words(aside)
    still = pairs_in_sight(source, moved(0.0), request)
    assert still == (aside[0], aside[0]) and "As much can be seen as before" in sight_words((7, 7))
    # What nobody has looked into, and no build would, is not told; once it was looked into, it is.
    quiet = replace(request, recipe=recipe(sight__cell=1.0), cache=tmp_path / "other")
    assert pairs_in_sight(source, moved(-1.5), quiet) is None
    assert pairs_in_sight(source, moved(-1.5), replace(quiet, cache=request.cache)) == aside


@pytest.mark.parametrize(("condition", "most"), [("warning:inside-out", 9), ("fault:black-patch", 40)])
def test_the_remedy_that_is_known_is_tried_first_and_the_search_cannot_use_it_up(
    tmp_path: Path, condition: str, most: int, capsys: pytest.CaptureFixture[str]
) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", box((-3, -0.2, -3), (3, 0, 3)), "grey")
    for number in range(6):
        b.add("g", f"crate {number}", box((0, 0, 0), (0.5, 0.5, 0.5)), "grey", at(number - 3.0, 0.01, -2.0))
    b.add("g", "chest", box((-0.6, 0, -0.4), (0.6, 0.8, 0.4)).turned_inside_out(), "grey", at(0.3, 0.01, 0.7))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 300.0), at(0.5, 3, 0.5))
    b.light("other lamp", Light("lamp", "point", (1, 1, 1), 300.0), at(-1.5, 3, 1.5))
    b.spot("g", "start", at(-1, 0.01, 1))
    level = level_file(tmp_path, b)
    words = ["hunt", str(level), "--while", condition, "--recipe", "sketch", "--set", "density.texels_per_metre=8"]
    # Of the first, hardly more runs than the search and its proof take.
    status = main([*words, "--json", "--most-trials", str(most)])
    told = json.loads(capsys.readouterr().out)
    assert status == 1 and [c["node"] for c in told["culprit"]] == ["g/chest"]
    first = told["fixes"][0]
    assert first["what"] == "turn its faces round" and (first["node"], first["verdict"]) == ("g/chest", "absent")
