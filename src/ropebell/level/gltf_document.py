"""Typed, bounds-checked access to a glTF JSON document. Every accessor names the place it failed at."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from ropebell.errors import LevelError

AGAIN = "Export the level again"
# Characters of a name that a message shows.
MOST_NAMED = 100


class Json:
    """A JSON object of the document together with its place, for messages such as `meshes[3].primitives[0]`.

    Every getter raises `LevelError` with that place when the value is of the wrong type or out of range.
    """

    def __init__(self, value: Any, path: Path, place: str) -> None:
        self.path, self.place = path, place
        if not isinstance(value, dict):
            raise self.wrong("is not an object")
        self.value: dict[str, Any] = value

    def wrong(self, what: str, key: str = "", remedy: str = AGAIN) -> LevelError:
        """The error for this place, to be raised by the caller."""
        place = f"{self.place}.{key}" if key and self.place else key or self.place
        value = getattr(self, "value", {})  # not there yet where it is no object at all
        name = value.get("name") if isinstance(value, dict) else None
        named = f" ('{name[:MOST_NAMED]}')" if isinstance(name, str) and name else ""
        return LevelError(f"{place}{named} {what}", self.path, remedy)

    def has(self, key: str) -> bool:
        """Whether the key is present."""
        return key in self.value

    def child(self, key: str) -> Json:
        """The object under `key`; an absent one reads as empty."""
        return Json(self.value.get(key, {}), self.path, f"{self.place}.{key}" if self.place else key)

    def children(self, key: str) -> list[Json]:
        """The objects of the array under `key`; an absent one reads as empty."""
        place = f"{self.place}.{key}" if self.place else key
        return [Json(item, self.path, f"{place}[{i}]") for i, item in enumerate(self.array(key))]

    def array(self, key: str) -> list[Any]:
        """The array under `key`; an absent one reads as empty."""
        value = self.value.get(key, [])
        if not isinstance(value, list):
            raise self.wrong("is not an array", key)
        return value

    def integer(self, key: str, default: int | None = None, least: int = 0, most: int = 2**53) -> int:
        """An integer in least … most; required when there is no default."""
        value = self.value.get(key, default)
        if isinstance(value, float) and value.is_integer():
            value = int(value)
        if not isinstance(value, int) or isinstance(value, bool):
            raise self.wrong("is missing" if value is None else "is not a whole number", key)
        if not least <= value <= most:
            raise self.wrong(f"is {value}, outside {least} … {most}", key)
        return value

    def index(self, key: str, count: int, default: int | None = None) -> int:
        """An index into a list of `count` entries; −1 is only ever the default."""
        if key not in self.value and default is not None:
            return default
        value = self.integer(key)
        if value >= count:
            raise self.wrong(f"is {value}, but there are only {count}", key)
        return value

    def number(self, key: str, default: float, least: float = -math.inf, most: float = math.inf) -> float:
        """A finite number in least … most."""
        return self._finite(self.value.get(key, default), key, least, most)

    def numbers(self, key: str, default: tuple[float, ...] | None, count: int) -> tuple[float, ...] | None:
        """A list of exactly `count` finite numbers."""
        if key not in self.value:
            return default
        values = self.array(key)
        if len(values) != count:
            raise self.wrong(f"has {len(values)} numbers, not {count}", key)
        return tuple(self._finite(v, f"{key}[{i}]") for i, v in enumerate(values))

    def _finite(self, value: Any, key: str, least: float = -math.inf, most: float = math.inf) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self.wrong("is not a number", key)
        try:
            number = float(value)
        except OverflowError:
            number = math.inf
        if not math.isfinite(number):
            raise self.wrong("is not finite", key)
        if not least <= number <= most:
            raise self.wrong(f"is {number:g}, outside {least:g} … {most:g}", key)
        return number

    def text(self, key: str, default: str) -> str:
        """A string."""
        value = self.value.get(key, default)
        if not isinstance(value, str):
            raise self.wrong("is not text", key)
        return value.encode("utf-8", "replace").decode("utf-8")  # half of a pair of surrogates is no character

    def flag(self, key: str) -> bool:
        """A boolean, false when absent."""
        value = self.value.get(key, False)
        if not isinstance(value, bool):
            raise self.wrong("is not true or false", key)
        return value
