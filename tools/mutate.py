"""Read many spoiled files of all kinds: `./run mutate [--count N] [--first N]`. Exit status 1 if any of them ends in a
traceback, a crash, more than five seconds, or more than a gigabyte."""

from __future__ import annotations

import argparse
import faulthandler
import multiprocessing
import resource
import signal
import sys
import tempfile
import time
import traceback
from collections import Counter
from multiprocessing.connection import Connection
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from mutations import attempt, sample

MOST_SECONDS, MOST_BYTES = 5.0, 1 << 30
# What the interpreter and its libraries map besides.
MAPPED = 3 << 30


def _work(numbers: range, made: Path, told: Connection) -> None:
    """Attempt one input after the other, telling of each before it is begun and of how it ended."""
    faulthandler.disable()
    resource.setrlimit(resource.RLIMIT_AS, (MAPPED + MOST_BYTES, MAPPED + MOST_BYTES))
    with tempfile.TemporaryDirectory(prefix="ropebell-mutate-") as folder:
        for number in numbers:
            told.send((number, "begun", 0.0))
            signal.alarm(int(4 * MOST_SECONDS))
            began = time.monotonic()
            Path("/proc/self/clear_refs").write_text("5")  # the most that was held is counted anew
            before = _held()
            try:
                how = attempt(number, made, Path(folder) / "spoiled")
            except BaseException:  # noqa: BLE001 - all that comes here is what is looked for
                how = f"traceback: {traceback.format_exc()[-1500:]}"
            seconds = time.monotonic() - began
            if not how.startswith("traceback") and _held() - before > MOST_BYTES:
                how = f"traceback: more than {MOST_BYTES >> 20} MB"
            told.send((number, how, seconds))
    told.send((-1, "end", 0.0))


def _held() -> int:
    line = next(x for x in Path("/proc/self/status").read_text().splitlines() if x.startswith("VmHWM:"))
    return int(line.split()[1]) << 10


def run(first: int, count: int, made: Path) -> tuple[Counter[str], list[tuple[int, str]]]:
    """How many of each kind were read, and which ended badly."""
    read: Counter[str] = Counter()
    bad: list[tuple[int, str]] = []
    fork = multiprocessing.get_context("fork")
    at, end = first, first + count
    while at < end:
        ours, theirs = fork.Pipe(duplex=False)
        process = fork.Process(target=_work, args=(range(at, end), made, theirs))
        process.start()
        theirs.close()
        try:
            while True:
                number, how, seconds = ours.recv()
                if number < 0:
                    at = end
                    break
                at = number + 1
                if how == "begun":
                    continue
                if how.startswith("traceback"):
                    bad.append((number, how))
                elif seconds > MOST_SECONDS:
                    bad.append((number, f"{how}: {seconds:.1f} seconds"))
                else:
                    read[how] += 1
        except EOFError:
            process.join()
            bad.append((at - 1, f"crash: exit status {process.exitcode}"))
        process.join()
    return read, bad


def main() -> int:
    """Run from the command line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=20_000)
    parser.add_argument("--first", type=int, default=0)
    options = parser.parse_args()
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="ropebell-mutate-") as folder:
        read, bad = run(options.first, options.count, sample(Path(folder)))
    for number, how in bad:
        print(f"{number}: {how}")
    for name, count in sorted(read.items()):
        print(f"{name:<16}{count:>7}")
    print(f"{sum(read.values())} read, {len(bad)} ended badly, {time.monotonic() - began:.0f} s")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
