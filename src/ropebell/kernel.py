"""Functions that are compiled to machine code, with their types left as they are written.

Compiled functions are kept on disk and release the interpreter lock. They check no index and no shape: what they are
given is what their signature says, or they read memory that is not theirs.

What is kept on disk is run when it is read back. So it lies in a folder that is the person's own and that nobody else
may write to, whatever the environment says.
"""

from __future__ import annotations

import contextlib
import os
import pwd
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, ParamSpec, TypeVar, cast

OWN_ALONE = 0o700


def kernel_folder() -> Path:
    """Where compiled functions are kept: below the home folder that the system knows; where that cannot be written, in
    the folder for what is temporary, under the person's number; where somebody else has that, in a fresh one."""
    homes = [Path(tempfile.gettempdir()) / f"ropebell-kernels-{os.getuid()}"]
    with contextlib.suppress(KeyError):
        homes.insert(0, Path(pwd.getpwuid(os.getuid()).pw_dir) / ".cache" / "ropebell" / "kernels")
    found = next((folder for folder in homes if _own(folder)), None)
    return found or Path(tempfile.mkdtemp(prefix="ropebell-kernels-"))


def _own(folder: Path) -> bool:
    """Whether a folder is there, the person's own, and closed to everybody else."""
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True, mode=OWN_ALONE)
        state = folder.lstat()
        if stat.S_ISDIR(state.st_mode) and state.st_uid == os.getuid():
            folder.chmod(OWN_ALONE)
            return os.access(folder, os.W_OK | os.X_OK)
    return False


for _key in [key for key in os.environ if key.startswith("NUMBA_")]:
    del os.environ[_key]
os.environ["NUMBA_CACHE_DIR"] = str(kernel_folder())

from numba import njit  # noqa: E402 - it reads its settings when it is loaded

Takes = ParamSpec("Takes")
Gives = TypeVar("Gives")


def _compiled(function: Callable[Takes, Gives], **options: Any) -> Callable[Takes, Gives]:
    return cast(Callable[Takes, Gives], njit(cache=True, nogil=True, **options)(function))


def kernel(function: Callable[Takes, Gives]) -> Callable[Takes, Gives]:
    """Compile a function."""
    return _compiled(function)


def inlined(function: Callable[Takes, Gives]) -> Callable[Takes, Gives]:
    """Compile a function into each that calls it."""
    return _compiled(function, inline="always")


def dividing(function: Callable[Takes, Gives]) -> Callable[Takes, Gives]:
    """Compile a function in which a division by zero gives infinity instead of raising."""
    return _compiled(function, error_model="numpy")


def inlined_dividing(function: Callable[Takes, Gives]) -> Callable[Takes, Gives]:
    """Both."""
    return _compiled(function, inline="always", error_model="numpy")


def contracting(function: Callable[Takes, Gives]) -> Callable[Takes, Gives]:
    """Compile a function whose products and sums may be done in one rounding."""
    return _compiled(function, fastmath={"contract"})
