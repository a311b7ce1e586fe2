"""Tripwires: conditions that stop a build by itself, each looked at as soon as a stage can tell."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ropebell.build.conditions import Condition
from ropebell.build.memory import resident_bytes
from ropebell.errors import Stopped, UsageError
from ropebell.level.finding import Finding
from ropebell.level.model import F64, LUMINANCE, Mask, PerTexel3
from ropebell.light.gate import GATE

# Black is under this share of the level's mean irradiance.
BLACK = 1e-3
# Seconds between two looks at what is held.
LOOK_EVERY = 0.1
# The largest number of a format of pages; the eight bits of a picture are spread over what there is.
LARGEST = {"half": 65504.0, "shared-exponent": 65408.0, "8-bit": np.inf}
# What a build alone can tell.
ASKED_OF_A_COMMAND = ("status",)


class Tripped(Stopped):
    """A tripwire stopped the build.

    Args:
        stage: in which it was seen. node: path of the one that shows it most, or empty. value: what was measured, None
            where nothing was.
    """

    def __init__(
        self, condition: Condition, stage: str, what: str, node: str = "", value: float | None = None
    ) -> None:  # fmt: skip
        super().__init__("limit", f"the tripwire {condition.text} was met in the stage '{stage}': {what}")
        self.told = {"condition": condition.text, "stage": stage, "object": node}
        if value is not None:
            self.told["value"] = value


@dataclass(frozen=True, eq=False)
class Baked:
    """What shares of a level are counted over.

    Attributes:
        areas: (N,) m² of each texel, 0 of what gets no lightmap. node: (N,) whose texel it is. names: of nodes.
    """

    areas: F64
    node: np.ndarray
    names: tuple[str, ...]

    def share(self, rows: Mask) -> tuple[float, str]:
        """Of the baked area, and the object that has most of it."""
        whole = float(self.areas.sum())
        if whole <= 0.0 or not rows.any():
            return 0.0, ""
        weight = np.bincount(self.node, self.areas * rows, minlength=len(self.names))
        return float(weight.sum()) / whole, self.names[int(weight.argmax())]


class Tripwires:
    """Looks at a build as it goes. Times and memory may be asked of from any thread.

    Args:
        conditions: any but `status`.
        white: lux that is white at the project's kept exposure, 0: none is kept. format: of the pages.

    Raises:
        UsageError: a condition is one that only a command can show.
    """

    def __init__(self, conditions: Iterable[Condition] = (), white: float = 0.0, format: str = "half") -> None:
        self.conditions = tuple(conditions)
        for condition in self.conditions:
            if condition.what in ASKED_OF_A_COMMAND:
                what = f"'{condition.text}' is about a command's exit, and a build has none while it runs"
                raise UsageError(what, "", "Leave it out")
        self._white = min(white or np.inf, LARGEST[format])
        self._lock = threading.Lock()
        self._stage, self._began = "scene", GATE.now()
        self._stage_began = self._alive = self._began
        self._looked, self._held = -1e9, 0

    def enter(self, stage: str) -> None:
        """A stage begins."""
        with self._lock:
            self._stage, self._stage_began = stage, GATE.now()

    def beat(self) -> None:
        """The build has got a step further."""
        self._alive = GATE.now()

    def _of(self, *what: str) -> list[Condition]:
        return [c for c in self.conditions if c.what in what]

    @property
    def watchful(self) -> bool:
        """Whether it has to be asked even while a stage is in a library."""
        return bool(self._of("seconds", "memory", "stall"))

    def overdue(self) -> Tripped | None:
        """Whether the build takes too long, too much, or stands still."""
        found = self._of("seconds", "memory", "stall")
        if not found:
            return None
        now = GATE.now()
        with self._lock:
            stage, since = self._stage, now - self._stage_began
            if now - self._looked > LOOK_EVERY:
                self._looked, self._held = now, resident_bytes() >> 20
        for c in found:
            if c.what == "memory":
                value, words = float(self._held), f"{self._held:,} MB are held"
            elif c.what == "stall":
                value, words = now - self._alive, f"no progress for {now - self._alive:.3g} s"
            elif c.name:
                value = since if c.name == stage else 0.0
                words = f"it has taken {value:.3g} s"
            else:
                value = now - self._began
                words = f"{value:.3g} s have passed"
            if value > c.limit:
                return Tripped(c, stage, words, value=round(value, 3))
        return None

    def found(self, findings: Iterable[Finding]) -> None:
        """Look at findings that were told just now.

        Raises:
            Tripped: one of them is waited for.
        """
        for finding in findings:
            for c in self._of("fault", "warning"):
                if c.shown_by(finding):
                    raise Tripped(c, self._stage, finding.reason, finding.object)
            self.said(f"{finding.severity} ({finding.kind}) {finding.object}: {finding.reason}", finding.object)

    def said(self, text: str, node: str = "") -> None:
        """Look at a line of the journal.

        Raises:
            Tripped: it is waited for.
        """
        for c in self._of("log"):
            if re.search(c.name, text):
                raise Tripped(c, self._stage, text, node)

    def unsound(self, node: str, count: int) -> None:
        """Something came out non-finite.

        Raises:
            Tripped: that is waited for.
        """
        for c in self._of("nonfinite"):
            raise Tripped(c, self._stage, f"{count:,} values of '{node}' are not finite", node, float(count))

    @property
    def looks_at_light(self) -> bool:
        """Whether any of them is about light."""
        return bool(self._of("black", "clipped"))

    def lit(self, light: PerTexel3, baked: Baked, whole: bool) -> None:
        """Look at the light so far.

        Args:
            light: (N, 3) lux. whole: no more is added; before that, what is black may still be lit.

        Raises:
            Tripped: too much of the baked area is black or clipped.
        """
        for c in self._of("clipped", *(["black"] if whole else [])):
            if c.what == "clipped":
                rows = ~np.isfinite(light).all(axis=1) | (light.max(axis=1, initial=0.0) > self._white)
            else:
                rows = black(light, baked.areas)
            share, node = baked.share(rows)
            if share > c.limit:
                words = f"{100 * share:.3g} % of the baked area is {c.what}, most of it on '{node}'"
                raise Tripped(c, self._stage, words, node, round(share, 6))


def black(light: PerTexel3, areas: F64) -> Mask:
    """(N,) bool: texels with nothing, or under a thousandth of the level's mean irradiance, by luminance.

    Args:
        light: (N, 3) lux. areas: (N,) m² that each stands for.
    """
    value = np.nan_to_num(light.astype(np.float64) @ LUMINANCE, nan=0.0, posinf=0.0)
    mean = float((value * areas).sum()) / max(float(areas.sum()), 1e-30)
    found: Mask = (value <= 0.0) | (value < BLACK * mean)
    return found
