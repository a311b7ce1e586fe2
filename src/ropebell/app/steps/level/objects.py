"""The objects of a level as a table that stays quick at tens of thousands of rows."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal

from ropebell.app.words import count, short_count
from ropebell.level.finding import Finding
from ropebell.level.model import AREA_KINDS, LIGHT_KINDS, Level
from ropebell.level.scene import Scene
from ropebell.level.triangles import bounds_by

INVALID = QModelIndex()
ROLE_WORDS = {"baked": "baked", "blocks": "blocks only", "moving": "moving", "left-out": "left out"}
KIND_WORDS = {"directional": "sun", **{kind: kind for kind in ("point", "spot", *AREA_KINDS, "emitter", "mesh")}}
LIGHTS = (*LIGHT_KINDS, *AREA_KINDS)
BAKED = ("baked", "blocks")


@dataclass(frozen=True)
class Row:
    """One object or light.

    Attributes:
        node: index of its node.
        path, name: of the node.
        kind: mesh, emitter, point, spot or directional.
        role: key of `ROLE_WORDS`; mode for lights.
        density: texels per metre over the level's; 0 for lights.
        texels: predicted, 0 for lights.
        triangles: how many, 0 for lights.
        size: largest extent in metres.
        materials: names.
        faults: how many findings name it, and their kinds.
        exception: whether it differs from what a branch above it says.
        casts, receives, pages: for the columns of that name.
    """

    node: int
    path: str
    name: str
    kind: str
    role: str = ""
    density: float = 0.0
    texels: int = 0
    triangles: int = 0
    size: float = 0.0
    materials: str = ""
    faults: tuple[str, ...] = ()
    exception: bool = False
    casts: str = ""
    receives: str = ""
    page: str = ""
    hidden: bool = False
    text: str = ""


def _role_words(row: Row) -> str:
    """The role of an object, and of a light its kind."""
    if row.kind in LIGHTS and not row.role:
        return KIND_WORDS[row.kind]
    return ROLE_WORDS.get(row.role, row.role)


@dataclass(frozen=True)
class Column:
    """A column.

    Attributes:
        show: text of a row. sort: what it is sorted by.
        width: pixels. right: whether it is a number.
    """

    key: str
    title: str
    show: Callable[[Row], str]
    sort: Callable[[Row], object]
    width: int
    right: bool = False
    editable: bool = False


COLUMNS = {
    c.key: c
    for c in (
        Column("name", "Object", lambda r: r.name, lambda r: r.path.lower(), 110),
        Column("kind", "Kind", lambda r: KIND_WORDS[r.kind], lambda r: r.kind, 56),
        Column(
            "role", "Role", lambda r: _role_words(r) + (" *" if r.exception else ""), lambda r: r.role, 76,
            editable=True,
        ),
        Column(
            "density", "Density", lambda r: f"×{r.density:.3g}" if r.density else "", lambda r: r.density, 60, True,
            True,
        ),
        Column(
            "texels", "Texels", lambda r: short_count(r.texels) if r.triangles else "", lambda r: r.texels, 58, True
        ),
        Column("faults", "Faults", lambda r: str(len(r.faults)) if r.faults else "", lambda r: len(r.faults), 46, True),
        Column(
            "triangles", "Triangles", lambda r: count(r.triangles) if r.triangles else "", lambda r: r.triangles, 68,
            True,
        ),
        Column("size", "Size", lambda r: f"{r.size:.2f} m" if r.size else "", lambda r: r.size, 62, True),
        Column("materials", "Material", lambda r: r.materials, lambda r: r.materials, 90),
        Column("casts", "Blocks light", lambda r: r.casts, lambda r: r.casts, 84),
        Column("receives", "Takes shadow", lambda r: r.receives, lambda r: r.receives, 90),
        Column("page", "Page", lambda r: r.page, lambda r: r.page, 44, True),
    )
}  # fmt: skip
# The name is what the table is for: a kind is told by the role, which lights have none of.
USUAL = ("name", "role", "faults")


def rows_of(
    level: Level, scene: Scene, texels_per_metre: float = 10.0, findings: tuple[Finding, ...] = (),
    pages: dict[int, str] | None = None, hidden: frozenset[str] = frozenset(),
) -> list[Row]:  # fmt: skip
    """A row for every node that carries a mesh or a light, lights first."""
    density, texels, counts, sizes = _measures(scene, len(level.nodes), texels_per_metre)
    glowing = {int(scene.node[e.triangles[0]]) for e in scene.emitters if len(e.triangles)}
    materials = _materials(level, scene)
    faults: dict[str, list[str]] = {}
    for finding in findings:
        for path in (finding.object, *finding.also):
            faults.setdefault(path, []).append(finding.kind)
    rows = []
    for index, node in enumerate(level.nodes):
        if node.light < 0 and node.mesh < 0:
            continue
        path = node.path
        found, gone = tuple(faults.get(path, ())), path in hidden
        if node.light >= 0:
            kind = level.lights[node.light].kind
            rows.append(Row(index, path, node.name, kind, faults=found, hidden=gone, text=_text(path, kind, "", gone)))
        if node.mesh >= 0:
            mark, kind = scene.marks.nodes[index], "emitter" if index in glowing else "mesh"
            role = mark.role or "baked"
            rows.append(
                Row(
                    index, path, node.name, kind, role, density[index], texels[index] if role in BAKED else 0,
                    counts[index], sizes[index], materials.get(index, ""), found,
                    mark is not scene.marks.inherited[index] and mark != scene.marks.inherited[index],
                    "yes" if mark.casts else "no", "yes" if mark.receives else "no", (pages or {}).get(index, ""), gone,
                    _text(path, kind, role, gone),
                )
            )  # fmt: skip
    order = {kind: place for place, kind in enumerate(KIND_WORDS)}
    return sorted(rows, key=lambda r: (order[r.kind], r.path))


def _measures(
    scene: Scene, nodes: int, texels_per_metre: float
) -> tuple[list[float], list[int], list[int], list[float]]:  # fmt: skip
    """Of each node: density over the level's, texels, triangles, and size in metres."""
    factor = scene.density(1.0).astype(np.float64)
    area, fine = np.bincount(scene.node, scene.areas, nodes), np.bincount(scene.node, scene.areas * factor**2, nodes)
    low, high = bounds_by(scene.corners, scene.node, nodes)
    density = np.sqrt(np.divide(fine, area, out=np.ones(nodes), where=area > 0))
    texels = np.round(fine * texels_per_metre**2).astype(np.int64)
    sizes = np.nan_to_num(high - low, neginf=0.0).max(axis=1)
    return density.tolist(), texels.tolist(), np.bincount(scene.node, minlength=nodes).tolist(), sizes.tolist()


def _materials(level: Level, scene: Scene) -> dict[int, str]:
    if not len(scene):
        return {}
    pairs = np.unique(scene.node.astype(np.int64) * (len(level.materials) + 1) + scene.material)
    found: dict[int, str] = {}
    for node, material in zip(pairs // (len(level.materials) + 1), pairs % (len(level.materials) + 1)):
        name = level.materials[material].name
        found[int(node)] = f"{found[int(node)]}, {name}" if int(node) in found else name
    return found


def _text(path: str, kind: str, role: str, hidden: bool) -> str:
    light = "light" if kind in LIGHTS else ""
    return f"{path} {kind} {light} {'hidden' if hidden else ''} {ROLE_WORDS.get(role, role)}".lower()


NUMBER = re.compile(r"(texels|size|density|triangles|faults)([<>]=?)([0-9.]+)")
TESTS: dict[str, Callable[[float, float], bool]] = {
    "<": operator.lt, ">": operator.gt, "<=": operator.le, ">=": operator.ge,
}  # fmt: skip


def matching(rows: list[Row], typed: str) -> list[int]:
    """Indices of the rows that fit every typed word.

    A word is looked for in path, kind and role; `material:oak` and `fault:tiny` in that column; `size>2`,
    `texels<8`, `density>1` compare numbers.
    """
    kept = list(range(len(rows)))
    for word in typed.lower().split():
        number = NUMBER.fullmatch(word)
        if number is not None:
            kept = [i for i in kept if _compares(rows[i], number[1], number[2], number[3])]
        elif word.startswith("material:"):
            kept = [i for i in kept if word[9:] in rows[i].materials.lower()]
        elif word.startswith("fault:"):
            kept = [i for i in kept if any(word[6:] in kind for kind in rows[i].faults)]
        else:
            kept = [i for i in kept if word in rows[i].text]
    return kept


def _compares(row: Row, key: str, sign: str, limit: str) -> bool:
    try:
        value = getattr(row, key)
        return TESTS[sign](len(value) if key == "faults" else value, float(limit))
    except ValueError:
        return False


class ObjectModel(QAbstractTableModel):
    """Filtered, sorted rows for a view.

    Signals:
        wanted: column key, value and nodes of an edit that a person made.
    """

    wanted = pyqtSignal(str, object, tuple)

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[Row] = []
        self.columns: list[Column] = [COLUMNS[key] for key in USUAL]
        self.editing: Callable[[], tuple[int, ...]] = lambda: ()
        self._shown: list[int] = []
        self._place: dict[int, int] = {}
        self._typed = ""
        self._sort: tuple[int, bool] | None = None

    def set_rows(self, rows: list[Row]) -> None:
        """Show other rows; filter and order stay."""
        self.rows = rows
        self._refresh()

    def set_columns(self, keys: list[str]) -> None:
        """Show these columns."""
        self.beginResetModel()
        self.columns = [COLUMNS[key] for key in keys if key in COLUMNS] or [COLUMNS["name"]]
        self._sort = None
        self.endResetModel()
        self._refresh()

    def set_text(self, typed: str) -> None:
        """Filter; see `matching`."""
        self._typed = typed
        self._refresh()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sort = (column, order == Qt.SortOrder.DescendingOrder) if column >= 0 else None
        self._refresh()

    def _refresh(self) -> None:
        self.beginResetModel()
        self._shown = matching(self.rows, self._typed)
        if self._sort is not None and self._sort[0] < len(self.columns):
            key = self.columns[self._sort[0]].sort
            self._shown.sort(key=lambda i: key(self.rows[i]), reverse=self._sort[1])  # type: ignore[arg-type, return-value]
        self._place = {self.rows[i].node: at for at, i in enumerate(self._shown)}
        self.endResetModel()

    def at(self, row: int) -> Row:
        """The row shown at a height of the table."""
        return self.rows[self._shown[row]]

    def place_of(self, node: int) -> int:
        """Where a node is shown, −1 if it is filtered out."""
        return self._place.get(node, -1)

    def rowCount(self, parent: QModelIndex = INVALID) -> int:
        return 0 if parent.isValid() else len(self._shown)

    def columnCount(self, parent: QModelIndex = INVALID) -> int:
        return len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.columns[section].title
        return None

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        flags = super().flags(index)
        column, row = self.columns[index.column()], self.at(index.row())
        if column.editable and row.triangles:
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row, column = self.at(index.row()), self.columns[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.show(row)
        if role == Qt.ItemDataRole.EditRole:
            return f"{row.density:g}" if column.key == "density" else row.role
        if role == Qt.ItemDataRole.ToolTipRole:
            star = "\nIt differs from the branch above it." if row.exception and column.key == "role" else ""
            return f"{row.path}{' (hidden)' if row.hidden else ''}{star}"
        if role == Qt.ItemDataRole.ForegroundRole and row.hidden:
            from ropebell.app.palette import THEME

            return THEME.color("second")
        if role == Qt.ItemDataRole.TextAlignmentRole and column.right:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def setData(self, index: QModelIndex, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        """Ask for an edit of every selected row, not only of this one."""
        row, column = self.at(index.row()), self.columns[index.column()]
        nodes = self.editing()
        self.wanted.emit(column.key, value, nodes if row.node in nodes else (row.node,))
        return True
