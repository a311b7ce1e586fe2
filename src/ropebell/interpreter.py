"""How this program starts itself: never with code from a folder that it merely works in.

An interpreter that is started with `-m` looks for modules in the folder one stands in first, and in whatever the
environment names. A file `xatlas.py` beside a level would then be run. Isolated mode (`-I`) leaves both out.
"""

from __future__ import annotations

import os
import sys


def own_command(module: str, *arguments: str) -> list[str]:
    """The command that runs a module of this program in an interpreter of its own, isolated and unbuffered."""
    return [sys.executable, "-I", "-u", "-m", module, *arguments]


def isolate(module: str) -> None:
    """Begin anew in isolated mode if this interpreter was not started so; does not return then.

    Args:
        module: what is run.
    """
    if not sys.flags.isolated:
        os.execv(sys.executable, own_command(module, *sys.argv[1:]))
