"""What a user waits for in the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from pytestqt.qtbot import QtBot

from ropebell.app.window import Window

# ms until a wait fails: far more than anything takes, as what it waits for may have to share its machine.
LONG = 150_000

# Opens a level with builds: of that name, as this makes it in a folder, or as it was made before.
Opener = Callable[[str, Callable[[Path], Path]], None]


def idle(window: Window, qtbot: QtBot) -> None:
    """Wait until nothing is under way."""
    s = window.desk
    qtbot.waitUntil(lambda: s.settled and not s.builds.running and s.rope.stale is not None, timeout=LONG)


def build(window: Window, qtbot: QtBot) -> None:
    """Press Build, whatever it asks, and wait until the build is shown."""
    with qtbot.waitSignal(window.desk.builds.ended, timeout=LONG):
        window.desk.commands.run("build.start")
        qtbot.waitUntil(lambda: window.desk.builds.running, timeout=LONG)
    idle(window, qtbot)


def opened(window: Window, qtbot: QtBot, path: Path) -> None:
    """Open a level and wait until it is there."""
    with qtbot.waitSignal(window.desk.level.opened, timeout=LONG):
        window.open(path)
    idle(window, qtbot)
