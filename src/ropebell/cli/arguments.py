"""What words of the command line are read as."""

from __future__ import annotations

import argparse
import errno
import os
from collections.abc import Callable
from pathlib import Path

from ropebell.cli.said import say
from ropebell.errors import UsageError, shown
from ropebell.output_place import output_file, output_folder, output_package

EXIT_DONE = 0


def numbers(text: str) -> tuple[float, float, float]:
    """Three numbers."""
    parts = text.split(",")
    try:
        values = [float(part) for part in parts]
    except ValueError:
        values = []
    if len(values) != 3 or not all(abs(v) < 1e30 for v in values):
        raise argparse.ArgumentTypeError(f"'{text}' is not three numbers separated by commas")
    return values[0], values[1], values[2]


def box(text: str) -> tuple[float, ...]:
    """Six numbers of a box with room in it."""
    parts = text.split(",")
    try:
        values = tuple(float(part) for part in parts)
    except ValueError:
        values = ()
    if len(values) != 6 or not all(abs(v) < 1e30 for v in values):
        raise argparse.ArgumentTypeError(f"'{text}' is not six numbers separated by commas")
    if any(values[axis] == values[axis + 3] for axis in range(3)):
        raise argparse.ArgumentTypeError(f"'{text}' is a box without any room")
    return values


def worker(text: str) -> str:
    """A build worker; what it is called is looked at where it is used."""
    if text == "help":
        from ropebell.light.arithmetic import WORKERS

        say("\n".join(f"{one.name:<12} {one.words}" for one in WORKERS.values()))
        raise SystemExit(EXIT_DONE)
    return text


def path(text: str) -> Path:
    """A path that a file can have."""
    try:
        os.lstat(text or ".")
    except ValueError:
        raise argparse.ArgumentTypeError(f"'{shown(text)}' is no possible path") from None
    except OSError as error:
        if error.errno == errno.ENAMETOOLONG:
            raise argparse.ArgumentTypeError(f"'{shown(text[:40])}…' is too long for a path") from None
    return Path(text)


def _checked(text: str, check: Callable[[Path], object]) -> Path:
    named = path(text)
    if not text.strip():
        raise argparse.ArgumentTypeError("an empty name is no place to write to")
    try:
        check(named)
    except UsageError as error:
        raise argparse.ArgumentTypeError(str(error).removesuffix(".")) from None
    return named


def new_file(text: str) -> Path:
    """A file that a command writes; see `output_file`."""
    return _checked(text, output_file)


def new_folder(text: str) -> Path:
    """A folder that a command writes; see `output_folder`."""
    return output_folder(_checked(text, output_folder))


def new_package(text: str) -> Path:
    """A package that a command writes; see `output_package`."""
    return _checked(text, output_package)
