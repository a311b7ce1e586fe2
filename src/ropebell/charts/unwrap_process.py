"""Unwrapping one shape in a process of its own, so that it can be waited for, run in parallel, and ended.

Run as `python -m ropebell.charts.unwrap_process`: reads `corners.npy` in the folder named by its argument and
writes `chart.npy` and `uv.npy` beside it.
"""

from __future__ import annotations

import contextlib
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from ropebell.arrays import load_array
from ropebell.charts.layout import Layout, unwrap
from ropebell.errors import BuildError
from ropebell.interpreter import own_command
from ropebell.level.model import F64


class UnwrapProcess:
    """Starts at once.

    Args:
        corners: (T, 3, 3) positions in shape units.
        trouble: kept in the layout.
    """

    def __init__(self, corners: F64, trouble: str) -> None:
        self._trouble = trouble
        self._folder = tempfile.TemporaryDirectory(prefix="ropebell-unwrap-")
        np.save(Path(self._folder.name) / "corners.npy", corners)
        command = own_command("ropebell.charts.unwrap_process", self._folder.name)
        self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)

    def ended(self) -> bool:
        """Whether it is done or dead."""
        return self._process.poll() is not None

    def wait(self, seconds: float) -> None:
        """Wait for the end, at most so long."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(seconds)

    def layout(self) -> Layout:
        """What it made.

        Raises:
            BuildError: the process failed.
        """
        folder = Path(self._folder.name)
        try:
            chart, uv = load_array(folder / "chart.npy"), load_array(folder / "uv.npy")
        except (OSError, ValueError) as error:
            raise BuildError("a mesh could not be unwrapped", "", "Give it lightmap coordinates of its own") from error
        finally:
            self._folder.cleanup()
        return Layout(chart, uv, "unwrapped", self._trouble)

    def kill(self) -> None:
        """End it at once and drop its work."""
        self._process.kill()
        self._process.wait()
        self._folder.cleanup()


def main() -> None:
    """Unwrap the shape in the folder named on the command line."""
    folder = Path(sys.argv[1])
    layout = unwrap(load_array(folder / "corners.npy"))
    np.save(folder / "chart.npy", layout.chart)
    np.save(folder / "uv.npy", layout.uv)


if __name__ == "__main__":
    main()
