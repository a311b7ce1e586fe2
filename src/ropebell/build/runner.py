"""Starting, following and stopping a build process. The one place that knows both sides of it."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import threading
import time
from pathlib import Path

from ropebell.build.events import Begin, Event
from ropebell.build.journal import JOURNAL, Journal, Reader, read_events
from ropebell.build.outputs import BUILD_FILES, BUILD_FOLDERS
from ropebell.build.pictures import Pictures
from ropebell.build.request import Request
from ropebell.build.result import Outcome, outcome
from ropebell.build.standby import ahead_line
from ropebell.build.worker import GO_ON, REST, STDERR
from ropebell.errors import BuildError, Stopped
from ropebell.files import remove_own
from ropebell.interpreter import own_command

# After asking a build to stop, it is left this long before it is ended.
STOP_PATIENCE = 0.85
# A waiting process that is sent away has so long to clear up.
LEAVE_PATIENCE = 0.4


def _start(*arguments: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        own_command("ropebell.build.worker", *arguments),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )


class Standby:
    """A build process that has loaded everything and waits for a request, so that a build begins at once.

    Args:
        ahead: a level and its cache; its meshes are laid out meanwhile. A build that is wanted sooner comes first.
    """

    def __init__(self, ahead: tuple[Path, Path] | None = None) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        # Starting a process from one that holds a level takes a tenth of a second, in which a window would stand still.
        self._starting = threading.Thread(target=self._start, args=(ahead,), name="standby", daemon=True)
        self._starting.start()

    def _start(self, ahead: tuple[Path, Path] | None) -> None:
        process = _start("--standby")
        if ahead is not None:
            assert process.stdin is not None
            with contextlib.suppress(OSError):
                process.stdin.write(ahead_line(*ahead))
                process.stdin.flush()
        self._process = process

    def take(self) -> subprocess.Popen[bytes] | None:
        """The waiting process, once; None if it is gone."""
        self._starting.join()
        process, self._process = self._process, None
        return process if process is not None and process.poll() is None else None

    def close(self) -> None:
        """Send it away."""
        process = self.take()
        if process is not None:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGTERM)  # with whatever it has started to lay out meshes
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(LEAVE_PATIENCE)
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            for pipe in (process.stdin, process.stdout):
                assert pipe is not None
                pipe.close()


class BuildProcess:
    """A build in a process of its own.

    Args:
        request: what to build; its folder must not hold a build yet.
        standby: a waiting process to use, if it is still there.
    """

    def __init__(self, request: Request, standby: Standby | None = None) -> None:
        self.request = request
        request.out.mkdir(parents=True, exist_ok=True)
        self._reader = Reader(request.out / JOURNAL)
        self._asked: float | None = None
        self._resting = False
        self._ended: Outcome | None = None
        self._process = (standby.take() if standby is not None else None) or _start()
        assert self._process.stdin is not None
        self._pipe = self._process.stdin
        # Left open: the build ends when this end of the pipe is gone, however that happens.
        with contextlib.suppress(BrokenPipeError):
            self._pipe.write(request.to_json().encode() + b"\n")
            self._pipe.flush()

    @property
    def pid(self) -> int:
        """Process id of the build."""
        return self._process.pid

    def new_events(self) -> list[Event]:
        """Journal events since the last call."""
        return self._reader.new_events()

    @property
    def resting(self) -> bool:
        """Whether the build was asked to rest."""
        return self._resting

    def rest(self) -> None:
        """Let the build rest: what it has begun it ends within a moment, and then takes no core until it goes on."""
        self._say(REST)

    def go_on(self) -> None:
        """Let it go on."""
        self._say(GO_ON)

    def _say(self, word: bytes) -> None:
        self._resting = word == REST
        with contextlib.suppress(OSError):
            self._pipe.write(word)
            self._pipe.flush()

    def stop(self) -> None:
        """Ask the build to stop; `poll` ends it if it does not."""
        if self._asked is None and self._process.poll() is None:
            self._asked = time.monotonic()
            self._process.terminate()

    def poll(self) -> Outcome | None:
        """None while it runs, then how it ended. Never blocks."""
        if self._process.poll() is None:
            if self._asked is not None and time.monotonic() - self._asked > STOP_PATIENCE:
                self.kill()
            return None
        if self._ended is None:
            self._ended = self._how_it_ended()
        return self._ended

    def _how_it_ended(self) -> Outcome:
        self._end_children()
        with contextlib.suppress(OSError):
            self._pipe.close()
        self._tidy()
        found = self._last_word() or outcome(self.request.out)
        if found.state in ("died", "running") and self._asked is not None:
            stopped = Outcome("stopped", Stopped().detail)
            if found.state == "died":
                self._say_for_it(stopped)
            return stopped
        if found.state == "running":  # but this one is not: the folder is another's
            return Outcome("failed", "Another build is under way in its folder. Name another folder.")
        if found.state == "died" and not self.request.out.is_dir():
            where = f"{self.request.out} was removed or renamed while it was built in"
            return Outcome("died", f"{where}, so nothing of it is there. Build again; finished stages are kept.")
        if found.state == "died":
            return Outcome("died", died_of(self._process.returncode))
        return found

    def _say_for_it(self, ended: Outcome) -> None:
        """Note how a build ended that had no time to say so; one that had not even begun leaves no folder."""
        out = self.request.out
        if not any(isinstance(event, Begin) for event in read_events(out)):
            remove_own(out, BUILD_FILES, BUILD_FOLDERS)
            return
        with contextlib.suppress(OSError, BuildError), contextlib.closing(Journal(out)) as journal:
            journal.write("end", outcome=ended.state, message=ended.sentence)

    def _last_word(self) -> Outcome | None:
        """What the process said in ending that its journal could not take."""
        assert self._process.stdout is not None
        with self._process.stdout as pipe, contextlib.suppress(OSError, ValueError, KeyError, TypeError):
            said = json.loads(pipe.read())
            return Outcome(str(said["outcome"]), str(said["message"]))
        return None

    def kill(self) -> None:
        """End the process and whatever it started, at once."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self._process.pid, 9)
        self._process.wait()

    def _end_children(self) -> None:
        """Processes that unwrapped for a build that vanished go with it."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self._process.pid, 9)

    def _tidy(self) -> None:
        # A build that was ended from outside, or left in a hurry, could not do this itself.
        Pictures.clear(self.request.out)
        log = self.request.out / STDERR
        with contextlib.suppress(OSError):
            if log.stat().st_size == 0:
                log.unlink()

    @property
    def exit_code(self) -> int | None:
        """The process's exit status; negative for a signal."""
        return self._process.returncode


def died_of(status: int) -> str:
    """Why a build process vanished, as far as its exit status tells."""
    kept = "Finished stages are kept."
    if status >= 0:
        return f"The build process vanished with status {status} before it was done. {kept}"
    name = signal.Signals(-status).name if -status in {s.value for s in signal.Signals} else f"signal {-status}"
    if -status in (signal.SIGKILL, signal.SIGABRT, signal.SIGBUS, signal.SIGSEGV):
        memory = "the most likely reason is that memory ran out: lower the density or set limits.memory_mb"
        return f"The build process vanished: it was ended by {name}; {memory}. {kept}"
    return f"The build process vanished: it was ended by {name}. {kept}"
