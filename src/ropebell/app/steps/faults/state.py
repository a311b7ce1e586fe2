"""The faults of the build that is looked at, and the account of a spot of it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.account.around import around
from ropebell.account.history import history
from ropebell.account.proof import Proof, proof_of
from ropebell.account.texel import Account, Ledger, Spot
from ropebell.account.verdict import Verdict, verdict
from ropebell.account.what_if import WhatIf, what_if
from ropebell.app.desk import Desk
from ropebell.app.places import Place, cameras
from ropebell.app.words import clock, luminance, short_count
from ropebell.build.estimate import Estimate, estimate
from ropebell.build.found import found_in
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import gather
from ropebell.build.recipe import with_setting
from ropebell.build.remedied import Tried, changed_by, judged, not_undone, read_tried, write_tried
from ropebell.build.reopened import reopen
from ropebell.build.scope import Scope
from ropebell.build.sighting import LEAK
from ropebell.checks.remedies import Fix, act, alternatives, apply_fix
from ropebell.checks.subject import short
from ropebell.compare.opened import opened_by
from ropebell.errors import RopeBellError, why
from ropebell.faults.movers import DARK_MOVER
from ropebell.faults.over_builds import Seen, known_key, note_on
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64
from ropebell.light.workers import cores

NOTHING = Seen((), (), ())
SET = "set"
# A change of a build's time is told from this share on.
WORTH_TELLING = 0.02


def remedy_words(finding: Finding) -> str:
    """What a finding's remedy does, in a few words."""
    if finding.fix and finding.fix[0] == SET:
        _, key, value = finding.fix
        words = {"true": "on", "false": "off"}.get(value, value)
        return f"Set {key.split('.')[-1].replace('_', ' ')} to {words}"
    return act(finding)


def cost_in_words(before: Estimate, after: Estimate) -> str:
    """What a change does to builds, told where it is worth telling."""
    seconds, texels = after.total_seconds - before.total_seconds, after.texels - before.texels
    if abs(seconds) < WORTH_TELLING * before.total_seconds:
        return "Costs next to nothing."
    more = "more" if texels >= 0 else "fewer"
    counted = f", {short_count(abs(texels))} texels {more}" if texels else ""
    return f"A build then takes {clock(after.total_seconds)} instead of {clock(before.total_seconds)}{counted}."


class FaultsState(QObject):
    """Follows the build that is looked at.

    Attributes:
        seen: what is found in it. chosen: the finding that is looked at, None for none.
        account, verdict: of the spot that was asked about, None until they are known.
        opened: what opened the leak that is looked at, a sentence, empty where that is not known.
        cost_of: what each remedy of what is looked at would do to later builds, a sentence, once it is known.
        proof: of what is looked at, before and after; None where there is none, or it is not known yet.
        past: lux of that spot by number of the build, empty until it is known.
        asked: where that is; trouble: why there is no account of it.

    Signals:
        changed: what is found is known anew. accounted: there is an account, or a verdict, or none any more.
    """

    changed = pyqtSignal()
    accounted = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self.seen, self.number = NOTHING, 0
        self.chosen: Finding | None = None
        self.account: Account | None = None
        self.verdict: Verdict | None = None
        self.asked: F64 | None = None
        self.trouble = ""
        self.what_if: list[WhatIf] = []
        self.proof: Proof | None = None
        self.past: dict[int, float] = {}
        self.tried: list[Tried] = []
        self.light_names: tuple[str, ...] = ()
        self.opened = ""
        self.cost_of: dict[Fix, str] = {}
        self._ledger: Ledger | None = None
        desk.rope.looking_at.connect(lambda _: self.refresh())
        desk.document.edited.connect(self.refresh_known)
        desk.document.edited.connect(self._forget_undone)
        desk.builds.started.connect(lambda _: desk.telling.over("remedy"))

    def refresh(self) -> None:
        """Read what is found in the build that is looked at."""
        rope, now = self._desk.rope, self._desk.level.now
        shown = rope.shown
        if shown is None or now is None:
            self.seen, self.number, self._ledger = NOTHING, 0, None
            self._forget()
            self.changed.emit()
            return
        folder, number = shown.folder, rope.shown_number
        if number != self.number:
            self._ledger = None
            self._forget()

        def receive(found: tuple[Manifest, Seen]) -> None:
            self.seen, self.number = found[1], number
            self._judge_remedies(number, [f for f, _ in self.seen.found], found[0])
            if self.chosen is not None and self.chosen not in [f for f, _ in self.seen.found]:
                self.chosen = None
            self.changed.emit()

        self._desk.jobs.start("faults", partial(found_in, folder), receive)

    def refresh_known(self) -> None:
        """Notes may have come or gone."""
        now = self._desk.level.now
        if now is None or not self.seen.found:
            return
        known = now.project.brief.known
        before = {f: state for f, state in self.seen.found}
        found = tuple(
            (f, "known" if note_on(f, known) else "new" if state == "known" else state) for f, state in before.items()
        )
        if found != self.seen.found:
            self.seen = replace(self.seen, found=found)
            self.changed.emit()

    def _forget(self) -> None:
        self.account, self.verdict, self.asked, self.trouble, self.what_if = None, None, None, "", []
        self.proof, self.past = None, {}
        self._desk.jobs.forget("history")
        self._desk.jobs.forget("account")
        self._desk.jobs.forget("verdict")
        self.accounted.emit()

    def choose(self, finding: Finding | None) -> None:
        """Look at a finding, and ask for the account of its place."""
        self.chosen = finding
        self.opened, self.cost_of = "", {}
        if finding is not None and (finding.fix or finding.others):
            self._ask_cost(finding)
        # A leak is no matter of the light beside it.
        if finding is not None and finding.kind == LEAK:
            self._ask_what_opened(finding)
        if finding is not None and finding.place is not None and finding.kind != LEAK:
            self.ask(finding.place, below=finding.kind == DARK_MOVER)
        else:
            self._forget()
        self.changed.emit()

    def _ask_cost(self, finding: Finding) -> None:
        """What later builds would take with each remedy, against what they take now."""
        now, rates = self._desk.level.now, self._desk.rope.rates
        if now is None:
            return

        workers = now.project.recipe.limits.workers or cores()

        def cost(one: Finding) -> str:
            project = now.project
            recipe, brief = project.recipe, project.brief
            if one.fix[0] == SET:
                recipe = with_setting(recipe, f"{one.fix[1]}={one.fix[2]}")
            else:
                brief = apply_fix(brief, one)
            try:
                mended = gather(now.source, brief, recipe, project.sky, project.tables).subject.baking
            except RopeBellError:
                return ""  # such a remedy says so itself when it is taken
            before = estimate(now.baking, project.recipe, workers, rates)
            return cost_in_words(before, estimate(mended, recipe, workers, rates))

        def work() -> dict[Fix, str]:
            return {one.fix: cost(one) for one in (finding, *alternatives(finding)) if one.fix}

        def receive(found: dict[Fix, str]) -> None:
            if self.chosen == finding:
                self.cost_of = found
                self.changed.emit()

        self._desk.jobs.start("cost", work, receive)

    def _ask_what_opened(self, leak: Finding) -> None:
        """What changed round a leak since the level was last sealed."""
        shown = self._desk.rope.shown
        if shown is None or leak.place is None or leak.measure is None:
            return
        folder, place, width = shown.folder, np.array(leak.place), leak.measure[0]

        def work() -> str:
            try:
                return opened_by(folder, place, width).sentence()
            except RopeBellError:
                return ""

        def receive(words: str) -> None:
            if self.chosen == leak:
                self.opened = words
                self.changed.emit()

        self._desk.jobs.start("opened", work, receive)

    def ask(self, place: tuple[float, float, float], normal: F64 | None = None, below: bool = False) -> None:
        """Ask why a spot looks as it does, or the spot straight below it."""
        shown = self._desk.rope.shown
        if shown is None:
            return
        self._forget()
        self.asked = np.array(place)
        self.accounted.emit()
        ledger, folder, at = self._ledger, shown.folder, self.asked

        def work() -> tuple[Ledger | None, Account | None, str]:
            try:
                opened = ledger or Ledger(reopen(folder))
                spot: Spot = opened.spot(opened.below(at) if below else at, normal)
                return opened, opened.account(spot), ""
            except RopeBellError as error:
                return ledger, None, str(error)

        def receive(found: tuple[Ledger | None, Account | None, str]) -> None:
            self._ledger, self.account, self.trouble = found
            if self._ledger is not None:
                self.light_names = self._ledger.lit.scene.node_names
            self.accounted.emit()
            if self._ledger is not None and self.account is not None:
                self._judge(self._ledger, self.account)

        self._desk.jobs.start("account", work, receive)

    def look_around(self) -> None:
        """Give the picture what the rays of the build that is looked at tell of every place."""
        picture = self._desk.picture
        shown = picture.shown
        if shown is None or shown.picture.charted is None or shown.picture.total is None:
            return
        charted, pages = shown.picture.charted, len(shown.picture.total)
        if picture.around is not None and picture.around[0] is charted:
            return
        ledger, folder, manifest = self._ledger, shown.result.folder, shown.result.manifest

        def work() -> tuple[Ledger | None, F32 | None, str]:
            try:
                opened = ledger or Ledger(reopen(folder))
                return opened, around(opened.lit, manifest), ""
            except RopeBellError as error:
                return ledger, None, str(error)

        def receive(found: tuple[Ledger | None, F32 | None, str]) -> None:
            if picture.shown is not shown:
                return  # another build is looked at by now
            self._ledger, layer, trouble = found
            if layer is None:
                self._desk.tell(f"What its rays met cannot be shown: {trouble}", "around")
                return
            # Charts that only block have pages that are never written; moving things have one, and no rays.
            written = layer[:pages]
            more = ((0, pages - len(written)), (0, 0), (0, 0), (0, 0))
            picture.around = charted, np.pad(written, more)
            picture.refresh()

        self._desk.jobs.start("around", work, receive)

    def _judge(self, ledger: Ledger, account: Account) -> None:
        chosen = self.chosen

        def answer() -> tuple[list[WhatIf], Verdict, Proof | None]:
            told = verdict(ledger.lit, account)
            about = chosen or told.finding
            return what_if(ledger.lit, account), told, proof_of(ledger.lit, about) if about is not None else None

        def receive(found: tuple[list[WhatIf], Verdict, Proof | None]) -> None:
            self.what_if, self.verdict, self.proof = found
            self.accounted.emit()
            self._look_back(ledger, account)

        self._desk.jobs.start("verdict", answer, receive)

    def _look_back(self, ledger: Ledger, account: Account) -> None:
        """What the spot had in the builds before."""
        shown = self._desk.rope.shown
        if shown is None:
            return
        normal = ledger.lit.scene.face_normals[account.spot.triangle].astype(np.float64)

        def receive(found: list[tuple[str, list[float]]]) -> None:
            if self.account is account:
                self.past = {int(name): luminance(np.array(light)) for name, light in found if name.isdecimal()}
                self.accounted.emit()

        self._desk.jobs.start("history", partial(history, shown.folder, account.spot.position, normal), receive)

    def _judge_remedies(self, number: int, found: list[Finding], manifest: Manifest) -> None:
        """Judges the remedies that this build holds, and tells once how each did."""
        now = self._desk.level.now
        if now is None:
            return
        before = read_tried(now.project.folder)
        self.tried = judged(before, number, found, manifest.scope, (manifest.brief, manifest.recipe))
        fresh = [t for t, old in zip(self.tried, before) if t.verdict != old.verdict]
        if fresh:
            self._keep(self.tried)
            said = "; ".join(f"{t.remedy.lower()} on {short(t.finding.object)}: {t.verdict}" for t in fresh)
            self._desk.telling.over("remedy")
            self._desk.telling.news(f"Remedies since build {fresh[0].build}: {said}.")

    def _forget_undone(self) -> None:
        """Drops remedies that were undone before a build judged them, and ends their notice."""
        project = self._desk.document.project
        if project is None or not any(not t.verdict for t in self.tried):
            return
        left = not_undone(self.tried, project.brief, project.recipe)
        if len(left) < len(self.tried):
            self._keep(left)
            self._desk.telling.over("remedy")

    def _keep(self, tried: list[Tried]) -> None:
        now = self._desk.level.now
        if now is None or self._desk.document.read_only:
            return
        self.tried = tried
        try:
            now.project.folder.mkdir(parents=True, exist_ok=True)
            write_tried(now.project.folder, tried)
        except OSError as error:
            self._desk.telling.trouble(f"The record of remedies cannot be kept ({why(error)}).", "save")

    def spot_of(self, finding: Finding) -> Place | None:
        """The trouble spot that was kept for a fault, None without one."""
        return next((place for place in cameras(self._desk.document.project) if place.shows(finding)), None)

    # -- acts

    def know(self, finding: Finding, note: str) -> None:
        """Accept a finding as fine here, with a note; an empty one takes that back."""

        def change(brief: Brief) -> Brief:
            known = {k: v for k, v in brief.known.items() if not (note_on(finding, {k: v}) and not note)}
            return replace(brief, known={**known, known_key(finding): note} if note else known)

        self._desk.document.edit_brief("Known here" if note else "No longer known", change)

    def remedy(self, finding: Finding) -> None:
        """Apply a finding's remedy, undoably, and offer the smallest build that checks it."""
        project = self._desk.document.project
        if project is not None and self._made_so(f"Remedy: {finding.kind}", finding):
            now = self._desk.document.project or project
            changed = changed_by((project.brief, project.recipe), (now.brief, now.recipe))
            one = Tried(finding, remedy_words(finding), self.number, changed=changed)
            self._keep([*read_tried(project.folder), one])
            about = () if finding.fix[0] == SET else (finding.object, *finding.also)
            self._offer_builds("The remedy is applied; a build shows whether it helps.", about)

    def make_so(self, one: WhatIf) -> None:
        """Make it so, undoably, and offer the smallest build that checks it."""
        account, words = self.account, f"{one.what[0].upper()}{one.what[1:]}"
        if account is not None and self._made_so(words, Finding("", "note", account.node, "", "", fix=one.fix)):
            # Whatever is changed, it is this surface that is looked at.
            about = () if one.fix[0] == SET else (account.node,)
            self._offer_builds(f"{words}: done; a build shows what it does elsewhere.", about)

    def _made_so(self, title: str, finding: Finding) -> bool:
        """Whether a finding's remedy changed anything."""
        document, before = self._desk.document, self._desk.document.project
        if before is None or not finding.fix:
            return False
        if finding.fix[0] == SET:
            _, key, value = finding.fix
            document.set_recipe(title, with_setting(before.recipe, f"{key}={value}"))
        else:
            document.edit_brief(title, lambda b: apply_fix(b, finding))
        return document.project != before and self._desk.rope.shown is not None

    def _offer_builds(self, words: str, about: tuple[str, ...]) -> None:
        """Offer a build, and one of some objects alone, of those that have a surface."""
        shown = self._desk.rope.shown
        if shown is None:
            return
        answers = [("Build", self._desk.builds.start)]
        lit = {shown.scene.node_names[n] for n in np.unique(shown.scene.node)}
        names = tuple(name for name in dict.fromkeys(about) if name in lit)
        if names:
            only = Scope(names, since=shown.folder)
            answers.insert(0, ("Light only what it is about", partial(self._desk.builds.start, only)))
        self._desk.telling.lasting(words, "remedy", *answers)
