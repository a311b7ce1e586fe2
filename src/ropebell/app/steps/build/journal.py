"""The journal of a build: by stage, with what was found, searched and taken along as text."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFont, QShowEvent
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.palette import font
from ropebell.app.parts import Sentences, button, label, pair, rows_in
from ropebell.app.words import clock
from ropebell.build.journal import read_events
from ropebell.build.journal_lines import ENDED, GONE, Group, as_text, grouped
from ropebell.build.knots import Knot
from ropebell.errors import RopeBellError, why
from ropebell.files import write_text
from ropebell.level.scene import index_of

OBJECT = Qt.ItemDataRole.UserRole
WEIGHTS = {"error": "Error. "}
HEAVY = ("error", "warning")


class JournalPage(QWidget):
    """What a build told."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._groups: list[Group] = []
        self._shown: Knot | None = None
        self._due = True
        rows = rows_in(self, 8, scrolled=True)
        self.title = label("", "second")
        rows.addWidget(self.title)
        self.search = QLineEdit()
        self.search.setAccessibleName("Search the journal")
        self.search.setPlaceholderText("Search")
        self.search.setClearButtonEnabled(True)
        self.save = button("As text")
        self.save.setToolTip("Save the journal as a text file")
        rows.addWidget(pair(self.search, self.save, stretch=0))
        self.all = QCheckBox("Notes and figures, too")
        rows.addWidget(self.all)
        self.lines = Sentences("Journal by stage", 100_000)
        rows.addWidget(self.lines)
        rows.addStretch(1)
        self.search.textChanged.connect(lambda _: self._fill())
        self.all.toggled.connect(lambda _: self._fill())
        self.lines.itemClicked.connect(self._go_to)
        self.save.clicked.connect(self._ask_and_save)
        desk.rope.looking_at.connect(lambda _: self.refresh())
        desk.rope.builds_changed.connect(self.refresh)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if self._due:
            self.refresh()

    def refresh(self) -> None:
        """Show the journal of the build that is looked at, once anyone looks at this page."""
        self._due = not self.isVisible()
        if self._due:
            return
        rope = self._desk.rope
        knot = next((k for k in rope.knots if k.number == rope.shown_number), None)
        if knot is None:
            self._shown, self._groups = None, []
            self.title.setText("Click a build on the rope to read its journal.")
            self._fill()
            return
        knots = list(rope.knots)

        def receive(groups: list[Group]) -> None:
            self._shown, self._groups = knot, groups
            self.title.setText(f"{knot.title}, {clock(knot.seconds)}")
            self._fill()

        self._desk.jobs.start("journal", lambda: grouped(read_events(knot.folder), knot.number, knots), receive)

    def _fill(self) -> None:
        wanted, everything = self.search.text().strip().lower(), self.all.isChecked()
        self.lines.clear()
        for box in (self.save, self.search, self.all):
            box.setEnabled(self._shown is not None)
        for group in self._groups:
            lines = [x for x in group.lines if wanted in f"{x.text} {x.object} {x.severity} {x.since}".lower()]
            if wanted and not lines and wanted not in group.title.lower():
                continue
            heavy = [x for x in lines if x.severity in HEAVY or group.title == GONE]
            self._add_head(group, len(lines) - len(heavy))
            for line in lines if everything or wanted else heavy:
                since = f" ({line.since})" if line.since else ""
                item = QListWidgetItem(f"{WEIGHTS.get(line.severity, '')}{line.text}{since}")
                item.setData(OBJECT, (line.object, line.place))
                item.setToolTip(line.object)
                self.lines.addItem(item)
        self.lines.fit()
        self.lines.setVisible(self.lines.count() > 0)

    def _add_head(self, group: Group, more: int) -> None:
        took = {"reused": "re-used", "begun": "not ended"}.get(group.state, f"{group.seconds:.1f} s")
        told = group.title if group.title in (GONE, ENDED) else f"{group.title}, {took}"
        if more and not self.all.isChecked() and not self.search.text():
            told += f", {more} more line{'s' if more > 1 else ''}"
        item = QListWidgetItem(told)
        item.setFont(font(13, QFont.Weight.DemiBold))
        item.setFlags(Qt.ItemFlag.ItemIsEnabled)
        self.lines.addItem(item)

    def _go_to(self, item: QListWidgetItem) -> None:
        data, now = item.data(OBJECT), self._desk.level.now
        if data is None or now is None:
            return
        path, place = data
        node = index_of(now.scene, path) if path else -1
        if place is not None:
            self._desk.go_near(place, node)
        elif node >= 0:
            self._desk.selection.select(node)
            self._desk.commands.run("stage.focus")

    def _ask_and_save(self) -> None:
        if self._shown is None:
            return
        name = f"build-{self._shown.number}-journal.txt"
        path, _ = QFileDialog.getSaveFileName(self, "Save the journal as text", name, "Text (*.txt)")
        if path:
            self.save_as(Path(path))

    def save_as(self, path: Path) -> None:
        """Write what is shown as text."""
        if self._shown is None:
            return
        try:
            write_text(path, as_text(self._groups, f"{self._shown.title}, {self._shown.made}".rstrip(", ")))
        except (OSError, RopeBellError) as error:
            reason = why(error) if isinstance(error, OSError) else error
            self._desk.tell(f"{path}: it cannot be written ({reason}). Name another file.", "journal")
            return
        self._desk.news(f"The journal is written to {path}.")
