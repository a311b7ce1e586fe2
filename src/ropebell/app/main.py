"""Starting the window."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from ropebell.app import palette
from ropebell.app.preferences import Preferences, preferences_file
from ropebell.app.window import Window
from ropebell.errors import UsageError, why

SWITCH_SECONDS = 0.0005


def application() -> QApplication:
    """The Qt application with type and look; made once.

    Raises:
        UsageError: there is no display to open a window on.
    """
    existing = QApplication.instance()
    if isinstance(existing, QApplication):
        return existing
    wanted = os.environ.get("QT_QPA_PLATFORM", "")
    screen = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    if not screen and not wanted.startswith(("offscreen", "minimal", "vnc")):
        remedy = "Run it in a desktop session, or bake with 'ropebell bake' instead"
        raise UsageError("there is no display to open a window on", "", remedy)
    app = QApplication(["Rope Bell"])
    app.setApplicationName("Rope Bell")
    app.setDesktopFileName("ropebell")
    palette.load_fonts()
    # Every event that Qt hands to Python waits for the interpreter lock; with the usual 5 ms a background job makes
    # a repaint of fifty widgets take a quarter of a second.
    sys.setswitchinterval(SWITCH_SECONDS)
    return app


def open_window(target: Path | None) -> int:
    """`ropebell open`: show the window until it is closed."""
    app = application()
    preferences = Preferences.load()
    palette.apply(app, preferences.look)
    window = Window(preferences)
    _catch_faults(window)
    window.show()
    # Python looks at signals only between its own steps; this gives it some.
    signal.signal(signal.SIGINT, lambda *_: window.close())
    signal.signal(signal.SIGTERM, lambda *_: window.close())
    awake = QTimer()
    awake.start(200)
    awake.timeout.connect(lambda: None)
    if target is not None:
        QTimer.singleShot(0, lambda: window.open(target))
    return app.exec()


def _catch_faults(window: Window) -> None:
    """Tell of a fault of this program and go on: an exception that leaves a slot would end the process otherwise."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        traceback.print_exception(kind, error, trace)
        with contextlib.suppress(OSError):
            log = preferences_file().with_name("faults.log")
            log.parent.mkdir(parents=True, exist_ok=True)
            with open(log, "a", encoding="utf-8") as file:
                traceback.print_exception(kind, error, trace, file=file)
        window.desk.tell(
            f"This program met a fault of its own ({kind.__name__}: {error}). Your settings and builds are kept."
        )

    sys.excepthook = hook


def take_shots(out: Path) -> int:
    """`ropebell shots`: every main view of the demo level as a PNG."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from ropebell.app.shots import shoot

    try:
        out.mkdir(parents=True, exist_ok=True)
        (out / ".rope-bell").touch()
        (out / ".rope-bell").unlink()
    except (OSError, ValueError) as error:
        raise UsageError(
            f"no pictures can be written there ({why(error) if isinstance(error, OSError) else error})",
            out,
            "Name another folder",
        ) from error
    for path in shoot(application(), out):
        print(path)
    return 0


if __name__ == "__main__":
    sys.exit(open_window(Path(sys.argv[1]) if len(sys.argv) > 1 else None))
