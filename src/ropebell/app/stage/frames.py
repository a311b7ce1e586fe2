"""Frames of the stage, drawn on a thread of their own."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.stage.camera import Camera
from ropebell.app.stage.renderer import Look, Pixels, Renderer
from ropebell.app.views import View
from ropebell.errors import GraphicsError

# Above this, in seconds, a moving picture is drawn at half size, so that it keeps up with the hand.
SLOW_FRAME = 0.045


@dataclass(frozen=True, eq=False)
class Asked:
    """What a frame shall show.

    Attributes:
        width, height: of the picture on the screen, device pixels.
        moving: whether the view is on its way, so that being quick counts for more than being sharp.
    """

    camera: Camera
    look: Look
    width: int
    height: int
    moving: bool


@dataclass(frozen=True, eq=False)
class Frame:
    """A drawn picture.

    Attributes:
        number: frames are counted in the order they were asked for.
        pixels: (height, width, 3) uint8.
        seconds: what drawing took, at full size.
        smooth: whether its edges are smooth.
    """

    number: int
    pixels: Pixels
    seconds: float
    smooth: bool


class Frames(QObject):
    """At most one frame is under way, and the newest state wins.

    Args:
        state: what is to be drawn now; None for nothing. views: all that may be asked for.

    Signals:
        taken: a `Frame` that is newer than all before it.
        failed: nothing can be drawn on this machine; a sentence, once.
    """

    taken = pyqtSignal(object)
    failed = pyqtSignal(str)
    _arrived = pyqtSignal(object, object)

    def __init__(
        self, state: Callable[[], Asked | None], views: tuple[View, ...], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._state, self._views = state, views
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="stage-gl")
        self._renderer: Renderer | None = None
        self._wanted = self._closed = self._useless = False
        self.drawing = False
        self._asked = self._newest = 0
        # Of the last plain frame, at full size.
        self.seconds = 0.0
        self._arrived.connect(self._answered)

    def change(self, act: Callable[[Renderer], None]) -> None:
        """Do something with the renderer on its thread, in order; it is made at the first need.

        Answers that are under way when the window closes come here late; there is nothing left to change then.
        """
        if self._closed or self._useless:
            return

        def run() -> None:
            if self._renderer is None:
                if self._useless:
                    return  # asked for before it was known
                self._renderer = self._made()
            act(self._renderer)

        self._thread.submit(run).add_done_callback(self._report)

    def _made(self) -> Renderer:
        try:
            return Renderer(self._views)
        except GraphicsError:
            self._useless = True
            raise

    def request(self, smooth: bool) -> None:
        """Draw the state of now, soon."""
        asked = self._state()
        if asked is None or self._closed or self._useless:
            return
        if self.drawing:
            self._wanted = True
            return
        self.drawing, self._wanted = True, False
        job = self._job(asked, smooth)

        def run() -> None:
            if self._renderer is None:
                return
            drawn = job()
            if not self._closed:
                self._arrived.emit(drawn, None)

        self._thread.submit(run).add_done_callback(self._report)

    def draw_now(self) -> None:
        """Draw with smooth edges and wait for it."""
        asked = self._state()
        if asked is not None and not self._closed and not self._useless:
            self._take(self._thread.submit(self._job(asked, True)).result())

    def close(self) -> None:
        """Give the GL context back."""
        if self._closed:
            return
        self._closed = True
        self._wanted = False

        def end() -> None:
            if self._renderer is not None:
                self._renderer.close()
                self._renderer = None

        self._thread.submit(end)
        self._thread.shutdown(wait=True)
        self.drawing = False

    def _report(self, done: Future[None]) -> None:
        if not done.cancelled() and done.exception() is not None:
            self._arrived.emit(None, done.exception())

    def _job(self, asked: Asked, smooth: bool) -> Callable[[], Frame]:
        factor = 0.5 if not smooth and asked.moving and self.seconds > SLOW_FRAME else 1.0
        width, height = max(int(asked.width * factor), 1), max(int(asked.height * factor), 1)
        self._asked += 1
        number = self._asked

        def run() -> Frame:
            assert self._renderer is not None
            began = time.perf_counter()
            pixels = self._renderer.draw(asked.camera, asked.look, width, height, smooth)
            return Frame(number, pixels, (time.perf_counter() - began) / factor**2, smooth)

        return run

    def _answered(self, frame: Frame | None, error: BaseException | None) -> None:
        self.drawing = False
        if self._closed:
            return
        if isinstance(error, GraphicsError):
            self.failed.emit(str(error))
            return
        if error is not None:
            raise error
        if frame is not None:
            self._take(frame)
        if self._wanted:
            self.request(smooth=False)

    def _take(self, frame: Frame) -> None:
        if self._closed or frame.number <= self._newest:
            return
        self._newest = frame.number
        if not frame.smooth:
            self.seconds = frame.seconds
        self.taken.emit(frame)
