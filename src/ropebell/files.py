"""Writing files whole or not at all: temporary name, flush to disk, rename."""

from __future__ import annotations

import json
import os
import secrets
from pathlib import Path
from typing import Any


def temporary_beside(path: Path) -> Path:
    """A fresh hidden name in the same folder, so that the final rename stays within one file system."""
    return path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")


def write_bytes(path: Path, data: bytes) -> None:
    """Write `data` to `path` so that a reader, now or after a power cut, sees the old file or the new one.

    Raises:
        OSError: the disk is full or the folder cannot be written; the old file is then untouched.
    """
    part = temporary_beside(path)
    try:
        with open(part, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        os.replace(part, path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


def write_text(path: Path, text: str) -> None:
    """`write_bytes` for UTF-8 text."""
    write_bytes(path, text.encode("utf-8"))


def write_json(path: Path, value: Any) -> None:
    """`write_bytes` for a JSON document, indented so that it can be read and compared by eye."""
    write_text(path, json.dumps(value, indent=1, ensure_ascii=False, allow_nan=False) + "\n")


def sync_folder(folder: Path) -> None:
    """Make a rename inside `folder` durable; a no-op where folders cannot be opened."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
