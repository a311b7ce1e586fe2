"""The marks of what is selected: what bakes, how finely, in which pose; for one, for many, or for a branch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QLineEdit, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, Triple, TunedNumber, common, number
from ropebell.app.parts import VARIOUS, Fold, button, combo, label, pair, rows_in, show_choice
from ropebell.app.steps.level.objects import ROLE_WORDS
from ropebell.checks.remedies import with_marks
from ropebell.level.brief import NO_MARK, SWITCHES, Brief, Mark, Move, Pose

SHOWN_SWITCHES = ("casts", "receives", "bounces", "two_sided", "removable", "blocks_sight", "work", "guard")


class MarksPanel(QWidget):
    """Shows the first selected object's marks in force and sets them for all selected, or for a branch."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        rows = rows_in(self, 6)
        self.target = combo("Marks apply to")
        self.role = combo("Role")
        for key, words in ROLE_WORDS.items():
            self.role.addItem(words, key)
        rows.addWidget(pair(label("For", "second", wrap=False), self.target, stretch=1))
        self.clear = button("As above", "flat", "Clear the marks of this")
        rows.addWidget(pair(label("Role", wrap=False), self.role, self.clear, stretch=1))
        self.exceptions = label("", "accent")
        rows.addWidget(self.exceptions)
        self._add_switches(rows)
        self._add_density(rows)
        self._add_pose(rows)
        self._add_place(rows)
        self.note = QLineEdit()
        self._note: str | None = ""
        self.note.setPlaceholderText("Note")
        self.note.setAccessibleName("Note on this object")
        rows.addWidget(self.note)
        self.target.currentIndexChanged.connect(lambda _: self.refresh())
        self.role.activated.connect(lambda _: self._set("role", self.role.currentData()))
        self.clear.clicked.connect(self._clear)
        self.note.editingFinished.connect(self._set_note)

    def _add_switches(self, rows: QVBoxLayout) -> None:
        self.switches: dict[str, QCheckBox] = {}
        self.switch_fold = Fold("Switches")
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        for index, key in enumerate(SHOWN_SWITCHES):
            box = QCheckBox(SWITCHES[key])
            box.clicked.connect(lambda on, key=key: self._set(key, bool(on)))
            self.switches[key] = box
            grid.addWidget(box, index // 2, index % 2)
        self.switch_fold.rows.addLayout(grid)
        rows.addWidget(self.switch_fold)

    def _add_density(self, rows: QVBoxLayout) -> None:
        self.density_fold = Fold("Density")
        self.density = TunedNumber("Factor", "×", Scale(1 / 16, 16, 64, 3))
        self.material = combo("Material for the bias")
        self.bias = number("Bias of this material", 0.01, 64, 3)
        self.density_fold.rows.addWidget(self.density)
        self.density_fold.rows.addWidget(pair(label("Bias", wrap=False), self.material, self.bias, stretch=1))
        rows.addWidget(self.density_fold)
        self.density.changed.connect(self._set_density)
        self.bias.valueChanged.connect(self._set_bias)
        self.material.activated.connect(lambda _: self.refresh())

    def _add_pose(self, rows: QVBoxLayout) -> None:
        self.pose_fold = Fold("Poses")
        self.pose, self.usual = combo("Pose that is built"), combo("Pose that players mostly see")
        self.new_pose = QLineEdit()
        self.new_pose.setPlaceholderText("Name of a new pose")
        self.new_pose.setAccessibleName("Name of a new pose")
        self.pose_shift = Triple("Pose shift in metres", "XYZ", -1e4, 1e4, 2)
        self.absent = QCheckBox("Not there at all in this pose")
        for words, widget in (("Build", self.pose), ("Usual", self.usual)):
            self.pose_fold.rows.addWidget(pair(label(words, wrap=False), widget, stretch=1))
        self.pose_fold.rows.addWidget(self.pose_shift)
        self.pose_fold.rows.addWidget(self.absent)
        self.pose_fold.rows.addWidget(self.new_pose)
        rows.addWidget(self.pose_fold)
        self.pose.activated.connect(lambda _: self._set("pose", self.pose.currentData()))
        self.usual.activated.connect(lambda _: self._set("usual", self.usual.currentData()))
        self.new_pose.returnPressed.connect(self._add_new_pose)
        self.pose_shift.changed.connect(self._shift_pose)
        self.absent.clicked.connect(self._set_absent)

    def _add_place(self, rows: QVBoxLayout) -> None:
        self.place_fold = Fold("Small edits")
        self.shift = Triple("Shift in metres", "XYZ", -1e4, 1e4, 3)
        self.turn = Triple("Turn in degrees", "XYZ", -360, 360, 2)
        self.scale = number("Size", 0.01, 64, 3)
        self.stretch = Triple("Stretch along its own axes", "XYZ", 0.01, 64, 3)
        for words, widget in (("Shift, m", self.shift), ("Turn, °", self.turn), ("Stretch ×", self.stretch)):
            self.place_fold.rows.addWidget(label(words, "second"))
            self.place_fold.rows.addWidget(widget)
        self.place_fold.rows.addWidget(pair(label("Size ×", wrap=False), self.scale))
        rows.addWidget(self.place_fold)
        for key, field in (("move", self.shift), ("turn", self.turn), ("stretch", self.stretch)):
            field.part_changed.connect(lambda part, value, key=key: self._set_move(key, value, part))
        self.scale.valueChanged.connect(lambda value: self._set_move("scale", value))

    # -- showing

    def refresh(self) -> None:
        """Show the selection as it is now."""
        s, now = self._desk, self._desk.level.now
        node = s.selection.node
        if now is None or node < 0 or node >= len(now.scene.marks.nodes):
            return
        self._fill_targets(node)
        branch = self._branch()
        mark = now.scene.marks.nodes[node]
        if branch is not None:
            mark = now.project.brief.branches.get(branch, NO_MARK).over(now.scene.marks.inherited[self._number(branch)])
        marks = [now.scene.marks.nodes[n] for n in s.selection.chosen if n < len(now.scene.marks.nodes)]
        if branch is not None or not marks:
            marks = [mark]
        show_choice(self.role, [m.role or "baked" for m in marks])
        for key, box in self.switches.items():
            values = {bool(self._switch(m, n, key)) for m, n in zip(marks, s.selection.chosen)}
            box.setTristate(len(values) > 1)
            state = Qt.CheckState.Checked if self._switch(mark, node, key) else Qt.CheckState.Unchecked
            box.setCheckState(Qt.CheckState.PartiallyChecked if len(values) > 1 and branch is None else state)
        changed = [SWITCHES[k].lower() for k in SHOWN_SWITCHES if getattr(mark, k) not in (None, DEFAULTS[k])]
        self.switch_fold.set_summary(", ".join(changed[:2]) + (" …" if len(changed) > 2 else ""))
        self._show_density(node, marks)
        self._show_pose(marks)
        moves = [now.project.brief.moves.get(path, Move()) for path in s.selection.paths] or [Move()]
        self.shift.show_values(*(m.move for m in moves))
        self.turn.show_values(*(m.turn for m in moves))
        self.stretch.show_values(*(m.stretch for m in moves))
        self.scale.show_number(common(m.scale for m in moves))
        self.place_fold.set_summary("edited" if any(m != Move() for m in moves) else "")
        if not self.note.hasFocus():
            self._note = common(m.note or "" for m in marks)
            self.note.setText(self._note or "")
            self.note.setPlaceholderText("Note" if self._note is not None else "various notes")
        self._show_exceptions(branch)

    def _switch(self, mark: Mark, node: int, key: str) -> bool:
        value = getattr(mark, key)
        if value is None and key == "two_sided":
            now = self._desk.level.now
            assert now is not None
            rows = now.scene.node == node
            return bool(now.scene.double_sided[rows].any())
        return bool(value)

    def _fill_targets(self, node: int) -> None:
        now, chosen = self._desk.level.now, self._desk.selection.chosen
        assert now is not None
        path = now.level.nodes[node].path
        many = len(chosen) > 1
        wanted: list[tuple[str, str]] = [(f"the {len(chosen)} selected" if many else "this one only", "")]
        parent = now.level.nodes[node].parent
        if any(n.parent == node for n in now.level.nodes):
            wanted.append((f"{path} and everything below it", path))
        while parent >= 0:
            above = now.level.nodes[parent]
            wanted.append((f"everything below {above.path}", above.path))
            parent = above.parent
        have = [(self.target.itemText(i), self.target.itemData(i)) for i in range(self.target.count())]
        if have != wanted:
            self.target.blockSignals(True)
            self.target.clear()
            for words, data in wanted:
                self.target.addItem(words, data)
            self.target.blockSignals(False)

    def _show_density(self, node: int, marks: Sequence[Mark]) -> None:
        now, mark = self._desk.level.now, marks[0]
        assert now is not None
        asked = sorted({now.project.recipe.texels_per_metre * (m.density or 1.0) for m in marks})
        words = " to ".join(f"{a:.3g}" for a in dict.fromkeys((asked[0], asked[-1])))
        factor = common(m.density or 1.0 for m in marks)
        self.density.show_value(factor, f"{words} texels/m at this recipe and draft")
        names = sorted({now.level.materials[m].name for m in now.scene.material[now.scene.node == node]})
        if [self.material.itemText(i) for i in range(self.material.count())] != names:
            self.material.clear()
            self.material.addItems(names)
        self.bias.show_number(common(m.bias.get(self.material.currentText(), 1.0) for m in marks))
        bias = [f"×{v:g} {k}" for k, v in mark.bias.items() if v != 1.0]
        parts = [VARIOUS if factor is None else f"×{factor:g}"] if factor != 1.0 else []
        self.density_fold.set_summary(", ".join(parts + bias))

    def _show_pose(self, marks: Sequence[Mark]) -> None:
        mark = marks[0]
        for box, now in ((self.pose, [m.pose for m in marks]), (self.usual, [m.usual for m in marks])):
            box.clear()
            box.addItem("as in the level", None)
            for name in mark.poses:
                box.addItem(name, name)
            show_choice(box, now)
        pose = mark.poses.get(mark.pose or "")
        self.pose_shift.setVisible(pose is not None)
        self.absent.setVisible(pose is not None)
        if pose is not None:
            self.pose_shift.show_values(pose.move)
            self.absent.setChecked(pose.absent)
        self.pose_fold.set_summary(mark.pose or "")

    def _show_exceptions(self, branch: str | None) -> None:
        now = self._desk.level.now
        assert now is not None
        found = now.scene.marks.exceptions(now.level, now.project.brief, branch) if branch else []
        names = sorted({path.rsplit("/", 1)[-1] for path, _ in found})
        text = f"{len(names)} below differ: {', '.join(names[:4])}{' …' if len(names) > 4 else ''}" if names else ""
        self.exceptions.setText(text)
        self.exceptions.setVisible(bool(text))

    # -- setting

    def _branch(self) -> str | None:
        return self.target.currentData() or None

    def _number(self, path: str) -> int:
        now = self._desk.level.now
        assert now is not None
        return next(i for i, n in enumerate(now.level.nodes) if n.path == path)

    def _paths(self) -> tuple[str, ...]:
        branch = self._branch()
        return (branch,) if branch is not None else self._desk.selection.paths

    def _where(self) -> str:
        branch, paths = self._branch(), self._desk.selection.paths
        if branch is not None:
            return f"all below {branch}"
        return paths[0].rsplit("/", 1)[-1] if len(paths) == 1 else f"{len(paths)} objects"

    def _set(self, key: str, value: Any, gesture: str = "") -> None:
        paths, below = self._paths(), self._branch() is not None
        title = f"{SWITCHES.get(key, key.capitalize())} of {self._where()}"
        self._desk.document.edit_brief(title, lambda b: with_marks(b, paths, key, value, below), gesture)

    def _set_density(self, value: float, gesture: str) -> None:
        self._set("density", min(max(value, 1e-3), 64.0), f"density {self._paths()} {gesture}")

    def _set_bias(self, value: float) -> None:
        material, paths = self.material.currentText(), self._paths()
        if not material:
            return

        def change(brief: Brief) -> Brief:
            for path in paths:
                own = brief.marks.get(path, NO_MARK).bias
                bias = {k: v for k, v in own.items() if k != material}
                brief = with_marks(brief, (path,), "bias", {**bias, material: value} if value != 1.0 else bias)
            return brief

        self._desk.document.edit_brief(f"Bias of {material}", change)

    def _poses(self, change: Any) -> None:
        paths = self._desk.selection.paths[:1]
        now = self._desk.level.now
        if not paths or now is None:
            return
        own = now.project.brief.marks.get(paths[0], NO_MARK)
        self._desk.document.edit_brief(
            f"Poses of {paths[0].rsplit('/', 1)[-1]}",
            lambda b: replace(b, marks={**b.marks, paths[0]: change(own)}),
        )

    def _add_new_pose(self) -> None:
        name = self.new_pose.text().strip()
        if name:
            self.new_pose.clear()
            self._poses(lambda mark: replace(mark, poses={**mark.poses, name: Pose()}, pose=name))

    def _change_pose(self, **values: Any) -> None:
        name = self.pose.currentData()
        if name:
            self._poses(
                lambda m: replace(m, poses={**m.poses, name: replace(m.poses.get(name, Pose()), **values)}, pose=name)
            )

    def _shift_pose(self, values: tuple[float, float, float]) -> None:
        self._change_pose(move=values)

    def _set_absent(self, on: bool) -> None:
        self._change_pose(absent=on)

    def _set_move(self, key: str, value: float, part: int = -1) -> None:
        """Set one number of the small edits of all selected; whatever else each of them has stays its own."""
        paths = self._desk.selection.paths

        def moved(before: Move) -> Move:
            values: Any = getattr(before, key)
            changed: dict[str, Any] = {key: value if part < 0 else (*values[:part], value, *values[part + 1 :])}
            return replace(before, **changed)

        def change(brief: Brief) -> Brief:
            moves = {**brief.moves, **{path: moved(brief.moves.get(path, Move())) for path in paths}}
            return replace(brief, moves={path: move for path, move in moves.items() if move != Move()})

        self._desk.document.edit_brief(f"Move {self._where()}", change)

    def _set_note(self) -> None:
        text = self.note.text().strip()
        # Of various notes none is lost because the field that says so was left as it was.
        if self._desk.selection.node >= 0 and text != (self._note or ""):
            self._set("note", text or None)

    def _clear(self) -> None:
        paths, below = self._paths(), self._branch() is not None

        def change(brief: Brief) -> Brief:
            table = brief.branches if below else brief.marks
            kept = {k: v for k, v in table.items() if k not in paths}
            moves = {k: v for k, v in brief.moves.items() if k not in paths}
            return replace(brief, branches=kept) if below else replace(brief, marks=kept, moves=moves)

        self._desk.document.edit_brief(f"Clear the marks of {self._where()}", change)


DEFAULTS = {
    "casts": True, "receives": True, "bounces": True, "two_sided": None, "removable": False, "blocks_sight": True,
    "work": False, "guard": False,
}  # fmt: skip
