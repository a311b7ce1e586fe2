"""Kept views of the level, by name, in the project: they go with copies of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from PyQt6.QtCore import QObject

from ropebell.app.desk import Desk
from ropebell.app.kept import Kept
from ropebell.app.stage.camera import SIDES, Camera
from ropebell.app.stage.widget import Stage
from ropebell.build.project import Project
from ropebell.faults.over_builds import note_on
from ropebell.level.finding import Finding


@dataclass(frozen=True)
class Place:
    """A kept view.

    Attributes:
        note: what to look for there. fault: that it was kept for, as notes on faults name it; empty for none.
    """

    name: str
    camera: Camera
    note: str = ""
    fault: str = ""

    def shows(self, finding: Finding) -> bool:
        """Whether it was kept for this fault, in whichever build that is found."""
        return bool(self.fault) and bool(note_on(finding, {self.fault: self.name}))


def cameras(project: Project | None) -> list[Place]:
    """The kept views of a project, in their order; those that a hand has damaged are passed over."""
    kept = project.rest.get(Places.KEY, {}) if project is not None else {}
    return [
        Place(name, _camera(view), str(view.get("note", "")), str(view.get("fault", ""))) for name, view in _sound(kept)
    ]


def _sound(kept: object) -> list[tuple[str, dict[str, Any]]]:
    found = []
    for name, view in kept.items() if isinstance(kept, dict) else ():
        try:
            _camera(view)
        except (KeyError, TypeError, ValueError):
            continue
        found.append((str(name), view))
    return found


def _camera(view: dict[str, Any]) -> Camera:
    """A view's camera.

    Raises:
        KeyError, TypeError, ValueError: it is none.
    """
    x, y, z = (float(v) for v in view["eye"])
    camera = Camera((x, y, z), float(view["yaw"]), float(view["pitch"]))
    if view.get("side") in SIDES:
        camera = replace(camera, plan=True, side=view["side"], span=float(view["span"]))
    return camera


class Places(Kept):
    """Keeps, goes to and drops views.

    Args:
        name_of_now: what a new place is called, such as the object in the middle of the picture.
    """

    KEY, WORD = "places", "place"

    def __init__(self, desk: Desk, stage: Stage, name_of_now: Callable[[], str], parent: QObject | None = None) -> None:
        super().__init__(desk, parent)
        self._stage, self._name_of_now = stage, name_of_now

    def keep(self, name: str = "", note: str = "", fault: str = "") -> None:
        """Keep the view of now, undoably.

        Args:
            name: what it is called; empty: by what is looked at. note: what to look for there. fault: as of `Place`.
        """
        c, base = self._stage.camera, name or self._name_of_now() or "place"
        taken = self._table()
        name = (
            base if base not in taken else next(f"{base} {n}" for n in range(2, 10_000) if f"{base} {n}" not in taken)
        )
        view: dict[str, Any] = {"eye": [round(v, 3) for v in c.eye], "yaw": round(c.yaw, 4), "pitch": round(c.pitch, 4)}
        if c.plan:
            view |= {"side": c.side, "span": round(c.span, 3)}
        view |= {key: words for key, words in (("note", note), ("fault", fault)) if words}
        self._set(f"Keep place {name}", {**taken, name: view})

    def go(self, name: str) -> None:
        """Look from a place; one that a hand has damaged is passed over."""
        view = self._table().get(name, {})
        try:
            camera = _camera(view)
        except (KeyError, TypeError, ValueError):
            self._desk.tell(f"The place '{name}' in project.toml cannot be read. Keep it anew.")
            return
        self._stage.go(camera)
