"""One process that builds trial after trial, so that none waits for an interpreter and its kernels to load.

`python -m ropebell.hunt.trial_process` reads a request for a build from each line of its input, carries it out, and
answers with a line once it is over; how it ended stands in the journal of its folder. A trial that kills the process
is one that died, and the next one gets a new process.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import sys
import time

from ropebell.build.request import Request
from ropebell.build.result import Outcome, outcome
from ropebell.build.standby import warm
from ropebell.build.worker import run
from ropebell.interpreter import own_command

NEXT = b"next\n"
# After so many a new process begins, so that what libraries never give back does not add up.
MOST_BUILDS = 40
# Seconds that it may take to get ready.
READY = 120.0


class TrialProcess:
    """The process, started when it is first needed."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._built = 0

    def build(self, request: Request, limit: float) -> Outcome:
        """Carry out a build; it is ended where it takes longer than so many seconds."""
        if self._built >= MOST_BUILDS:
            self.close()
        self._built += 1
        process = self._process
        if process is None or process.poll() is not None:
            process = self._process = subprocess.Popen(
                own_command("ropebell.hunt.trial_process"), stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
            self._heard(process, READY)  # it is ready
        assert process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            process.stdin.write(request.to_json().encode() + b"\n")
            process.stdin.flush()
        if not self._heard(process, limit):
            self.close()
        return outcome(request.out)

    @staticmethod
    def _heard(process: subprocess.Popen[bytes], limit: float) -> bool:
        """Wait for an answer; whether one came."""
        assert process.stdout is not None
        end = time.monotonic() + limit
        while (left := end - time.monotonic()) > 0:
            if select.select([process.stdout], [], [], left)[0]:
                return os.read(process.stdout.fileno(), len(NEXT)) == NEXT
        return False

    def close(self) -> None:
        """End it with whatever it has started."""
        process, self._process, self._built = self._process, None, 0
        if process is None:
            return
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()


def main() -> int:
    """Carry out what is asked for, until nothing more comes."""
    answer = os.dup(1)
    silent = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silent, 1)
    os.dup2(silent, 2)
    warm()
    os.write(answer, NEXT)
    for line in sys.stdin.buffer:
        run(Request.from_json(line.decode()))
        os.write(answer, NEXT)
    return 0


if __name__ == "__main__":
    sys.exit(main())
