"""Writes what can be sent to whoever mends the program when it met a mistake of its own."""

from __future__ import annotations

import contextlib
import os
import platform
import tempfile
import traceback
from pathlib import Path

import ropebell
from ropebell.files import write_text

EXIT_FAULT = 70
FAULT = "fault.txt"


def report_of(error: BaseException, *private: Path) -> str:
    """Text of a report: the program's own lines alone, no path of the person's, and nothing of the level.

    Args:
        private: folders whose names are left out, beside the person's own.
    """
    told = "".join(traceback.format_exception(error))
    names = {str(folder): "PROJECT" for folder in private}
    names |= {str(Path.home()): "HOME", str(Path(ropebell.__file__).parent): "ropebell"}
    for path, word in sorted(names.items(), key=lambda pair: -len(pair[0])):
        told = told.replace(path, word) if len(path) > 1 else told
    # The last line may quote what was being worked on.
    lines = told.rstrip().splitlines()
    kind = type(error).__name__
    machine = f"{platform.system()} {platform.machine()}, Python {platform.python_version()}"
    return "\n".join([f"Rope Bell {ropebell.__version__}, {machine}", *lines[:-1], kind]) + "\n"


def keep_report(error: BaseException, *private: Path) -> Path | None:
    """Writes a report to a file of its own.

    Returns:
        Where it lies; None where no file can take it.
    """
    text = report_of(error, *private)
    base = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state") / "ropebell"
    for folder in (base, Path(tempfile.gettempdir())):
        with contextlib.suppress(OSError, RuntimeError):
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            handle, name = tempfile.mkstemp(prefix="fault-", suffix=".txt", dir=folder)
            os.close(handle)
            write_text(Path(name), text)
            return Path(name)
    return None
