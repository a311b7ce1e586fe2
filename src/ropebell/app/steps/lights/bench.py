"""The Lights bench: lights, emitters with who says how strong they are, the sky, and probes for what moves."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import Paged, column, label
from ropebell.app.steps.lights.emitters import EmittersPage
from ropebell.app.steps.lights.probes import ProbesPage
from ropebell.app.steps.lights.sky import SkyPage
from ropebell.app.steps.lights.table import LightsPage

PAGES = ("Lights", "Emitters", "Sky", "Probes")


class LightsBench(QWidget):
    """Lights, emitters, sky.

    Signals:
        go_to: a place (x, y, z) to look at.
        snap_changed: grid step in metres for lights that are dragged, 0 for none.
        page_changed: index of the page that is shown now.
    """

    go_to = pyqtSignal(object)
    snap_changed = pyqtSignal(float)
    page_changed = pyqtSignal(int)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        whole = column(self)
        whole.addWidget(label("Lights", "title"))
        self.facts = label("Open a level to see its lights.", "second")
        whole.addWidget(self.facts)
        self.lights, self.emitters, self.sky = LightsPage(desk), EmittersPage(desk), SkyPage(desk)
        self.probes = ProbesPage(desk)
        self.pages = Paged("Part of the lights", PAGES, (self.lights, self.emitters, self.sky, self.probes))
        whole.addWidget(self.pages, 1)
        self.pages.chosen.connect(self.show_page)
        self.lights.go_to.connect(self.go_to)
        self.lights.snap_changed.connect(self.snap_changed)
        self._desk = desk
        desk.level.follow(self.refresh)

    def show_page(self, index: int) -> None:
        """Show one of `PAGES`."""
        self.pages.show_page(index)
        self.page_changed.emit(index)

    def refresh(self) -> None:
        """Show what there is now."""
        now = self._desk.level.now
        if now is None:
            return
        lights = now.scene.lights
        live = sum(x.mode == "live" for x in lights)
        off = sum(x.intensity <= 0 for x in lights)
        parts = [f"{len(lights)} lights"] + [f"{n} {w}" for n, w in ((live, "live"), (off, "off")) if n]
        self.facts.setText(
            ", ".join(parts) + f"; {len(now.scene.emitters)} emitters; sky {now.project.brief.sky or 'none'}."
        )

    def set_light(self, path: str, gesture: str, **values: object) -> None:
        """Change one light, undoably."""
        self.lights.change((path,), "Move" if "position" in values else "Aim", gesture, **values)
