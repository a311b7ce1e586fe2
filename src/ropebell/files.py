"""Writing files whole or not at all: temporary name, flush to disk, rename. Removing nothing but one's own."""

from __future__ import annotations

import contextlib
import errno
import json
import os
import re
import secrets
import stat
import time
import tomllib
from collections.abc import Callable, Iterable
from io import BufferedReader
from pathlib import Path
from typing import Any, TypeVar

Kept = TypeVar("Kept")
MOST_TOML_BYTES = 64 << 20
MOST_JSON_BYTES = 256 << 20
# Parts of saves that were killed; a save takes less than this many seconds.
PART = re.compile(r"\.rope-bell-[0-9a-f]{16}\.part")
STALE_SECONDS = 300.0


def open_regular(path: Path) -> BufferedReader:
    """Open a file for reading that is a file: a pipe or a device would be waited for, or have no end.

    Raises:
        OSError: it is not there, is no regular file, or cannot be read.
        ValueError: no file can have that name.
    """
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise OSError(errno.EINVAL, "it is not a regular file", str(path))
    return os.fdopen(handle, "rb")


def read_regular(path: Path, most: int = MOST_JSON_BYTES) -> bytes:
    """What is in a regular file.

    Raises:
        OSError: as `open_regular`.
        ValueError: it is larger than `most` bytes, or no file can have that name.
    """
    with open_regular(path) as file:
        if os.fstat(file.fileno()).st_size > most:
            raise ValueError(f"it has more than {most:,} bytes")
        return file.read()


def read_json(path: Path, most: int = MOST_JSON_BYTES) -> Any:
    """The values of a JSON document.

    Raises:
        OSError: as `open_regular`.
        ValueError: it is not JSON in UTF-8, or larger or deeper than any that this program reads.
    """
    try:
        return json.loads(read_regular(path, most).decode("utf-8"))
    except RecursionError as error:
        raise ValueError("its values are nested too deeply") from error


def lines_of(text: str) -> list[str]:
    """Lines of a text file, which end as files of every system end them and nowhere else: a name may hold a character
    that `str.splitlines` takes for an end."""
    return re.split(r"\r\n|\n|\r", text)


def read_kept(path: Path, key: str, of: Callable[[Any], Kept]) -> list[Kept]:
    """What the program keeps under a key of a JSON file of its own; nothing where nothing is kept, or it is damaged.

    Args:
        of: makes one of its values; a value of a wrong kind may raise.
    """
    try:
        return [of(values) for values in read_json(path)[key]]
    except (OSError, ValueError, KeyError, TypeError):
        return []


def temporary_beside(path: Path) -> Path:
    """A fresh hidden name in the same folder, so that the final rename stays within one file system; it has nothing of
    the file's own name, which may be as long as a name can be."""
    return path.with_name(f".rope-bell-{secrets.token_hex(8)}.part")


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
            with contextlib.suppress(OSError):  # a new file gets what is usual
                os.fchmod(out.fileno(), stat.S_IMODE(os.stat(path).st_mode))
        os.replace(part, path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)
    _clear_parts(path.parent)


def _clear_parts(folder: Path) -> None:
    """Remove what saves that were killed have left in a folder."""
    too_old = time.time() - STALE_SECONDS
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            own = PART.fullmatch(entry.name) and entry.is_file(follow_symlinks=False)
            if own and entry.stat(follow_symlinks=False).st_mtime < too_old:
                os.unlink(entry.path)


def write_text(path: Path, text: str) -> None:
    """`write_bytes` for UTF-8 text."""
    write_bytes(path, text.encode("utf-8"))


def read_toml(path: Path) -> dict[str, Any]:
    """The values of a TOML file.

    Raises:
        OSError: it cannot be read.
        ValueError: it is not TOML, or larger or deeper than any that people write.
    """
    try:
        return tomllib.loads(read_regular(path, MOST_TOML_BYTES).decode("utf-8"))
    except RecursionError as error:
        raise ValueError("its values are nested too deeply") from error


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


def remove_own(folder: Path, files: str, folders: str = "") -> bool:
    """Remove a folder that this program wrote, and nothing else: the one way in which folders are ever removed.

    It goes only if it is a folder and no link, and if all that is in it is of a kind that this program puts there; a
    strange file, a link or a folder inside keeps all of it.

    Args:
        files: pattern of the names of files in it, and in the folders in it.
        folders: pattern of the names of folders in it; empty: there are none.

    Returns:
        Whether it is gone.
    """
    return _removed(folder, lambda handle: not _strange(handle, files, folders))


def remove_tree(folder: Path) -> bool:
    """Remove a scratch folder of this program's own with all that is in it, at any depth; links in it go, what they
    lead to stays.

    Returns:
        Whether it is gone.
    """
    return _removed(folder, lambda _: True)


def _removed(folder: Path, allowed: Callable[[int], bool]) -> bool:
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    except FileNotFoundError:
        return True
    except OSError:
        return False
    try:
        if not allowed(handle):
            return False
        _empty(handle)
        with contextlib.suppress(FileNotFoundError):
            os.rmdir(folder)
    except OSError:
        return False
    finally:
        os.close(handle)
    return True


def holds_only(folder: Path, files: str, folders: str) -> str:
    """The name of something in a folder that is not of the kinds which this program puts there, empty without any; see
    `remove_own`. A link is never one of them.

    Raises:
        OSError: it cannot be read.
    """
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        return _strange(handle, files, folders)
    finally:
        os.close(handle)


def make_folder(folder: Path) -> None:
    """Make a folder, or take the one that is there, unless it is a link.

    Raises:
        OSError: it cannot be made, or is a link.
    """
    folder.mkdir(exist_ok=True)
    if folder.is_symlink():
        raise OSError(errno.ELOOP, "it is a link, and nothing is written through links", str(folder))


def open_own(folder: Path, name: str, flags: int) -> int:
    """Open a file of a folder for writing, made if it is not there; never through a link.

    Raises:
        OSError: it cannot be opened, or is a link.
    """
    return os.open(folder / name, flags | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)


def own_size(folder: Path, files: str) -> int | None:
    """Bytes in a folder that this program wrote, None if it is a link or holds anything else; see `remove_own`."""
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    except OSError:
        return None
    try:
        if _strange(handle, files, ""):
            return None
        return sum(os.stat(name, dir_fd=handle, follow_symlinks=False).st_size for name in os.listdir(handle))
    except OSError:
        return None
    finally:
        os.close(handle)


def remove_files(folder: Path, names: Iterable[str]) -> None:
    """Remove files of a folder by name; links go themselves, what they lead to stays; what is not there is no trouble.

    Nothing happens where the folder itself is a link.
    """
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    except OSError:
        return
    try:
        for name in names:
            try:
                os.unlink(name, dir_fd=handle)
            except OSError:
                continue
    finally:
        os.close(handle)


def _strange(handle: int, files: str, folders: str) -> str:
    for name in os.listdir(handle):
        try:
            mode = os.stat(name, dir_fd=handle, follow_symlinks=False).st_mode
        except FileNotFoundError:
            continue  # another process is removing the same
        if stat.S_ISDIR(mode) and folders and re.fullmatch(folders, name):
            inner = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=handle)
            try:
                found = _strange(inner, files, folders)
                if found:
                    return found
            finally:
                os.close(inner)
        elif not stat.S_ISREG(mode) or not re.fullmatch(files, name):
            return name
    return ""


def _empty(handle: int) -> None:
    for name in os.listdir(handle):
        with contextlib.suppress(FileNotFoundError):  # another process may be at it, too
            _remove_entry(handle, name)


def _remove_entry(handle: int, name: str) -> None:
    if stat.S_ISDIR(os.stat(name, dir_fd=handle, follow_symlinks=False).st_mode):
        inner = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=handle)
        try:
            _empty(inner)
        finally:
            os.close(inner)
        os.rmdir(name, dir_fd=handle)
    else:
        os.unlink(name, dir_fd=handle)
