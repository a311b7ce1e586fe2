"""The Compare bench: two builds with one eye, what changed and because of what, where the time goes, what to do."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QListWidgetItem, QSlider, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import LIST_WIDTH, Choice, Paged, Sentences, button, combo, fit, label, pair, rows_in
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.steps.compare.charts import Bars
from ropebell.app.steps.compare.comparing import SPOT, Comparing
from ropebell.app.steps.compare.ledger_view import LedgerView
from ropebell.app.steps.compare.views import BESIDE, COST, FIRST, LUX, STOPS, WIPE
from ropebell.app.views import RESULT, View
from ropebell.app.words import clock, lux, megabytes, short_count
from ropebell.build.setting_words import setting_title
from ropebell.build.stages import WORDS as STAGE_WORDS
from ropebell.compare.compare import in_words, times
from ropebell.faults.run import TITLES

SHOWN: tuple[tuple[str, View], ...] = (
    ("Parted", WIPE), ("Beside", BESIDE), ("A", FIRST), ("B", RESULT), ("Lux", LUX), ("Stops", STOPS),
)  # fmt: skip
LOOK, CHANGES, TIME, ADVICE = range(4)
LEVEL, OBJECT, OF_SPOT = range(3)
# Slider positions of the gain, each a doubling.
GAINS = 7


class CompareBench(QWidget):
    """The panel.

    Signals:
        viewed: a view of the two that is wanted. parted: where the line shall be, 0 … 1. gained: factor on differences.
        go_to: a place to bring into the picture.
    """

    viewed = pyqtSignal(object)
    parted = pyqtSignal(float)
    gained = pyqtSignal(float)
    go_to = pyqtSignal(object)

    def __init__(self, desk: Desk, state: Comparing) -> None:
        super().__init__()
        self._desk, self.state = desk, state
        rows = QVBoxLayout(self)
        rows.setContentsMargins(18, 16, 18, 16)
        rows.setSpacing(8)
        rows.addWidget(label("Compare", "title"))
        self.a, self.b, self.swap = combo("Build A"), combo("Build B"), button("Swap", "flat", "Swap A and B")
        rows.addWidget(pair(label("A", wrap=False), self.a, stretch=1))
        rows.addWidget(pair(label("B", wrap=False), self.b, self.swap, stretch=1))
        self.words = label("")
        rows.addWidget(self.words)
        look, changes, time, advice = QWidget(), QWidget(), QWidget(), QWidget()
        self._make_look(rows_in(look, 8, scrolled=True))
        self._make_changes(rows_in(changes, 8, scrolled=True))
        self._make_time(rows_in(time, 8, scrolled=True))
        self._make_advice(rows_in(advice, 8, scrolled=True))
        self.pages = Paged("Compare", ("Look", "Changes", "Time", "Advice"), (look, changes, time, advice))
        self.pages.chosen.connect(self.pages.show_page)
        rows.addWidget(self.pages, 1)
        for one in (self.a, self.b):
            one.activated.connect(lambda _: self._chosen())
        self.swap.clicked.connect(lambda: state.choose(state.pair[1], state.pair[0]))
        state.changed.connect(self.refresh)
        self.refresh()

    def _make_look(self, rows: QVBoxLayout) -> None:
        self.view = Choice([title for title, _ in SHOWN], "Shown")
        rows.addWidget(self.view)
        self.line, self.gain = QSlider(Qt.Orientation.Horizontal), QSlider(Qt.Orientation.Horizontal)
        self.line.setRange(0, 100)
        self.line.setValue(50)
        self.line.setAccessibleName("Where the picture is parted")
        self.gain.setRange(0, GAINS)
        self.gain.setAccessibleName("Gain of the difference")
        self.line_words, self.gain_words = label("The line between A and B", "second"), label("Gain 1", "second")
        self.scale = label("", "second")
        for widget in (self.line_words, self.line, self.gain_words, self.gain, self.scale):
            rows.addWidget(widget)
        rows.addWidget(label("Where it differs most", "heading"))
        self.worst = Sentences("Places where the light differs most", 300)
        rows.addWidget(self.worst)
        rows.addStretch(1)
        self.view.chosen.connect(self._view_chosen)
        self.line.valueChanged.connect(lambda v: self.parted.emit(v / 100))
        self.gain.valueChanged.connect(self._gain_changed)
        self.worst.itemClicked.connect(lambda item: self.go_to.emit(item.data(Qt.ItemDataRole.UserRole)))

    def _make_changes(self, rows: QVBoxLayout) -> None:
        self.warning = label("", "accent")
        self.changed = Sentences("What changed", 190)
        self.causes_title, self.causes = label("Shares of the difference", "heading"), Bars("Shares of the difference")
        self.told = label("", "second")
        self.whose = Choice(["Level", "Object", "Spot"], "Shares of the difference on")
        self.whose.set_current(LEVEL)
        self.apart = button("Build with one change at a time", "", "Builds of A with one change of B each")
        self.faults_title, self.faults = label("Faults", "heading"), Sentences("Faults that came and went", 190)
        for widget in (
            self.warning, self.changed, self.causes_title, self.causes, self.whose, self.told,
            self.apart, self.faults_title, self.faults,
        ):  # fmt: skip
            rows.addWidget(widget)
        rows.addStretch(1)
        self.faults.itemClicked.connect(lambda item: self.go_to.emit(item.data(Qt.ItemDataRole.UserRole)))
        self.whose.chosen.connect(self._whose)
        self.apart.clicked.connect(lambda: self._desk.commands.run("compare.apart"))

    def _make_time(self, rows: QVBoxLayout) -> None:
        self.time_words = label("", "second")
        self.times = Sentences("Seconds by stage", 170)
        rows.addWidget(self.time_words)
        rows.addWidget(self.times)
        rows.addWidget(label("What B took", "heading"))
        self.spent = LedgerView()
        rows.addWidget(self.spent)
        self.spent.mapped.connect(lambda on: self.viewed.emit(COST if on else self.shown_view))
        rows.addStretch(1)
        self.spent.chosen.connect(self._select)

    def _make_advice(self, rows: QVBoxLayout) -> None:
        self.ask = button("What would shorten builds?", "main")
        self.advice_words = label("", "second")
        rows.addWidget(self.ask)
        rows.addWidget(self.advice_words)
        self.list = QWidget()
        self.list_rows = QVBoxLayout(self.list)
        self.list_rows.setContentsMargins(0, 0, 0, 0)
        rows.addWidget(self.list)
        self.taken_title, self.taken = label("Taken", "heading"), Sentences("Advice that was taken", 200)
        rows.addWidget(self.taken_title)
        rows.addWidget(self.taken)
        rows.addStretch(1)
        self.ask.clicked.connect(lambda: self._desk.commands.run("compare.advice"))

    # -- what is compared

    def _chosen(self) -> None:
        a, b = self.a.currentData(), self.b.currentData()
        if a and b:
            self.state.choose(int(a), int(b))

    def _view_chosen(self, index: int) -> None:
        self.spent.map.setChecked(False)
        self.viewed.emit(SHOWN[index][1])
        self._show_scale(SHOWN[index][1])

    def _gain_changed(self, value: int) -> None:
        self.gain_words.setText(f"Gain {2**value}")
        self.gained.emit(float(2**value))
        self._show_scale(self.shown_view)

    @property
    def shown_view(self) -> View:
        """The view of the two that is chosen."""
        return next((v for i, (_, v) in enumerate(SHOWN) if self.view.button(i).isChecked()), WIPE)

    def _show_scale(self, view: View) -> None:
        gain = 2 ** self.gain.value()
        self.line.setVisible(view is WIPE)
        self.line_words.setVisible(view is WIPE)
        apart = view in (LUX, STOPS)
        self.gain.setVisible(apart)
        self.gain_words.setVisible(apart)
        full = lux(1000.0 / gain) if view is LUX else f"{2 / gain:.3g} stops"
        self.scale.setText(
            f"Blue: B is darker. Yellow: B is brighter; full colour from {full} on. Grey: within the noise of both. "
            "Hatched: only in one."
            if apart
            else ""
        )
        self.scale.setVisible(apart)
        fit(self.scale, LIST_WIDTH)

    def refresh(self) -> None:
        """Show the pair as it stands."""
        state, done = self.state, [k for k in self._desk.rope.knots if k.outcome.state == "done"]
        for one, number in zip((self.a, self.b), state.pair):
            one.clear()
            for knot in reversed(done):
                name = f" {knot.name}" if knot.name else ""
                one.addItem(f"Build {knot.number}{name}, {DRAFT_WORDS[knot.draft]} of {knot.recipe}", knot.number)
            one.setCurrentIndex(one.findData(number))
        self.swap.setEnabled(all(state.pair))
        self.words.setText(self._sentence(len(done)))
        fit(self.words, LIST_WIDTH)
        has = state.found is not None
        self.pages.setEnabled(has or bool(done))
        self._show_scale(self.shown_view)
        self._show_places()
        self._show_changes()
        self._show_times()
        self.spent.show_ledgers(self.state.found.comparison.ledgers if self.state.found is not None else None)
        self._show_advice()

    def _sentence(self, done: int) -> str:
        state = self.state
        if state.trouble:
            return state.trouble
        if state.busy:
            return f"Comparing builds {state.pair[0]} and {state.pair[1]} …"
        if state.found is not None:
            return in_words(state.found.comparison)
        if done < 2:
            return "Two finished builds are needed: build once more, with one thing changed."
        return "Choose two builds, or click a second knot of the rope with Shift held."

    def _show_places(self) -> None:
        self.worst.clear()
        worst = self.state.found.worst if self.state.found is not None else ()
        for number, (place, node, a, b) in enumerate(worst):
            item = QListWidgetItem(f"{number + 1}. {node.rsplit('/', 1)[-1]}: {lux(a)} → {lux(b)}")
            item.setData(Qt.ItemDataRole.UserRole, tuple(float(v) for v in place))
            self.worst.addItem(item)
        self.worst.setVisible(self.worst.count() > 0)
        self.worst.fit()

    def _show_changes(self) -> None:
        found = self.state.found
        self.changed.clear()
        self.faults.clear()
        if found is None:
            for widget in (self.warning, self.changed, self.causes_title, self.causes, self.whose, self.told,
                           self.apart, self.faults_title, self.faults):  # fmt: skip
                widget.hide()
            return
        c = found.comparison
        many = c.changes.of_light
        self.warning.setText(f"{len(many)} things changed at once." if len(many) > 1 else "")
        self.warning.setVisible(len(many) > 1)
        self.apart.setVisible(len(many) > 1)
        lines = [s.words for s in c.changes.settings]
        lines += [f"{x.node}: {x.what}" for x in c.changes.contents]
        for line in lines or ["Nothing that is known of."]:
            self.changed.addItem(line)
        self.changed.show()
        self.changed.fit()
        shares = self.state.shares if self.state.on else c.causes
        causes = shares.causes if shares is not None else ()
        on = "this spot" if self.state.on == SPOT else self.state.on.rsplit("/", 1)[-1]
        self.causes_title.setText(f"Shares of the difference on {on}" if on else "Shares of the difference")
        self.whose.set_current(LEVEL if not on else OF_SPOT if self.state.on == SPOT else OBJECT)
        self.whose.setVisible(len(c.causes.causes) > 1)
        self.causes.show_shares([(setting_title(cause.name), cause.share) for cause in causes])
        for widget in (self.causes_title, self.causes):
            widget.setVisible(len(causes) > 1 or bool(on))
        self.told.setText(c.causes.told)
        self.told.setVisible(bool(c.causes.told))
        fit(self.told, LIST_WIDTH)
        came = [(f, "new") for f, s in c.faults.found if s == "new"]
        went = [(f, "gone") for f in (*c.faults.gone, *c.faults.taken_away)]
        still = len(c.faults.found) - len(came)
        self.faults_title.setText(f"Faults: {len(came)} new, {len(went)} gone, {still} still")
        self.faults_title.show()
        notes = {"new": 0, "gone": 0}
        for finding, state in [*came, *went]:
            if finding.severity == "note":
                notes[state] += 1
            else:
                name = finding.object.rsplit("/", 1)[-1] or "level"
                item = QListWidgetItem(
                    f"{state.capitalize()}: {TITLES.get(finding.kind, finding.kind).lower()}, {name}"
                )
                item.setData(Qt.ItemDataRole.UserRole, finding.place)
                self.faults.addItem(item)
        if any(notes.values()):
            self.faults.addItem(f"Of little weight: {notes['new']} new, {notes['gone']} gone")
        self.faults.setVisible(self.faults.count() > 0)
        self.faults.fit()

    def _show_times(self) -> None:
        found = self.state.found
        self.times.clear()
        if found is None:
            self.time_words.setText("")
            self.times.hide()
            return
        c = found.comparison
        a, b = c.a.manifest, c.b.manifest
        for stage, x, y in times(a, b):
            self.times.addItem(f"{STAGE_WORDS.get(stage, stage)}: {_seconds(x)} → {_seconds(y)}")
        self.times.show()
        self.times.fit()
        sizes = [sum(p.bytes for p in m.pages) for m in (a, b)]
        apart = [setting_title(s.key).lower() for s in c.changes.conditions]
        words = (
            f"{short_count(a.texels)} → {short_count(b.texels)} texels, {megabytes(sizes[0])} → {megabytes(sizes[1])} "
            f"of pages, {a.peak_memory_mb:,} → {b.peak_memory_mb:,} MB at the peak."
        )
        if apart:
            words += f" Timed under other conditions ({', '.join(apart[:3])}): no verdict on the times."
        self.time_words.setText(words)
        fit(self.time_words, LIST_WIDTH)

    def _select(self, name: str) -> None:
        now = self._desk.level.now
        if now is not None and name in now.scene.node_names:
            self._desk.selection.select(now.scene.node_names.index(name))
            self._desk.commands.run("stage.focus")

    def _whose(self, of: int) -> None:
        paths = self._desk.selection.paths
        if (of == OBJECT and not paths) or (of == OF_SPOT and self.state.spot is None):
            what = "Select an object" if of == OBJECT else "Click a spot"
            self._desk.telling.news(f"{what} in the picture first.")
            self._show_changes()
            return
        self.state.share_on(("", paths[0] if paths else "", SPOT)[of])

    # -- advice

    def _show_advice(self) -> None:
        state = self.state
        self.ask.setEnabled(not state.advising and bool(self._desk.rope.finished))
        while self.list_rows.count():
            item = self.list_rows.takeAt(0)
            if item is not None and (widget := item.widget()) is not None:
                widget.deleteLater()
        words = "What would be lost is solved from the last build's light and rays; nothing is built for it."
        if state.advising:
            words = "Solving what would be lost …"
        elif state.offered is not None:
            words = f"By build {state.advised_on}, best first, each with those before it taken."
            if not state.offered:
                words = "Nothing would save a fiftieth of the time at a price worth it."
        self.advice_words.setText(words)
        fit(self.advice_words, LIST_WIDTH)
        for advice in state.offered or ():
            head, take = label(advice.title, "heading"), button("Apply")
            seconds = " → ".join(clock(s) if s >= 60 else f"{s:.1f} s" for s in advice.seconds)
            price = f"{seconds}; {100 * advice.loss:.1f} % of what players see changes by over 5 %"
            if advice.memory[0]:
                price = " → ".join(f"{mb:.1f} MB" for mb in advice.memory) + " of pages; no light changes"
            more = label(f"{price}. {advice.why}", "second")
            take.clicked.connect(partial(self.state.take, advice))
            for widget in (head, more, take):
                self.list_rows.addWidget(
                    widget, 0, Qt.AlignmentFlag.AlignLeft if widget is take else Qt.AlignmentFlag(0)
                )
            for one in (head, more):
                fit(one, LIST_WIDTH - 12)
        self.taken.clear()
        for t in reversed(state.taken):
            actual = "not built from nothing since" if t.actual is None else f"saved {t.actual:.1f} s"
            self.taken.addItem(f"{t.title}: {t.predicted:.1f} s foretold, {actual}")
        self.taken.setVisible(self.taken.count() > 0)
        self.taken_title.setVisible(self.taken.count() > 0)
        self.taken.fit()


def _seconds(value: float | None) -> str:
    return "—" if value is None else f"{value:.2f} s"
