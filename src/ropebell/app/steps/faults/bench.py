"""The Faults bench: what is found, why a spot looks as it does, and the least that mends it."""

from __future__ import annotations

from itertools import zip_longest

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import LIST_WIDTH, button, column, fit, label
from ropebell.app.steps.faults.account_view import AccountView, facts_of
from ropebell.app.steps.faults.alternative import Alternative, price
from ropebell.app.steps.faults.finding_list import FaultList
from ropebell.app.steps.faults.over_builds import OverBuilds
from ropebell.app.steps.faults.proof_view import ProofView
from ropebell.app.steps.faults.state import FaultsState, remedy_words
from ropebell.app.steps.faults.what_ifs import WhatIfs
from ropebell.app.words import luminance, lux
from ropebell.build.found import looked_through
from ropebell.build.remedied import record
from ropebell.build.sighting import LEAK
from ropebell.checks.remedies import alternatives
from ropebell.faults.over_builds import note_on
from ropebell.faults.run import TITLES
from ropebell.level.finding import Finding

# Ways beside the first that stand in the card.
MOST_OTHERS = 2


class FaultsBench(QWidget):
    """The panel.

    Signals:
        go_to: a finding to bring into the picture. keep_spot: one whose view is to be kept as a trouble spot.
    """

    go_to = pyqtSignal(object)
    keep_spot = pyqtSignal(object)

    def __init__(self, desk: Desk, state: FaultsState) -> None:
        super().__init__()
        self._desk, self.state = desk, state
        rows = column(self)
        head = QHBoxLayout()
        self.title, self.since = label("Faults", "title"), label("", "second", wrap=False)
        head.addWidget(self.title, 1)
        head.addWidget(self.since)
        rows.addLayout(head)
        self.empty = label("", "second")
        rows.addWidget(self.empty)
        self.list = FaultList()
        rows.addWidget(self.list, 3)
        self.hint = label(
            "Choose a fault, or click any spot of the picture: here stands why it looks as it does.", "second"
        )
        rows.addWidget(self.hint)
        self.below = self._lower()
        rows.addWidget(self.below, 4)
        self.sheet = button("Trouble spots over builds", "flat", "Kept places in the last builds, side by side")
        self.sheet.setCheckable(True)
        rows.addWidget(self.sheet, 0, Qt.AlignmentFlag.AlignLeft)
        self.list.chosen.connect(self._chosen)
        state.changed.connect(self.refresh)
        state.accounted.connect(self.refresh_account)
        desk.document.edited.connect(self.refresh_account)  # a trouble spot may have come or gone
        self.refresh()

    def _lower(self) -> QWidget:
        area, inside = QScrollArea(), QWidget()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        lines = QVBoxLayout(inside)
        lines.setContentsMargins(0, 0, 6, 0)
        lines.setSpacing(8)
        self.why, self.ledger = label("", "heading"), AccountView()
        self.facts, self.wait = label("", "second"), label("", "second")
        self.card = QFrame()
        self.card.setProperty("role", "note")
        words = QVBoxLayout(self.card)
        words.setContentsMargins(12, 10, 12, 10)
        self.verdict, self.history, self.proof = label(""), label("", "second"), ProofView()
        words.addWidget(self.verdict)
        words.addWidget(self.proof)
        words.addWidget(self.history)
        self.fix, self.known = (
            button("", "main", "Apply the remedy"),
            button("Known here", "flat", "Accept with a note"),
        )
        acts = QVBoxLayout()
        self.follow = button(
            "Follow the way out", "flat", "From bend to bend, from the start to the outside (Ctrl+Shift+L)"
        )
        self.spot = button("Keep as a trouble spot", "flat", "Keep this view, to look at it in every build")
        self.others = [Alternative() for _ in range(MOST_OTHERS)]
        acts.addWidget(self.fix, 0, Qt.AlignmentFlag.AlignLeft)
        for other in self.others:
            acts.addWidget(other)
            other.taken.connect(self.state.remedy)
        for one in (self.follow, self.known, self.spot):
            acts.addWidget(one, 0, Qt.AlignmentFlag.AlignLeft)
        self.note = QLineEdit()
        self.note.setPlaceholderText("Why it is fine here, then Enter")
        self.note.setAccessibleName("Why this fault is fine here")
        self.note.hide()
        self.what_ifs = WhatIfs()
        self.past = OverBuilds()
        self.past.plot.chosen.connect(self._desk.rope.look_at)
        for widget in (self.card, self.why, self.facts, self.wait, self.ledger, self.what_ifs, self.past):
            lines.addWidget(widget)
        words.addLayout(acts)
        words.addWidget(self.note)
        lines.addStretch(1)
        area.setWidget(inside)
        self.fix.clicked.connect(self._mend)
        self.what_ifs.taken.connect(self.state.make_so)
        self.known.clicked.connect(self._ask_note)
        self.note.returnPressed.connect(self._accept)
        self.spot.clicked.connect(self._keep_spot)
        self.follow.clicked.connect(lambda: self._desk.commands.run("faults.way_out"))
        return area

    # -- what is found

    def refresh(self) -> None:
        """Show what is found now."""
        seen, rope = self.state.seen, self._desk.rope
        open_ = [(f, s) for f, s in seen.found if s != "known"]
        weight = [f for f, _ in open_ if f.severity != "note"]
        self.title.setText(f"{len(weight)} fault{'s' if len(weight) != 1 else ''}" if seen.found else "Faults")
        new = sum(s == "new" and f.severity != "note" for f, s in open_)
        since = [n for n in rope.finished if n < rope.shown_number]
        self.since.setText(f"{new} new since build {since[-1]}" if since and new else "")
        self.list.show_seen(seen, self.state.chosen)
        self.list.setVisible(bool(seen.found or seen.gone or seen.taken_away))
        self.empty.setVisible(not seen.found)
        self.empty.setText(self._why_empty())
        self.refresh_account()

    def _why_empty(self) -> str:
        rope = self._desk.rope
        if self._desk.level.now is None:
            return "Open a level: after every build its light is looked through for faults."
        if rope.shown is None:
            return "Build, or choose a finished build on the rope: its faults are listed here."
        if looked_through(rope.shown.manifest):
            return "Nothing is wrong with the light of this build. Click any spot to read why it looks as it does."
        return "This build is of an older version and was not looked through. Build again."

    def _chosen(self, finding: Finding | None) -> None:
        self.state.choose(finding)
        if finding is not None:
            self.go_to.emit(finding)

    # -- why

    def finding(self) -> Finding | None:
        """The one that is spoken of: chosen, or shown by the spot that was asked about."""
        if self.state.chosen is not None:
            return self.state.chosen
        return self.state.verdict.finding if self.state.verdict is not None else None

    def refresh_account(self) -> None:
        """Show the account, as far as it is known."""
        state, finding = self.state, self.finding()
        account = state.account
        self.ledger.show_account(account, state.light_names)
        self.ledger.setVisible(account is not None)
        self.why.setVisible(state.asked is not None)
        nothing = state.asked is None and finding is None
        self.below.setVisible(not nothing)
        self.hint.setVisible(nothing and self._desk.rope.shown is not None and bool(state.seen.found))
        self.facts.setVisible(account is not None)
        if account is not None:
            self.facts.setText(facts_of(account))
            fit(self.facts, max(self.width() - 36, LIST_WIDTH) - 14)
            value = lux(luminance(account.shown)).replace(" ", "\N{NO-BREAK SPACE}")
            self.why.setText(f"Why this texel of {account.node.rsplit('/', 1)[-1]} has {value}")
        else:
            self.why.setText("Why this texel looks as it does")
        self.wait.setVisible(state.asked is not None and account is None)
        self.wait.setText(state.trouble or "Bringing its rays together …")
        self.what_ifs.offer(state.what_if)
        self.past.show_light(self._desk.rope.knots, state.past, self._desk.rope.shown_number)
        self._show_verdict(finding)

    def _show_verdict(self, finding: Finding | None) -> None:
        state = self.state
        text = ""
        if finding is not None:
            word = "Proved" if finding.proved else "Likely"
            text = f"{TITLES.get(finding.kind, finding.kind)}. {word}: {finding.reason}"
        elif state.verdict is not None:
            text = state.verdict.text
        self.card.setVisible(bool(text))
        self.proof.show_proof(state.proof)
        self.verdict.setText(text)
        note = ""
        now = self._desk.level.now
        if finding is not None and now is not None:
            note = note_on(finding, now.project.brief.known)
        advice = f"{finding.remedy}. {record(state.tried, finding)}".strip() if finding is not None else ""
        cost = price(finding, state.cost_of.get(finding.fix, "")) if finding is not None else ""
        advice = "\n".join(words for words in (state.opened, advice, cost) if words)
        self.history.setText(f"Known here: {note}." if note else advice)
        self.history.setVisible(bool(self.history.text()))
        self.fix.setVisible(finding is not None and bool(finding.fix))
        self.fix.setText(remedy_words(finding) if finding is not None else "")
        others = alternatives(finding)[:MOST_OTHERS] if finding is not None else []
        for one, other in zip_longest(self.others, others):
            cost = state.cost_of.get(other.fix, "") if other is not None else ""
            one.offer(other, cost, self._words_wide())
        self.follow.setVisible(finding is not None and finding.kind == LEAK)
        self.known.setVisible(finding is not None)
        self.spot.setVisible(finding is not None)
        place = state.spot_of(finding) if finding is not None else None
        self.spot.setText(f"Stand at '{place.name}'" if place is not None else "Keep as a trouble spot")
        self.known.setText("No longer known" if note else "Known here")
        self.note.hide()
        for one in (self.verdict, self.history):
            if one.text():
                fit(one, self._words_wide())

    def _words_wide(self) -> int:
        """Pixels for the words of the card."""
        return max(self.width() - 36, LIST_WIDTH) - 34

    def _mend(self) -> None:
        finding = self.finding()
        if finding is not None:
            self.state.remedy(finding)

    def _keep_spot(self) -> None:
        finding = self.finding()
        if finding is not None:
            self.keep_spot.emit(finding)

    def _ask_note(self) -> None:
        finding, now = self.finding(), self._desk.level.now
        if finding is None or now is None:
            return
        if note_on(finding, now.project.brief.known):
            self.state.know(finding, "")
            return
        self.note.clear()
        self.note.show()
        self.note.setFocus()

    def _accept(self) -> None:
        finding = self.finding()
        if finding is not None:
            self.state.know(finding, self.note.text().strip() or "fine here")
