"""What a build tells of its stages: begun, done or re-used, how long, at what rate, and what was found."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from ropebell.build.journal import Journal
from ropebell.build.progress import Progress, Tick
from ropebell.build.store import Artifact, Fits, Store
from ropebell.level.finding import Finding
from ropebell.light.gate import GATE


@dataclass(frozen=True)
class Done:
    """A stage, or an item of one, that ended."""

    name: str
    seconds: float
    reused: bool


class StageLog:
    """Journals stages as they go.

    Attributes:
        done: in the order in which they ended. rates: of work, per second and worker, by stage. findings: told so far.
    """

    def __init__(
        self, journal: Journal, progress: Progress, store: Store, told: Callable[[list[Finding]], None]
    ) -> None:  # fmt: skip
        self._journal, self._progress, self._store, self._heard = journal, progress, store, told
        self.done: list[Done] = []
        self.rates: dict[str, float] = {}
        self.findings: list[Finding] = []

    @contextmanager
    def stage(self, name: str, item: str = "") -> Iterator[Callable[[bool], None]]:
        """Journal a stage's beginning and end; the yielded function notes whether it was re-used."""
        values = {"item": item} if item else {}
        self._journal.write("stage", stage=name, state="begun", **values)
        began = GATE.now()
        reused = False

        def note(value: bool) -> None:
            nonlocal reused
            reused = value

        yield note
        seconds = GATE.now() - began
        self.done.append(Done(name, seconds, reused))
        state = "reused" if reused else "done"
        self._journal.write("stage", stage=name, state=state, seconds=round(seconds, 4), **values)

    def cached(self, stage: str, digest: str, fits: Fits, make: Callable[[Tick], Artifact], item: str = "") -> Artifact:
        """The artifact of a digest, made if it is not there, or is damaged."""
        with self.stage(stage, item) as note:
            found = self._store.get(digest, fits)
            note(found is not None)
            if digest in self._store.damaged:
                self._journal.write("note", text=f"What was kept of the stage '{stage}' was damaged; it is made again.")
            if found is not None:
                # What is re-used takes no time; the remaining time should know.
                if not item:
                    self._progress.expect(stage, 1e-3)
                    self._progress.stage(stage)(1.0)
                return found
            made = make(self._progress.stage(stage))
            if not item:
                self._progress.stage(stage)(1.0)
            return made

    def warn(self, findings: list[Finding]) -> None:
        """Tell findings of the build."""
        self.keep(findings)
        self._heard(findings)

    def keep(self, findings: list[Finding]) -> None:
        """Tell findings that are no news: no tripwire hears of them."""
        for finding in findings:
            self.findings.append(finding)
            self._journal.write("warning", **{k: v for k, v in finding.as_json().items() if v is not None})

    def rate(self, stage: str, units: float, workers: int) -> None:
        """Note the work rate of a stage that ran, per worker, for later predictions."""
        entry = self.done[-1]
        if not entry.reused and entry.seconds > 0.05 and units > 0:
            self.rates[stage] = units / entry.seconds / workers
