"""Find faces by material or property: they are marked on the stage, listed with places, and nothing is changed."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import button, combo, label, pair
from ropebell.app.words import count
from ropebell.level.faces import PROPERTIES, FaceGroup, find_faces, grouped

WIDTH, HEIGHT = 340, 420


class FaceFinder(QFrame):
    """A small pane over the stage.

    Signals:
        found: (n,) indices of the found triangles of the session's scene, to be marked.
        go_to: a `FaceGroup` to look at.
    """

    found = pyqtSignal(object)
    go_to = pyqtSignal(object)

    def __init__(self, desk: Desk, parent: QWidget) -> None:
        super().__init__(parent)
        self._desk = desk
        self.setProperty("role", "pane")
        self.setFixedSize(WIDTH, HEIGHT)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(14, 12, 14, 12)
        rows.setSpacing(8)
        self.close_button = button("Close", "flat")
        rows.addWidget(pair(label("Find faces", "title", wrap=False), QWidget(), self.close_button, stretch=1))
        self.material, self.quality = combo("Material"), combo("Property")
        rows.addWidget(pair(label("Material", wrap=False), self.material, stretch=1))
        rows.addWidget(pair(label("Property", wrap=False), self.quality, stretch=1))
        self.summary = label("", "second")
        self.list = QListWidget()
        self.list.setAccessibleName("Objects with such faces")
        rows.addWidget(self.summary)
        rows.addWidget(self.list, 1)
        self.quality.addItem("any", "")
        for name in PROPERTIES:
            self.quality.addItem(name, name)
        self.material.activated.connect(lambda _: self.search())
        self.quality.activated.connect(lambda _: self.search())
        self.list.itemClicked.connect(self._clicked)
        self.close_button.clicked.connect(self.dismiss)
        self.hide()

    def popup(self) -> None:
        """Open over the stage."""
        now = self._desk.level.now
        if now is None:
            return
        before = self.material.currentData()
        self.material.clear()
        self.material.addItem("any", "")
        for name in sorted({m.name for m in now.level.materials}):
            self.material.addItem(name, name)
        self.material.setCurrentIndex(max(self.material.findData(before), 0))
        self.show()
        self.raise_()
        self.material.setFocus()
        self.search()

    def dismiss(self) -> None:
        """Close, and take the marks off the stage."""
        self.hide()
        self.found.emit(np.zeros(0, np.int64))

    def keyPressEvent(self, event: object) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:  # type: ignore[attr-defined]
            self.dismiss()

    def search(self) -> None:
        """Find by what is chosen."""
        now = self._desk.level.now
        if now is None:
            return
        rows = find_faces(now.level, now.scene, self.material.currentData() or "", self.quality.currentData() or "")
        self.list.clear()
        groups = grouped(now.scene, rows)
        for group in groups:
            place = ", ".join(f"{v:.1f}" for v in group.place)
            name = now.level.nodes[group.node].name
            item = QListWidgetItem(f"{name}   {count(group.faces)} faces, {group.area:.2g} m²   at {place}")
            item.setData(Qt.ItemDataRole.UserRole, group)
            item.setToolTip(now.level.nodes[group.node].path)
            self.list.addItem(item)
        asked = self.material.currentData() or self.quality.currentData()
        words = f"{count(len(rows))} faces on {len(groups)} objects" if asked else "Choose a material or a property."
        self.summary.setText(words)
        self.found.emit(rows)

    def _clicked(self, item: QListWidgetItem) -> None:
        group = item.data(Qt.ItemDataRole.UserRole)
        assert isinstance(group, FaceGroup)
        self.go_to.emit(group)
