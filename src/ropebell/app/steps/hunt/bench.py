"""The Hunt bench: what is looked for, how far the hunt is, what it found, and the least that mends it."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QApplication, QCheckBox, QFrame, QLineEdit, QListWidgetItem, QMenu, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import LIST_WIDTH, Fold, Paged, Sentences, button, combo, fit, label, pair, rows_in, rule
from ropebell.app.steps.build.plan_panel import NAMES
from ropebell.app.steps.hunt.hunting import Asked, Hunting, as_text
from ropebell.app.steps.hunt.trial_map import TITLES, TrialMap
from ropebell.app.words import clock
from ropebell.build.conditions import parse_condition
from ropebell.build.events import End
from ropebell.build.found import of_light
from ropebell.build.journal import read_events
from ropebell.build.plan import plan_of
from ropebell.deliver.case import CASE
from ropebell.errors import RopeBellError
from ropebell.faults.run import TITLES as KINDS
from ropebell.hunt.fixes import with_edit
from ropebell.hunt.outcome import sight_words
from ropebell.hunt.outside import TELLS
from ropebell.hunt.steadiness import ABSENT, PRESENT
from ropebell.light.arithmetic import WORKERS

OFFERED = {
    "nonfinite": "a value is not a number",
    "black>0.3": "a third of the level is black",
    "clipped>0.05": "one twentieth is blown out",
    "seconds>60": "a build takes over a minute",
}
VERDICTS = {
    "present": "the fault is still there",
    "absent": "the fault is gone",
    "cannot tell": "nothing can be told of the fault",
}
OUTSIDE, EVERY = "command", "all"
SETUP, MAP, FOUND = range(3)
MOST_OFFERED = 8
ENGINE = "This program"


class HuntBench(QWidget):
    """The panel.

    Signals:
        run_chosen: the number of a run whose box is to be shown, −1 for none.
    """

    run_chosen = pyqtSignal(int)

    def __init__(self, desk: Desk, hunting: Hunting) -> None:
        super().__init__()
        self._desk, self._hunting = desk, hunting
        rows = QVBoxLayout(self)
        rows.setContentsMargins(18, 16, 18, 16)
        rows.setSpacing(8)
        self.title = label("Hunt", "title")
        rows.addWidget(self.title)
        self.setup, self.found = QWidget(), QWidget()
        self._make_setup(rows_in(self.setup, 8, scrolled=True))
        self.map = TrialMap()
        map_page = QWidget()
        map_rows = rows_in(map_page, 6, scrolled=True)
        self.run_words = label(
            "Every run is a row: how much was in, what it said. Click one to see where it was.", "second"
        )
        self.copy = button("Copy the log as text", "flat")
        for widget in (self.run_words, self.map, self.copy):
            map_rows.addWidget(widget)
        map_rows.addStretch(1)
        self._make_found(rows_in(self.found, 8, scrolled=True))
        self.pages = Paged("Hunt", ("Hunt", "Map", "Found"), (self.setup, map_page, self.found))
        self.pages.chosen.connect(self._turned)
        rows.addWidget(self.pages, 1)
        self.map.chosen.connect(self._chose_run)
        self.copy.clicked.connect(self._copy_log)
        hunting.changed.connect(self.refresh)
        desk.level.opened.connect(lambda *_: self.refresh())
        desk.rope.looking_at.connect(lambda *_: self._offer_faults())
        self.refresh()

    # -- pages

    def _make_setup(self, rows: QVBoxLayout) -> None:
        rows.addWidget(label("Look for", "heading"))
        self.condition, self.offer = QLineEdit(), button("Offered", "flat")
        self.condition.setAccessibleName("What the hunt looks for")
        self.condition.setPlaceholderText("such as black>0.3")
        self.menu = QMenu(self.offer)
        self.offer.setMenu(self.menu)
        self.menu.aboutToShow.connect(self._offer_faults)
        rows.addWidget(pair(self.condition, self.offer, stretch=0))
        self.wrong = label("", "accent")
        rows.addWidget(self.wrong)
        self.wrong.hide()
        self.judge = combo("Who builds each trial")
        self.judge.addItem(ENGINE, "")
        for name, worker in WORKERS.items():
            if not worker.usual:
                self.judge.addItem(f"Build worker '{name}'", name)
        self.judge.addItem("Every build worker: who sees it?", EVERY)
        self.judge.addItem("A command from outside", OUTSIDE)
        rows.addWidget(pair(label("Built by", wrap=False), self.judge, stretch=1))
        self.about_judge = label("", "second")
        rows.addWidget(self.about_judge)
        self.command = QLineEdit()
        self.command.setAccessibleName("Command that judges each trial")
        self.command.setPlaceholderText("compiler {level} --out {out}")
        rows.addWidget(self.command)
        self.as_built = QCheckBox("As it is built in earnest, no shorter")
        rows.addWidget(self.as_built)
        self.start, self.rest, self.stop = button("Start the hunt", "main"), button("Pause"), button("Stop")
        rows.addWidget(pair(self.start, self.rest, self.stop))
        rows.addWidget(rule())
        self.card = QFrame()
        self.card.setProperty("role", "note")
        words = QVBoxLayout(self.card)
        words.setContentsMargins(12, 10, 12, 10)
        self.state, self.more = label(""), label("", "second")
        words.addWidget(self.state)
        words.addWidget(self.more)
        rows.addWidget(self.card)
        self.steering = Fold("Steer it by the selection")
        self.steers: dict[str, Any] = {}
        for key, text in (("try", "Try it next"), ("trust", "Trust it: leave it in"), ("leave_out", "Leave it out")):
            self.steers[key] = button(text)
            self.steers[key].clicked.connect(lambda _=False, key=key: self._steer(key))
            self.steering.rows.addWidget(self.steers[key])
        rows.addWidget(self.steering)
        rows.addStretch(1)
        self.judge.activated.connect(lambda _: self._judge_chosen())
        self.condition.textChanged.connect(lambda _: self._look_at_condition())
        self.start.clicked.connect(lambda: self._desk.commands.run("hunt.start"))
        self.rest.clicked.connect(lambda: self._desk.commands.run("hunt.rest"))
        self.stop.clicked.connect(lambda: self._desk.commands.run("hunt.stop"))

    def _make_found(self, rows: QVBoxLayout) -> None:
        self.verdict = label("Nothing is found yet.", "heading")
        rows.addWidget(self.verdict)
        self.go = button("Show it", "flat")
        rows.addWidget(self.go, 0, Qt.AlignmentFlag.AlignLeft)
        self.proof_title, self.proof = label("Proof", "heading"), Sentences("Proof", 220)
        self.fix_title, self.fixes = label("Fixes tried", "heading"), Sentences("Fixes tried", 220)
        for widget in (self.proof_title, self.proof, self.fix_title, self.fixes):
            rows.addWidget(widget)
        self.apply = button("Apply the least fix", "main")
        self.apply_words = label("", "second")
        self.case, self.folder = button("Open the case", "flat"), button("Open its folder", "flat")
        rows.addWidget(self.apply)
        rows.addWidget(self.apply_words)
        rows.addWidget(pair(self.case, self.folder))
        rows.addStretch(1)
        self.apply.clicked.connect(lambda: self._desk.commands.run("hunt.apply"))
        self.go.clicked.connect(self._show_culprit)
        self.case.clicked.connect(lambda: self._open(CASE))
        self.folder.clicked.connect(lambda: self._open(""))

    # -- what is looked for

    def _offer_faults(self) -> None:
        """Conditions that are offered: what stopped the last build, the usual ones, the faults of the shown build."""
        self.menu.clear()
        rope = self._desk.rope
        last, shown = rope.knots[-1] if rope.knots else None, rope.shown
        ends = [e for e in read_events(last.folder) if isinstance(e, End)] if last is not None else []
        stopped = [(e.condition, f"what stopped build {last.number}") for e in ends if last is not None and e.condition]
        offered = [*stopped, *OFFERED.items()]
        for f in of_light(shown.manifest)[:MOST_OFFERED] if shown is not None else ():
            if f.place is not None and f.severity != "note":
                x, y, z = f.place
                name = f.object.rsplit("/", 1)[-1]
                words = f"{KINDS.get(f.kind, f.kind).lower()} at {name}"
                offered.append((f"fault:{f.kind}@{x:.2f},{y:.2f},{z:.2f},0.5", words))
        for text, words in offered:
            action = self.menu.addAction(f"{words}   {text.partition('@')[0]}")
            if action is not None:
                action.triggered.connect(lambda _=False, text=text: self.condition.setText(text))

    def asked(self) -> Asked | None:
        """What is set, None where it makes no sense: then it is said why."""
        outside = self.judge.currentData() == OUTSIDE
        self.wrong.setText("")
        try:
            read = parse_condition(self.condition.text(), NAMES)
        except RopeBellError as error:
            self.wrong.setText(str(error))
            self.wrong.show()
            return None
        if outside and (read.what not in TELLS or not self.command.text().strip()):
            self.wrong.setText("A command tells status:N, log:PATTERN or seconds>S; write it below.")
            self.wrong.show()
            return None
        self.wrong.hide()
        worker = "" if outside else str(self.judge.currentData())
        return Asked(read.text, worker, self.command.text() if outside else "", self.as_built.isChecked())

    def _look_at_condition(self) -> None:
        """A hunt needs a question; one that was cut off has its own."""
        self.wrong.hide()
        asked = bool(self.condition.text().strip()) or self._hunting.cut_off
        self.start.setEnabled(self._desk.level.now is not None and not self._hunting.running and asked)
        self.start.setToolTip("" if asked else "Say what to look for, or take one of what is offered")

    def _judge_chosen(self) -> None:
        data = str(self.judge.currentData())
        self.command.setVisible(data == OUTSIDE)
        self.as_built.setVisible(data != OUTSIDE)
        words = {
            "": "Each trial is a build of this program, beside the window.",
            EVERY: "The whole level is built by each; the hunt goes on with the first that shows it.",
            OUTSIDE: "{level} is a .glb of the trial, {out} an empty folder. It is run without a shell, for a limited "
            "time, and is ended with all that it started.",
        }
        about = words.get(data) or f"{WORKERS[data].words[0].upper()}{WORKERS[data].words[1:]}."
        project = self._desk.document.project
        if project is not None and plan_of(project).lights == "box":
            about += " The cut box is for builds; the hunt begins with the whole level."
        self.about_judge.setText(about)

    # -- how far it is

    def refresh(self) -> None:
        """Show the hunt as it stands."""
        h = self._hunting
        running, resting = h.running, h.resting
        self._look_at_condition()
        self.start.setText("Go on" if h.cut_off else "Start the hunt")
        self.start.setVisible(not running)
        self.rest.setVisible(running)
        self.rest.setText("Go on" if resting else "Pause")
        self.stop.setVisible(running or h.cut_off)
        self.stop.setText("Stop" if running else "Start anew")
        self.steering.setVisible(running)
        if h.asked is not None and not self.condition.text() and not self.condition.hasFocus():
            self.condition.setText(h.asked.condition)
            at = self.judge.findData(OUTSIDE if h.asked.command else h.asked.worker)
            self.judge.setCurrentIndex(max(at, 0))
            self.command.setText(h.asked.command)
        self._judge_chosen()
        self.map.show_entries(h.entries)
        state, more = self._words()
        self.state.setText(state)
        self.more.setText(more)
        self.more.setVisible(bool(more))
        for one in (self.state, self.more):
            if one.text():
                fit(one, LIST_WIDTH - 34)
        self._show_found()

    def _words(self) -> tuple[str, str]:
        h = self._hunting
        if h.trouble:
            return h.trouble, "Nothing of the level was touched."
        if h.result:
            return str(h.result.get("words", "")), self._bargain(h.result)
        if h.asked is None:
            return (
                "Name what goes wrong. The hunt leaves out more and more, on copies, until only what causes it is "
                "left; then it proves that, and tries the least that mends it.",
                "",
            )
        if not h.entries:
            return ("The whole level is run first: does it show there?" if h.running else "It was stopped."), ""
        last = h.entries[-1]
        shows = next((e for e in reversed(h.entries) if e.run.verdict == PRESENT and e.phase == last.phase), last)
        state = f"{TITLES.get(last.phase, last.phase)}: {last.what}, {last.objects:,} in, {last.run.verdict}."
        if not h.running:
            return f"It was stopped after {len(h.entries)} runs. It goes on from there.", state
        spent = sum(e.run.seconds for e in h.entries)
        more = f"{len(h.entries)} runs, {clock(spent)}. "
        if last.phase == "search":
            left = max(int(1.5 * (max(shows.objects, 1)).bit_length()), 1)
            each = sum(e.run.seconds for e in h.entries[-4:]) / len(h.entries[-4:])
            more += f"Under suspicion: {shows.objects:,}. About {left} more, {clock(left * each)}."
        return ("It rests. " if h.resting else "") + state, more

    @staticmethod
    def _bargain(result: dict[str, Any]) -> str:
        found = result.get("shortest") or {}
        seconds = found.get("seconds") or [0, 0]
        words = f"{result.get('trials', 0)} runs, {clock(float(result.get('seconds', 0)))}. "
        if found.get("how"):
            words += f"Trials were built as: {found['how']}; {seconds[1]:.1f} s each instead of {seconds[0]:.1f} s."
        if float(result.get("shows_in", 1)) < 1:
            words += f" It shows in about {100 * float(result['shows_in']):.0f} % of the runs."
        for name, verdict in (result.get("workers") or {}).items():
            words += f" {name}: {verdict}."
        return words

    # -- what was found

    def _show_found(self) -> None:
        r = self._hunting.result
        self.verdict.setText(str(r.get("words", "")) or "Nothing is found yet.")
        fit(self.verdict, LIST_WIDTH)
        has = bool(r.get("culprit"))
        rows = [
            f"{row['what'][0].upper()}{row['what'][1:]}: {row['verdict']}"
            + ("" if row["verdict"] == row["expected"] else f", though it should be {row['expected']}")
            for row in r.get("proof", ())
        ]
        fixes = [
            f"{f['what'][0].upper()}{f['what'][1:]}"
            + (f", {f['amount']:g} {f['unit']}" if f["unit"] else "")
            + f": {VERDICTS.get(f['verdict'], f['verdict'])}"
            + (f"; on the whole level {VERDICTS.get(f['again'], f['again'])}" if f.get("again") else "")
            for f in r.get("fixes", ())
        ]
        for title, view, lines in ((self.proof_title, self.proof, rows), (self.fix_title, self.fixes, fixes)):
            view.clear()
            for line in lines:
                view.addItem(QListWidgetItem(line))
            view.fit()
            title.setVisible(bool(lines))
            view.setVisible(bool(lines))
        best = self.best_fix()
        self.apply.setVisible(best is not None and best.get("edit") is not None)
        self.apply_words.setText(self._about_fix(best))
        self.apply_words.setVisible(best is not None)
        fit(self.apply_words, LIST_WIDTH)
        self.go.setVisible(has)
        self.case.setVisible(bool(r))
        self.folder.setVisible(bool(r))

    def best_fix(self) -> dict[str, Any] | None:
        """The least fix that held on the whole level."""
        return next((f for f in self._hunting.result.get("fixes", ()) if f.get("again") == ABSENT), None)

    @staticmethod
    def _about_fix(best: dict[str, Any] | None) -> str:
        if best is None:
            return ""
        what = f"{best['what']}" + (f" by {best['amount']:g} {best['unit']}" if best["unit"] else "")
        moved = f"; nothing moves by more than {best['changed']:.2g} mm" if best["changed"] else ""
        touched = ", ".join(path.rsplit("/", 1)[-1] for path in best.get("touches") or ())
        beside = f" It then touches {touched}." if touched else " It touches nothing new."
        differ, of = best.get("pixels") or (0, 0)
        if of:
            share = f"{100 * differ / of:.2g} % of the pixels look" if differ else "no pixel looks"
            beside += f" From five places {share} otherwise."
        if len(best.get("sight") or ()) == 2:
            beside += f" {sight_words(best['sight'])}"
        words = f"{best['node'].rsplit('/', 1)[-1]}: {what}{moved}.{beside}"
        if best.get("edit") is None:
            words += " Its shape has to be changed in the editor: fix.glb in the folder has it in place."
        return words

    def apply_best(self) -> None:
        """Write the least fix into the project, as one edit that can be undone."""
        best = self.best_fix()
        if best is None or best.get("edit") is None:
            return

        def change(brief: Any) -> Any:
            return with_edit(brief, best["node"], best["edit"])

        try:
            self._desk.document.edit_brief(f"Fix: {best['what']}", change)
        except ValueError as error:
            self._desk.tell(f"The fix was not applied: {error}.", "hunt")

    # -- acts

    def _turned(self, page: int) -> None:
        self.pages.show_page(page)
        self.run_chosen.emit(self.map.current if page == MAP else -1)

    def _steer(self, key: str) -> None:
        paths = self._desk.selection.paths
        if not paths:
            self._desk.telling.news("Select objects in the picture or in the table of the Level step first.")
            return
        self._hunting.steer(key, paths)
        self._desk.telling.news(f"{self.steers[key].text()}: {len(paths)} object{'s' if len(paths) > 1 else ''}.")

    def _chose_run(self, number: int) -> None:
        entry = self._hunting.entries[number]
        some = ", ".join(entry.some[:3]) + (" …" if entry.objects > 3 else "")
        self.run_words.setText(
            f"{number + 1}. {TITLES.get(entry.phase, entry.phase)}, {entry.what}: {entry.run.verdict}. "
            f"{entry.run.told} In: {some}"
        )
        fit(self.run_words, LIST_WIDTH - 12)
        self.run_chosen.emit(number)

    def _show_culprit(self) -> None:
        now = self._desk.level.now
        culprit = self._hunting.result.get("culprit") or []
        if now is not None and culprit and culprit[0]["node"] in now.scene.node_names:
            node = now.scene.node_names.index(culprit[0]["node"])
            self._desk.selection.select(node)
            self._desk.commands.run("stage.focus")

    def _copy_log(self) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText(as_text(self._hunting.entries))
            self._desk.telling.news(f"{len(self._hunting.entries)} runs are on the clipboard.")

    def _open(self, name: str) -> None:
        if self._hunting.folder is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._hunting.folder / name)))
