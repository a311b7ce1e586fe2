"""Builds a level with this program, in another process, to see whether a condition shows."""

from __future__ import annotations

import contextlib
import re
import tempfile
import time
from dataclasses import dataclass, field, replace
from pathlib import Path

import ropebell
from ropebell.build.conditions import Condition
from ropebell.build.events import End, Stage, Warned
from ropebell.build.journal import read_events
from ropebell.build.precheck import gather
from ropebell.build.recipe import Recipe
from ropebell.build.request import Request
from ropebell.build.result import Outcome
from ropebell.build.runner import BuildProcess, Standby
from ropebell.build.scope import EVERYTHING
from ropebell.build.stages import STAGES
from ropebell.build.tripwires import Tripwires
from ropebell.checks.run import check
from ropebell.errors import UsageError, step, why
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT, Verdict
from ropebell.hunt.trial import NEAR, Run
from ropebell.hunt.trial_process import TrialProcess
from ropebell.level.finding import Finding
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import Level

# What depends on the machine's other work and not on the level alone.
UNSTEADY = ("seconds", "memory", "stall")
LOOK_EVERY = 0.02


@dataclass(frozen=True)
class Way:
    """How a level is built in a trial.

    Attributes:
        recipe: all settings. stage: the last stage, empty for all. sky: whether there is one.
    """

    recipe: Recipe
    stage: str = ""
    sky: bool = True

    @property
    def words(self) -> str:
        """For a person."""
        parts = [self.recipe.name, f"draft 1/{self.recipe.draft}" if self.recipe.draft > 1 else "at full quality"]
        parts += [f"up to the stage '{self.stage}'"] if self.stage else []
        parts += [] if self.sky else ["without the sky"]
        return ", ".join(parts)


@dataclass
class OwnBuild:
    """Builds levels as a request says.

    Args:
        request: what is built; its level, folder and recipe are replaced. folder: for its files.
        way: how; may be changed between runs.

    Attributes:
        found: findings of runs that showed the condition, by object; what they advise is a fix to try.

    Raises:
        UsageError: the condition is one that only a command can tell.
    """

    request: Request
    condition: Condition
    folder: Path
    way: Way
    found: dict[str, list[Finding]] = field(default_factory=dict)
    _checked: list[Finding] | None = field(default=None, repr=False)
    _waiting: Standby | None = field(default=None, repr=False)
    _trials: TrialProcess = field(default_factory=TrialProcess, repr=False)

    def __post_init__(self) -> None:
        if self.condition.what != "log":
            Tripwires((self.condition,))
        self.steady = self.condition.what not in UNSTEADY

    def run(self, level: Level, limit: float) -> Run:
        """Build a level in a folder that is gone afterwards."""
        try:
            with tempfile.TemporaryDirectory(prefix="run-", dir=self.folder, ignore_cleanup_errors=True) as made:
                place = Path(made)
                (place / "level.glb").write_bytes(plain_glb(level, f"Rope Bell {ropebell.__version__}"))
                return self._built(place, limit)
        except OSError as error:
            raise UsageError(f"it cannot be written to ({why(error)})", self.folder, step(error)) from error

    def _built(self, place: Path, limit: float) -> Run:
        way, out = self.way, place / "build"
        # What is kept from run to run would make the next one quicker: times are those of a build from nothing.
        cache = self.request.cache if self.steady else place / "cache"
        asked = self.request if way.sky else replace(self.request, sky=(0.0, 0.0, 0.0), sky_picture=None)
        request = replace(
            asked, level=place / "level.glb", out=out, recipe=way.recipe, pictures=False,
            scope=replace(EVERYTHING, stage=way.stage), stop_when=(self.condition.text,), cache=cache,
        )  # fmt: skip
        began = time.monotonic()
        ended = self._trials.build(request, limit) if self._in_one(request) else self._alone(request, limit)
        seconds = time.monotonic() - began
        events = read_events(out)
        end = next((e for e in reversed(events) if isinstance(e, End)), None)
        names = [e.object for e in events if isinstance(e, Warned) and self.condition.shown_by(e.finding)]
        names += [
            name for e in events if isinstance(e, Warned) and self.condition.shown_by(e.finding) for name in e.also
        ]
        if end is not None and end.condition == self.condition.text:
            names = [end.object, *names]
        spent = sum(e.seconds for e in events if isinstance(e, Stage) and e.stage == self.condition.name)
        if end is not None and not self.condition.name:
            spent = end.seconds
        verdict, near = self._judged(ended.state, end, ended.sentence, spent)
        for e in events if verdict == PRESENT else ():
            if isinstance(e, Warned) and e.finding.fix:
                self.found.setdefault(e.object, []).append(e.finding)
        value = end.value if end is not None else None
        return Run(verdict, seconds, ended.sentence[:200], near, tuple(dict.fromkeys(n for n in names if n)), value)

    def advice(self, level: Level, path: str) -> list[Finding]:
        """Findings about an object that name a remedy, those first that are what is looked for, then errors; those of
        the checks, and those of the runs that showed it.

        Args:
            level: the whole of it, as it is hunted on.
        """
        r = self.request
        if self._checked is None:
            self._checked = check(gather(level, r.brief, self.way.recipe, r.sky, r.tables).subject)
        about = [f for f in (*self.found.get(path, ()), *self._checked) if f.fix and path in (f.object, *f.also)]
        return sorted(about, key=lambda f: (not self.condition.shown_by(f), f.severity != "error"))

    def _in_one(self, request: Request) -> bool:
        """Whether trials may follow each other in one process: not where its memory or its time is what counts."""
        return self.steady and not request.recipe.limits.seconds

    def _alone(self, request: Request, limit: float) -> Outcome:
        began = time.monotonic()
        process = BuildProcess(request, self._waiting)
        self._waiting = Standby()
        while (ended := process.poll()) is None:
            if time.monotonic() - began > limit:
                process.kill()
            time.sleep(LOOK_EVERY)
        return ended

    def _judged(self, state: str, end: End | None, sentence: str, spent: float) -> tuple[Verdict, bool]:
        c = self.condition
        if state == "tripwire" and end is not None and end.condition == c.text:
            near = c.what in UNSTEADY and end.value is not None and end.value <= c.limit * NEAR
            # A build that is stopped at its limit never says how far it would have gone: it may be near.
            return PRESENT, near
        if c.what == "log" and re.search(c.name, sentence):
            return PRESENT, False
        if state != "done":
            return CANNOT_TELL, False
        return ABSENT, c.what == "seconds" and spent >= c.limit / NEAR

    def close(self) -> None:
        """Send away the processes that build and that wait."""
        self._trials.close()
        if self._waiting is not None:
            with contextlib.suppress(OSError):
                self._waiting.close()
            self._waiting = None


def shorter_ways(way: Way, condition: Condition) -> list[Way]:
    """Builds that may show the same sooner, the shortest first. Times, memory and standstill have none: a shorter build
    is another build there.
    """
    what, recipe = condition.what, way.recipe
    if what in UNSTEADY:
        return [replace(way, stage=condition.name)] if condition.name else []
    last = {"nonfinite": "solve", "black": "solve", "clipped": "solve"}.get(what, "")
    lean = recipe.model_copy(
        update={
            "finish": recipe.finish.model_copy(update={"denoise": False, "stitch_seams": False}),
            "occlusion": recipe.occlusion.model_copy(update={"enabled": False}),
            "output": recipe.output.model_copy(update={"directional": False}),
            "light": recipe.light.model_copy(update={"noise_target": 0.0, "bounces": 1 if recipe.bounces != 0 else 0}),
        }
    )
    found = [replace(way, stage="check")] if what == "warning" else []
    for draft in (8, 4, 2):
        if draft > recipe.draft:
            found.append(replace(way, recipe=lean.model_copy(update={"draft": draft}), stage=last))
    found.append(replace(way, stage=last))
    known = {stage.name for stage in STAGES}
    return [w for w in found if (not w.stage or w.stage in known) and w != way]
