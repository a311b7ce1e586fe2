"""When the stage is drawn: soon after a change, with smooth edges once the hand rests."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.stage.frames import Frames

REFINE_MS = 160
# Smooth edges wait for so many times as long as a frame takes: where drawing is slow, as without a graphics card, it
# must not hold up a build or a lamp that is being relit.
PATIENCE = 8


class Pace(QObject):
    """Asks for frames.

    Args:
        still: whether smooth edges make sense now.

    Signals:
        rested: nothing was to be drawn for a while.
    """

    rested = pyqtSignal()

    def __init__(self, frames: Frames, still: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self._frames, self._still = frames, still
        self._rest = self._timer(self._at_rest, REFINE_MS)
        # What changes in one go, such as light and its exposure, is drawn once.
        self._draw = self._timer(lambda: frames.request(smooth=False), 0)
        self._smooth = self._timer(self._refine, REFINE_MS)

    def _timer(self, then: Callable[[], None], after: int) -> QTimer:
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.setInterval(after)
        timer.timeout.connect(then)
        return timer

    def soon(self) -> None:
        """Draw anew; at most one frame is under way and the newest state wins."""
        self._rest.start()
        self._smooth.stop()
        self._draw.start()

    def now(self) -> None:
        """Draw with smooth edges and wait for it."""
        self.stop()
        self._frames.draw_now()

    def stop(self) -> None:
        """Nothing is asked for by itself any more."""
        for timer in (self._rest, self._draw, self._smooth):
            timer.stop()

    def _at_rest(self) -> None:
        self.rested.emit()
        self._smooth.start(int(1000 * PATIENCE * self._frames.seconds))

    def _refine(self) -> None:
        if not self._still():
            return
        if self._frames.drawing:
            self._smooth.start(REFINE_MS)
        else:
            self._frames.request(smooth=True)
