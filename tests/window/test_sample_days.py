"""The builds that the sample level comes with."""

from __future__ import annotations

import datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pytestqt.qtbot import QtBot

from ropebell.app.reading import read_builds
from ropebell.app.rope import knot_words
from ropebell.app.sample import SampleWriter
from ropebell.app.window import Window
from ropebell.app.words import made_on
from ropebell.build import sample_days
from ropebell.build.manifest import read_manifest
from ropebell.build.result import outcome
from ropebell.build.sample_days import DAYS, Day, working_days, write_demo_with_days
from ropebell.cli.main import main
from ropebell.errors import Stopped

TODAY = datetime.date(2026, 11, 25)
COARSE = {"density.texels_per_metre": 4.0, "light.gather_rays": 64}


# Three of the seven, coarser.
COARSE_DAYS = tuple(Day(d.note, {**d.recipe, **COARSE}, d.brief) for d in (DAYS[1], DAYS[4], DAYS[6]))


@pytest.fixture
def coarse_days(monkeypatch: pytest.MonkeyPatch) -> tuple[Day, ...]:
    """In the place of the sample's own."""
    monkeypatch.setattr(sample_days, "DAYS", COARSE_DAYS)
    return COARSE_DAYS


@pytest.fixture(scope="module")
def recorded(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[tuple[int, int]]]:
    """The sample with coarse days, where the window keeps it, and what was heard while it was written."""
    heard: list[tuple[int, int]] = []
    folder = tmp_path_factory.mktemp("data") / "ropebell" / "tide-mill"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sample_days, "DAYS", COARSE_DAYS)
        write_demo_with_days(folder, lambda done, of: heard.append((done, of)), TODAY)
    return folder, heard


def test_every_day_is_a_build_with_its_note_and_re_uses_rays(
    recorded: tuple[Path, list[tuple[int, int]]], coarse_days: tuple[Day, ...]
) -> None:
    folder, heard = recorded
    assert heard == [(0, 3), (1, 3), (2, 3), (3, 3)]
    builds = folder / "builds"
    assert sorted(p.name for p in folder.iterdir() if "builds" in p.name) == ["builds"]
    assert [outcome(builds / f"000{i}").state for i in (1, 2, 3)] == ["done", "tripwire", "done"]
    first, last = read_manifest(builds / "0001"), read_manifest(builds / "0003")
    assert (first.note, last.note) == (coarse_days[0].note, coarse_days[2].note)
    assert [m.made[:10] for m in (first, last)] == ["2026-11-20", "2026-11-24"]
    assert {"charts", "footing", "direct", "transport"} <= set(last.reused) and not first.reused
    assert last.recipe.occlusion.enabled and last.lights != first.lights
    knots, newest, _ = read_builds(builds)
    assert newest is not None and newest.note == coarse_days[2].note
    assert [k.note for k in knots] == [d.note for d in coarse_days]
    # The one that was stopped has no manifest, and its day all the same.
    assert [k.made[:10] for k in knots] == ["2026-11-20", "2026-11-23", "2026-11-24"]
    assert all(k.faults > 5 for k in knots[::2]) and coarse_days[0].note in knot_words(knots[0])
    before = {p: p.stat().st_mtime_ns for p in builds.rglob("*")}
    write_demo_with_days(folder, lambda *_: pytest.fail("it has builds already"), TODAY)
    assert {p: p.stat().st_mtime_ns for p in builds.rglob("*")} == before


@pytest.mark.usefixtures("coarse_days")
def test_an_interrupted_recording_leaves_nothing_and_is_begun_anew(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is recorded is no matter here: folders of a build, made by hand."""

    def record(_day: Day, _project: object, out: Path, _made: datetime.datetime) -> None:
        (out / "layers").mkdir(parents=True)
        (out / "journal.jsonl").touch()

    monkeypatch.setattr(sample_days, "_record", record)

    def interrupt(done: int, _of: int) -> None:
        if done == 1:
            raise Stopped()

    with pytest.raises(Stopped):
        write_demo_with_days(tmp_path, interrupt, TODAY)
    assert not [p.name for p in tmp_path.iterdir() if "builds" in p.name]
    (tmp_path / "builds.part" / "0001").mkdir(parents=True)  # as a kill leaves it
    write_demo_with_days(tmp_path, lambda *_: None, TODAY)
    assert len(list((tmp_path / "builds").iterdir())) == 3 and not (tmp_path / "builds.part").exists()


def test_the_days_differ_in_what_is_cheap_to_change() -> None:
    assert len(DAYS) == 7 and len({d.note for d in DAYS}) == 7
    rays = {"density.texels_per_metre", "light.gather_rays", "light.direct_samples", "light.seed", "draft"}
    assert not any(rays & d.recipe.keys() for d in DAYS)
    assert all(set(d.brief) <= {"sky", "lights", "emitters"} for d in DAYS)


@given(st.dates(datetime.date(1990, 1, 1), datetime.date(2100, 1, 1)), st.integers(1, 30))
def test_working_days_are_the_last_weekdays_before_a_day(today: datetime.date, count: int) -> None:
    days = [moment.date() for moment in working_days(today, count)]
    assert len(days) == count and days == sorted(set(days)) and days[-1] < today
    assert all(day.weekday() < 5 for day in days)
    span = [days[0] + datetime.timedelta(n) for n in range((today - days[0]).days)]
    assert [d for d in span if d.weekday() < 5] == days


def test_a_bare_sample_has_no_builds(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["demo", str(tmp_path / "mill"), "--bare"]) == 0
    assert sorted(p.name for p in (tmp_path / "mill").iterdir()) == ["emitters", "project.toml", "tide-mill.glb"]
    assert capsys.readouterr().out.strip() == str(tmp_path / "mill")


def test_the_window_writes_the_sample_and_shows_the_notes_of_its_builds(
    recorded: tuple[Path, list[tuple[int, int]]], coarse_days: tuple[Day, ...], empty_window: Window, qtbot: QtBot,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    folder, _ = recorded
    monkeypatch.setenv("XDG_DATA_HOME", str(folder.parents[1]))
    window = empty_window
    window.desk.relighter.enabled = False
    window.desk.commands.run("file.sample")
    assert window.sample.running and window.stage.message == "Writing the sample level"
    s = window.desk
    qtbot.waitUntil(lambda: s.rope.shown is not None and s.settled and s.rope.stale is not None, timeout=240_000)
    assert (
        s.document.project.folder == folder
        and [k.number for k in s.rope.knots] == [1, 2, 3]
        and s.rope.shown_number == 3
    )
    window.desk.commands.run("step.build")
    bench = window.steps["build"].bench
    assert bench.note.text() == coarse_days[2].note and "Nov" in bench.summary.text()
    # Since then the gate was opened, the roof made finer, and a lamp set live.
    assert set(s.rope.stale.changes) == {"2 lights", "recipe", "marks"} and not s.rope.stale.fresh
    s.rope.look_at(2)
    qtbot.waitUntil(lambda: s.rope.shown_number == 2 and s.settled, timeout=60_000)
    assert bench.note.text() == coarse_days[1].note and "tripwire" in bench.heading.text()


def test_a_sample_that_cannot_be_written_is_told(tmp_path: Path, qtbot: QtBot) -> None:
    (tmp_path / "file").write_text("in the way")
    writer = SampleWriter()
    with qtbot.waitSignal(writer.failed, timeout=60_000) as told:
        writer.write(tmp_path / "file")
    assert "file" in told.args[0]
    writer.write(tmp_path / "elsewhere")
    writer.close()
    assert not writer.running


def test_dates_in_words() -> None:
    assert made_on("") == "" and made_on("nonsense") == ""
    assert made_on("2026-11-24T12:00:00+00:00").startswith(", 24 Nov ")
