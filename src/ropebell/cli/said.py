"""What commands print: names from strangers' files cannot command a terminal, and nothing but the answer is on standard
output."""

from __future__ import annotations

import contextlib
import io
import os
import sys
from collections.abc import Iterator

from ropebell.errors import shown


def say(text: object, aside: bool = False) -> None:
    """Print lines.

    Args:
        aside: on standard error.
    """
    lines = "\n".join(shown(line) for line in str(text).split("\n"))
    print(lines, file=sys.stderr if aside else sys.stdout)


@contextlib.contextmanager
def answer_alone() -> Iterator[None]:
    """While the block runs, what libraries write to standard output by themselves goes to standard error."""
    try:
        numbers = sys.stdout.fileno(), sys.stderr.fileno()
    except (OSError, io.UnsupportedOperation, AttributeError):  # no real output, as under a test
        yield
        return
    sys.stdout.flush()
    kept, before = os.dup(numbers[0]), sys.stdout
    os.dup2(numbers[1], numbers[0])
    sys.stdout = open(os.dup(kept), "w", encoding="utf-8", errors="backslashreplace")  # noqa: SIM115 - closed below
    try:
        yield
    finally:
        sys.stdout.close()
        sys.stdout = before
        os.dup2(kept, numbers[0])
        os.close(kept)
