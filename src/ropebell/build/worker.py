"""The build process: `python -m ropebell.build.worker`, a request on standard input, told in the journal.

SIGTERM or SIGINT asks it to stop. If the library it is in does not come back within half a second, it notes the
stop and leaves: every artifact is written whole, so nothing half-done stays behind.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import traceback
from pathlib import Path
from types import FrameType

from ropebell.build.journal import Journal
from ropebell.build.pictures import Pictures
from ropebell.build.pipeline import build
from ropebell.build.request import Request
from ropebell.build.standby import wanted, warm
from ropebell.errors import RopeBellError, Stopped

EXIT_DONE, EXIT_FAILED, EXIT_TRIPWIRE, EXIT_STOPPED = 0, 3, 4, 130
PATIENCE = 0.5
STDERR = "stderr.txt"


class _Ending:
    """Decides a build's one final state: the first word counts."""

    def __init__(self, journal: Journal) -> None:
        self._journal, self._lock, self._said = journal, threading.Lock(), False

    def say(self, outcome: str, code: int, **values: object) -> int:
        with self._lock:
            if self._said:
                # Another thread is ending this process.
                threading.Event().wait()
            self._said = True
            self._journal.write("end", outcome=outcome, **values)
            self._journal.close()
        return code


def run(request: Request, gentle: bool = True) -> int:
    """Carry out a build in this process.

    Args:
        gentle: lower this process's priority, so that the window stays quick.

    Returns:
        The exit status of the contract: 0 done, 3 failed, 4 tripwire, 130 stopped.
    """
    request.out.mkdir(parents=True, exist_ok=True)
    journal = Journal(request.out)
    ending = _Ending(journal)
    stop = threading.Event()
    _listen(stop, ending, request.out)
    if gentle:
        os.nice(max(15 - os.nice(0), 0))
    journal.write("begin", pid=os.getpid(), request=request.to_json())
    try:
        manifest = build(request, journal, lambda: Stopped() if stop.is_set() else None)
        return ending.say("done", EXIT_DONE, seconds=manifest.total_seconds)
    except Stopped as stopped:
        if stopped.reason == "limit":
            return ending.say("tripwire", EXIT_TRIPWIRE, message=stopped.detail)
        return ending.say("stopped", EXIT_STOPPED, message=stopped.detail)
    except RopeBellError as error:
        return ending.say("failed", EXIT_FAILED if error.exit_code == 3 else error.exit_code, message=str(error))
    except MemoryError:
        message = "There is not enough memory. Lower the density or the gather rays, or set limits.memory_mb."
        return ending.say("failed", EXIT_FAILED, message=message)
    except Exception as error:  # noqa: BLE001 - the border of the process: a bug is told in the journal, not lost
        message = f"The build met a fault of this program: {type(error).__name__}: {error}"
        return ending.say("failed", EXIT_FAILED, message=message, traceback=traceback.format_exc())
    finally:
        Pictures.clear(request.out)


def _listen(stop: threading.Event, ending: _Ending, out: Path) -> None:
    """Turn signals into a wish to stop, and insist after a while."""

    def insist() -> None:
        ending.say("stopped", EXIT_STOPPED, message="stopped on request")
        # The other thread may be writing a picture just now; who waits for this process clears up after it as well.
        Pictures.clear(out)
        os._exit(EXIT_STOPPED)

    def wanted(_signal: int, _frame: FrameType | None) -> None:
        if not stop.is_set():
            stop.set()
            timer = threading.Timer(PATIENCE, insist)
            timer.daemon = True
            timer.start()

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, wanted)
        signal.signal(signal.SIGINT, wanted)


def main() -> int:
    """Read a request from standard input and carry it out; with `--standby`, get ready first."""
    if "--standby" in sys.argv:
        os.nice(10)
        warm()
    line = wanted(sys.stdin.fileno())
    if not line:
        return EXIT_DONE  # not needed after all
    request = Request.from_json(line)
    with contextlib.suppress(OSError):
        sys.stdin.close()
    request.out.mkdir(parents=True, exist_ok=True)
    log = os.open(request.out / STDERR, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
    os.dup2(log, 1)
    os.dup2(log, 2)
    os.close(log)
    return run(request)


if __name__ == "__main__":
    sys.exit(main())
