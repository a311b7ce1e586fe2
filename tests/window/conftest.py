"""What every test of the window begins with."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from ropebell.app import palette
from ropebell.app.preferences import Preferences
from ropebell.app.window import Window


@pytest.fixture
def empty_window(qtbot: QtBot) -> Iterator[Window]:
    """A window of a new person on a small screen, with nothing open."""
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
