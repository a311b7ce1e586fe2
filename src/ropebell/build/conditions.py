"""Conditions: what makes a build stop by itself, or a hunt call a fault present. Written once, asked everywhere.

The grammar is that of the command line's contract: `nonfinite`, `black>SHARE`, `clipped>SHARE`, `fault:KIND`,
`fault:KIND@X,Y,Z,RADIUS`, `warning:KIND`, `seconds>S`, `seconds:STAGE>S`, `memory>MB`, `stall>S`, `log:REGEX`,
`status:N`.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from ropebell.errors import UsageError
from ropebell.level.finding import Finding

KIND = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")
# By what stands before the sign: what the number after it is, and its largest value.
SHARES, AMOUNTS = ("black", "clipped"), ("seconds", "memory", "stall")
MOST = 1e9
WORDS = "nonfinite, black>SHARE, clipped>SHARE, fault:KIND, warning:KIND, seconds>S, seconds:STAGE>S, memory>MB, stall>S, log:REGEX"  # noqa: E501


@dataclass(frozen=True)
class Condition:
    """One condition.

    Attributes:
        text: as it was written.
        what: nonfinite, black, clipped, fault, warning, seconds, memory, stall, log or status.
        name: kind of finding, stage, or pattern; empty where there is none.
        limit: number that may not be passed; the status asked for.
        place: (x, y, z, radius) in metres, where a fault has to be.
    """

    text: str
    what: str
    name: str = ""
    limit: float = 0.0
    place: tuple[float, float, float, float] | None = None

    def shown_by(self, finding: Finding) -> bool:
        """Whether a finding is what a `fault` or `warning` waits for; any part of it near the place is enough."""
        if self.what not in ("fault", "warning") or finding.kind != self.name:
            return False
        if self.place is None:
            return True
        x, y, z, radius = self.place
        if finding.parts is not None and len(finding.parts):
            return bool((np.linalg.norm(finding.parts - np.array([x, y, z]), axis=1) <= radius).any())
        return finding.place is not None and math.dist(finding.place, (x, y, z)) <= radius


def parse_condition(text: str, stages: tuple[str, ...]) -> Condition:
    """Read a condition.

    Args:
        stages: names of the stages of a build.

    Raises:
        UsageError: it is none.
    """
    written = text.strip()
    for read in (_plain, _over, _of_kind, _of_text):
        found = read(written, stages)
        if found is not None:
            return found
    raise UsageError(f"'{text}' is no condition", "", f"Use one of {WORDS}")


def parse_conditions(texts: list[str] | tuple[str, ...], stages: tuple[str, ...]) -> tuple[Condition, ...]:
    """Read several; each is kept once.

    Raises:
        UsageError: one of them is none.
    """
    return tuple({c.text: c for c in (parse_condition(text, stages) for text in texts)}.values())


def _plain(text: str, _stages: tuple[str, ...]) -> Condition | None:
    return Condition(text, text) if text == "nonfinite" else None


def _over(text: str, stages: tuple[str, ...]) -> Condition | None:
    before, sign, after = text.partition(">")
    what, colon, stage = (part.strip() for part in before.partition(":"))
    if not sign or what not in (*SHARES, *AMOUNTS) or (colon and what != "seconds"):
        return None
    if colon and stage not in stages:
        raise UsageError(f"there is no stage '{stage}' in '{text}'", "", f"The stages are {', '.join(stages)}")
    most = 1.0 if what in SHARES else MOST
    limit = _number(after, text)
    if not 0.0 <= limit <= most:
        raise UsageError(f"the number of '{text}' is outside 0 … {most:g}", "", "Correct it")
    return Condition(text, what, stage, limit)


def _of_kind(text: str, _stages: tuple[str, ...]) -> Condition | None:
    what, sign, rest = text.partition(":")
    if not sign or what not in ("fault", "warning"):
        return None
    kind, at, where = rest.partition("@")
    if not KIND.fullmatch(kind) or (at and what == "warning"):
        raise UsageError(f"'{text}' names no kind of finding", "", "Kinds are lower case with hyphens: light-in-solid")
    if not at:
        return Condition(text, what, kind)
    numbers = [_number(part, text) for part in where.split(",")]
    if len(numbers) != 4 or numbers[3] <= 0.0:
        raise UsageError(f"'{text}' has no place", "", "Write @X,Y,Z,RADIUS in metres, the radius above 0")
    x, y, z, radius = numbers
    return Condition(text, what, kind, place=(x, y, z, radius))


def _of_text(text: str, _stages: tuple[str, ...]) -> Condition | None:
    what, sign, rest = text.partition(":")
    if what == "status" and sign:
        if not rest.isascii() or not rest.isdigit() or int(rest) > 255:
            raise UsageError(f"'{text}' names no exit status", "", "Use a number from 0 to 255")
        return Condition(text, what, limit=float(rest))
    if what != "log" or not sign:
        return None
    try:
        re.compile(rest)
    except (re.error, RecursionError, OverflowError) as error:
        raise UsageError(f"the pattern of '{text}' cannot be read ({error})", "", "Correct it") from error
    if not rest:
        raise UsageError(f"'{text}' has no pattern", "", "Write log: and a regular expression")
    return Condition(text, what, rest)


def _number(text: str, whole: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise UsageError(f"'{text.strip()}' in '{whole}' is no number", "", "Correct it")
    return value
