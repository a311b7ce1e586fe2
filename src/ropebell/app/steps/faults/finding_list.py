"""The faults as a list: the shape of each kind, how bad it is, and whether it is new."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QPainter, QPen
from PyQt6.QtWidgets import (
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)  # fmt: skip

from ropebell.app.fault_shapes import fault_path
from ropebell.app.palette import THEME, font
from ropebell.app.words import lux
from ropebell.faults.over_builds import Seen
from ropebell.faults.run import TITLES
from ropebell.level.finding import Finding, area_words, short_number

FINDING, STATE = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
# Of a kind, so many are listed before the rest is folded away.
ONE_BY_ONE = 3
PENS = {"error": 2.6, "warning": 1.8, "note": 1.1}
UNITS: dict[str, Callable[[float], str]] = {
    "share": lambda v: f"{100 * v:.0f} %", "lux": lux, "m²": area_words, "degrees": lambda v: f"{short_number(v)}°",
    "stops": lambda v: f"{v:.1f} stops", "ratio": lambda v: f"{short_number(v)} times",
    "texels": lambda v: f"{v:.0f} texels",
}  # fmt: skip


def measured(finding: Finding) -> str:
    """How bad it is, in words."""
    if finding.measure is None:
        return ""
    value, unit = finding.measure
    if unit == "count":
        return ""
    said = UNITS[unit](value) if unit in UNITS else f"{short_number(value, 3)} {unit}"
    if finding.area and unit != "m²":
        said += f" on {area_words(finding.area)}"
    return said


class FaultDelegate(QStyledItemDelegate):
    """Two lines a fault."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        assert painter is not None
        data: Callable[[int], object] = index.data  # type: ignore[attr-defined]
        finding, state = data(FINDING), str(data(STATE))
        r = option.rect
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not isinstance(finding, Finding):
            painter.setPen(THEME.color("second"))
            painter.setFont(font(12, QFont.Weight.DemiBold))
            text = str(data(Qt.ItemDataRole.DisplayRole))
            painter.drawText(r.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
            painter.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(r, THEME.color("raised"))
        new = state == "new"
        color = THEME.color("accent" if new else "second" if state in ("known", "gone") else "text")
        painter.setPen(QPen(color, PENS[finding.severity], cap=Qt.PenCapStyle.RoundCap))
        painter.drawPath(fault_path(finding.kind).translated(QPointF(r.left() + 16, r.center().y())))
        right = {"new": "new", "still": "still", "known": "known", "gone": "mended", "away": "gone"}[state]
        painter.setFont(font(11))
        painter.setPen(THEME.color("accent") if new else THEME.color("second"))
        place = QRect(r.right() - 52, r.top() + 6, 46, 16)
        painter.drawText(place, Qt.AlignmentFlag.AlignRight, right)
        painter.setPen(THEME.color("text"))
        painter.setFont(font(13, QFont.Weight.DemiBold))
        head = f"{TITLES.get(finding.kind, finding.kind)}"
        wide = r.width() - 96
        shown = painter.fontMetrics().elidedText(head, Qt.TextElideMode.ElideRight, wide)
        painter.drawText(r.adjusted(34, 5, 0, 0), 0, shown)
        painter.setFont(font(12))
        painter.setPen(THEME.color("second"))
        name = finding.object.rsplit("/", 1)[-1] or "the level"
        below = ", ".join(part for part in (name, measured(finding)) if part)
        shown = painter.fontMetrics().elidedText(below, Qt.TextElideMode.ElideRight, r.width() - 42)
        painter.drawText(r.adjusted(34, 23, 0, 0), 0, shown)
        painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: object) -> QSize:
        return QSize(200, 44 if isinstance(index.data(FINDING), Finding) else 28)  # type: ignore[attr-defined]


class FaultList(QListWidget):
    """What is found, new ones first, with groups that fold away.

    Signals:
        chosen: a `Finding` by the person's hand, or None.
    """

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Faults of this build")
        self.setItemDelegate(FaultDelegate(self))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self._open: set[str] = set()
        self._groups: list[tuple[str, list[tuple[Finding, str]]]] = []
        self._seen = Seen((), (), ())
        self.itemClicked.connect(self._clicked)
        self.currentItemChanged.connect(lambda now, _: self._moved(now))

    def show_seen(self, seen: Seen, chosen: Finding | None) -> None:
        """Show what is found."""
        self._seen = seen
        self.blockSignals(True)
        self.clear()
        self._groups = []
        weight = [(f, s) for f, s in seen.found if s != "known" and f.severity != "note"]
        self._shown_by_kind(weight)
        self._group("Slight", [(f, s) for f, s in seen.found if s != "known" and f.severity == "note"])
        self._group("Known here", [(f, s) for f, s in seen.found if s == "known"])
        self._group(
            "Gone since the build before", [(f, "gone") for f in seen.gone] + [(f, "away") for f in seen.taken_away]
        )
        self.select(chosen)
        self.blockSignals(False)

    def _shown_by_kind(self, found: list[tuple[Finding, str]]) -> None:
        """New ones first; of a kind that is all over the level the worst, and the rest folded away."""
        order = {"new": 0, "still": 1}
        by_kind: dict[str, list[tuple[Finding, str]]] = {}
        for pair in sorted(found, key=lambda pair: order[pair[1]]):
            by_kind.setdefault(pair[0].kind, []).append(pair)
        for kind, many in by_kind.items():
            first = many if len(many) <= ONE_BY_ONE + 1 else many[:ONE_BY_ONE]
            for finding, state in first:
                self._add(finding, state)
            self._group(f"More of {TITLES.get(kind, kind).lower()}", many[len(first) :])

    def _group(self, title: str, found: list[tuple[Finding, str]]) -> None:
        if not found:
            return
        self._groups.append((title, found))
        head = QListWidgetItem(f"{'▾' if title in self._open else '▸'}  {title}   {len(found)}")
        head.setData(STATE, title)
        head.setFlags(Qt.ItemFlag.ItemIsEnabled)
        self.addItem(head)
        for finding, state in found if title in self._open else ():
            self._add(finding, state)

    def _add(self, finding: Finding, state: str) -> None:
        item = QListWidgetItem(TITLES.get(finding.kind, finding.kind))
        item.setData(FINDING, finding)
        item.setData(STATE, state)
        item.setToolTip(finding.reason)
        self.addItem(item)

    def select(self, finding: Finding | None) -> None:
        """Mark a finding as chosen, without telling."""
        if finding is not None and not any(self._is(row, finding) for row in range(self.count())):
            # It lies in a group that is folded away.
            for title, found in self._groups:
                if any(f == finding for f, _ in found) and title not in self._open:
                    self._open.add(title)
                    self.show_seen(self._seen, finding)
                    return
        for row in range(self.count()):
            item = self.item(row)
            if item is not None and finding is not None and item.data(FINDING) == finding:
                self.setCurrentRow(row)
                return
        self.setCurrentRow(-1)

    def _is(self, row: int, finding: Finding) -> bool:
        item = self.item(row)
        return item is not None and item.data(FINDING) == finding

    def _clicked(self, item: QListWidgetItem) -> None:
        if item.data(FINDING) is None:
            title = str(item.data(STATE))
            self._open ^= {title}
            self.show_seen(self._seen, None)
            return
        self.chosen.emit(item.data(FINDING))

    def _moved(self, now: QListWidgetItem | None) -> None:
        if now is not None and now.data(FINDING) is not None and self.hasFocus():
            self.chosen.emit(now.data(FINDING))
