"""What the window remembers between runs: recent levels and the look. A damaged file never stops the start."""

from __future__ import annotations

import contextlib
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path

from ropebell.app.palette import TABLES
from ropebell.files import read_json, write_json

MOST_RECENT = 10


def preferences_file() -> Path:
    """Where they are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "ropebell" / "window.json"


@dataclass
class Preferences:
    """Remembered between runs.

    Attributes:
        recent: paths of levels and projects, newest first.
        look: dark or light.
        columns: keys of the object table's columns, empty for the usual ones.
        places: left, top, width and height of the window, by screen.
        bell: whether one rings when a build ends.
    """

    recent: list[str] = field(default_factory=list)
    look: str = "dark"
    columns: list[str] = field(default_factory=list)
    places: dict[str, list[int]] = field(default_factory=dict)
    bell: bool = False

    def place_on(self, screen: str) -> tuple[int, int, int, int] | None:
        """Where the window was left on a screen: left, top, width, height; None if it never was there."""
        found = self.places.get(screen)
        return (found[0], found[1], found[2], found[3]) if found is not None else None

    def keep_place(self, screen: str, place: tuple[int, int, int, int]) -> None:
        """Note where the window is left, and save."""
        if self.places.get(screen) != list(place):
            self.places = {**self.places, screen: list(place)}
            self.save()

    @staticmethod
    def load() -> Preferences:
        """From disk; anything unusable is dropped, the damaged file is kept beside."""
        path = preferences_file()
        try:
            values = read_json(path)
            recent = [r for r in values.get("recent", []) if isinstance(r, str)][:MOST_RECENT]
            look = values.get("look", "dark")
            columns = [c for c in values.get("columns", []) if isinstance(c, str)]
            places = {str(k): v for k, v in values.get("places", {}).items() if _is_place(v)}
            bell = values.get("bell") is True
        except FileNotFoundError:
            return Preferences()
        except (OSError, ValueError, AttributeError, TypeError):
            with contextlib.suppress(OSError):
                path.replace(path.with_suffix(".damaged.json"))
            return Preferences()
        return Preferences(recent, look if look in TABLES else "dark", columns, places, bell)

    def opened(self, path: Path) -> None:
        """Note a level or project as the newest and save."""
        text = str(path.absolute())
        self.recent = [text, *(r for r in self.recent if r != text)][:MOST_RECENT]
        self.save()

    def save(self) -> None:
        """Write to disk; failing to is no reason to disturb anyone."""
        with contextlib.suppress(OSError):
            preferences_file().parent.mkdir(parents=True, exist_ok=True)
            write_json(preferences_file(), asdict(self))


def _is_place(value: object) -> bool:
    return isinstance(value, list) and len(value) == 4 and all(isinstance(v, int) and abs(v) < 1 << 20 for v in value)
