"""How quick the window is: up, first light, finished picture, and the longest time it did not answer."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from PyQt6.QtCore import QTimer

from ropebell.app import palette
from ropebell.app.main import application
from ropebell.app.preferences import Preferences
from ropebell.app.shots import wait_for
from ropebell.app.window import Window
from ropebell.demo.write import write_demo

BEAT_MS = 5
# A person looks at a level before pressing Build; meanwhile the waiting build process gets ready.
LOOKING_SECONDS = 4.0


class _Heart:
    """Notes the longest gap between two beats of the event loop."""

    def __init__(self) -> None:
        self.longest = 0.0
        self._last = time.perf_counter()
        self._timer = QTimer()
        self._timer.setInterval(BEAT_MS)
        self._timer.timeout.connect(self._beat)
        self._timer.start()

    def _beat(self) -> None:
        now = time.perf_counter()
        self.longest = max(self.longest, now - self._last)
        self._last = now

    def restart(self) -> None:
        """Forget what was measured so far."""
        self._last, self.longest = time.perf_counter(), 0.0


def measure() -> dict[str, float]:
    """Seconds and milliseconds on the demo level at its draft ⅛."""
    began = time.perf_counter()
    app = application()
    palette.apply(app, "dark")
    figures: dict[str, float] = {}
    with tempfile.TemporaryDirectory(prefix="ropebell-latency-") as scratch:
        project = write_demo(Path(scratch) / "tide-mill")
        window_began = time.perf_counter()
        window = Window(Preferences())
        window.show()
        window.resize(1280, 800)
        try:
            s = window.desk
            window.open(project)
            wait_for(lambda: s.level.now is not None and s.rope.stale is not None and s.settled, "the demo level")
            window.stage.grab_smooth()
            figures["window_to_level_s"] = time.perf_counter() - window_began
            figures["start_to_level_s"] = time.perf_counter() - began
            looked = time.perf_counter()
            wait_for(lambda: time.perf_counter() - looked > LOOKING_SECONDS, "a person to look round")
            heart = _Heart()
            pressed = time.perf_counter()
            lit: list[float] = []
            window.stage.drawn.connect(lambda: lit.append(time.perf_counter()) if window.stage.has_light else None)
            heart.restart()
            window.desk.commands.run("build.start")
            wait_for(lambda: not window.desk.builds.running and s.rope.shown is not None and s.settled, "the build")
            figures["longest_block_ms"] = heart.longest * 1000
            figures["first_light_s"] = lit[0] - pressed
            figures["finished_picture_s"] = time.perf_counter() - pressed
        finally:
            window.close()
    return {name: round(value, 3) for name, value in figures.items()}
