"""How this program starts itself: never with code from a folder that it merely works in.

An interpreter that is started with `-m` looks for modules in the folder one stands in first, and in whatever the
environment names. A file `xatlas.py` beside a level would then be run. Isolated mode (`-I`) leaves both out. What else
of the environment brings in code or changes what is computed is taken out of it before any library is loaded.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Mapping

# Kernels from elsewhere, other arithmetic, other libraries, plug-ins. `OPENBLAS_CORETYPE` stays: on some processors
# results are wrong without it.
UNWANTED = re.compile(
    r"(NUMBA|OMP|KMP|GOMP|MKL|LD)_\w*|PYTHON\w*|QT_(PLUGIN_PATH|QPA_PLATFORM_PLUGIN_PATH|QPA_GENERIC_PLUGINS)"
    r"|QML2?_IMPORT_PATH|GLIBC_TUNABLES"
)


def cleaned(environment: Mapping[str, str]) -> dict[str, str]:
    """An environment without what could bring in code, or change what is computed."""
    return {key: value for key, value in environment.items() if not UNWANTED.fullmatch(key)}


def own_command(module: str, *arguments: str) -> list[str]:
    """The command that runs a module of this program in an interpreter of its own, isolated and unbuffered."""
    return [sys.executable, "-I", "-u", "-m", module, *arguments]


def isolate(module: str) -> None:
    """Begin anew, isolated and in a clean environment, if this interpreter was not started so; does not return then.

    Args:
        module: what is run.
    """
    clean = cleaned(os.environ)
    if not sys.flags.isolated or len(clean) < len(os.environ):
        os.execve(sys.executable, own_command(module, *sys.argv[1:]), clean)
