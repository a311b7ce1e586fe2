"""The cache of stage artifacts: one folder per digest, written whole, read as mapped arrays, safe to delete."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.layout import Layout
from ropebell.errors import BuildError

META, BEGUN, LOCK = "meta.json", "begun.json", "lock"
DEFAULT_LIMIT_BYTES = 20 << 30


def digest_of(*parts: Any) -> str:
    """32 hex digits that name an artifact by what it depends on: arrays by shape, type and bytes, the rest as JSON."""
    digest = hashlib.sha256()
    for part in parts:
        if isinstance(part, np.ndarray):
            digest.update(f"{part.dtype.str}{part.shape}".encode())
            digest.update(np.ascontiguousarray(part).data)
        else:
            digest.update(json.dumps(part, sort_keys=True).encode())
        digest.update(b"\x00")
    return digest.hexdigest()[:32]


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


class Store:
    """Artifacts below one folder.

    Args:
        folder: created when first written to.
        limit_bytes: `trim` removes the longest unused artifacts above it.
    """

    def __init__(self, folder: Path, limit_bytes: int = DEFAULT_LIMIT_BYTES) -> None:
        self.folder, self._limit = folder, limit_bytes

    def get(self, digest: str) -> Artifact | None:
        """The artifact, or None if it is not there or damaged; reading marks it as used."""
        place = self.folder / digest
        try:
            meta = json.loads((place / META).read_text(encoding="utf-8"))
            arrays = {name: self._load(place, name, shape) for name, shape in meta["arrays"].items()}
            os.utime(place)
        except (OSError, EOFError, ValueError, KeyError, TypeError, AttributeError):
            return None
        return Artifact(digest, arrays, meta["meta"])

    @staticmethod
    def _load(place: Path, name: str, shape: list[int]) -> NDArray[Any]:
        # Mapped copy-on-write: kernels are compiled once for writable arrays, and the file is never written.
        # Empty files cannot be mapped.
        array = np.load(place / f"{name}.npy", mmap_mode="c" if 0 not in shape else None, allow_pickle=False)
        if list(array.shape) != shape:
            raise ValueError(f"{name} has shape {array.shape}, not {shape}")
        return array

    def put(
        self,
        digest: str,
        arrays: dict[str, NDArray[Any]],
        meta: dict[str, Any] | None = None,
        durable: bool = True,
    ) -> Artifact:
        """Keep arrays and plain values under a digest; returns them as they are read back.

        Args:
            durable: flush to disk before the artifact counts; small ones that are quickly made anew need not.

        Raises:
            BuildError: the disk is full or cannot be written.
        """
        with self.writing(digest, durable) as folder:
            for name, array in arrays.items():
                np.save(folder / f"{name}.npy", np.ascontiguousarray(array))
            self.describe(folder, {name: list(array.shape) for name, array in arrays.items()}, meta)
        artifact = self.get(digest)
        if artifact is None:
            raise BuildError("a stage artifact could not be read back", self.folder / digest, "Check the disk")
        return artifact

    @staticmethod
    def describe(folder: Path, shapes: dict[str, list[int]], meta: dict[str, Any] | None) -> None:
        """Write the list of arrays of an artifact being written."""
        (folder / META).write_text(json.dumps({"arrays": shapes, "meta": meta or {}}), encoding="utf-8")

    @contextmanager
    def writing(self, digest: str, durable: bool = True) -> Iterator[Path]:
        """A temporary folder that becomes the artifact when the block ends well, and vanishes when it does not."""
        part = self.folder / f".{digest}.{secrets.token_hex(4)}.part"
        try:
            part.mkdir(parents=True)
            yield part
            for file in part.iterdir() if durable else ():
                with open(file, "rb") as handle:
                    os.fsync(handle.fileno())
            self._move(part, self.folder / digest)
        except OSError as error:
            raise self._unwritable(error) from error
        finally:
            shutil.rmtree(part, ignore_errors=True)

    @staticmethod
    def _move(made: Path, target: Path) -> None:
        """Put an artifact in its place."""
        if target.exists():
            shutil.rmtree(target, ignore_errors=True)
        try:
            os.replace(made, target)
        except OSError:
            # Another process that made the same may just have been first.
            if not (target / META).is_file():
                raise

    def unfinished(self, digest: str) -> Artifact | None:
        """The arrays of an artifact that a build began and did not finish, or None; read, never changed."""
        place = self._begun(digest)
        try:
            state = json.loads((place / BEGUN).read_text(encoding="utf-8"))
            if state["boot"] != _boot() and not state["synced"]:
                return None  # what was on its way to the disk at a power cut may be missing
            arrays = {name: self._load(place, name, shape) for name, shape in state["arrays"].items()}
        except (OSError, EOFError, ValueError, KeyError, TypeError, AttributeError):
            return None
        return Artifact(digest, arrays, {})

    @contextmanager
    def resuming(self, digest: str, shapes: dict[str, list[int]]) -> Iterator[tuple[Path, bool]]:
        """A folder that becomes the artifact when the block ends well, and stays to be gone on with when it does not.

        Its arrays may be mapped and written in place; the caller notes among them what of it is done, after it is.

        Args:
            shapes: of the arrays being written, by name.

        Yields:
            The folder, and whether it holds what an earlier build began.
        """
        place = self._begun(digest)
        begun = self.unfinished(digest)
        fits = begun is not None and {name: list(a.shape) for name, a in begun.arrays.items()} == shapes
        del begun
        lock = self._claimed(place)
        if lock is None:
            # Another build is at it; this one goes its own way.
            with self.writing(digest) as folder:
                yield folder, False
            return
        try:
            if not fits:
                for file in place.iterdir():
                    if file.name != LOCK:
                        file.unlink()
            self._note(place, shapes, synced=False)
            try:
                yield place, fits
            except BaseException:
                self._settle(place, shapes)
                raise
            for file in place.iterdir():
                with open(file, "rb") as handle:
                    os.fsync(handle.fileno())
            target = self.folder / digest
            if target.exists():
                shutil.rmtree(target, ignore_errors=True)
            (place / BEGUN).unlink()
            (place / LOCK).unlink()
            os.replace(place, target)
        except OSError as error:
            shutil.rmtree(place, ignore_errors=True)
            raise self._unwritable(error) from error
        finally:
            os.close(lock)

    def _begun(self, digest: str) -> Path:
        return self.folder / f"{digest}.begun"

    def _claimed(self, place: Path) -> int | None:
        """A lock on an unfinished artifact, None if another process has it."""
        try:
            place.mkdir(parents=True, exist_ok=True)
            lock = os.open(place / LOCK, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o644)
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

    @staticmethod
    def _in_use(place: Path) -> bool:
        """Whether a build is at an unfinished artifact."""
        try:
            lock = os.open(place / LOCK, os.O_RDWR | os.O_CLOEXEC)
        except OSError:
            return False
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return True
        finally:
            os.close(lock)
        return False

    def _settle(self, place: Path, shapes: dict[str, list[int]]) -> None:
        """Bring what was begun to the disk; what cannot be brought there is given up."""
        try:
            for name in shapes:
                with open(place / f"{name}.npy", "rb") as handle:
                    os.fsync(handle.fileno())
            self._note(place, shapes, synced=True)
        except OSError:
            shutil.rmtree(place, ignore_errors=True)

    @staticmethod
    def _note(place: Path, shapes: dict[str, list[int]], synced: bool) -> None:
        text = json.dumps({"arrays": shapes, "boot": _boot(), "synced": synced})
        part = place / f"{BEGUN}.part"
        part.write_text(text, encoding="utf-8")
        os.replace(part, place / BEGUN)

    def _unwritable(self, error: OSError) -> BuildError:
        remedy = "Free some space, or move the cache, and build again; earlier builds are untouched"
        return BuildError(f"the cache cannot be written ({error.strerror})", self.folder, remedy)

    def sizes(self) -> list[tuple[float, int, Path]]:
        """(last use, bytes, folder) of every artifact, longest unused first."""
        found = []
        for place in self.folder.iterdir() if self.folder.is_dir() else ():
            try:
                found.append((place.stat().st_mtime, sum(f.stat().st_size for f in place.iterdir()), place))
            except OSError:
                continue
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
        for used, size, place in sizes:
            abandoned = place.name.endswith(".part") and used < newest - 3600
            if self._in_use(place):
                continue
            if abandoned or (total - freed > self._limit and place.name not in keep):
                shutil.rmtree(place, ignore_errors=True)
                freed += size
        return freed


class StoredLayouts:
    """Chart layouts of shapes in a store; see `charts.shapes.LayoutCache`."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def load(self, key: str) -> Layout | None:
        """The layout under `key`, or None."""
        found = self._store.get(f"layout-{key}")
        if found is None:
            return None
        return Layout(
            np.array(found.arrays["chart"]),
            np.array(found.arrays["uv"]),
            found.meta["origin"],
            found.meta["trouble"],
        )

    def save(self, key: str, layout: Layout) -> None:
        """Keep a layout."""
        meta = {"origin": layout.origin, "trouble": layout.trouble}
        # A level has hundreds of them, so they are not read back.
        with self._store.writing(f"layout-{key}", durable=False) as folder:
            np.save(folder / "chart.npy", layout.chart)
            np.save(folder / "uv.npy", layout.uv)
            shapes = {"chart": list(layout.chart.shape), "uv": list(layout.uv.shape)}
            self._store.describe(folder, shapes, meta)
