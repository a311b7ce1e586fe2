"""The cache of stage artifacts: one folder per digest, written whole, read as mapped arrays, safe to delete.

What comes from the cache is not trusted: a cache travels with a project, and disks fail. Each artifact says of each of
its arrays what it is and bears a checksum of it, which is checked once per process; what does not hold is thrown away
and made again. What is removed is only what looks in every respect as this module writes it; links are never followed.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import re
import secrets
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from tokenize import TokenError
from typing import Any

import numpy as np
import xxhash
from numpy.typing import NDArray

from ropebell.arrays import load_array
from ropebell.digest import digest_of
from ropebell.errors import BuildError, step, why
from ropebell.files import open_regular, own_size, read_json, remove_files, remove_own

META, BEGUN, LOCK, AT_WORK = "meta.json", "begun.json", "lock", ".at-work"
# Of how artifacts are kept; others are made again.
FORMAT = 2
DEFAULT_LIMIT_BYTES = 20 << 30
ARRAY = r"[a-z_]+"
# Earlier versions began arrays with a blank in their names, which they could not finish.
FILES = rf"meta\.json|begun\.json(\.part)?|lock|{ARRAY}( far)?\.npy"
NAMES = re.compile(
    r"((layout-|kin-)?[0-9a-f]{32,64})(\.begun)?|\.(layout-|kin-)?[0-9a-f]{32,64}\.[0-9a-f]{8}\.part", re.ASCII
)
# While another build is at work in the same cache, only what was not used for so long may go.
UNUSED_SECONDS = 3600
BLOCK = 4 << 20
# Of putting an artifact in its place, while other processes do the same.
MOST_TRIES = 20
# What reading a damaged artifact may end in; an array's header is read as a piece of Python.
DAMAGED = (
    OSError, EOFError, ValueError, LookupError, TypeError, AttributeError, OverflowError, RecursionError, MemoryError,
    SyntaxError, TokenError,
)  # fmt: skip

# Files that were found whole, by device, inode, time and size.
_whole: dict[tuple[int, int, int, int], str] = {}

Kind = tuple[str, list[int]]
"""Type in NumPy's notation, and shape, of an array."""


def _held(path: Path) -> bool:
    """Whether somebody holds a lock on a file; nobody does where there is none."""
    try:
        lock = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except OSError:
        return False
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(lock)
    return False


def _boot() -> str:
    """What tells this run of the machine from others, empty where that is not known."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
    except OSError:
        return ""


@dataclass(frozen=True, eq=False)
class Artifact:
    """What a stage gave: named arrays (mapped from files; writing to one never reaches the file) and plain values."""

    digest: str
    arrays: dict[str, NDArray[Any]]
    meta: dict[str, Any]


Fits = Callable[[Artifact], bool]
"""Whether an artifact is what its reader expects, down to the range of all that is used as an index."""


class Store:
    """Artifacts below one folder.

    Args:
        folder: created when first written to.
        limit_bytes: `trim` removes the longest unused artifacts above it.

    Attributes:
        damaged: digests of artifacts that were there but could not be used.
    """

    def __init__(self, folder: Path, limit_bytes: int = DEFAULT_LIMIT_BYTES) -> None:
        self.folder, self._limit = folder, limit_bytes
        self.damaged: set[str] = set()

    def has(self, digest: str) -> bool:
        """Whether an artifact is there, going by its list alone; `get` may still find it damaged."""
        return (self.folder / digest / META).is_file()

    def get(self, digest: str, fits: Fits | None = None) -> Artifact | None:
        """The artifact, or None if it is not there or damaged, and then it is thrown away; reading marks it as used.

        Args:
            fits: asked whether the arrays are what is expected.
        """
        place = self.folder / digest
        if place.is_symlink():
            return None
        for _ in range(MOST_TRIES):
            try:
                return self._read(place, fits)
            except FileNotFoundError:
                if not (place / META).exists():
                    return None
                # One of its arrays is missing, or another process is just putting it in its place.
            except DAMAGED:
                break
        self.damaged.add(digest)
        self._throw_away(digest)
        return None

    def _throw_away(self, digest: str) -> None:
        """Out of the way with an artifact, whole, as others may hold it, and then removed."""
        aside = self.folder / f".{digest}.{secrets.token_hex(4)}.part"
        with contextlib.suppress(OSError):
            os.replace(self.folder / digest, aside)
        remove_own(aside, FILES)

    def _read(self, place: Path, fits: Fits | None) -> Artifact:
        listed = read_json(place / META)
        if listed["format"] != FORMAT or listed["sum"] != _sum_of(listed):
            raise ValueError("of another version, or not what was written")
        arrays = {name: self._load(place, name, *of) for name, of in dict(listed["arrays"]).items()}
        found = Artifact(place.name, arrays, dict(listed["meta"]))
        if fits is not None and not fits(found):
            raise ValueError("not what is expected")
        os.utime(place)
        return found

    @staticmethod
    def _load(place: Path, name: str, dtype: str, shape: list[int], checksum: str | None) -> NDArray[Any]:
        """Args: checksum: None where it is not known, as of arrays that are still being written."""
        if not re.fullmatch(ARRAY, name):
            raise ValueError(f"{name!r} is no array of an artifact")
        path = place / f"{name}.npy"
        # Mapped copy-on-write: kernels are compiled once for writable arrays, and the file is never written.
        # Empty files cannot be mapped.
        open_regular(path).close()
        array = load_array(path, "c" if 0 not in shape else None)
        if [array.dtype.str, list(array.shape)] != [dtype, shape] or not array.flags.c_contiguous:
            raise ValueError(f"{name} is {array.dtype.str} {array.shape}, not {dtype} {shape}")
        if checksum is not None and _checksum(path) != checksum:
            raise ValueError(f"{name} is not what was written")
        return array

    def put(
        self,
        digest: str,
        arrays: dict[str, NDArray[Any]],
        meta: dict[str, Any] | None = None,
        durable: bool = True,
        over: bool = False,
    ) -> Artifact:
        """Keep arrays and plain values under a digest; returns them as they are read back.

        Args:
            durable: flush to disk before the artifact counts; small ones that are quickly made anew need not.
            over: what is there already is out of date; else it is the same, whoever made it, and stays.

        Raises:
            BuildError: the disk is full or cannot be written.
        """
        with self.writing(digest, durable, over) as folder:
            for name, array in arrays.items():
                assert re.fullmatch(ARRAY, name), f"{name!r} could not be read back"
                np.save(folder / f"{name}.npy", np.ascontiguousarray(array))
            self.describe(folder, meta)
        # Whoever clears the cache at this moment takes nothing from a build that is under way.
        return self.get(digest) or Artifact(digest, arrays, meta or {})

    @staticmethod
    def describe(folder: Path, meta: dict[str, Any] | None) -> None:
        """Write the list of the arrays in the folder of an artifact being written."""
        arrays = {}
        for path in sorted(folder.glob("*.npy")):
            array = load_array(path, "r" if path.stat().st_size else None)
            arrays[path.stem] = [array.dtype.str, list(array.shape), _checksum(path)]
        listed = {"format": FORMAT, "arrays": arrays, "meta": meta or {}}
        listed["sum"] = _sum_of(json.loads(json.dumps(listed)))
        (folder / META).write_text(json.dumps(listed), encoding="utf-8")

    @contextmanager
    def writing(self, digest: str, durable: bool = True, over: bool = False) -> Iterator[Path]:
        """A temporary folder that becomes the artifact when the block ends well, and vanishes when it does not; see
        `put`."""
        part = self.folder / f".{digest}.{secrets.token_hex(4)}.part"
        try:
            part.mkdir(parents=True)
            yield part
            for file in part.iterdir() if durable else ():
                with open(file, "rb") as handle:
                    os.fsync(handle.fileno())
            self._move(part, digest, over)
        except OSError as error:
            raise self._unwritable(error) from error
        finally:
            remove_own(part, FILES)

    def _move(self, made: Path, digest: str, over: bool) -> None:
        """Put an artifact in its place."""
        target = self.folder / digest
        for _ in range(MOST_TRIES):
            try:
                os.replace(made, target)
                return
            except OSError:
                if not over and self.get(digest) is not None:
                    return  # another process that made the same was first, and someone may be reading it
            self._throw_away(digest)  # out of date or damaged
        os.replace(made, target)

    def unfinished(self, digest: str, fits: Fits | None = None) -> Artifact | None:
        """The arrays of an artifact that a build began and did not finish, or None; read, never changed."""
        place = self._begun(digest)
        if place.is_symlink():
            return None
        try:
            state = read_json(place / BEGUN)
            if state["format"] != FORMAT:
                return None
            if state["boot"] != _boot() and not state["synced"]:
                return None  # what was on its way to the disk at a power cut may be missing
            arrays = {name: self._load(place, name, of[0], of[1], None) for name, of in dict(state["arrays"]).items()}
            found = Artifact(digest, arrays, {})
            return found if fits is None or fits(found) else None
        except DAMAGED:
            return None

    @contextmanager
    def resuming(self, digest: str, kinds: dict[str, Kind], fits: Fits | None = None) -> Iterator[tuple[Path, bool]]:
        """A folder that becomes the artifact when the block ends well, and stays to be gone on with when it does not:
        stopped, killed, or with no more room on the disk.

        Its arrays may be mapped and written in place; the caller notes among them what of it is done, after it is.

        Args:
            kinds: of the arrays being written, by name.
            fits: asked whether what an earlier build began is what is expected.

        Yields:
            The folder, and whether it holds what an earlier build began.
        """
        place = self._begun(digest)
        if place.is_symlink():
            place.unlink()
        begun = self.unfinished(digest, fits)
        same = begun is not None and {name: (a.dtype.str, list(a.shape)) for name, a in begun.arrays.items()} == kinds
        del begun
        lock = self._claimed(place)
        if lock is None:
            # Another build is at it; this one goes its own way.
            with self.writing(digest) as folder:
                yield folder, False
            return
        try:
            if not same:
                remove_files(place, [file.name for file in place.iterdir() if file.name != LOCK])
            self._note(place, kinds, synced=False)
            try:
                yield place, same
            except BaseException:
                self._settle(place, kinds)
                raise
            for file in place.iterdir():
                with open(file, "rb") as handle:
                    os.fsync(handle.fileno())
            remove_files(place, [BEGUN, LOCK])
            self._move(place, digest, False)
            remove_own(place, FILES)  # where another was first
        except OSError as error:
            raise self._unwritable(error) from error
        finally:
            os.close(lock)

    def _begun(self, digest: str) -> Path:
        return self.folder / f"{digest}.begun"

    def _claimed(self, place: Path) -> int | None:
        """A lock on an unfinished artifact, None if another process has it."""
        try:
            place.mkdir(parents=True, exist_ok=True)
            lock = os.open(place / LOCK, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
        except OSError as error:
            raise self._unwritable(error) from error
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.stat(place / LOCK).st_ino != os.fstat(lock).st_ino:
                raise FileNotFoundError  # finished and moved away in between
        except OSError:
            os.close(lock)
            return None
        return lock

    def _settle(self, place: Path, kinds: dict[str, Kind]) -> None:
        """Bring what was begun to the disk; where that fails, it is good until the machine is started anew."""
        try:
            for name in kinds:
                with open(place / f"{name}.npy", "rb") as handle:
                    os.fsync(handle.fileno())
            self._note(place, kinds, synced=True)
        except FileNotFoundError:
            remove_own(place, FILES)  # nothing of it was begun
        except OSError:
            return

    @staticmethod
    def _note(place: Path, kinds: dict[str, Kind], synced: bool) -> None:
        text = json.dumps({"format": FORMAT, "arrays": kinds, "boot": _boot(), "synced": synced})
        part = place / f"{BEGUN}.part"
        part.write_text(text, encoding="utf-8")
        os.replace(part, place / BEGUN)

    def _unwritable(self, error: OSError) -> BuildError:
        remedy = f"{step(error)}, or move the cache, and build again; earlier builds and what was shot are kept"
        return BuildError(f"the cache cannot be written ({why(error)})", self.folder, remedy)

    @contextmanager
    def at_work(self) -> Iterator[None]:
        """While the block runs, no other build's `trim` removes what this one has just used."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            lock = os.open(self.folder / AT_WORK, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
        except OSError as error:
            raise self._unwritable(error) from error
        try:
            fcntl.flock(lock, fcntl.LOCK_SH)
            yield
        finally:
            os.close(lock)

    def sizes(self) -> list[tuple[float, int, Path]]:
        """(last use, bytes, folder) of everything in the cache that is its own, longest unused first; nothing where
        the cache itself is a link."""
        found = []
        for place in self.folder.iterdir() if self.folder.is_dir() and not self.folder.is_symlink() else ():
            size = own_size(place, FILES) if NAMES.fullmatch(place.name) else None
            with contextlib.suppress(FileNotFoundError):  # another build has just finished or removed it
                if size is not None:
                    found.append((place.stat().st_mtime, size, place))
        return sorted(found)

    def trim(self, keep: set[str]) -> int:
        """Remove the longest unused artifacts above the limit, and what crashed builds left half-written.

        Args:
            keep: digests that stay in any case.

        Returns:
            The number of bytes freed.
        """
        sizes = self.sizes()
        total, freed = sum(size for _, size, _ in sizes), 0
        newest = max((used for used, _, _ in sizes), default=0.0)
        alone = not _held(self.folder / AT_WORK)
        for used, size, place in sizes:
            unused = used < newest - UNUSED_SECONDS
            too_much = total - freed > self._limit and place.name not in keep and (alone or unused)
            if _held(place / LOCK):
                continue
            if ((place.name.endswith(".part") and unused) or too_much) and remove_own(place, FILES):
                freed += size
        return freed


def _sum_of(listed: dict[str, Any]) -> str:
    """Checksum of an artifact's own list."""
    return digest_of({key: value for key, value in listed.items() if key != "sum"})


def _checksum(path: Path) -> str:
    """Of a file, whole; of one that has not changed since it was last read, without reading it again."""
    with open_regular(path) as file:
        state = os.fstat(file.fileno())
        key = (state.st_dev, state.st_ino, state.st_mtime_ns, state.st_size)
        if key not in _whole:
            found, block = xxhash.xxh3_64(), memoryview(bytearray(BLOCK))
            while count := file.readinto(block):
                found.update(block[:count])
            _whole[key] = found.hexdigest()
        return _whole[key]
