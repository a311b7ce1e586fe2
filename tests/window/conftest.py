"""What every test of the window begins with."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from waits import LONG, Opener, idle

from ropebell.app import builds, palette, telling
from ropebell.app.preferences import Preferences
from ropebell.app.stage.widget import Stage
from ropebell.app.window import Window
from ropebell.build import extremes
from ropebell.build.runner import Standby

# Of the stage's own, along each side.
PIXELS = 0.5


class SharedStandby:
    """The waiting process of a window, which goes over to the next window if nobody took it: getting ready takes two
    seconds of a core, and few tests build more than once."""

    _left: Standby | None = None

    def __init__(self, ahead: tuple[Path, Path] | None = None) -> None:
        own, SharedStandby._left = SharedStandby._left, None
        self._standby = own or Standby()

    def take(self) -> subprocess.Popen[bytes] | None:
        """The waiting process, once."""
        return self._standby.take()

    def close(self) -> None:
        """Leave it to the next window."""
        if SharedStandby._left is None:
            SharedStandby._left = self._standby
        else:
            self._standby.close()


@pytest.fixture(scope="session", autouse=True)
def _nobody_waits_at_the_end() -> Iterator[None]:
    yield
    if SharedStandby._left is not None:
        SharedStandby._left.close()


@pytest.fixture
def empty_window(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Iterator[Window]:
    """A window of a new person on a small screen, with nothing open.

    What it would ask about first takes hours: predictions learn from a machine that others may be working on, and a
    build of a minute must not be held back by a question that nobody answers.
    """
    monkeypatch.setattr(extremes, "LONG_SECONDS", 36_000.0)
    monkeypatch.setattr(builds, "Standby", SharedStandby)
    # News goes by itself after some seconds, in which a machine at work for others may not get to looking at it.
    monkeypatch.setattr(telling, "NEWS_MS", LONG)
    # The processor draws here, and a frame of every pixel takes a quarter of a second; tests/window/test_stage.py draws
    # them all.
    monkeypatch.setattr(Stage, "devicePixelRatioF", lambda _: PIXELS)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    palette.load_fonts()
    palette.apply(app, "dark")
    made = Window(Preferences())
    qtbot.addWidget(made)
    made.show()
    made.resize(1280, 800)
    yield made
    made.close()


_KEPT: dict[str, tuple[Path, Path]] = {}


@pytest.fixture
def open_built(empty_window: Window, qtbot: QtBot, tmp_path_factory: pytest.TempPathFactory) -> Opener:
    """Opens a level with its builds, which are made once and brought back as they were for every later test.

    Called with a name of the level and what makes it: given a folder, it opens and builds a level there in the window
    and returns the level's file.
    """

    def opened(name: str, made: Callable[[Path], Path]) -> None:
        if name not in _KEPT:
            folder = tmp_path_factory.mktemp(name) / "level"
            folder.mkdir()
            level = made(folder)
            empty_window.desk.document.save_for_build()
            shutil.copytree(folder, folder.with_name("kept"))
            _KEPT[name] = folder, level
            return
        folder, level = _KEPT[name]
        shutil.rmtree(folder)
        shutil.copytree(folder.with_name("kept"), folder)
        with qtbot.waitSignal(empty_window.desk.level.opened, timeout=LONG):
            empty_window.open(level)
        idle(empty_window, qtbot)

    return opened
