"""A hunt: control, the shortest build that shows the fault, the search, its proof, and trials of fixes."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ropebell.digest import digest_of
from ropebell.errors import Stopped
from ropebell.hunt.effects import newly_touched, pairs_in_sight, pixels_apart
from ropebell.hunt.fixes import Fix, advised_fixes, candidates
from ropebell.hunt.narrowing import NOTHING, Culprit, Items, culprits, ddmin, proof
from ropebell.hunt.options import Enough, Options, Steered
from ropebell.hunt.outcome import FixTried, Outcome, in_words
from ropebell.hunt.own import OwnBuild, Way, shorter_ways
from ropebell.hunt.record import Entry, Record, Steering
from ropebell.hunt.splits import Splits, Thing, things_of
from ropebell.hunt.steadiness import ABSENT, PRESENT, WRONG, WRONG_PROOF, Runs, Steadiness, Verdict
from ropebell.hunt.trial import Run, Runner
from ropebell.level.model import Level, Mask
from ropebell.level.subset import Piece, joined, objects, pieces_of, subset, taken_apart

# A condition that does not show in the control is tried again until so sure.
WRONG_CONTROL = 0.02
# Runs with the whole set that two parts without the fault are cross-checked by, where it may be unsteady.
CROSS_CHECKS = 6
FIRST_LIMIT, LEAST_LIMIT, TIMES = 4 * 3600.0, 30.0, 10.0
# Trials of fixes stay within four for each halving of the objects and so many beside, but are never fewer than a few.
MOST_FIX_TRIALS, LEAST_FIX_TRIALS, MOST_ASIDE, ENOUGH_FIXES = 10, 4, 18, 2
# An object is searched for a pair of pieces if it has so few.
FEW_PIECES = 8
NAMED, PAUSE = 8, 0.5
ASKED = {
    "again": "the same once more, to be sure",
    "least": "less, until nothing can go",
    "proof": "once more, for the proof",
}
Rows = tuple[Mask, ...]


@dataclass(frozen=True)
class Suspect:
    """Something that can be left out: an object, or a piece of one."""

    node: int
    piece: Piece | None = None


class Hunt:
    """Narrows a fault of a level down.

    Args:
        level: never changed; a judge of this program builds it as its request says, any other gets it as it stands.
        judge: runs it. record: keeps the runs.
    """

    def __init__(self, level: Level, judge: Runner, record: Record, options: Options) -> None:
        self._level, self._judge, self._record, self._options = level, judge, record, options
        self._nodes = objects(level)
        self._things: list[Thing] = things_of(level, self._nodes)
        self._suspects = [Suspect(n) for n in self._nodes]
        self._runs = dict[str, Runs]()
        self._steady = Steadiness(judge.steady)
        self._phase, self._limit = "control", options.time_limit or FIRST_LIMIT
        self._within, self._steering = "", Steering()
        self._splits = Splits(self._things)
        self._names = dict[str, int]()
        self.outcome = Outcome(judge.condition.text)

    # -- trials

    @property
    def _own(self) -> OwnBuild | None:
        return self._judge if isinstance(self._judge, OwnBuild) else None

    def _key(self, items: Items, edit: str) -> str:
        parts = []
        for i in sorted(items):
            s = self._suspects[i]
            parts.append([self._level.nodes[s.node].path, s.piece.words if s.piece is not None else None])
        way = self._own.way if self._own is not None else None
        how = [way.recipe.model_dump(), way.stage, way.sky] if way is not None else []
        return digest_of(sorted(parts, key=str), how, edit)

    def _ask(self, items: Items, what: str, wrong: float = WRONG, fix: Fix | None = None) -> Verdict:
        key = self._key(items, fix.key if fix is not None else "")
        runs = self._runs.setdefault(key, Runs())
        if what == "again" and not self._steady.steady:
            while runs.present and self._steady.shown + self._steady.missed < CROSS_CHECKS:
                self._run(key, runs, items, what, fix)
        while (verdict := self._steady.verdict(runs, wrong)) is None:
            self._run(key, runs, items, what, fix)
        if verdict == PRESENT and fix is None:
            self._within = key
        return verdict

    def _run(self, key: str, runs: Runs, items: Items, what: str, fix: Fix | None) -> None:
        kept = self._record.kept(key)
        if kept is None:
            self._obey()
            # Fixes have runs of their own, which no search can use up.
            if self.outcome.trials >= self._options.most_trials and self._phase != "fixes":
                raise Enough
            run = self._made(items, fix)
        else:
            run = kept
        self.outcome.trials += 1
        self.outcome.seconds += run.seconds
        runs.add(run.verdict, run.near)
        if fix is None:
            self._steady.learn(key, runs)
            for name in run.names if run.verdict == PRESENT else ():
                self._names[name] = self._names.get(name, 0) + 1
        what = self._splits.way if what == "half" else ASKED.get(what, what)
        some = tuple(self._words(i) for i in sorted(items)[:NAMED])
        low, high = self._bounds(items)
        entry = Entry(key, self._phase, what, len(items), some, (*low, *high), self._within, run)
        self._record.add(entry, kept is None)
        self._options.watch(entry, self._left(items))

    def _made(self, items: Items, fix: Fix | None) -> Run:
        whole = frozenset(s.node for i in items if (s := self._suspects[i]).piece is None)
        rows = dict[int, list[Rows]]()
        for i in items:
            s = self._suspects[i]
            if s.piece is not None:
                rows.setdefault(s.node, []).append(s.piece.rows)
        pieces = {n: tuple(np.logical_or.reduce(r) for r in zip(*many)) for n, many in rows.items() if n not in whole}
        level = subset(self._level, whole, pieces)
        if self._own is None:
            return self._judge.run(fix.level(level) if fix is not None else level, self._limit)
        own, before = self._own, self._own.request
        try:
            if fix is not None:
                level = fix.level(level)
                own.request = replace(before, brief=fix.brief(before.brief))
            return own.run(level, self._limit)
        finally:
            own.request = before

    def _obey(self) -> None:
        """Do what a person wants: rest, stop, or search otherwise."""
        while (wanted := self._record.steering()).rest:
            time.sleep(PAUSE)
        if wanted.stop:
            raise Stopped
        if wanted.search != self._steering.search and any(wanted.search):
            self._steering = wanted
            if self._phase == "search":
                raise Steered

    def _left(self, items: Items) -> int | None:
        """About how many trials are still to come in the search."""
        return int(np.ceil(1.5 * np.log2(max(len(items), 1)))) + 2 if self._phase == "search" else None

    def _words(self, i: int) -> str:
        s = self._suspects[i]
        path = self._level.nodes[s.node].path
        return path if s.piece is None else f"{path} ({s.piece.words})"

    def _bounds(self, items: Items) -> tuple[list[float], list[float]]:
        nodes = {self._suspects[i].node for i in items}
        at = [i for i, n in enumerate(self._nodes) if n in nodes]
        if not at:
            return [0.0] * 3, [0.0] * 3
        low = np.min([self._things[i].low for i in at], axis=0)
        high = np.max([self._things[i].high for i in at], axis=0)
        return [round(float(v), 4) for v in low], [round(float(v), 4) for v in high]

    # -- the hunt

    def run(self) -> Outcome:
        """Hunt; what was found until then is told even where it had to end early.

        Raises:
            Stopped: a person wants no more. UsageError: nothing can be run.
        """
        found = self.outcome
        try:
            self._hunt()
        except Enough:
            found.unknown.append(f"The search ended after {found.trials} trials, as many as were allowed.")
        finally:
            if self._own is not None:
                self._own.close()
        found.share = round(self._steady.share, 3)
        found.words = in_words(found)
        return found

    def _hunt(self) -> None:
        found, everything = self.outcome, frozenset(range(len(self._suspects)))
        found.control = self._ask(everything, "the whole level", WRONG_CONTROL)
        if found.control != PRESENT:
            return
        found.shown = True
        whole = self._time_of(everything)
        if not self._options.time_limit:
            self._limit = max(TIMES * whole, LEAST_LIMIT)
        in_earnest = self._shorten(everything)
        found.saved = whole, self._time_of(everything)
        found.way = self._own.way.words if self._own is not None else ""
        if self._own is None:
            self._phase = "carriers"
            if self._ask(NOTHING, "no objects at all") == PRESENT:
                found.unknown.append("It shows without any object: it is not the objects that cause it.")
                return
        self._phase = "search"
        self._splits.first = self._named(everything)
        causes, everything, keep = self._search(everything)
        self._phase = "pieces"
        causes = [self._in_pieces(c, keep) for c in causes]
        self._phase = "proof"
        causes = self._prove(causes, everything, keep, in_earnest)
        if self._options.fixes:
            self._phase = "fixes"
            self._try_fixes(causes, everything, keep, in_earnest)

    def _time_of(self, items: Items) -> float:
        key = self._key(items, "")
        return next((e.run.seconds for e in reversed(self._record.entries) if e.key == key), 0.0)

    def _shorten(self, everything: Items) -> Way | None:
        """Find the shortest build that shows the fault; returns how it is built in earnest, if that is longer."""
        own = self._own
        if own is None or not self._options.shorten:
            return None
        self._phase, before = "shortest", own.way
        for way in shorter_ways(before, own.condition):
            own.way = way
            if self._ask(everything, way.words) == PRESENT:
                break
        else:
            own.way = before
        if any(own.request.sky) or own.request.sky_picture is not None:
            lit = own.way
            own.way = replace(lit, sky=False)
            if self._ask(everything, own.way.words) != PRESENT:
                own.way = lit
        return before if own.way != before else None

    def _named(self, everything: Items) -> list[Items]:
        """What runs named themselves, and what a person wants to be tried first."""
        wanted = self._of_names(self._steering.first)
        named = self._of_names(self._names)
        return [some for some in (wanted, named) if 0 < len(some) < len(everything)]

    def _of_names(self, names: Iterable[str]) -> Items:
        known = set(names)
        return frozenset(i for i, s in enumerate(self._suspects) if self._level.nodes[s.node].path in known)

    def _search(self, whole: Items) -> tuple[list[Culprit], Items, Items]:
        """The culprits; what was searched; what was kept throughout."""
        while True:
            keep = self._of_names(self._steering.trust) & whole
            gone = self._of_names(self._steering.leave_out) & whole
            everything = whole - keep - gone
            try:
                if (keep or gone) and self._ask(everything | keep, "what a person left in") != PRESENT:
                    self.outcome.unknown.append(
                        "Without what was left out by hand it does not show: that was put back."
                    )
                    everything = whole - keep
                causes, _ = culprits(everything, keep, self._ask, self._splits)
                return causes, everything, keep
            except Steered:
                self._splits.first = self._named(whole)

    def _in_pieces(self, cause: Culprit, keep: Items) -> Culprit:
        """The same with objects taken apart as far as only a part of one is needed."""
        for item in sorted(cause.items):
            beside = (cause.whole - {item}) | keep
            now, parts = item, pieces_of(self._level, self._suspects[item].node)
            while len(parts) > 1:
                found = self._piece_among(parts, beside)
                if found is None:
                    break
                self._suspects.append(Suspect(found.node, found))
                now, parts = len(self._suspects) - 1, taken_apart(self._level, found)
            cause = Culprit((cause.items - {item}) | {now}, cause.carriers)
        return cause

    def _piece_among(self, parts: Sequence[Piece], beside: Items) -> Piece | None:
        """The part of an object that shows the fault while the rest of it does not, None if that is all of it."""
        first = len(self._suspects)
        self._suspects += [Suspect(part.node, part) for part in parts]
        group = frozenset(range(first, first + len(parts)))
        while len(group) > 1:
            halves = self._halves(sorted(group))
            says = [self._ask(half | beside, "half of it") for half in halves]
            if PRESENT not in says:
                if len(parts) > FEW_PIECES:
                    break
                group = ddmin(group, beside, self._ask)
                break
            if says[0] == says[1]:
                break  # either is enough, so that both are to blame
            group = halves[says.index(PRESENT)]
        chosen = [parts[i - first] for i in sorted(group)]
        return joined(chosen) if len(chosen) < len(parts) else None

    @staticmethod
    def _halves(order: Sequence[int]) -> tuple[Items, Items]:
        middle = len(order) // 2
        return frozenset(order[:middle]), frozenset(order[middle:])

    def _prove(self, causes: list[Culprit], everything: Items, keep: Items, in_earnest: Way | None) -> list[Culprit]:
        """Make sure; what turns out otherwise is searched again."""
        found = self.outcome

        def sure(items: Items, what: str) -> Verdict:
            return self._ask(items, what, WRONG_PROOF)

        for _ in range(3):
            as_objects = [self._as_objects(c) for c in causes]
            rows = proof(as_objects, everything, keep, sure)
            if all(says == should for _, _, should, says in rows) or self._steady.steady:
                break
            # Surer runs said otherwise than the search took them for: it goes on from what is known now.
            again, _ = culprits(everything, keep, self._ask, self._splits)
            if [c.items for c in again] == [c.items for c in as_objects]:
                break
            causes = again
        found.rows = [(what, should, says) for _, what, should, says in rows]
        for cause in causes:
            if any(self._suspects[i].piece is not None for i in cause.items):
                says = sure(cause.whole | keep, "the piece and its carriers alone")
                found.rows.append(("the piece and its carriers alone", PRESENT, says))
                less = (everything - self._as_objects(cause).items) | self._rest_of(cause) | keep
                if len(causes) == 1 and less != everything:
                    says = sure(less, "everything but the piece")
                    found.rows.append(("everything but the piece", ABSENT, says))
        if in_earnest is not None and self._own is not None:
            short, self._own.way = self._own.way, in_earnest
            gone = NOTHING.union(*(self._as_objects(c).items for c in causes))
            says = sure((everything - gone) | keep, "everything but the culprit, built in earnest")
            found.rows.append(("everything but the culprit, built in earnest", ABSENT, says))
            self._own.way = short
        found.proved = bool(causes) and all(should == says for _, should, says in found.rows)
        for cause in causes:
            found.culprits.append([self._named_piece(i) for i in sorted(cause.items)])
            found.carriers += [self._words(i) for i in sorted(cause.carriers)]
        return causes

    def _as_objects(self, cause: Culprit) -> Culprit:
        """With whole objects in place of pieces."""
        return Culprit(frozenset(self._nodes.index(self._suspects[i].node) for i in cause.items), cause.carriers)

    def _rest_of(self, cause: Culprit) -> Items:
        """The other pieces of objects that a culprit is pieces of, as one suspect each."""
        rest = set[int]()
        for i in cause.items:
            piece = self._suspects[i].piece
            if piece is None:
                continue
            mesh = self._level.meshes[self._level.nodes[piece.node].mesh]
            rows = tuple(~r if len(r) == len(p.triangles) else r for r, p in zip(piece.rows, mesh.primitives))
            if any(r.any() for r in rows):
                self._suspects.append(Suspect(piece.node, Piece(piece.node, f"all but {piece.words}", rows)))
                rest.add(len(self._suspects) - 1)
        return frozenset(rest)

    def _named_piece(self, i: int) -> tuple[str, str | None]:
        s = self._suspects[i]
        return self._level.nodes[s.node].path, s.piece.words if s.piece is not None else None

    # -- fixes

    def _try_fixes(self, causes: list[Culprit], everything: Items, keep: Items, in_earnest: Way | None) -> None:
        if not self.outcome.proved:
            return
        others = [self._as_objects(c) for c in causes]
        for number, cause in enumerate(others):
            before = self.outcome.trials
            tried: list[FixTried] = []
            for item in sorted(cause.items):
                tried += self._fixes_of(item, cause, keep, before)
                if any(t.verdict == ABSENT for t in tried):
                    break
            good = sorted((t for t in tried if t.verdict == ABSENT), key=lambda t: t.fix.rank)
            rest = NOTHING.union(*(c.items for i, c in enumerate(others) if i != number))
            for place, best in enumerate(good[:2]):
                says = self._in_earnest((everything - rest) | keep, best.fix, in_earnest)
                good[place] = replace(best, again=says)
                if says == ABSENT:
                    if self._own is not None:
                        beside = self._level, best.fix, self._own.request
                        good[place] = replace(
                            good[place], touches=newly_touched(*beside), pixels=pixels_apart(*beside),
                            sight=pairs_in_sight(*beside),
                        )  # fmt: skip
                    break
            bad = [t for t in tried if t.verdict != ABSENT]
            self.outcome.fixes += sorted(good, key=lambda t: t.again != ABSENT) + bad

    def _fixes_of(self, item: int, cause: Culprit, keep: Items, before: int) -> list[FixTried]:
        node = self._suspects[item].node
        path = self._level.nodes[node].path
        own = self._own
        advised = list(advised_fixes(path, own.advice(self._level, path))) if own is not None else []
        few = int(4 * np.log2(max(len(self._nodes), 2))) + MOST_ASIDE - before
        most = min(MOST_FIX_TRIALS, max(few, LEAST_FIX_TRIALS))
        tried: list[FixTried] = []
        helped = set[str]()
        for number, fix in enumerate((*advised, *candidates(self._level, node, own is not None))):
            # What is known to help is tried in any case.
            over = number >= len(advised) and self.outcome.trials - before >= most
            if over or len(helped) >= ENOUGH_FIXES:
                break
            sort = fix.what.partition(" ")[0]
            if sort in helped:
                continue
            # Each is tried on a fresh copy that shows the fault untouched.
            if self._ask(cause.whole | keep, "untouched") != PRESENT:
                break
            verdict = self._ask(cause.whole | keep, f"{fix.what}, {fix.amount:g} {fix.unit}".strip(), fix=fix)
            tried.append(FixTried(fix, verdict))
            if verdict == ABSENT:
                helped.add(sort)
        return tried

    def _in_earnest(self, items: Items, fix: Fix, way: Way | None) -> Verdict:
        """The fix on a fresh copy of the whole level, built as it is in earnest."""
        own = self._own
        short = own.way if own is not None else None
        try:
            if own is not None and way is not None:
                own.way = way
            return self._ask(items, f"{fix.what}, on a fresh copy of the whole level", WRONG_PROOF, fix)
        finally:
            if own is not None and short is not None:
                own.way = short
