"""Runs a command from outside on a level: any compiler can say whether the fault shows."""

from __future__ import annotations

import contextlib
import ctypes
import os
import re
import shlex
import shutil
import signal
import subprocess
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import ropebell
from ropebell.build.conditions import Condition
from ropebell.errors import UsageError, step, why
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT, Verdict
from ropebell.hunt.trial import NEAR, Run, measured
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import Level

TELLS = ("status", "log", "seconds")
# Of what a command prints, so much is looked at.
MOST_BYTES = 16 << 20
PR_SET_CHILD_SUBREAPER = 36
LOOK_EVERY = 0.005
HERE, OUT, LEVEL, SAID = "here", "out", "level.glb", "said.txt"


@dataclass
class OutsideCommand:
    """A command as the judge of a condition.

    Args:
        text: one string that is split as a shell splits words; `{level}` and `{out}` are put in afterwards.
        folder: for its files, which are cleared before each run.
        names: paths of objects; those that it prints are under suspicion.

    Raises:
        UsageError: it cannot be split, there is no such program, or the condition is none that a command can tell.
    """

    text: str
    condition: Condition
    folder: Path
    names: tuple[str, ...] = ()
    shell: bool = False
    steady = False

    def __post_init__(self) -> None:
        what = self.condition.what
        if what not in TELLS or (what == "seconds" and self.condition.name):
            known = "status:N, log:REGEX or seconds>S"
            raise UsageError(f"a command cannot tell '{self.condition.text}'", "--while", f"Ask for {known}")
        try:
            self._words = shlex.split(self.text)
        except ValueError as error:
            raise UsageError(
                f"its words cannot be told apart ({error})", "--command", "Close what is quoted"
            ) from error
        if not self._words:
            raise UsageError("there is no command", "--command", "Write one, such as 'bake {level} {out}'")
        program = self._words[0]
        if not self.shell and "{" not in program and shutil.which(program) is None:
            raise UsageError(f"there is no program '{program}'", "--command", "Name it by its whole path")
        # Files are named from where the person stands; it runs in a folder of its own.
        if not self.shell:
            self._words[1:] = [os.path.abspath(w) if os.path.isfile(w) else w for w in self._words[1:]]
            if os.sep in program:
                self._words[0] = os.path.abspath(program)
        # What a killed command leaves running comes to this process, which then ends it.
        with contextlib.suppress(OSError, AttributeError):
            ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)

    def run(self, level: Level, limit: float) -> Run:
        """Export a level and run the command on it, in a folder that is gone afterwards."""
        c = self.condition
        if c.what == "seconds":
            limit = min(limit, c.limit * NEAR + 0.1)
        try:
            with tempfile.TemporaryDirectory(prefix="run-", dir=self.folder, ignore_cleanup_errors=True) as made:
                place = Path(made)
                for name in (HERE, OUT):
                    (place / name).mkdir()
                (place / LEVEL).write_bytes(plain_glb(level, f"Rope Bell {ropebell.__version__}"))
                began = time.monotonic()
                with open(place / SAID, "w+b") as said:
                    status = self._status(place, limit, said.fileno())
                    seconds = time.monotonic() - began
                    said.seek(0)
                    text = said.read(MOST_BYTES).decode("utf-8", "replace")
        except OSError as error:
            raise UsageError(f"it cannot be written to ({why(error)})", self.folder, step(error)) from error
        verdict, near, told = self._judged(status, text, seconds)
        names = tuple(n for n in self.names if n in text) if len(text) < MOST_BYTES else ()
        return Run(verdict, seconds, told, near, names, seconds if c.what == "seconds" else None)

    def _judged(self, status: int | None, text: str, seconds: float) -> tuple[Verdict, bool, str]:
        c = self.condition
        if c.what == "seconds":
            if status is None and seconds <= c.limit:
                return CANNOT_TELL, False, "it was ended before its time"
            return (*measured(seconds, c.limit), f"{seconds:.3g} s")
        if status is None:
            return CANNOT_TELL, False, f"not done after {seconds:.3g} s"
        if c.what == "status":
            verdict = PRESENT if status == int(c.limit) else ABSENT if status == 0 else CANNOT_TELL
            return verdict, False, f"exit status {status}"
        found = re.search(c.name, text)
        if found is not None:
            return PRESENT, False, found.group(0)[:200].strip()
        return (ABSENT if status == 0 else CANNOT_TELL), False, f"no match, exit status {status}"

    def _status(self, place: Path, limit: float, said: int) -> int | None:
        """Exit status, None if it had to be ended. A signal's is 128 and its number, as a shell has it."""
        put = {"{level}": str(place / LEVEL), "{out}": str(place / OUT)}

        def filled(word: str, quote: bool = False) -> str:
            for key, path in put.items():
                word = word.replace(key, shlex.quote(path) if quote else path)
            return word

        words = ["/bin/sh", "-c", filled(self.text, True)] if self.shell else [filled(w) for w in self._words]
        before = set(_children())
        try:
            process = subprocess.Popen(
                words, cwd=place / HERE, stdin=subprocess.DEVNULL, stdout=said, stderr=said, start_new_session=True
            )  # fmt: skip
        except OSError as error:
            raise UsageError(f"'{words[0]}' cannot be run ({why(error)})", "--command", step(error)) from error
        try:
            end = time.monotonic() + limit
            wait = LOOK_EVERY
            while process.poll() is None:
                if time.monotonic() >= end:
                    return None
                time.sleep(min(wait, max(end - time.monotonic(), 0.0)))
                wait = min(wait * 1.5, 0.1)
            return process.returncode if process.returncode >= 0 else 128 - process.returncode
        finally:
            _end(process, before)


def _end(process: subprocess.Popen[bytes], before: set[int]) -> None:
    """End a command with all that it started, also what went to sessions of its own and lost its parent.

    Args:
        before: processes that this one had before the command was started.
    """
    for pid in _below([process.pid, *(p for p in _children() if p not in before)]):
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.kill(pid, signal.SIGKILL)
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    for pid in _children():
        if pid not in before:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, 0)


def _parents() -> dict[int, int]:
    """The parent of each process."""
    found = dict[int, int]()
    for entry in os.listdir("/proc"):
        if entry.isdigit():
            with contextlib.suppress(OSError, ValueError, IndexError):
                found[int(entry)] = int(Path(f"/proc/{entry}/stat").read_text().rpartition(")")[2].split()[1])
    return found


def _children() -> list[int]:
    return [pid for pid, parent in _parents().items() if parent == os.getpid()]


def _below(pids: list[int]) -> list[int]:
    """Processes and all that came of them."""
    parents = _parents()
    found, more = list(pids), list(pids)
    while more:
        more = [pid for pid, parent in parents.items() if parent in more and pid not in found]
        found += more
    return found
