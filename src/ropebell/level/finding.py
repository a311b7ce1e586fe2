"""Findings: one trouble each, with a kind that stays, a place, a reason and a remedy."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, fields
from typing import Any

from ropebell.level.model import Notice

# From here on an area is written in square metres, below in square centimetres.
LEAST_SQUARE_METRES = 0.1
SEVERITIES = ("error", "warning", "note")
MOST_OTHERS = 8
OF_LIGHT = ("area", "measure", "page", "texel", "proved")

REMEDIES = {
    "missing-texture": "Export the picture with the level as PNG or JPEG",
    "degenerate": "Nothing, unless the object looks wrong; clean the mesh to silence this",
    "too-far": "Move the object near the origin and export again",
    "animations": "Export the pose that players see",
    "skin": "Export the pose that players see",
    "morph-targets": "Export the shape that players see",
    "not-triangles": "Export faces only",
    "unknown-material": "Add the material to the library or rename it",
    "missing-materials": "Put the material library beside the level",
    "lightmap-coordinates": "Give the mesh a clean second coordinate set, or none",
    "chart-too-large": "Raise density.page_size, or cut the object",
}


def short_number(value: float, digits: int = 2) -> str:
    """A number with so many significant digits, and never with an exponent that nobody reads."""
    if not math.isfinite(value) or value == 0.0:
        return f"{value:g}"
    after = digits - 1 - math.floor(math.log10(abs(value)))
    rounded = round(value, after)
    return f"{rounded:,.{max(after, 0)}f}".rstrip("0").rstrip(".") if after > 0 else f"{rounded:,.0f}"


def area_words(square_metres: float) -> str:
    """An area for people."""
    if square_metres >= LEAST_SQUARE_METRES:
        return f"{short_number(square_metres)} m²"
    return f"{short_number(1e4 * square_metres)} cm²"


@dataclass(frozen=True)
class Finding:
    """One trouble.

    Attributes:
        kind: stable identifier.
        severity: error (a build cannot be right), warning (it can harm the light), or note (it cannot by itself).
        object: node path or place in the file, empty for the whole level.
        place: (x, y, z) metres, or None.
        reason: what is so, one sentence.
        remedy: what to do. fix: name of the remedy that does it, and what it is done to. others: what else can be done,
            the same way.
        also: objects that cause it, or are like it.
        area: m² that show it. measure: how bad it is where it is worst, with its unit. page, texel: where that is on
            the pages. proved: the same texels were computed again without its cause, and it was gone. None: it is no
            finding of a build's light.
        parts: (n, 3) metres, all places that show it, while the build that found it is at hand: they are not kept.
    """

    kind: str
    severity: str
    object: str
    reason: str
    remedy: str
    place: tuple[float, float, float] | None = None
    fix: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    area: float | None = None
    measure: tuple[float, str] | None = None
    page: int | None = None
    texel: tuple[int, int] | None = None
    proved: bool | None = None
    # Findings also stand in models that are read from files, which know no arrays.
    parts: Any = field(default=None, compare=False, repr=False)
    others: tuple[tuple[str, ...], ...] = ()

    @property
    def key(self) -> str:
        """Names the same trouble in the next check, whatever its numbers then are."""
        return f"{self.kind} {self.object}".strip()

    @staticmethod
    def of(values: Any) -> Finding:
        """Back from `as_json`; a finding stays as it is.

        Raises:
            ValueError: these are no values of a finding.
        """
        if isinstance(values, Finding):
            return values
        if not isinstance(values, dict):
            raise ValueError("a finding is a table")
        words: list[Any] = [values.get(key) for key in ("kind", "severity", "object", "reason", "remedy")]
        place, fix, also = values.get("place"), values.get("fix") or (), values.get("also") or ()
        if not isinstance(fix, list | tuple) or not isinstance(also, list | tuple):
            raise ValueError("what is about a finding is a list")
        if not all(isinstance(word, str) for word in [*words, *fix, *also]) or values["severity"] not in SEVERITIES:
            raise ValueError("a finding has a kind, severity, object, reason and remedy in words")
        kind, severity, about, reason, remedy = words
        return Finding(
            kind, severity, about, reason, remedy, _place(place), tuple(fix), tuple(also), **_of_light(values),
            others=_others(values.get("others") or ()),
        )  # fmt: skip

    def as_json(self) -> dict[str, Any]:
        """Plain values for JSON; what only findings of a build's light have is left out of others."""
        values = {f.name: getattr(self, f.name) for f in fields(self) if f.name != "parts"}
        found = {key: list(value) if isinstance(value, tuple) else value for key, value in values.items()}
        found["others"] = [list(fix) for fix in self.others]
        if self.proved is None:
            return {key: value for key, value in found.items() if key not in OF_LIGHT}
        if self.measure is not None:
            found["measure"] = dict(zip(("value", "unit"), self.measure))
        return found


def _of_light(values: dict[str, Any]) -> dict[str, Any]:
    """What only findings of a build's light have.

    Raises:
        ValueError: it is none of that.
    """
    if values.get("proved") is None:
        return {}
    area, page, texel, measure = (values.get(key) for key in ("area", "page", "texel", "measure"))
    try:
        if isinstance(measure, dict):
            measure = measure["value"], measure["unit"]
        value = None if measure is None else (float(measure[0]), str(measure[1]))
        found = {
            "area": None if area is None else float(area), "measure": value,
            "page": None if page is None else int(page), "texel": None if texel is None else _pair(texel),
            "proved": bool(values["proved"]),
        }  # fmt: skip
    except (TypeError, LookupError, OverflowError) as error:
        raise ValueError("a finding of light has an area, a measure, a page and a texel in numbers") from error
    numbers = [number for number in (found["area"], *(value or ())[:1]) if number is not None]
    if not all(math.isfinite(number) for number in numbers):
        raise ValueError("a finding's area and measure are finite")
    return found


def _others(values: Any) -> tuple[tuple[str, ...], ...]:
    if not isinstance(values, list | tuple) or len(values) > MOST_OTHERS:
        raise ValueError("what else can be done about a finding is a short list")
    for fix in values:
        if not isinstance(fix, list | tuple) or not fix or not all(isinstance(word, str) for word in fix):
            raise ValueError("what can be done about a finding is a name, and what it is done to")
    return tuple(tuple(fix) for fix in values)


def _pair(texel: Any) -> tuple[int, int]:
    x, y = texel
    return int(x), int(y)


def _place(value: Any) -> tuple[float, float, float] | None:
    if value is None:
        return None
    if isinstance(value, list | tuple) and len(value) == 3 and all(isinstance(v, int | float) for v in value):
        place = (float(value[0]), float(value[1]), float(value[2]))
        if all(math.isfinite(v) for v in place):
            return place
    raise ValueError("a finding's place is three finite numbers, or nothing")


def from_notice(notice: Notice) -> Finding:
    """A reader's notice as a finding."""
    severity = "note" if notice.kind in ("degenerate", "zero-reach", "unread-extension") else "warning"
    return Finding(notice.kind, severity, notice.where, notice.text, REMEDIES.get(notice.kind, "Check the export"))
