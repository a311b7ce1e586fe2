"""Break builds in every way known, and print what came of it: `./run reliability [--short] [--out FILE]`.

Each attempt must end within its time in an exit status of the contract, with one line that says what, where and what to
do, without a traceback, and without harm to what was there before. Full disks need the right to mount one.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import re
import resource
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
sys.path.insert(0, str(Path(__file__).parent))

from helpers import floor, level_file
from odd_levels import ZOO
from ropebell.build.journal import is_alive
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.interpreter import own_command
from ropebell.level.model import Light
from visits import visit

MOST_SECONDS = 60.0
CONTRACT = (0, 2, 3, 4, 130)
SETTINGS = ("--recipe", "sketch", "--sky", "1,1,1", "--set", "density.texels_per_metre=12")


@dataclass
class Row:
    """What one way of breaking came to."""

    way: str
    tried: int = 0
    well: int = 0
    bad: list[str] = field(default_factory=list)
    said: set[str] = field(default_factory=set)

    def note(self, trouble: str, said: str = "") -> None:
        """Count an attempt."""
        self.tried += 1
        self.well += not trouble
        if trouble:
            self.bad.append(trouble)
        if said:
            self.said.add(said)


def a_level(folder: Path) -> Path:
    """A floor with crates under a lamp."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(8), "grey")
    for i in range(6):
        b.add("g", f"crate {i}", box((0, 0, 0), (0.6, 0.6, 0.6)), "grey", at(i - 3.0, 0.0, 0.5 * i - 1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 90.0), at(0, 2, 0))
    return level_file(folder, b)


def command(level: Path, out: Path, *more: str) -> list[str]:
    """The bake."""
    return own_command("ropebell.cli.main", "bake", str(level), "--out", str(out), *SETTINGS, *more)


def surroundings(cache: Path) -> dict[str, str]:
    """An environment with a cache of its own."""
    return {**os.environ, "XDG_CACHE_HOME": str(cache)}


def judged(done: subprocess.CompletedProcess[str], seconds: float, wanted: tuple[int, ...]) -> tuple[str, str]:
    """What is wrong with how a command ended, and its sentence."""
    lines = [line for line in done.stderr.strip().splitlines() if line.startswith("ropebell:")]
    said = lines[-1] if lines else ""
    if "Traceback" in done.stderr + done.stdout:
        return f"traceback: {done.stderr.strip().splitlines()[-1][:120]}", said
    if seconds > MOST_SECONDS:
        return f"{seconds:.0f} s", said
    if done.returncode not in wanted:
        return f"exit {done.returncode}: {done.stderr.strip()[-160:]}", said
    if done.returncode and (not said or "(None)" in said):
        return f"exit {done.returncode} without a reason: {done.stderr.strip()[-160:]}", said
    return "", said


def tried(
    line: list[str], cache: Path, wanted: tuple[int, ...], limits: Callable[[], None] | None = None
) -> tuple[str, str]:
    """Run a command and judge it."""
    began = time.monotonic()
    try:
        done = subprocess.run(
            line, env=surroundings(cache), capture_output=True, text=True, check=False, preexec_fn=limits,
            timeout=4 * MOST_SECONDS,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return f"hangs for over {4 * MOST_SECONDS:.0f} s", ""
    return judged(done, time.monotonic() - began, wanted)


def content(folder: Path) -> str:
    """Digest of the light in a build."""
    found = hashlib.sha256()
    for page in sorted((folder / "pages").glob("*.exr")):
        found.update(page.read_bytes())
    return found.hexdigest()


def children(pid: int) -> list[int]:
    """Processes that a process has started."""
    found = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True, check=False)
    return [int(line) for line in found.stdout.split()]


def orphans(folder: Path, count: int) -> Row:
    """Kill the command; its build process must be gone within two seconds."""
    row, level = Row("command killed or hung up; its build ends within 2 s"), a_level(folder)
    for number in range(count):
        how, out = (signal.SIGKILL, signal.SIGHUP)[number % 2], folder / f"o{number}"
        line = command(level, out, "--set", "light.gather_rays=4096", "--set", "density.texels_per_metre=60")
        process = subprocess.Popen(
            line, env=surroundings(folder / f"oc{number}"), stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
        )
        while process.poll() is None and not is_alive(out):
            time.sleep(0.02)
        time.sleep(0.5)
        process.send_signal(how)
        process.wait(MOST_SECONDS)
        began = time.monotonic()
        while is_alive(out) and time.monotonic() - began < 20:
            time.sleep(0.02)
        took = time.monotonic() - began
        row.note("" if took < 2 else f"{how.name}: {took:.1f} s")
    return row


@contextmanager
def small_disk(folder: Path, kilobytes: int) -> Iterator[Path | None]:
    """A disk with so much room, None where none may be mounted."""
    folder.mkdir(parents=True)
    size = max(kilobytes, 4)
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={size}k", "tmpfs", str(folder)], capture_output=True, check=False
    )
    if done.returncode:
        yield None
        return
    try:
        if kilobytes == 0:
            with open(folder / "filler", "wb") as file:
                file.write(b"x" * 4096)
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], capture_output=True, check=False)


def full_disks(folder: Path, sizes: tuple[int, ...]) -> Row:
    """Build onto, and keep artifacts on, disks with hardly any room."""
    row, level = Row("full disks, for the build and for the cache"), a_level(folder)
    for size in sizes:
        for what in ("build", "cache"):
            with small_disk(folder / f"disk-{what}-{size}", size) as disk:
                if disk is None:
                    row.said.add("(no disk may be mounted here)")
                    return row
                out = disk / "out" if what == "build" else folder / f"fo{size}"
                cache = disk / "cache" if what == "cache" else folder / "roomy"
                trouble, said = tried(command(level, out), cache, (2, 3) if size < 64 else (0, 2, 3))
                row.note(f"{what}, {size} KB: {trouble}" if trouble else "", said)
    return row


WHICH = {"file size": resource.RLIMIT_FSIZE, "open files": resource.RLIMIT_NOFILE, "memory": resource.RLIMIT_AS}
LIMITS = (
    *(("file size", n) for n in (0, 4096, 65536, 1 << 20)),
    *(("open files", n) for n in (16, 24, 48)),
    *(("memory", n << 20) for n in (500, 900, 1200, 1600, 1700, 2000, 3000)),
)


def limits(folder: Path, cases: Sequence[tuple[str, int]] = LIMITS) -> Row:
    """Build under limits of the system."""
    row, level = Row("limits on file size, open files and memory"), a_level(folder)
    for number, (name, value) in enumerate(cases):

        def lower(which: int = WHICH[name], value: int = value) -> None:
            resource.setrlimit(which, (value, value))

        trouble, said = tried(command(level, folder / f"l{number}"), folder / f"lc{number}", CONTRACT, lower)
        row.note(f"{name} {value}: {trouble}" if trouble else "", said)
    return row


def races(folder: Path, count: int) -> Row:
    """Two builds into one folder, and two builds that share a cold cache."""
    row, level = Row("two builds at once: into one folder, and with one cold cache"), a_level(folder)
    for number in range(count):
        one = number % 2 == 0
        outs = [folder / f"r{number}" if one else folder / f"r{number}-{k}" for k in (0, 1)]
        both = [
            subprocess.Popen(
                command(level, out, "--json"),
                env=surroundings(folder / f"rc{number}"),
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            for out in outs
        ]
        said = [p.communicate(timeout=4 * MOST_SECONDS) for p in both]
        codes = sorted(p.returncode for p in both)
        fine = codes in ([0, 0], [0, 2]) if one else codes == [0, 0]
        if any("Traceback" in err for _, err in said) or not fine:
            row.note(f"{codes}: {' | '.join(err.strip()[-120:] for _, err in said)}")
            continue
        good = all(json.loads(out)["outcome"] == "done" for out, _ in said if out)
        row.note("" if good else "no answer")
    return row


def links(folder: Path) -> Row:
    """Links and strangers' files where a build would write."""
    row, level = Row("links, sources and strangers' files in the output folder"), a_level(folder)
    diary, attic = folder / "diary", folder / "attic"
    diary.write_text("dear diary")
    attic.mkdir()
    for name in (
        "pages",
        "layers",
        "live",
        "stderr.txt",
        "journal.jsonl",
        "manifest.json",
        "notes.txt",
        "project.toml",
    ):
        out = folder / f"s-{name}"
        out.mkdir()
        target = diary if "." in name else attic
        (out / name).symlink_to(target)
        trouble, said = tried(command(level, out), folder / "sc", (2,))
        if diary.read_text() != "dear diary" or list(attic.iterdir()):
            trouble = "written through a link"
        row.note(f"{name}: {trouble}" if trouble else "", said)
    own = folder / "own"
    own.mkdir()
    baked = own / "level-baked.glb"
    baked.write_bytes(level.read_bytes())
    trouble, said = tried(command(baked, own), folder / "sc", (2,))
    row.note(trouble or ("" if baked.read_bytes() == level.read_bytes() else "the level was overwritten"), said)
    return row


def spoiled(count: int) -> Row:
    """Files of all kinds with bytes and values changed; see `mutate`."""
    row = Row(f"{count:,} spoiled files of all kinds")
    done = subprocess.run(
        [sys.executable, "-I", str(Path(__file__).with_name("mutate.py")), "--count", str(count)],
        capture_output=True,
        text=True,
        check=False,
    )
    bad = [line for line in done.stdout.splitlines() if re.match(r"\d+: ", line)]
    row.tried, row.well, row.bad = count, count - len(bad), [line[:300] for line in bad]
    if done.returncode and not bad:
        row.note("it came to no end", done.stdout[-300:])
    return row


TRIM = """
import sys, time
from pathlib import Path
from ropebell.build.store import Store
while True:
    Store(Path(sys.argv[1]), 1 << 16).trim(set())
    time.sleep(0.01)
"""


def trims(folder: Path, count: int) -> Row:
    """Trim a cache that is reached through a link and is far over its limit, while two builds run in it."""
    row, level = Row("a cache over its limit, behind a link, trimmed while two builds run"), a_level(folder)
    precious = folder / "precious"
    precious.mkdir()
    (precious / "mine").write_text("mine")
    for number in range(count):
        real, home = folder / f"real{number}", folder / f"cache{number}"
        (real / "ropebell" / "stages").mkdir(parents=True)
        home.symlink_to(real)
        (real / "ropebell" / "stages" / "aabb").symlink_to(precious)
        outs = [folder / f"t{number}-{k}" for k in (0, 1)]
        trimmer = subprocess.Popen([sys.executable, "-I", "-c", TRIM, str(home / "ropebell" / "stages")])
        pair = [
            subprocess.Popen(
                command(level, out, "--set", f"light.seed={k + 1}"),
                env=surroundings(home),
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                text=True,
            )
            for k, out in enumerate(outs)
        ]
        said = [p.communicate(timeout=4 * MOST_SECONDS)[1] for p in pair]
        stumbled = trimmer.poll() is not None
        trimmer.kill()
        trimmer.wait()
        codes = [p.returncode for p in pair]
        kept = (precious / "mine").read_text() == "mine"
        row.note("" if codes == [0, 0] and kept and not stumbled else f"{codes}, {kept}, {stumbled}: {said[0][-120:]}")
    return row


def zoo(short: bool) -> Row:
    """Every command on every odd level; see `zoo`."""
    row = Row("all commands on odd levels (the zoo)")
    for name in list(ZOO)[:: 12 if short else 1]:
        with tempfile.TemporaryDirectory(prefix="ropebell-zoo-") as home:
            for run in visit(name, Path(home)):
                row.note(f"{name}, {run.command}: {run.trouble}" if run.trouble else "")
    return row


def table(rows: list[Row], seconds: float) -> str:
    """The page."""
    lines = [
        "# What was broken on purpose", "",
        f"Made by `./run reliability` in {seconds / 60:.0f} minutes. Each attempt must end in an exit status of the",
        "contract, with a line that says what, where and what to do, no traceback, nothing half-done, nothing lost.",
        "",
        "| way | tried | well | what was said |", "| --- | --- | --- | --- |",
    ]  # fmt: skip
    for row in rows:
        said = "<br>".join(sorted({shorter(s) for s in row.said})[:6])
        lines.append(f"| {row.way} | {row.tried:,} | {row.well:,} | {said} |")
    bad = [f"- {row.way}: {trouble}" for row in rows for trouble in row.bad]
    return "\n".join([*lines, "", *(["Not well:", "", *bad] if bad else ["All of them ended well."]), ""])


def shorter(said: str) -> str:
    """A sentence without the folders of this run."""
    words = said.removeprefix("ropebell: ").split(" ")
    return " ".join("…" if word.startswith("/") else word for word in words).replace("|", "\\|")


def _ways(few: bool, only: str) -> list[Callable[[Path], Row]]:
    from kills import KINDS  # which takes its tools from here

    kills: list[Callable[[Path], Row]] = [
        lambda f, way=way, count=short if few else count: way(f, count) for way, count, short in KINDS.values()
    ]
    rest: list[Callable[[Path], Row]] = [
        lambda f: orphans(f, 2 if few else 8),
        lambda f: full_disks(f, (0, 16) if few else (0, 4, 16, 64, 256, 1024, 4096)),
        lambda f: limits(f, LIMITS[::3] if few else LIMITS),
        lambda f: races(f, 2 if few else 12),
        lambda f: trims(f, 1 if few else 6),
        links,
        lambda f: spoiled(100 if few else 20_000),
        lambda f: zoo(few),
    ]
    return [*([] if only == "rest" else kills), *([] if only == "kills" else rest)]


def main() -> int:
    """Do it all; 1 if anything ended badly."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--short", action="store_true", help="a few of each")
    parser.add_argument("--out", type=Path)
    parser.add_argument("--only", choices=("kills", "rest"), help="a half of it")
    options = parser.parse_args()
    few = options.short
    # Under `nohup` builds would be told to outlive a hang-up, and do.
    signal.signal(signal.SIGHUP, signal.SIG_DFL)
    began, rows = time.monotonic(), []
    with tempfile.TemporaryDirectory(prefix="ropebell-reliability-") as scratch:
        for number, way in enumerate(_ways(few, options.only or "")):
            folder = Path(scratch) / str(number)
            folder.mkdir()
            rows.append(way(folder))
            print(f"{rows[-1].way}: {rows[-1].well} of {rows[-1].tried}", *rows[-1].bad, sep="\n  ", flush=True)
    page = table(rows, time.monotonic() - began)
    if options.out:
        options.out.write_text(page, encoding="utf-8")
    else:
        print(page)
    return int(any(row.bad for row in rows))


if __name__ == "__main__":
    sys.exit(main())
