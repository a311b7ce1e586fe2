"""How bright the stage shows light, and when that may change."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.stage.picture import MID_GREY
from ropebell.app.stage.widget import Stage
from ropebell.app.words import lux

MOST_STOPS = 10.0


class Exposure(QObject):
    """Chosen for the view, as eyes do; another build in the same view never changes it, so that builds compare.

    Attributes:
        stops: what a person added to the chosen exposure.
        follows: whether a new view gets an exposure of its own.
        settled: whether a finished build was exposed for; until then every picture of a build is.

    Signals:
        changed: it is another one.
    """

    changed = pyqtSignal()

    def __init__(self, stage: Stage, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._stage = stage
        self._base = 1.0
        self.stops = 0.0
        self.follows = True
        self.settled = False
        stage.rested.connect(self._view_rested)

    @property
    def words(self) -> str:
        """For the strip: that light is shown as displayed, not as it is measured, and what of it is middle grey."""
        held = "" if self.follows else ", held"
        return f"sRGB for {lux(MID_GREY / self._stage.look.exposure)}{held}"

    def choose(self) -> None:
        """Choose it for what is in the picture."""
        self._base = self._stage.exposure_for_view()
        self._apply()

    def choose_until_settled(self, done: bool) -> None:
        """Choose it for a new picture, unless that was done for a finished build before.

        Args:
            done: the picture is of a finished build.
        """
        if not self.settled:
            self.settled = done
            self.choose()

    def begin(self) -> None:
        """Another level: choose anew as soon as there is light."""
        self.settled = False
        if self._stage.has_light:
            self.choose_until_settled(done=True)

    def reset(self) -> None:
        """Drop the stops and choose for what is in the picture."""
        self.stops, self.settled = 0.0, True
        self.choose()

    def add_stops(self, stops: float) -> None:
        """Show everything brighter or darker."""
        self.stops = min(max(self.stops + stops, -MOST_STOPS), MOST_STOPS)
        self._apply()

    def toggle_follow(self) -> None:
        """Let it follow the view, or hold it while looking round."""
        self.follows = not self.follows
        if self.follows:
            self.choose()
        self.changed.emit()

    def _view_rested(self) -> None:
        if self.follows and self._stage.has_light:
            self.choose()

    def _apply(self) -> None:
        self._stage.look.exposure = self._base * 2.0**self.stops
        self._stage.redraw()
        self.changed.emit()
