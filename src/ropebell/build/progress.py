"""How far a build is and how long it will take, over all stages including the finishing ones."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.errors import Stopped
from ropebell.light.gate import GATE

# Seconds between two progress events: often enough to look alive, seldom enough to cost nothing.
EVERY = 0.1
# From this share of a build on, what is told of its end is held against what came.
SURE = 0.1


# Takes the share of a piece of work that is done; may raise `Stopped`.
Tick = Callable[[float], None]


# A stage that has told nothing new for so many seconds is taken to go on as predicted, up to this share of it.
SILENT, AS_PREDICTED = 0.3, 0.9


@dataclass
class _Stage:
    predicted: float
    share: float = 0.0
    moved: float | None = None

    def done(self, now: float) -> float:
        """Share that is done, as far as one can tell: some have a step in the middle that takes most of their time."""
        silent = 0.0 if self.moved is None else now - self.moved
        if silent < SILENT or self.share >= AS_PREDICTED:
            return self.share
        return min(self.share + silent / self.predicted, AS_PREDICTED)


class Progress:
    """Keeps the shares of all stages and tells of them.

    Args:
        predicted: seconds that each stage is expected to take, in working order.
        tell: called with stage, overall share 0 … 1 and remaining seconds.
        stop_wanted: asked at every step; a text stops the build.
    """

    def __init__(
        self,
        predicted: dict[str, float],
        tell: Callable[[str, float, float], None],
        stop_wanted: Callable[[], Stopped | None],
    ) -> None:
        self._stages = {name: _Stage(max(seconds, 1e-3)) for name, seconds in predicted.items()}
        self._tell, self._stop_wanted = tell, stop_wanted
        self._began = GATE.now()
        self._last = 0.0
        # What later turns out to take longer takes nothing of what was told back.
        self._told = 0.0
        self._said: list[tuple[float, float, float]] = []

    def expect(self, stage: str, seconds: float) -> None:
        """Correct a stage's prediction, once more is known."""
        self._stages[stage].predicted = max(seconds, 1e-3)

    def stage(self, name: str) -> Callable[[float], None]:
        """The tick function of a stage: takes the share of it that is done; raises `Stopped` when asked to stop."""

        def tick(share: float) -> None:
            stop = self._stop_wanted()
            if stop is not None:
                raise stop
            now, mine = GATE.now(), self._stages[name]
            if mine.moved is None or share > mine.share:
                mine.share, mine.moved = min(max(share, mine.share), 1.0), now
            if now - self._last >= EVERY or share >= 1.0:
                self._last = now
                self._told = max(self._told, self.share)
                remaining = self.remaining
                self._said.append((now, self._told, remaining))
                self._tell(name, self._told, remaining)

        return tick

    @property
    def error(self) -> float | None:
        """How far the ends that were told lie from now, at which the build ends, in the median of all that was told
        after a tenth of it, as a share of the whole time; None where it was over too soon to tell."""
        end = GATE.now()
        whole = end - self._began
        found = [abs(at + left - end) / whole for at, share, left in self._said if share >= SURE and whole > 0.0]
        return float(np.median(found)) if found else None

    @property
    def share(self) -> float:
        """Share of the whole build, by predicted time."""
        total = sum(s.predicted for s in self._stages.values())
        return sum(s.predicted * s.share for s in self._stages.values()) / total

    @property
    def remaining(self) -> float:
        """Seconds to go: what was predicted for the rest, scaled by how predictions held so far."""
        now = GATE.now()
        done = sum(s.predicted * s.done(now) for s in self._stages.values())
        rest = sum(s.predicted * (1 - s.done(now)) for s in self._stages.values())
        elapsed = now - self._began
        # Early on the prediction weighs more than the few moments measured.
        trust = min(done / 2.0, 1.0)
        factor = min(max(elapsed / done, 0.2), 5.0) if done > 0 else 1.0
        return rest * (trust * factor + (1 - trust))


def part_of(tick: Tick, low: float, high: float) -> Tick:
    """A tick function for a part of a stage."""
    return lambda share: tick(low + share * (high - low))
