"""Work off the main thread: a request is answered once, and only the newest answer of a kind counts."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.errors import RopeBellError


class Jobs(QObject):
    """Runs functions on one worker thread and hands answers to the main thread.

    Signals:
        failed: a known trouble, as a sentence.
        idle: all requests are answered.
    """

    failed = pyqtSignal(str)
    idle = pyqtSignal()
    _answered = pyqtSignal(str, int, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="window-job")
        self._closed = False
        self._newest: dict[str, int] = {}
        self._receivers: dict[tuple[str, int], Callable[[Any], None]] = {}
        self._answered.connect(self._deliver)

    def start(self, kind: str, work: Callable[[], Any], receive: Callable[[Any], None]) -> None:
        """Do `work` in the background and pass its answer to `receive` here, unless a newer request of the
        same kind has come in between. After `close`, nothing is done any more."""
        if self._closed:
            return
        number = self._newest.get(kind, 0) + 1
        self._newest[kind] = number
        self._receivers[kind, number] = receive

        def run() -> Any:
            return work() if self._newest.get(kind) == number else None

        future = self._pool.submit(run)
        future.add_done_callback(lambda done: self._tell(kind, number, done))

    def _tell(self, kind: str, number: int, done: Future[Any]) -> None:
        if not done.cancelled():
            self._answered.emit(kind, number, None if done.exception() else done.result(), done.exception())

    def _deliver(self, kind: str, number: int, answer: Any, error: BaseException | None) -> None:
        if self._closed:
            return  # it was on its way when the window closed
        receive = self._receivers.pop((kind, number))
        if self._newest.get(kind) == number:
            if isinstance(error, RopeBellError):
                self.failed.emit(str(error))
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

    def close(self) -> None:
        """Let the running work end, take no more, and deliver nothing any more."""
        self._closed = True
        self._receivers.clear()
        self._pool.shutdown(wait=True, cancel_futures=True)
