"""Builds that wait for their turn, such as for the night."""

from __future__ import annotations

from PyQt6.QtWidgets import QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import Sentences, button, label, pair, rows_in
from ropebell.app.steps.build.scoping import wanted

STATES = {"waiting": "Waits", "running": "Under way", "done": "Done", "failed": "Failed"}


class QueuePage(QWidget):
    """The list, and what is done with it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._queue = queue = desk.queue
        rows = rows_in(self, 8, scrolled=True)
        self.about = label("", "second")
        rows.addWidget(self.about)
        self.add, self.work = button("Add what is set now"), button("Work through it")
        rows.addWidget(self.add)
        self.list = Sentences("Builds that wait", 420)
        rows.addWidget(self.list)
        self.remove, self.clear = button("Remove", "flat"), button("Forget what is done", "flat")
        rows.addWidget(self.work)
        rows.addWidget(pair(self.remove, self.clear))
        rows.addStretch(1)
        self.add.clicked.connect(lambda: desk.commands.attempt(lambda: wanted(desk, queue.add)))
        self.work.clicked.connect(queue.switch)
        self.remove.clicked.connect(lambda: queue.remove(self.list.currentRow()))
        self.clear.clicked.connect(queue.clear_done)
        queue.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the queue as it is now."""
        queue = self._queue
        waiting = sum(e.state == "waiting" for e in queue.entries)
        self.about.setText(
            "Set a recipe, a part, a pose, another level, and add each; they are built one after the other while "
            "nobody watches. The queue is kept when the window closes."
        )
        row = self.list.currentRow()
        self.list.clear()
        for entry in queue.entries:
            told = f", {entry.told}" if entry.told else ""
            self.list.addItem(QListWidgetItem(f"{entry.title}: {STATES[entry.state].lower()}{told}"))
        self.list.setCurrentRow(min(row, len(queue.entries) - 1))
        self.list.fit()
        self.list.setVisible(bool(queue.entries))
        work = f"Work through it ({waiting})" if waiting else "Work through it"
        self.work.setText("Stop; what is begun is gone on with later" if queue.on else work)
        self.work.setEnabled(queue.on or waiting > 0)
        self.remove.setEnabled(bool(queue.entries))
        self.clear.setEnabled(not queue.running and any(e.state in ("done", "failed") for e in queue.entries))
