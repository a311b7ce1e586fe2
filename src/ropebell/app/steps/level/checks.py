"""Findings before a build: what is new, what is open, what is known here; where, why, and what to do."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QPainter, QPen
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.desk import Desk
from ropebell.app.palette import THEME, font
from ropebell.app.parts import LIST_WIDTH, button, fit, label, rows_in
from ropebell.checks.remedies import act, alternatives, spoils
from ropebell.checks.run import TITLES
from ropebell.level.finding import Finding

FINDING, GROUP = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
WEIGHTS = {"error": "must", "warning": "harm", "note": "risk"}


def title_of(kind: str) -> str:
    """A kind of finding in words."""
    return TITLES.get(kind, kind.replace("-", " ").capitalize())


class FindingDelegate(QStyledItemDelegate):
    """Two lines a finding: what and where; a mark whose weight is the severity."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: object) -> None:
        assert painter is not None
        data: Callable[[int], object] = index.data  # type: ignore[attr-defined]
        finding, group = data(FINDING), data(GROUP)
        painter.save()
        r = option.rect
        if finding is None:
            painter.setPen(THEME.color("second"))
            painter.setFont(font(12, QFont.Weight.DemiBold))
            painter.drawText(
                r.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, str(data(Qt.ItemDataRole.DisplayRole))
            )
            painter.restore()
            return
        assert isinstance(finding, Finding)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(r, THEME.color("raised"))
        self._mark(painter, r, finding.severity, group == "new")
        right = 48 if group == "new" else 6
        painter.setPen(THEME.color("text"))
        painter.setFont(font(13, QFont.Weight.DemiBold))
        metrics = painter.fontMetrics()
        wide = r.width() - 34 - right
        name = finding.object.rsplit("/", 1)[-1]
        head = title_of(finding.kind)
        painter.drawText(r.adjusted(30, 5, -right, 0), 0, metrics.elidedText(head, Qt.TextElideMode.ElideRight, wide))
        painter.setFont(font(12))
        painter.setPen(THEME.color("second"))
        below = name + (f" and {len(finding.also)} more" if finding.also else "") if name else finding.reason
        elided = painter.fontMetrics().elidedText(below, Qt.TextElideMode.ElideRight, r.width() - 40)
        painter.drawText(r.adjusted(30, 22, -6, 0), 0, elided)
        if group == "new":
            painter.setPen(THEME.color("accent"))
            painter.drawText(QRect(r.right() - 40, r.top() + 5, 34, 16), Qt.AlignmentFlag.AlignRight, "new")
        painter.restore()

    @staticmethod
    def _mark(painter: QPainter, r: QRect, severity: str, new: bool) -> None:
        """A bar that is the heavier the graver: full and wide, narrow, or an outline."""
        color = THEME.color("accent") if new else THEME.color("text")
        box = QRect(r.left() + 10, r.top() + 9, 10, 22)
        painter.setPen(QPen(color, 1.4))
        if severity == "error":
            painter.fillRect(box, color)
        elif severity == "warning":
            painter.fillRect(box.adjusted(3, 0, -3, 0), color)
        else:
            painter.drawRect(box.adjusted(3, 6, -3, -6))

    def sizeHint(self, option: QStyleOptionViewItem, index: object) -> QSize:
        finding = index.data(FINDING)  # type: ignore[attr-defined]
        return QSize(200, 28 if finding is None else 42)


class ChecksPanel(QWidget):
    """The findings, and all about the one that is chosen.

    Signals:
        go_to: a place and an object to look at.
    """

    go_to = pyqtSignal(object)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        rows = rows_in(self)
        self.summary = label("", "second")
        self.list = QListWidget()
        self.list.setAccessibleName("Findings before a build")
        self.list.setItemDelegate(FindingDelegate(self.list))
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setUniformItemSizes(False)
        self.seen = button("All seen", "flat", "From here on, only later findings are new")
        top = QHBoxLayout()
        top.addWidget(self.summary, 1)
        top.addWidget(self.seen)
        rows.addLayout(top)
        rows.addWidget(self.list, 1)
        self._add_details(rows)
        self._risks_open = False
        self.list.currentItemChanged.connect(lambda *_: self._chosen())
        self.list.itemClicked.connect(self._clicked)
        self.seen.clicked.connect(desk.findings.remember)
        desk.findings.checked.connect(self.refresh)
        desk.level.opened.connect(self.refresh)

    def _add_details(self, rows: QVBoxLayout) -> None:
        self.card = QFrame()
        self.card.setProperty("role", "note")
        inside = QVBoxLayout(self.card)
        inside.setContentsMargins(12, 10, 12, 10)
        inside.setSpacing(6)
        inside.setSizeConstraint(QVBoxLayout.SizeConstraint.SetMinimumSize)
        self.head, self.reason, self.advice = label("", "heading"), label(""), label("", "second")
        for widget in (self.head, self.reason, self.advice):
            inside.addWidget(widget)
        self.fix = button("", "main", "Apply the remedy")
        self.other = button("", "", "The other thing that can be done about it")
        self.known = button("Known here", "", "Accept this finding with a note")
        # What a remedy does takes up to five words: it gets a line of its own.
        inside.addWidget(self.fix, 0, Qt.AlignmentFlag.AlignLeft)
        line = QHBoxLayout()
        line.addWidget(self.other)
        line.addWidget(self.known)
        line.addStretch(1)
        inside.addLayout(line)
        self.note = QLineEdit()
        self.note.setPlaceholderText("Why it is fine here, then Enter")
        self.note.setAccessibleName("Why this finding is fine here")
        self.note.hide()
        inside.addWidget(self.note)
        rows.addWidget(self.card)
        self.card.hide()
        self.fix.clicked.connect(lambda: self._apply(self.finding()))
        self.other.clicked.connect(self._apply_other)
        self.known.clicked.connect(self._ask_note)
        self.note.returnPressed.connect(self._accept)

    def refresh(self) -> None:
        """Show the findings as they are now; the chosen one stays."""
        found, before = self._desk.findings.now, self.finding()
        self.list.blockSignals(True)
        self.list.clear()
        weight = [f for f in (*found.new, *found.old) if f.severity != "note"]
        risks = [f for f in found.old if f.severity == "note"]
        self._group("", "new", list(found.new))
        self._group("", "old", [f for f in found.old if f.severity != "note"])
        self._group(f"Risks, no harm by themselves   {len(risks)}", "risk", risks, self._risks_open)
        self._group(f"Known here   {len(found.known)}", "known", list(found.known))
        self.list.blockSignals(False)
        errors = sum(f.severity == "error" for f in weight)
        gone = f", {len(found.gone)} gone since the last look" if found.gone else ""
        new = f", {len(found.new)} new" if found.new else ""
        must = f", {errors} of them cannot be right" if errors else ""
        words = (
            f"{len(weight)} can harm the light{must}{new}{gone}." if weight else f"Nothing that harms the light{gone}."
        )
        self.summary.setText(words)
        self._select(before.key if before is not None else "")
        self._chosen()

    def _group(self, title: str, group: str, found: list[Finding], open_: bool = True) -> None:
        if not found:
            return
        if title:
            head = QListWidgetItem(f"{'▾' if open_ else '▸'}  {title}")
            head.setData(GROUP, group)
            head.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.list.addItem(head)
        for finding in found if open_ else ():
            item = QListWidgetItem(title_of(finding.kind))
            item.setData(FINDING, finding)
            item.setData(GROUP, group)
            item.setToolTip(finding.reason)
            self.list.addItem(item)

    def _select(self, key: str) -> None:
        for row in range(self.list.count()):
            item = self.list.item(row)
            finding = item.data(FINDING) if item is not None else None
            if finding is not None and finding.key == key:
                self.list.setCurrentRow(row)
                return

    def finding(self) -> Finding | None:
        """The chosen finding."""
        item = self.list.currentItem()
        return item.data(FINDING) if item is not None else None

    def _chosen(self) -> None:
        finding = self.finding()
        self.card.setVisible(finding is not None)
        self.note.hide()
        if finding is None:
            return
        brief = self._desk.level.now.project.brief if self._desk.level.now is not None else None
        note = brief.known.get(finding.key, "") if brief is not None else ""
        self.head.setText(title_of(finding.kind))
        place = "" if finding.place is None else "  at " + ", ".join(f"{v:.1f}" for v in finding.place)
        self.reason.setText(finding.reason)
        self.advice.setText(f"{finding.object or 'The level'}{place}." + (f" Known here: {note}." if note else ""))
        self.known.setText("No longer known" if note else "Known here")
        self.fix.setText(act(finding))
        self.fix.setToolTip(finding.remedy)
        self.fix.setVisible(bool(finding.fix))
        other = next(iter(alternatives(finding)), None)
        self.other.setVisible(other is not None)
        self.other.setText(act(other) if other is not None else "")
        self.other.setToolTip(spoils(other) if other is not None else "")
        if finding.remedy != act(finding):
            self.advice.setText(f"{self.advice.text()} {finding.remedy}.")
        for text in (self.reason, self.advice):
            fit(text, max(self.width(), LIST_WIDTH) - 26)
        # Now, not at the next event: the card must not stick out of the bench for a moment.
        for box in (self.card.layout(), self.layout()):
            if box is not None:
                box.invalidate()
                box.activate()

    def _clicked(self, item: QListWidgetItem) -> None:
        finding = item.data(FINDING)
        if finding is None:
            if item.data(GROUP) == "risk":
                self._risks_open = not self._risks_open
                self.refresh()
            return
        self.go_to.emit(finding)

    def _apply(self, finding: Finding | None) -> None:
        if finding is not None:
            self._desk.findings.remedy(finding)

    def _apply_other(self) -> None:
        finding = self.finding()
        self._apply(next(iter(alternatives(finding)), None) if finding is not None else None)

    def _ask_note(self) -> None:
        finding, now = self.finding(), self._desk.level.now
        if finding is None or now is None:
            return
        if finding.key in now.project.brief.known:
            self._desk.findings.know(finding, "")
            return
        self.note.clear()
        self.note.show()
        self.note.setFocus()

    def _accept(self) -> None:
        finding = self.finding()
        if finding is not None:
            self._desk.findings.know(finding, self.note.text().strip() or "fine here")
