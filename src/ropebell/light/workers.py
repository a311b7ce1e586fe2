"""Work cut into chunks for a few threads; the caller hears of progress and can stop between chunks."""

from __future__ import annotations

import os
import queue
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from ropebell.light.gate import GATE

Gives = TypeVar("Gives")
# Fewer rows are done before a second thread has begun.
WORTH_HALVING = 4096


def cores() -> int:
    """Threads of this machine."""
    return os.cpu_count() or 1


def halves(
    rows: NDArray[np.int64], work: Callable[[NDArray[np.int64]], Gives], worth: int = WORTH_HALVING
) -> list[Gives]:  # fmt: skip
    """What `work` makes of both halves of some rows, on two threads; fewer rows than are worth it are no halves."""
    if len(rows) < worth or cores() < 2:
        return [work(rows)]
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(work, (rows[: len(rows) // 2], rows[len(rows) // 2 :])))


def run_chunks(
    count: int, chunk: int, work: Callable[[int, int], None], workers: int, tick: Callable[[float], None]
) -> None:
    """Call `work(first, end)` for consecutive chunks of `range(count)`; order and thread do not matter to it.

    Args:
        chunk: items per call, chosen so that a call takes well under 0.3 s.
        tick: called on this thread with the share done; if it raises, chunks that have not begun are dropped, the
            rest is awaited, and the exception goes on. So does the first exception of `work`.
    """
    spans = iter([(first, min(first + chunk, count)) for first in range(0, count, chunk)])
    total = max(-(-count // chunk), 1)
    lock = threading.Lock()
    ended: queue.SimpleQueue[BaseException | None] = queue.SimpleQueue()
    stop = threading.Event()

    def loop() -> None:
        try:
            while not stop.is_set():
                # A short wait, so that a build at rest can still be stopped.
                if GATE.closed:
                    GATE.wait(0.1)
                    continue
                with lock:
                    span = next(spans, None)
                if span is None:
                    break
                work(*span)
                ended.put(None)
        except BaseException as error:  # noqa: BLE001 - handed to the caller's thread
            ended.put(error)

    threads = [threading.Thread(target=loop, name=f"light-{i}") for i in range(max(min(workers, total), 1))]
    for thread in threads:
        thread.start()
    done = 0
    try:
        while done < total and count > 0:
            try:
                error = ended.get(timeout=0.1)
            except queue.Empty:
                tick(done / total)
                continue
            if error is not None:
                raise error
            done += 1
            tick(done / total)
    finally:
        stop.set()
        for thread in threads:
            thread.join()
    if count <= 0:
        tick(1.0)
