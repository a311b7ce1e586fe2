"""The build process: `python -m ropebell.build.worker`, a request on standard input, told in the journal.

SIGTERM or SIGINT asks it to stop. If the library it is in does not come back within half a second, it notes the
stop and leaves: every artifact is written whole, so nothing half-done stays behind.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sys
import threading
import time
import traceback
from pathlib import Path
from types import FrameType

from ropebell.build.conditions import parse_conditions
from ropebell.build.journal import Journal
from ropebell.build.manifest import this_moment
from ropebell.build.pictures import Pictures
from ropebell.build.pipeline import build, build_up_to
from ropebell.build.request import Request
from ropebell.build.stage import time_is_over
from ropebell.build.stages import STAGES
from ropebell.build.standby import wanted, warm
from ropebell.build.tripwires import Tripwires
from ropebell.errors import BuildError, RopeBellError, Stopped, step, why
from ropebell.fault_report import EXIT_FAULT, FAULT, report_of
from ropebell.files import open_own, write_text
from ropebell.light.gate import GATE

EXIT_DONE, EXIT_FAILED, EXIT_TRIPWIRE, EXIT_STOPPED = 0, 3, 4, 130
PATIENCE, WATCH_EVERY = 0.5, 0.1
# What is said to a running build through its pipe.
REST, GO_ON = b"p", b"g"
NO_MEMORY = "There is not enough memory. Lower the density or the gather rays, or set limits.memory_mb."
# Seconds; a library cannot wait for longer than some centuries.
LONGEST_TIMER = 1e6
STDERR = "stderr.txt"


class _Ending:
    """Decides a build's one final state: the first word counts.

    Args:
        pipe: where it is said if the journal cannot take it, as on a full disk; None: nowhere else.
    """

    def __init__(self, journal: Journal, pipe: int | None) -> None:
        self._journal, self._pipe, self._lock, self._said = journal, pipe, threading.Lock(), False

    def say(self, outcome: str, code: int, **values: object) -> int:
        with self._lock:
            if self._said:
                # Another thread is ending this process.
                threading.Event().wait()
            self._said = True
            try:
                self._journal.write("end", outcome=outcome, **values)
                self._journal.close()
            except OSError:
                last_word(self._pipe, outcome, str(values.get("message", "")))
        return code


def last_word(pipe: int | None, outcome: str, message: str) -> None:
    """Say how a build ended to whoever waits for it, where no file can take it."""
    if pipe is not None:
        with contextlib.suppress(OSError):
            os.write(pipe, json.dumps({"outcome": outcome, "message": message}).encode())


def run(
    request: Request, gentle: bool = True, orphaned: int | None = None, pipe: int | None = None, begun: str = ""
) -> int:  # fmt: skip
    """Carry out a build in this process.

    Args:
        gentle: lower this process's priority, so that the window stays quick.
        orphaned: a pipe that ends when whoever wants the build is gone, and then nobody does; None: somebody does.
        pipe: where the end is said if the journal cannot take it.
        begun: when, as an ISO time; empty for now.

    Returns:
        The exit status of the contract: 0 done, 3 failed, 4 tripwire, 130 stopped.
    """
    request.out.mkdir(parents=True, exist_ok=True)
    try:
        journal = Journal(request.out)
    except BuildError as error:
        last_word(pipe, "failed", str(error))
        return 2
    ending = _Ending(journal, pipe)
    stop = threading.Event()
    _listen(stop, ending, request.out, orphaned)
    _watch_time(request, journal, ending)
    names = tuple(stage.name for stage in STAGES)
    if gentle:
        os.nice(max(15 - os.nice(0), 0))
    try:
        journal.write("begin", pid=os.getpid(), begun=begun or this_moment(), request=request.to_json())
        conditions = parse_conditions(request.stop_when, names)
        wires = Tripwires(conditions, request.brief.white, request.recipe.output.format)
        _watch_wires(wires, request, ending)
        asked = (lambda: Stopped() if stop.is_set() else None), wires
        if request.scope.stage:
            build_up_to(request.scope.stage, request, journal, *asked)
            return ending.say("done", EXIT_DONE, seconds=round(journal.seconds, 4), stage=request.scope.stage)
        manifest = build(request, journal, *asked)
        return ending.say("done", EXIT_DONE, seconds=manifest.total_seconds)
    except Stopped as stopped:
        if stopped.reason == "limit":
            return ending.say("tripwire", EXIT_TRIPWIRE, message=stopped.detail, **stopped.told)
        return ending.say("stopped", EXIT_STOPPED, message=stopped.detail)
    except Exception as error:  # noqa: BLE001 - the border of the process: a bug is told in the journal, not lost
        told = _told(error, request.out)
        foreseen = error.exit_code if isinstance(error, RopeBellError) else EXIT_FAILED
        status = EXIT_FAULT if "traceback" in told else foreseen
        return ending.say("failed", status, **told)
    finally:
        Pictures.clear(request.out)


def _told(error: Exception, out: Path) -> dict[str, str]:
    """What the journal says of an error that ended a build."""
    if isinstance(error, RopeBellError):
        return {"message": str(error)}
    if isinstance(error, MemoryError):
        return {"message": NO_MEMORY}
    if isinstance(error, OSError):
        return {"message": str(BuildError(why(error), error.filename or out, step(error)))}
    if isinstance(error, ImportError):
        # A part of a library that is loaded where it is first needed, and finds no room then.
        no_room = any(words in str(error) for words in ("failed to map segment", "cannot allocate memory"))
        return {"message": f"{NO_MEMORY if no_room else 'A library is damaged: set up again.'} ({error})"}
    told = "".join(traceback.format_exception(error))
    message = f"The build met a fault of this program: {type(error).__name__}: {error}"
    with contextlib.suppress(OSError):
        write_text(out / FAULT, report_of(error, out.parent.parent))
        message += f". A report without names of yours lies in {FAULT} of the build's folder"
    return {"message": message, "traceback": told}


def _listen(stop: threading.Event, ending: _Ending, out: Path, orphaned: int | None) -> None:
    """Turn signals, and the end of a pipe, into a wish to stop, and insist after a while."""

    def insist() -> None:
        ending.say("stopped", EXIT_STOPPED, message="stopped on request")
        # The other thread may be writing a picture just now; who waits for this process clears up after it as well.
        Pictures.clear(out)
        os._exit(EXIT_STOPPED)

    def wanted(_signal: int = 0, _frame: FrameType | None = None) -> None:
        if not stop.is_set():
            stop.set()
            timer = threading.Timer(PATIENCE, insist)
            timer.daemon = True
            timer.start()

    def watch(pipe: int) -> None:
        with contextlib.suppress(OSError):
            while said := os.read(pipe, 1 << 10):
                # The last word counts.
                if said.rfind(REST) > said.rfind(GO_ON):
                    GATE.close()
                elif GO_ON in said:
                    GATE.open()
        wanted()

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, wanted)
        signal.signal(signal.SIGINT, wanted)
    if orphaned is not None:
        threading.Thread(target=watch, args=(orphaned,), name="orphaned", daemon=True).start()


def _watch_time(request: Request, journal: Journal, ending: _Ending) -> None:
    """End the process if the build does not see for itself that its time is over, as while it reads a level."""
    limit = request.recipe.limits.seconds
    if not limit or limit > LONGEST_TIMER:
        return

    def over() -> None:
        # Time at rest does not count.
        while journal.seconds < limit + PATIENCE:
            time.sleep(max(limit + PATIENCE - journal.seconds, WATCH_EVERY))
        ending.say("tripwire", EXIT_TRIPWIRE, message=time_is_over(limit))
        Pictures.clear(request.out)
        os._exit(EXIT_TRIPWIRE)

    threading.Thread(target=over, name="limit", daemon=True).start()


def _watch_wires(wires: Tripwires, request: Request, ending: _Ending) -> None:
    """End the process where a tripwire is met while a library does not come back."""
    if not wires.watchful:
        return

    def watch() -> None:
        while True:
            tripped = wires.overdue()
            if tripped is not None:
                time.sleep(PATIENCE)
                ending.say("tripwire", EXIT_TRIPWIRE, message=tripped.detail, **tripped.told)
                Pictures.clear(request.out)
                os._exit(EXIT_TRIPWIRE)
            time.sleep(WATCH_EVERY)

    threading.Thread(target=watch, name="tripwires", daemon=True).start()


def main() -> int:
    """Read a request from standard input and carry it out; with `--standby`, get ready first."""
    if "--standby" in sys.argv:
        os.nice(10)
        # Sent away while it gets ready, it clears up behind itself.
        signal.signal(signal.SIGTERM, lambda _signal, _frame: sys.exit(EXIT_DONE))
        warm()
    line = wanted(sys.stdin.fileno())
    if not line:
        return EXIT_DONE  # not needed after all
    request = Request.from_json(line)
    pipe = os.dup(1)
    try:
        request.out.mkdir(parents=True, exist_ok=True)
        log = open_own(request.out, STDERR, os.O_WRONLY | os.O_TRUNC)
        os.dup2(log, 1)
        os.dup2(log, 2)
        os.close(log)
        return run(request, orphaned=sys.stdin.fileno(), pipe=pipe)
    except OSError as error:
        last_word(pipe, "failed", str(BuildError(why(error), error.filename or request.out, step(error))))
        return EXIT_FAILED


if __name__ == "__main__":
    ended = main()
    sys.stdout.flush()
    # All is on the disk: taking libraries and arrays apart would keep whoever waits for nearly half a second.
    os._exit(ended)
