"""Ends what a hunt has started once the hunt is gone, however it went, and clears its scratch folder.

`python -m ropebell.hunt.last_watch MARK FOLDER` waits until its input ends, which it does with the hunt, even with one
that was killed. Then it kills every process whose environment bears the mark — trials, commands, and what those have
started in sessions of their own — and removes the folder.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from types import TracebackType

from ropebell.files import STALE_SECONDS, remove_tree
from ropebell.interpreter import own_command

MARK = "ROPEBELL_HUNT"
SCRATCH = "ropebell-hunt-"
# What is just being started when its hunt is killed shows up a moment later.
ROUNDS, PAUSE = 20, 0.05
# A hunt writes its folder's time anew at each run; a folder so old is of none that lives, seconds.
FORGOTTEN = 24 * 3600.0


class Watched:
    """The scratch folder of a hunt, with somebody who clears up after it.

    Attributes:
        folder: for all files of its trials.
    """

    def __enter__(self) -> Watched:
        clear_forgotten()
        self.folder = Path(tempfile.mkdtemp(prefix=SCRATCH))
        mark = secrets.token_hex(16)
        self._watch = subprocess.Popen(
            own_command("ropebell.hunt.last_watch", mark, str(self.folder)), stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        # Whatever this process starts from now on bears the mark; this process itself does not.
        os.environ[MARK] = mark
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        os.environ.pop(MARK, None)
        assert self._watch.stdin is not None
        self._watch.stdin.close()
        self._watch.wait()


def clear_forgotten() -> None:
    """Remove scratch folders whose hunt and whose watch were both killed."""
    for left in Path(tempfile.gettempdir()).glob(f"{SCRATCH}*"):
        with contextlib.suppress(OSError):
            state = left.lstat()
            too_old = state.st_mtime < time.time() - max(FORGOTTEN, STALE_SECONDS)
            if state.st_uid == os.getuid() and too_old:
                remove_tree(left)


def marked(mark: str) -> list[int]:
    """Processes of this person that bear a mark."""
    found, wanted = list[int](), f"{MARK}={mark}".encode()
    for entry in os.listdir("/proc"):
        if entry.isdigit() and int(entry) != os.getpid():
            with contextlib.suppress(OSError):
                if wanted in Path(f"/proc/{entry}/environ").read_bytes().split(b"\0"):
                    found.append(int(entry))
    return found


def end_marked(mark: str) -> None:
    """Kill them, and what they start meanwhile."""
    for _ in range(ROUNDS):
        left = marked(mark)
        for pid in left:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(pid, signal.SIGKILL)
        if not left:
            return
        time.sleep(PAUSE)


def main() -> int:
    """Wait, and clear up."""
    mark, folder = sys.argv[1], Path(sys.argv[2])
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends with its hunt, and not before
    while os.read(0, 4096):
        pass
    end_marked(mark)
    remove_tree(folder)
    return 0


if __name__ == "__main__":
    sys.exit(main())
