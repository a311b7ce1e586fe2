"""Steps whose bench does not exist yet say what they will hold."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from ropebell.app.parts import column, label

WORDS = {
    "Charts": "Lightmap coordinates per mesh, pages before a build, texel density by distance of view.",
    "Lights": "All lights and emitters in one table, sky and sun, templates. A light's strength is on the Level step.",
    "Hunt": "Narrowing a failure down to the piece that causes it, on a copy, with a verdict for every trial.",
    "Compare": "Two builds from one viewpoint: what changed in settings, contents, light, faults and times.",
    "Deliver": "A package that others can build, pages and reports, and what must not go out by accident.",
}


class LaterBench(QWidget):
    """A title and a sentence."""

    def __init__(self, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        rows = column(self)
        rows.addWidget(label(step, "title"))
        rows.addWidget(label("This step will hold:", "second"))
        rows.addWidget(label(WORDS[step]))
        rows.addStretch(1)
