"""What is around a process brings in no code, changes no arithmetic, and outlives nobody."""

from __future__ import annotations

import os
import signal
import stat
import subprocess
import time
from pathlib import Path

import pytest

from helpers import floor, level_file
from ropebell import kernel
from ropebell.demo.builder import LevelBuilder, at
from ropebell.hunt.last_watch import MARK, SCRATCH, Watched, marked
from ropebell.interpreter import cleaned, own_command
from ropebell.level.model import Light

PLANTED = {
    "NUMBA_CACHE_DIR": "/planted", "NUMBA_CACHE_LOCATOR_CLASSES": "Nothing", "NUMBA_DISABLE_JIT": "1",
    "PYTHONSTARTUP": "/planted", "OMP_NUM_THREADS": "7", "LD_PRELOAD": "", "LD_LIBRARY_PATH": "/planted",
    "QT_PLUGIN_PATH": "/planted", "QT_QPA_PLATFORM_PLUGIN_PATH": "/planted", "MKL_CBWR": "COMPATIBLE",
}  # fmt: skip


def _level(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 40.0), at(0, 1, 0))
    return level_file(folder, b)


def test_what_brings_in_code_is_taken_out_and_the_rest_stays() -> None:
    kept = {"HOME": "/h", "OPENBLAS_CORETYPE": "Haswell", "QT_SCALE_FACTOR": "2", "LDAP_SERVER": "x", "OMPX": "y"}
    assert cleaned({**PLANTED, **kept}) == kept


def test_a_command_is_run_in_a_clean_environment_without_a_kernel_from_elsewhere(tmp_path: Path) -> None:
    planted = {key: value.replace("/planted", str(tmp_path / "planted")) for key, value in PLANTED.items()}
    (tmp_path / "planted").mkdir()
    done = subprocess.run(
        own_command("ropebell.cli.main", "check", str(_level(tmp_path))), env={**os.environ, **planted},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode in (0, 1) and "Traceback" not in done.stderr and "findings" in done.stdout
    assert not list((tmp_path / "planted").iterdir())


def test_kernels_lie_in_a_folder_that_is_the_persons_own_and_closed_to_others(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = kernel.kernel_folder()
    state = folder.stat()
    assert state.st_uid == os.getuid() and stat.S_IMODE(state.st_mode) == 0o700
    # Where it is a link, or somebody else's, another is taken.
    monkeypatch.setattr(kernel.tempfile, "gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr(kernel.pwd, "getpwuid", lambda _: (_ for _ in ()).throw(KeyError()))
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / f"ropebell-kernels-{os.getuid()}").symlink_to(tmp_path / "elsewhere")
    taken = kernel.kernel_folder()
    assert taken.is_dir() and not taken.is_symlink() and not list((tmp_path / "elsewhere").iterdir())


def _gone(condition: object, seconds: float = 20.0) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if not condition():  # type: ignore[operator]
            return True
        time.sleep(0.05)
    return False


def _scratch(folder: Path) -> list[Path]:
    return list(folder.glob(f"{SCRATCH}*"))


@pytest.mark.parametrize("command", ["", "sh -c 'setsid sleep 300 & sleep 300'"])
def test_nothing_of_a_hunt_outlives_it_when_it_is_killed(tmp_path: Path, command: str) -> None:
    level, temporary = _level(tmp_path), tmp_path / "tmp"
    temporary.mkdir()
    words = ["--command", command] if command else ["--set", "light.gather_rays=4096"]
    condition = "status:1" if command else "black>0.9"
    hunt = subprocess.Popen(
        own_command("ropebell.cli.main", "hunt", str(level), "--while", condition, *words),
        env={**os.environ, "TMPDIR": str(temporary), "XDG_CACHE_HOME": str(tmp_path / "cache")},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip

    def running() -> list[int]:
        marks = [
            line.split(b"=", 1)[1].decode()
            for pid in _below(hunt.pid)
            for line in _environment(pid)
            if line.startswith(f"{MARK}=".encode())
        ]
        return marked(marks[0]) if marks else []

    end = time.monotonic() + 60.0
    while not (started := running()) and time.monotonic() < end:
        time.sleep(0.05)
    assert started and _scratch(temporary)
    hunt.send_signal(signal.SIGKILL)
    hunt.wait()
    assert _gone(lambda: any(Path(f"/proc/{pid}/exe").exists() for pid in started))
    assert _gone(lambda: _scratch(temporary))


def _environment(pid: int) -> list[bytes]:
    try:
        return Path(f"/proc/{pid}/environ").read_bytes().split(b"\0")
    except OSError:
        return []


def _below(parent: int) -> list[int]:
    done = subprocess.run(["ps", "-o", "pid=", "--ppid", str(parent)], capture_output=True, text=True, check=False)
    return [int(line) for line in done.stdout.split()]


def test_a_hunt_that_ends_leaves_no_folder_and_no_mark(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with Watched() as watched:
        (watched.folder / "deep" / "er").mkdir(parents=True)
        (watched.folder / "deep" / "file").write_text("x")
        outside = tmp_path / "outside"
        outside.mkdir()
        (outside / "mine").write_text("mine")
        (watched.folder / "link").symlink_to(outside)
        mark = os.environ[MARK]
        sleeper = subprocess.Popen(["sleep", "300"])
        assert sleeper.pid in marked(mark)
    assert sleeper.wait() == -signal.SIGKILL
    assert not watched.folder.exists() and MARK not in os.environ and (outside / "mine").read_text() == "mine"
