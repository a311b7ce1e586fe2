"""What the Level bench shows before a level is open: the recent ones, and the sample."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QPushButton, QWidget

from ropebell.app.commands import Commands
from ropebell.app.parts import label, rows_in
from ropebell.app.preferences import Preferences
from ropebell.app.words import told_apart

MOST = 6
SAMPLE = (
    "A tide mill, with a week of builds on its rope.\n"
    "Look round, and press Build.\nThen drag a lamp: the light follows."
)


class StartBench(QWidget):
    """Ways to begin."""

    def __init__(self, preferences: Preferences, commands: Commands, open_path: Callable[[Path], None]) -> None:
        super().__init__()
        rows = rows_in(self)
        rows.addWidget(label("Open a level to see its surfaces, then build its light.", "second"))
        open_button = QPushButton("Open a level or project")
        open_button.setProperty("role", "main")
        open_button.clicked.connect(lambda: commands.run("file.open"))
        sample = QPushButton("Open the sample level")
        sample.clicked.connect(lambda: commands.run("file.sample"))
        round_ = QPushButton("Walk through the window with it")
        round_.clicked.connect(lambda: commands.run("file.walk"))
        rows.addWidget(open_button)
        rows.addSpacing(8)
        rows.addWidget(label("The sample level", "heading"))
        rows.addWidget(label(SAMPLE, "second"))
        rows.addWidget(sample)
        rows.addWidget(round_)
        existing = [Path(text) for text in preferences.recent if Path(text).exists()][:MOST]
        if existing:
            rows.addSpacing(8)
            rows.addWidget(label("Recent", "heading"))
        for path, name in zip(existing, told_apart(existing)):
            button = QPushButton(name)
            button.setToolTip(str(path))
            button.setProperty("role", "recent")
            button.clicked.connect(lambda _=False, path=path: open_path(path))
            rows.addWidget(button)
        rows.addStretch(1)
