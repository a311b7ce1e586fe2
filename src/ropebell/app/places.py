"""Kept views of the level, by name, in the project: they go with copies of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QObject

from ropebell.app.desk import Desk
from ropebell.app.kept import Kept
from ropebell.app.stage.camera import SIDES, Camera
from ropebell.app.stage.widget import Stage


class Places(Kept):
    """Keeps, goes to and drops views.

    Args:
        name_of_now: what a new place is called, such as the object in the middle of the picture.
    """

    KEY, WORD = "places", "place"

    def __init__(self, desk: Desk, stage: Stage, name_of_now: Callable[[], str], parent: QObject | None = None) -> None:
        super().__init__(desk, parent)
        self._stage, self._name_of_now = stage, name_of_now

    def keep(self) -> None:
        """Keep the view of now, undoably."""
        c, base = self._stage.camera, self._name_of_now() or "place"
        taken = self._table()
        name = (
            base if base not in taken else next(f"{base} {n}" for n in range(2, 10_000) if f"{base} {n}" not in taken)
        )
        view: dict[str, Any] = {"eye": [round(v, 3) for v in c.eye], "yaw": round(c.yaw, 4), "pitch": round(c.pitch, 4)}
        if c.plan:
            view |= {"side": c.side, "span": round(c.span, 3)}
        self._set(f"Keep place {name}", {**taken, name: view})

    def go(self, name: str) -> None:
        """Look from a place; one that a hand has damaged is passed over."""
        view = self._table().get(name, {})
        try:
            x, y, z = (float(v) for v in view["eye"])
            camera = Camera((x, y, z), float(view["yaw"]), float(view["pitch"]))
            if view.get("side") in SIDES:
                camera = replace(camera, plan=True, side=view["side"], span=float(view["span"]))
        except (KeyError, TypeError, ValueError):
            self._desk.tell(f"The place '{name}' in project.toml cannot be read. Keep it anew.")
            return
        self._stage.go(camera)
