"""A build writes into its own folder: never over a source, a stranger's file, through a link, or into another build."""

from __future__ import annotations

import base64
import json
import os
import signal
import stat
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from helpers import bake, floor, level_file, recipe
from ropebell.build import standby
from ropebell.build.claim import claimed
from ropebell.build.journal import Journal, is_alive, read_events
from ropebell.build.numbering import next_build_folder
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder
from ropebell.errors import BuildError, UsageError
from ropebell.files import write_bytes
from ropebell.interpreter import own_command
from ropebell.level.gltf_write import plain_glb

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
    for _ in range(2):
        both = [subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) for _ in range(2)]
        said = [process.communicate(timeout=300) for process in both]
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
    before = signal.signal(signal.SIGHUP, signal.SIG_DFL)  # tests under `nohup` would ask it to outlive a hang-up
    master = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    signal.signal(signal.SIGHUP, before)
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


def test_earlier_builds_are_cleared_when_asked_and_nothing_else(
    tmp_path: Path, level: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    arguments = ["bake", str(level), "--out", str(tmp_path / "a"), *SKETCH]
    assert [main(arguments) for _ in range(3)] == [0, 0, 0]
    assert "--clear-earlier" in capsys.readouterr().err
    (tmp_path / "a.before-2" / "letter.txt").write_text("dear")
    assert main([*arguments, "--clear-earlier"]) == 0
    assert {p.name for p in tmp_path.glob("a*")} == {"a", "a.before-2"}


def test_what_killed_processes_left_is_cleared_later(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(tmp_path))
    old, new, theirs = (tmp_path / name for name in ("ropebell-warm-old", "ropebell-warm-new", "someones"))
    for folder in (old, new, theirs):
        (folder / "cache").mkdir(parents=True)
        (folder / "cache" / "a.npy").write_bytes(b"x")
    os.utime(old, (1e9, 1e9))
    os.utime(theirs, (1e9, 1e9))
    standby._clear_scratch()
    assert not old.exists() and new.is_dir() and theirs.is_dir()
    part, fresh = (tmp_path / f".rope-bell-{n * 16}.part" for n in "ab")
    for path in (part, fresh):
        path.write_bytes(b"half")
    os.utime(part, (1e9, 1e9))
    write_bytes(tmp_path / "project.toml", b"whole")
    assert not part.exists() and fresh.exists()


def test_saving_keeps_who_may_read_a_file(tmp_path: Path) -> None:
    path = tmp_path / "project.toml"
    path.write_text("x")
    path.chmod(0o600)
    write_bytes(path, b"y")
    assert path.read_bytes() == b"y" and stat.S_IMODE(path.stat().st_mode) == 0o600


@pytest.mark.parametrize("what", ["level", "project", "recipe", "manifest", "journal", "page"])
def test_a_pipe_is_refused_wherever_a_file_is_read(tmp_path: Path, level: Path, what: str) -> None:
    """With nobody at its other end, whoever opened one to read it would wait for ever."""
    out = tmp_path / "out"
    bake(level, recipe("sketch"), out, sky=(1.0, 1.0, 1.0))
    path = {
        "level": tmp_path / "pipe.glb", "project": tmp_path / "p" / "project.toml", "recipe": tmp_path / "r.toml",
        "manifest": out / "manifest.json", "journal": out / "journal.jsonl", "page": out / "pages" / "page-00.exr",
    }[what]  # fmt: skip
    path.parent.mkdir(exist_ok=True)
    path.unlink(missing_ok=True)
    os.mkfifo(path)
    if what == "journal":
        assert read_events(out) == [] and not is_alive(out)
        return
    command = {
        "level": ["check", str(path)], "project": ["check", str(path.parent)], "page": ["meter", str(out), "0,0,0"],
        "recipe": ["bake", str(level), "--out", str(tmp_path / "b"), "--recipe", str(path)],
        "manifest": ["meter", str(out), "0,0,0"],
    }[what]  # fmt: skip
    assert main(command) == 2


def test_names_cannot_command_the_terminal(tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor\x1b]0;owned\x07\x9b2J", floor(0.02), "m")
    b.add("g", "floor", floor(4.0), "m")
    b.add("g", "sheet HALF", floor(0.01, 1.0), "m")
    path = tmp_path / "level.gltf"
    glb = plain_glb(b.level(path), "test")
    length = int.from_bytes(glb[12:16], "little")
    document = json.loads(glb[20 : 20 + length])
    document["buffers"][0]["uri"] = (
        "data:application/octet-stream;base64," + base64.b64encode(glb[28 + length :]).decode()
    )
    path.write_text(json.dumps(document).replace("HALF", "\\ud800"))
    assert main(["check", str(path), "--sky", "1,1,1"]) in (0, 1)
    said = capfd.readouterr()
    assert not set(said.out + said.err) & {"\x1b", "\x07", "\x9b"} and "\\x1b" in said.out
    assert main(["bake", str(path), "--out", str(tmp_path / "o"), *SKETCH, "--json"]) == 0
    assert json.loads(capfd.readouterr().out)["outcome"] == "done"


def test_libraries_cannot_spoil_the_answer() -> None:
    words = """if True:
        import os
        from ropebell.cli.said import answer_alone
        with answer_alone():
            os.write(1, b"a library\\n")
            print("the answer")
        print("and more")
    """
    said = subprocess.run([sys.executable, "-I", "-c", words], capture_output=True, text=True, check=True)
    assert said.stdout == "the answer\nand more\n" and said.stderr == "a library\n"


def test_a_time_limit_holds_where_nothing_looks_at_the_clock(tmp_path: Path) -> None:
    """Reading is one long step, in which a build does not ask how late it is."""
    nodes = [{"name": f"n{i}"} for i in range(190_000)]
    document = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": list(range(len(nodes)))}], "nodes": nodes}
    path = tmp_path / "wide.gltf"
    path.write_text(json.dumps(document))
    request = Request(
        path, tmp_path / "out", tmp_path / "cache", recipe("sketch", limits__seconds=0.5), (1.0, 1.0, 1.0)
    )
    process = BuildProcess(request)
    while (ended := process.poll()) is None:
        time.sleep(0.01)
    last = json.loads((tmp_path / "out" / "journal.jsonl").read_text().splitlines()[-1])
    assert ended.state == "tripwire" and process.exit_code == 4 and "0.5 seconds" in ended.sentence
    assert last["t"] < 2.5
