"""Kill what writes, at any moment, and look at what is left: builds, hunts, hand-overs, saves and the window."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
import tomllib
import zipfile
from collections.abc import Callable
from pathlib import Path

from reliability import MOST_SECONDS, Row, a_level, children, command, content, surroundings, tried

from ropebell.build.result import outcome
from ropebell.demo.write import LEVEL_NAME
from ropebell.hunt.last_watch import MARK, SCRATCH
from ropebell.interpreter import own_command

# Seconds within which all is gone that a killed command had started.
SOON = 5.0
WINDOW = """
import sys, itertools
from dataclasses import replace
from pathlib import Path
from PyQt6.QtCore import QTimer
from ropebell.app.main import application
from ropebell.app.preferences import Preferences
from ropebell.app.window import Window
from ropebell.level.brief import Mark
app, folder = application(), Path(sys.argv[1])
window, count = Window(Preferences()), itertools.count()
window.show()
window.open(folder)
def edit():
    d = window.desk.document
    if d.project is None or d.read_only:
        return
    note = f"note {next(count)} " + "x" * 5000
    d.edit_brief("Note", lambda b: replace(b, marks={**b.marks, "g/floor": Mark(note=note)}))
    d.save_now()
    print(next(count), flush=True)
timer = QTimer()
timer.timeout.connect(edit)
timer.start(5)
QTimer.singleShot(int(1000 * float(sys.argv[2])), window.close)
app.exec()
"""


def builds(folder: Path, count: int) -> Row:
    """Kill the build process; what was there stays, and the next build is that of an undisturbed one."""
    row, level = Row("build killed at a random moment, then built again"), a_level(folder)
    clean = folder / "clean"
    subprocess.run(command(level, clean), env=surroundings(folder / "c0"), capture_output=True, check=True)
    light, chance = content(clean), random.Random(7)
    for number in range(count):
        out, cache = folder / f"k{number}", folder / "killed-cache"
        process = subprocess.Popen(
            command(level, out), env=surroundings(cache), stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
        )
        time.sleep(chance.uniform(0.3, 3.0))
        for pid in children(process.pid):
            os.kill(pid, signal.SIGKILL)
        process.wait(MOST_SECONDS)
        state = outcome(out).state if out.is_dir() else "never begun"
        trouble, said = tried(command(level, folder / f"a{number}"), cache, (0,))
        if not trouble and content(folder / f"a{number}") != light:
            trouble = f"other light after a kill ({state})"
        row.note(trouble or ("half a build" if state == "done" and content(out) != light else ""), said)
        for place in (out, folder / f"a{number}"):
            shutil.rmtree(place, ignore_errors=True)
    return row


def hunts(folder: Path, count: int) -> Row:
    """Kill the hunt alone; nothing that it started lives on, nothing of it is left, and it goes on from its log."""
    row, level = Row("hunt killed at a random moment; all that it started ends, and it goes on"), a_level(folder)
    chance, temporary = random.Random(5), folder / "tmp"
    temporary.mkdir()
    around = {**surroundings(folder / "cache"), "TMPDIR": str(temporary)}
    line = own_command("ropebell.cli.main", "hunt", str(level), "--while", "black>0.0001", "--recipe", "sketch",
                       "--set", "density.texels_per_metre=6", "--no-fixes", "--most-trials", "12")  # fmt: skip
    for number in range(count):
        case = folder / f"case{number // 10}"
        process = subprocess.Popen(
            [*line, "--out", str(case)], env=around, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(chance.uniform(0.3, 6.0))
        process.send_signal(signal.SIGKILL)
        process.wait(MOST_SECONDS)
        end = time.monotonic() + SOON
        while (left := _of_hunts(temporary)) and time.monotonic() < end:
            time.sleep(0.05)
        trouble = "; ".join(left)
        if not trouble and number % 10 == 9:
            trouble, _ = tried([*line, "--out", str(case)], folder / "cache", (0, 1))
        row.note(trouble)
    return row


def _of_hunts(temporary: Path) -> list[str]:
    found = [f"{left.name} stays" for left in temporary.glob(f"{SCRATCH}*")]
    for entry in os.listdir("/proc"):
        try:
            words = Path(f"/proc/{entry}/environ").read_bytes() if entry.isdigit() else b""
        except OSError:
            continue
        if f"{MARK}=".encode() in words and str(temporary).encode() in words:
            found.append(f"process {entry} lives on")
    return found


def exports(folder: Path, count: int) -> Row:
    """Kill a hand-over; its place is empty, or holds a whole package."""
    row, home = Row("hand-over killed at a random moment"), folder / "home"
    home.mkdir()
    shutil.move(a_level(folder), home / LEVEL_NAME)
    (home / "project.toml").write_text(f'name = "Small"\nlevel = "{LEVEL_NAME}"\n')
    build, chance = folder / "build", random.Random(3)
    subprocess.run(command(home, build), env=surroundings(folder / "c"), capture_output=True, check=True)
    for number in range(count):
        out = folder / f"p{number}.zip"
        process = subprocess.Popen(
            own_command("ropebell.cli.main", "export", str(build), "--out", str(out), "--despite", "any"),
            env=surroundings(folder / "c"), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(chance.uniform(0.5, 2.0))
        process.kill()
        process.wait()
        trouble = ""
        if out.exists():
            with zipfile.ZipFile(out) as archive:
                trouble = "" if archive.testzip() is None and archive.namelist() else "half a package"
            out.unlink()
        strange = [p.name for p in folder.iterdir() if p.name not in ("home", "build", "c") and p.name[0] != "."]
        row.note(trouble or (f"{strange[0]} beside its place" if strange else ""))
    return row


def saves(folder: Path, count: int) -> Row:
    """Kill a process that saves a project over and over; the file is whole, old or new."""
    row, chance = Row("project file saved over and over, killed at a random moment"), random.Random(11)
    path = folder / "project.toml"
    words = (
        "import itertools,sys; from pathlib import Path; from ropebell.files import write_text\n"
        "text = '# ' + 'x' * 200_000 + '\\nend = true\\n'\n"
        "for n in itertools.count(): write_text(Path(sys.argv[1]), f'n = {n}\\n' + text)"
    )
    for _ in range(count):
        process = subprocess.Popen([sys.executable, "-I", "-c", words, str(path)])
        time.sleep(0.25 + chance.uniform(0.0, 0.2))
        process.kill()
        process.wait()
        whole = path.is_file() and path.read_text().endswith("end = true\n")
        row.note("" if whole or not path.exists() else "half a file")
    return row


def _project(folder: Path) -> Path:
    home = folder / "project"
    home.mkdir()
    shutil.move(a_level(folder), home / LEVEL_NAME)
    (home / "project.toml").write_text(f'name = "Small"\nlevel = "{LEVEL_NAME}"\n')
    return home


def _window(home: Path, folder: Path, seconds: float) -> subprocess.Popen[str]:
    around = {**surroundings(folder / "cache"), "QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(folder / "etc")}
    return subprocess.Popen(
        [sys.executable, "-I", "-c", WINDOW, str(home), str(seconds)], env=around, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip


def _readable(home: Path) -> str:
    try:
        note = tomllib.loads((home / "project.toml").read_text()).get("marks", {}).get("g/floor", {}).get("note", "x")
    except (OSError, ValueError) as error:
        return f"the project cannot be read ({error})"
    return "" if note.endswith("x") else "half a note"


def windows(folder: Path, count: int) -> Row:
    """Kill a window that edits and saves without rest; the project is whole, and the next window opens it."""
    row, home, chance = Row("window that edits, killed at a random moment"), _project(folder), random.Random(9)
    for _ in range(count):
        process = _window(home, folder, 60.0)
        assert process.stdout is not None
        process.stdout.readline()  # its first edit
        time.sleep(chance.uniform(0.0, 0.5))
        process.kill()
        process.communicate()
        row.note(_readable(home))
    return row


def two_windows(folder: Path, count: int) -> Row:
    """Two live windows on one project: one edits, the other looks on; nothing is lost, nobody stumbles."""
    row, home = Row("two live windows on one project"), _project(folder)
    for _ in range(count):
        pair = [_window(home, folder, 6.0) for _ in range(2)]
        said = [p.communicate(timeout=MOST_SECONDS) for p in pair]
        editing = sum(bool(out.strip()) for out, _ in said)
        stumbled = next((err.strip().splitlines()[-1] for _, err in said if "Traceback" in err), "")
        row.note(stumbled or _readable(home) or ("" if editing == 1 else f"{editing} of them edit"))
    return row


KINDS: dict[str, tuple[Callable[[Path, int], Row], int, int]] = {
    "builds": (builds, 250, 2), "hunts": (hunts, 150, 2), "exports": (exports, 200, 2), "saves": (saves, 300, 4),
    "windows": (windows, 100, 1), "two windows": (two_windows, 6, 1),
}  # fmt: skip
