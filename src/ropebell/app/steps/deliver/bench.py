"""The Deliver bench: what speaks against handing a build over, what goes along, and whether another machine agrees."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import number
from ropebell.app.parts import LIST_WIDTH, button, fit, label, pair, rule, scrolled_column
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.steps.deliver.delivering import Delivering, grouped
from ropebell.app.words import megabytes, short_count
from ropebell.deliver.objections import FIRM, page_bytes, title_of
from ropebell.level.finding import Finding

# Of several findings of one kind so many are told.
TOLD = 2
MOST_MB = 100_000.0
# What another build settles.
BUILT_AGAIN = ("draft", "part-build", "changed-since")
ABOUT = (
    "A package holds expected.json: light at 400 places, with tolerances. "
    "Hold this build against such numbers of another machine or version."
)


class DeliverBench(QWidget):
    """The panel."""

    def __init__(self, desk: Desk, state: Delivering) -> None:
        super().__init__()
        self._desk, self.state = desk, state
        rows = scrolled_column(self)
        rows.addWidget(label("Deliver", "title"))
        self.words, self.facts = label(""), label("", "second")
        rows.addWidget(self.words)
        rows.addWidget(self.facts)
        self.write, self.show_it = button("Write a package …", "main"), button("Show it", "flat")
        self.outcome = label("")
        rows.addWidget(self.write)
        rows.addWidget(self.outcome)
        rows.addWidget(self.show_it, 0, Qt.AlignmentFlag.AlignLeft)
        rows.addWidget(label("What speaks against it", "heading"))
        self.against = QWidget()
        self.against_rows = QVBoxLayout(self.against)
        self.against_rows.setContentsMargins(0, 0, 0, 0)
        self.against_rows.setSpacing(6)
        rows.addWidget(self.against)
        self.most = number("Most megabytes of pages", 0.0, MOST_MB, 2, 90)
        self.most.setSpecialValueText("any")
        self.most.setSuffix(" MB")
        rows.addWidget(pair(label("Pages may take", wrap=False), self.most, QWidget(), stretch=2))
        rows.addWidget(rule())
        rows.addWidget(label("What goes along", "heading"))
        self.along = label("", "second")
        rows.addWidget(self.along)
        rows.addWidget(rule())
        rows.addWidget(label("Does another machine agree?", "heading"))
        self.about = label(ABOUT, "second")
        self.hold, self.held = button("Hold it against numbers …"), label("")
        for widget in (self.about, self.hold, self.held):
            rows.addWidget(widget)
        rows.addStretch(1)
        self.write.clicked.connect(lambda: desk.commands.run("deliver.package"))
        self.hold.clicked.connect(lambda: desk.commands.run("deliver.numbers"))
        self.show_it.clicked.connect(self._show_folder)
        self.most.valueChanged.connect(state.limit)
        state.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the build and what is known of it."""
        state, shown = self.state, self._desk.rope.shown
        m = shown.manifest if shown is not None and state.number else None
        knot = next((k for k in self._desk.rope.knots if k.number == state.number), None)
        if m is None or knot is None:
            self.words.setText("Choose a finished build on the rope.")
        else:
            name = f" {knot.name}" if knot.name else ""
            self.words.setText(f"Build {state.number}{name}, {DRAFT_WORDS[knot.draft]} of {m.recipe.name}.")
        many = "page" if m is not None and len(m.pages) == 1 else "pages"
        size = megabytes(page_bytes(m)) if m is not None else ""
        self.facts.setText(f"{short_count(m.texels)} texels on {len(m.pages)} {many}, {size}" if m is not None else "")
        self._show_against()
        self.most.show_number(state.most_mb)
        self.along.setText(self._along())
        self.write.setEnabled(state.ready)
        self.hold.setEnabled(m is not None and not state.busy)
        self._show_outcome()
        for text in (self.words, self.facts, self.along, self.about, self.outcome, self.held):
            fit(text, LIST_WIDTH)

    def _show_against(self) -> None:
        while self.against_rows.count():
            item = self.against_rows.takeAt(0)
            if item is not None and (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        state = self.state
        if not state.number or state.against is None:
            words = "Looking at the build and what it was built from …" if state.number and not state.trouble else ""
            self.against_rows.addWidget(label(words, "second"))
        elif not state.against:
            self.against_rows.addWidget(label("Nothing: it is final, whole, and as the level is now."))
        for group in grouped(state.against or ()):
            self._add(group)

    def _add(self, group: list[Finding]) -> None:
        first, many = group[0], len(group)
        title = title_of(first) + (f", {many} times" if many > 1 else "")
        firm = first.severity == FIRM
        go = button("Go there", "flat", f"Go to: {title}")
        go.setVisible(first.place is not None)
        go.clicked.connect(partial(self._desk.go_to_finding, first))
        self.against_rows.addWidget(pair(label(title, "accent" if firm else "", wrap=False), QWidget(), go, stretch=1))
        texts = [f"{f.object.rsplit('/', 1)[-1]}: {f.reason}" if f.object else f.reason for f in group[:TOLD]]
        for words in texts:
            text = label(words, "second")
            fit(text, LIST_WIDTH)
            self.against_rows.addWidget(text)
        if firm and first.kind in BUILT_AGAIN:
            again = button(first.remedy, "", f"{first.remedy}: on the Build step")
            again.clicked.connect(self.state.build_again)
            self.against_rows.addWidget(again, 0, Qt.AlignmentFlag.AlignLeft)
        elif firm:
            self.against_rows.addWidget(label(f"{first.remedy}."))
        else:
            accept = QCheckBox("Hand it over all the same")
            accept.setAccessibleName(f"Hand over despite: {title}")
            accept.setChecked(first.kind in self.state.accepted)
            accept.toggled.connect(partial(self.state.accept, first.kind))
            self.against_rows.addWidget(accept)
        self.against_rows.addSpacing(4)

    def _along(self) -> str:
        now = self._desk.level.now
        if now is None:
            return ""
        project = now.project
        tables = len(project.brief.tables)
        others = [f"{tables} emitter table{'s' if tables > 1 else ''}"] if tables else []
        others += ["sky pictures"] if any(s.picture for s in project.brief.skies.values()) else []
        return (
            "The baked level with its pages and probes. "
            f"{', '.join([f'{project.level.name} with all its files', *others])}, and the project with its recipe: "
            "they are opened and must build the same light. Expected numbers, and a list of every file."
        )

    def _show_outcome(self) -> None:
        state = self.state
        packed = state.packed
        words = state.trouble or state.busy
        if packed is not None and not words:
            words = (
                f"{len(packed.files)} files, {megabytes(packed.bytes)}: {packed.path.name}. It builds the same light."
            )
        if not words and state.against and state.left:
            left = len({f.kind for f in state.left})
            words = f"{left} thing{'s' if left > 1 else ''} to settle first."
        self.outcome.setText(words)
        self.outcome.setVisible(bool(words))
        self.show_it.setVisible(packed is not None)
        check = state.check
        self.held.setVisible(check is not None)
        if check is not None and check.agrees:
            self.held.setText(f"It agrees at all of {check.places} places, in every bounce and in its faults.")
        elif check is not None:
            more = f" And {len(check.off) - 4} more." if len(check.off) > 4 else ""
            self.held.setText("It does not agree. " + " ".join(f"{line}." for line in check.off[:4]) + more)

    def _show_folder(self) -> None:
        if self.state.packed is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.state.packed.path.parent)))
