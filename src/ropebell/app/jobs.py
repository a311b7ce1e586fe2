"""Work off the main thread: a request is answered once, and only the newest answer of a kind counts."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.errors import RopeBellError, Stopped

# Kinds of work in lanes of one thread each, so that what a person waits for never stands behind what takes long.
LANES = {
    "table": "live",
    "picture": "live",
    "check": "long",
    "charts": "long",
    "stale": "long",
    "behind": "long",
    "account": "account",
    "verdict": "account",
    "around": "account",
    "sight": "sight",
    "known sight": "sight",
    "opened": "account",
    "cost": "account",
    "history": "over builds",
    "mean light": "over builds",
    "objections": "deliver",
    "package": "deliver",
    "numbers": "deliver",
}
MAIN_LANE = "main"


class Jobs(QObject):
    """Runs functions on a few threads and hands answers to the main thread.

    A request belongs to the generation in which it was made. `renew` begins another, such as when another level is
    opened; answers of an older one are dropped, whatever they are about.

    Signals:
        failed: a known trouble, as a sentence.
        idle: all requests are answered.
    """

    failed = pyqtSignal(str)
    idle = pyqtSignal()
    _answered = pyqtSignal(str, int, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._lanes: dict[str, ThreadPoolExecutor] = {}
        self._closed = False
        self._newest: dict[str, int] = {}
        self._receivers: dict[tuple[str, int], Callable[[Any], None]] = {}
        self._answered.connect(self._deliver)

    def start(self, kind: str, work: Callable[[], Any], receive: Callable[[Any], None]) -> None:
        """Do `work` in the background and pass its answer to `receive` here, unless a newer request of the
        same kind, or another generation, has come in between. After `close`, nothing is done any more."""
        if self._closed:
            return
        number = self._newest.get(kind, 0) + 1
        self._newest[kind] = number
        self._receivers[kind, number] = receive

        def run() -> Any:
            return work() if self._newest.get(kind) == number and not self._closed else None

        name = LANES.get(kind, MAIN_LANE)
        if name not in self._lanes:
            self._lanes[name] = ThreadPoolExecutor(1, thread_name_prefix=f"window-{name}")
        future = self._lanes[name].submit(run)
        future.add_done_callback(lambda done: self._tell(kind, number, done))

    def _tell(self, kind: str, number: int, done: Future[Any]) -> None:
        if not done.cancelled() and not self._closed:
            self._answered.emit(kind, number, None if done.exception() else done.result(), done.exception())

    def _deliver(self, kind: str, number: int, answer: Any, error: BaseException | None) -> None:
        if self._closed:
            return  # it was on its way when the window closed
        receive = self._receivers.pop((kind, number))
        if self._newest.get(kind) == number:
            if isinstance(error, RopeBellError):
                self.failed.emit(str(error))
            elif isinstance(error, Stopped):
                pass  # not wanted any more
            elif error is not None:
                raise error
            else:
                receive(answer)
        if not self._receivers:
            self.idle.emit()

    @property
    def busy(self) -> bool:
        """Whether a request is unanswered."""
        return bool(self._receivers)

    def forget(self, kind: str) -> None:
        """Drop the answers of a kind that are still to come."""
        self._newest[kind] = self._newest.get(kind, 0) + 1

    def renew(self) -> None:
        """Another generation: drop all answers that are still to come."""
        for kind in self._newest:
            self.forget(kind)

    def close(self) -> None:
        """Take no more work and deliver nothing any more; what is running ends by itself, and nobody waits for it."""
        self._closed = True
        self._receivers.clear()
        for lane in self._lanes.values():
            lane.shutdown(wait=False, cancel_futures=True)
