"""What is selected and what is hidden."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.document import Document
from ropebell.app.level_state import LevelState
from ropebell.app.undoing import Step


class Selection(QObject):
    """Nodes of the level by index; hidden ones by path. A selection follows its objects through new exports.

    Attributes:
        node: the one that is described, −1 for none. chosen: all that are selected.
        hidden: paths that the stage does not draw.

    Signals:
        selected: index of the selected node, −1 for none.
        hidden_changed: other objects are hidden.
    """

    selected = pyqtSignal(int)
    hidden_changed = pyqtSignal()

    def __init__(self, level: LevelState, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._level, self._document = level, document
        self.node = -1
        self.chosen: tuple[int, ...] = ()
        self.hidden: frozenset[str] = frozenset()
        self._names: tuple[str, ...] = ()
        level.opened.connect(self._opened)
        level.rearranged.connect(self._rearranged)

    def _opened(self) -> None:
        assert self._level.now is not None
        self.node, self.chosen, self.hidden = -1, (), frozenset()
        self._names = self._level.now.scene.node_names

    def _rearranged(self) -> None:
        assert self._level.now is not None
        paths = [self._names[i] for i in (self.node, *self.chosen) if 0 <= i < len(self._names)]
        self._names = self._level.now.scene.node_names
        number = {name: i for i, name in enumerate(self._names)}
        kept = [number[path] for path in paths if path in number]
        self.node, self.chosen = kept[0] if kept else -1, tuple(dict.fromkeys(kept))
        self.selected.emit(self.node)

    def select(self, node: int) -> None:
        """Select a node of the level by index, −1 for none."""
        self.select_many((node,) if node >= 0 else ())

    def select_many(self, nodes: tuple[int, ...]) -> None:
        """Select several nodes; the first is the one that is described."""
        first = nodes[0] if nodes else -1
        if nodes != self.chosen or first != self.node:
            self.node, self.chosen = first, nodes
            self.selected.emit(first)

    @property
    def paths(self) -> tuple[str, ...]:
        """Paths of the selected nodes."""
        return tuple(self._names[i] for i in self.chosen if i < len(self._names))

    def hide(self, paths: frozenset[str], title: str = "Hide") -> None:
        """Hide just these objects on the stage, undoably; nothing else changes."""
        before = self.hidden
        if paths != before:
            self._document.undo.push(Step(title, lambda: self._hide(paths), lambda: self._hide(before)))

    def _hide(self, paths: frozenset[str]) -> None:
        self.hidden = paths
        self.hidden_changed.emit()
