"""Functions that are compiled to machine code, with their types left as they are written.

Compiled functions are kept on disk and release the interpreter lock. They check no index and no shape: what they are
given is what their signature says, or they read memory that is not theirs.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar, cast

from numba import njit

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
