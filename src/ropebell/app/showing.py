"""What is shown and what is hidden, by selection, kind or group. Hidden things stay in the table and in the build."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QObject

from ropebell.app.state import State
from ropebell.checks.remedies import with_marks
from ropebell.level.emitter_table import looks_lit


class Showing(QObject):
    """Acts on the session's hidden objects."""

    def __init__(self, state: State, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state = state

    def _meshes(self) -> list[str]:
        now = self._state.level.now
        return [n.path for n in now.level.nodes if n.mesh >= 0] if now is not None else []

    def groups(self) -> list[str]:
        """Names of the top groups that hold objects."""
        return list(dict.fromkeys(path.split("/")[0] for path in self._meshes()))

    def hide_selected(self) -> None:
        """Hide what is selected."""
        self._state.selection.hide(self._state.selection.hidden | set(self._state.selection.paths))

    def only_selected(self) -> None:
        """Hide all but what is selected; once more shows everything."""
        chosen = set(self._state.selection.paths)
        alone = frozenset(p for p in self._meshes() if p not in chosen)
        self._state.selection.hide(frozenset() if alone == self._state.selection.hidden else alone)

    def only(self, paths: set[str]) -> None:
        """Hide all but these."""
        self._state.selection.hide(frozenset(p for p in self._meshes() if p not in paths))

    def everything(self) -> None:
        """Show everything."""
        self._state.selection.hide(frozenset())

    def toggle_group(self, group: str) -> None:
        """Hide a group, or show it again."""
        mine = {p for p in self._meshes() if p.split("/")[0] == group}
        hidden = self._state.selection.hidden
        self._state.selection.hide(hidden - mine if mine <= hidden else hidden | mine)

    def is_shown(self, group: str) -> bool:
        """Whether anything of a group is shown."""
        return any(p.split("/")[0] == group and p not in self._state.selection.hidden for p in self._meshes())

    def _lit(self) -> set[str]:
        """Objects that look lit, fixtures included."""
        now = self._state.level.now
        if now is None:
            return set()
        lit = np.array([looks_lit(now.level, i) for i in range(len(now.level.materials))] + [False], dtype=bool)
        names = {now.scene.node_names[n] for n in np.unique(now.scene.node[lit[now.scene.material]])}
        fixtures = {c.fixture for c in now.project.brief.lights.values() if c.fixture}
        return names | fixtures

    def only_lights(self) -> None:
        """Show only what looks lit; lights themselves are drawn as marks on the Lights step."""
        lit = self._lit()
        self._state.selection.hide(frozenset(p for p in self._meshes() if p not in lit))

    def all_but_lights(self) -> None:
        """Hide what looks lit."""
        self._state.selection.hide(frozenset(self._lit()))

    def select_branch(self) -> None:
        """Select everything that shares the selection's parent."""
        now, node = self._state.level.now, self._state.selection.node
        if now is None or node < 0:
            return
        parent = now.level.nodes[node].parent
        prefix = now.level.nodes[parent].path + "/" if parent >= 0 else ""
        nodes = [
            i for i, n in enumerate(now.level.nodes) if n.path.startswith(prefix) and (n.mesh >= 0 or n.light >= 0)
        ]
        self._state.selection.select_many((node, *(n for n in nodes if n != node)))

    def toggle_guard(self) -> None:
        """No edits on the selection, or edits again."""
        paths, now = self._state.selection.paths, self._state.level.now
        if now is None:
            return
        guarded = all(
            now.scene.marks.nodes[n].guard for n in self._state.selection.chosen if n < len(now.scene.marks.nodes)
        )
        title = "Free the selection" if guarded else "Guard the selection"
        self._state.document.edit_brief(title, lambda b: with_marks(b, paths, "guard", None if guarded else True))

    def toggle_level_guard(self) -> None:
        """No edits at all, or edits again."""
        self._state.document.edit_brief("Guard the level", lambda b: replace(b, guard=not b.guard))
