"""The Build bench: one button, how far it is, where the time went, what the build had to say."""

from __future__ import annotations

import time

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.builds import Step
from ropebell.app.desk import Desk
from ropebell.app.parts import Paged, Sentences, button, column, label, pair, rows_in, rule
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.steps.build.journal import JournalPage
from ropebell.app.steps.build.longest import LongestLabel
from ropebell.app.steps.build.plan_panel import PlanPanel
from ropebell.app.steps.build.queue_page import QueuePage
from ropebell.app.words import clock, count, made_on, megabytes, moment
from ropebell.build.knots import Knot
from ropebell.build.manifest import Manifest, parts_in_words
from ropebell.build.plan import Lights, Plan, plan_of
from ropebell.build.result import Outcome, Result
from ropebell.build.scope import in_words
from ropebell.build.stages import WORDS
from ropebell.level.finding import Finding

PAGES = ("Result", "Next", "Journal", "Queue")
RESULT, NEXT, JOURNAL, QUEUE = range(len(PAGES))
# Edits that are told by their titles.
MOST_EDITS = 3


# Of what the next build lights, in words for its button.
PARTS: dict[Lights, str] = {
    "selection": "the selection", "shown": "what is shown", "camera": "what the camera sees", "box": "the cut box",
    "properties": "properties alone",
}  # fmt: skip


class BuildBench(QWidget):
    """Builds, and shows what became of them."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self._builds, self._commands = desk, desk.builds, desk.commands
        rows = column(self)
        self._make_controls(rows)
        rows.addWidget(rule())
        outcome = QWidget()
        inner = rows_in(outcome, scrolled=True)
        self._make_outcome(inner)
        inner.addStretch(1)
        self.next, self.journal, self.queue = PlanPanel(desk), JournalPage(desk), QueuePage(desk)
        self.pages = Paged("Part of the build", PAGES, (outcome, self.next, self.journal, self.queue))
        self.pages.chosen.connect(self.pages.show_page)
        rows.addWidget(self.pages, 1)
        self._follow(desk)
        self.refresh()

    def _make_controls(self, rows: QVBoxLayout) -> None:
        """What would be built, and how far it is."""
        self.title = label("Build", "title")
        self.plan = label("", "second")
        self.table = button("All builds", "flat")
        self.table.setCheckable(True)
        rows.addWidget(pair(self.title, self.table, stretch=0))
        rows.addWidget(self.plan)
        buttons = QHBoxLayout()
        self.build = QPushButton("Build")
        self.build.setProperty("role", "main")
        self.rest = QPushButton("Pause")
        self.stop = QPushButton("Stop")
        buttons.addWidget(self.build, 1)
        buttons.addWidget(self.rest)
        buttons.addWidget(self.stop)
        rows.addLayout(buttons)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        self.progress.setAccessibleName("Progress of the build")
        self.progress_words = label("", "second")
        rows.addWidget(self.progress)
        rows.addWidget(self.progress_words)
        self.build.clicked.connect(lambda: self._commands.run("build.start"))
        self.stop.clicked.connect(lambda: self._commands.run("build.stop"))
        self.rest.clicked.connect(lambda: self._commands.run("build.rest"))
        self.table.clicked.connect(lambda: self._commands.run("build.table"))

    def _make_outcome(self, rows: QVBoxLayout) -> None:
        """What became of it: words, stages, messages."""
        self.heading = label("", "heading")
        self.summary = label("", "second")
        rows.addWidget(self.heading)
        rows.addWidget(self.summary)
        self.note = label("", "")
        rows.addWidget(self.note)
        self._stages = QWidget()
        self._step_labels: list[tuple[QLabel, QLabel]] = []
        self._grid = QGridLayout(self._stages)
        self._grid.setContentsMargins(0, 4, 0, 4)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(0, 1)
        rows.addWidget(self._stages)
        self.longest = LongestLabel(self._desk)
        rows.addWidget(self.longest)
        self.messages_title = label("", "heading")
        self.messages = Sentences("Messages of the build", 240)
        rows.addWidget(self.messages_title)
        rows.addWidget(self.messages)
        self.messages.itemClicked.connect(self._go_to)

    def _follow(self, desk: Desk) -> None:
        for signal in (desk.level.opened, desk.document.edited, desk.rope.stale_changed, desk.rope.builds_changed):
            signal.connect(self.refresh)
        builds = desk.builds
        desk.rope.looking_at.connect(lambda _: self.refresh())
        builds.started.connect(self._started)
        builds.progress.connect(self._progressed)
        builds.stages_changed.connect(self._show_steps)
        builds.warned.connect(self._show_messages)
        builds.ended.connect(self._ended)
        builds.rested.connect(lambda _: self.refresh())

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        if not self._builds.running:
            self.longest.show_result(self._desk.rope.shown, True)

    # -- while it runs

    def _started(self, number: int) -> None:
        self.progress.setValue(0)
        self.progress_words.setText("Starting")
        self.heading.setText(f"Build {number}")
        self._say("")
        self.longest.show_result(None, True)
        self._show_note(None)
        self._show_steps([])
        self._show_messages([])
        self.refresh()

    def _progressed(self, stage: str, share: float, remaining: float) -> None:
        self.progress.setValue(round(1000 * share))
        self.progress_words.setText(f"{WORDS[stage]}, {100 * share:.0f} %, {clock(max(remaining, 1))} to go")

    def _ended(self, number: int, outcome: Outcome) -> None:
        words = {"done": "Done", "stopped": "Stopped; what was finished is kept for the next build"}
        self.progress_words.setText(words.get(outcome.state, outcome.sentence))
        self.refresh()

    # -- showing

    def refresh(self) -> None:
        """Show what can be done, and the build that is looked at."""
        running, now = self._builds.running, self._desk.level.now
        self.stop.setEnabled(running)
        self.rest.setVisible(running)
        self.rest.setText("Go on" if self._builds.resting else "Pause")
        if self._builds.resting:
            self.progress_words.setText("It rests, and takes no core. Its time stands still.")
        behind = self._desk.rope.behind
        self.build.setEnabled(now is not None and (not running or bool(behind)))
        self.progress.setVisible(running)
        self.progress_words.setVisible(running or bool(self.progress_words.text()))
        self._show_plan()
        if running:
            return
        result = self._desk.rope.shown
        knot = next((k for k in self._desk.rope.knots if k.number == self._desk.rope.shown_number), None)
        if result is not None and knot is not None:
            self._show_build(knot, result)
        elif knot is not None:
            self._show_ended(knot)
        else:
            self.heading.setText("No build is shown")
            self.longest.show_result(None, True)
            self._show_note(None)
            self._say("Press Build: light appears on the stage while it runs." if now is not None else "")
            self._show_steps([])
            self._show_messages([])

    def _show_plan(self) -> None:
        project, stale = self._desk.document.project, self._desk.rope.stale
        if project is None:
            self.plan.setText("Open a level first.")
            return
        draft = DRAFT_WORDS[project.recipe.draft]
        what = f"{'full build' if project.recipe.draft == 1 else draft} of recipe {project.recipe.name}"
        text = "Build"
        if self._builds.running:
            text, words = "Building", f"A {what}."
            if self._desk.rope.behind:
                text = "Build again with the changes"
                changed = ", ".join(self._desk.rope.behind)
                words = f"Changed since it began: {changed}. Rays shot by then are taken over where they still hold."
        elif stale is None:
            words = f"A {what}."
        elif stale.fresh:
            words = f"A {what}. Nothing changed since the last build."
        else:
            why = "" if stale.changes == ("never built",) else f" Changed: {', '.join(stale.changes)}{self._because()}."
            kept = f" {100 * stale.spared:.0f} % of the texels keep their light." if stale.spared else ""
            words = f"A {what}.{why}{kept}"
            text = f"Build, about {clock(stale.seconds)}"
        part = "" if self._builds.running else part_words(plan_of(project))
        if part:
            # What is foretold is a build of everything.
            text = f"Build {part}"
            words += f" Everything would take about {clock(stale.seconds)}." if stale and not stale.fresh else ""
        self.plan.setText(words[0].upper() + words[1:])
        self.build.setText(text)

    def _because(self) -> str:
        """Which edits made the last build stale, with their times."""
        manifest = self._desk.rope.manifest
        made = moment(manifest.made) if manifest is not None else None
        edits = self._desk.document.history.since(made) if made is not None else []
        told = [f"{edit.title}, {time.strftime('%H:%M', time.localtime(edit.at))}" for edit in edits[-MOST_EDITS:]]
        more = f"; {len(edits) - MOST_EDITS} edits before" if len(edits) > MOST_EDITS else ""
        return f" ({'; '.join(told)}{more})" if told else ""

    def _show_build(self, knot: Knot, result: Result) -> None:
        m = result.manifest
        self.heading.setText(f"{knot.title}, {DRAFT_WORDS[knot.draft]} of {knot.recipe}, {clock(knot.seconds)}")
        size = sum(p.bytes for p in m.pages)
        pages = len(m.pages)
        side = m.pages[0].width if pages else 0
        self._say(
            f"{count(m.texels)} texels on {pages} page{'s' if pages != 1 else ''} of {side}², {megabytes(size)}; "
            f"{m.bounces} bounces{_taken_over(m)}{made_on(knot.made)}{noise_words(m)}{told_words(m)}{whose_light(m)}"
        )
        self._show_note(knot)
        self.longest.show_result(result, self.isVisible())
        steps = [Step(n, "reused" if n in m.reused else "done", s) for n, s in m.seconds.items() if n != "total"]
        self._show_steps(steps)
        self._show_messages(list(m.findings))

    def _show_ended(self, knot: Knot) -> None:
        words = {
            "stopped": "stopped",
            "tripwire": "stopped by a tripwire",
            "stages": "ran some stages and was done",
            "failed": "failed",
            "died": "died",
        }
        self.heading.setText(
            f"{knot.title} {words.get(knot.outcome.state, knot.outcome.state)} after {clock(knot.seconds)}"
        )
        self._say(knot.outcome.sentence)
        self.longest.show_result(None, True)
        self._show_note(knot)
        self._show_steps([])
        self._show_messages([])
        self.pages.show_page(JOURNAL if knot.outcome.state in ("failed", "died", "tripwire") else self.pages.shown)

    def _say(self, summary: str) -> None:
        self.summary.setText(summary)
        self.summary.setVisible(bool(summary))

    def _show_note(self, knot: Knot | None) -> None:
        self.note.setText(knot.note if knot is not None else "")
        self.note.setVisible(bool(self.note.text()))

    def _show_steps(self, steps: list[Step]) -> None:
        while len(self._step_labels) < len(steps):
            row = len(self._step_labels)
            name, value = label("", "second", wrap=False), label("", "second", wrap=False)
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            self._grid.addWidget(name, row, 0)
            self._grid.addWidget(value, row, 1)
            self._step_labels.append((name, value))
        for row, (name, value) in enumerate(self._step_labels):
            shown = row < len(steps)
            if shown:
                step = steps[row]
                name.setText(WORDS.get(step.name, step.name))
                words = f"{step.seconds:.1f} s" if step.state == "done" else "…"
                value.setText("re-used" if step.state == "reused" else words)
            if name.isHidden() == shown:
                name.setVisible(shown)
                value.setVisible(shown)
        self._stages.setVisible(bool(steps))

    def _show_messages(self, findings: list[Finding]) -> None:
        self.messages.clear()
        heavy = [f for f in findings if f.severity != "note"]
        for finding in heavy:
            name = finding.object.rsplit("/", 1)[-1]
            item = QListWidgetItem(f"{name}: {finding.reason}" if name else finding.reason)
            item.setToolTip(finding.remedy)
            item.setData(Qt.ItemDataRole.UserRole, finding.object)
            self.messages.addItem(item)
        self.messages_title.setText(f"{len(heavy)} message{'s' if len(heavy) != 1 else ''}" if heavy else "")
        self.messages_title.setVisible(bool(heavy))
        self.messages.setVisible(bool(heavy))
        self.messages.fit()

    def _go_to(self, item: QListWidgetItem) -> None:
        now, path = self._desk.level.now, item.data(Qt.ItemDataRole.UserRole)
        if now is not None and path in now.scene.node_names:
            self._desk.selection.select(now.scene.node_names.index(path))
            self._commands.run("stage.focus")


def noise_words(manifest: Manifest) -> str:
    """How noisy the light is, and what a noise target spared and added; a line of its own."""
    noise, refined, rays = manifest.finish.noise, manifest.finish.refined, manifest.rays
    if noise is None or manifest.parts:  # of a part build it is that of what was not lit, too
        return ""
    half, most = 100 * noise.half_within, 100 * noise.most_within
    words = f"\nNoise: half of the texels within ± {half:.2g} %, nine in ten within ± {most:.2g} %"
    if refined is not None:
        words += f"; {100 * rays.gather / max(rays.most, 1):.0f} % of the rays were enough for it"
        if refined.texels:
            words += f", and {count(refined.texels)} texels were given more"
        if refined.left:
            words += f"; {count(refined.left)} are still above {100 * refined.target:.3g} %"
    return words + "."


def part_words(plan: Plan) -> str:
    """What of the level the next build lights, and how far it goes, where that is not all; for a button."""
    parts = [PARTS[plan.lights]] if plan.lights in PARTS else []
    if plan.lights == "properties":
        return parts[0]
    return ", ".join([*parts, *([f"up to {WORDS[plan.stage].lower()}"] if plan.stage in WORDS else [])])


def told_words(manifest: Manifest) -> str:
    """How good what was foretold of a build has been; a line of its own."""
    foreseen, parts = manifest.predicted.get("seconds", 0.0), []
    if foreseen and not manifest.reused and not manifest.kept.rays:
        parts.append(f"foreseen {clock(foreseen)}, took {clock(manifest.total_seconds)}")
    if manifest.remaining_error is not None:
        parts.append(f"the end that was told was off by {100 * manifest.remaining_error:.0f} % of the time")
    words = "; ".join(parts)
    return f"\n{words[0].upper()}{words[1:]}." if parts else ""


def whose_light(manifest: Manifest) -> str:
    """How much of the level a build lit, and whose light the rest is; a line of its own."""
    scope, whole = manifest.scope, max(sum(part.texels for part in manifest.parts), 1)
    if scope.box is not None:
        return f"\nLit {scope.words}: sun, sky and lamps outside gave no light."
    if scope.properties and scope.since is not None:
        return f"\nLit nothing: its light is that of {in_words(scope.since)}."
    if not manifest.parts:
        return ""
    names = parts_in_words(manifest)
    stale = [left.node.rsplit("/", 1)[-1] for left in manifest.left]
    old = f" Old by now, in shadow or out of it: {', '.join(stale[:4])}" if stale else ""
    old += f" and {len(stale) - 4} more." if len(stale) > 4 else "." if stale else ""
    told = [f"{name} {100 * part.texels / whole:.0f} %" for part, name in zip(manifest.parts, names) if part.texels]
    return f"\nLit {scope.words}. Light on the level: {', '.join(told)}.{old}"


def _taken_over(manifest: Manifest) -> str:
    """What of its rays an earlier build had shot; empty where it had none, or all."""
    had, total = manifest.kept.rays, manifest.kept.rays + manifest.kept.shot
    return f"; {100 * had / total:.0f} % of the rays were there already" if had else ""
