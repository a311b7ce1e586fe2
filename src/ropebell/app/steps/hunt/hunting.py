"""The hunt that runs beside the window: started, followed by its log, steered by a file, and gone on with later."""

from __future__ import annotations

import contextlib
import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QProcess, QTimer, pyqtSignal

from ropebell.app.desk import Desk
from ropebell.app.processes import end
from ropebell.errors import BuildError, step, why
from ropebell.files import read_json, write_json
from ropebell.hunt.outcome import read_result
from ropebell.hunt.record import LOG, RESULT, STEER, Entry, read_log
from ropebell.interpreter import own_command

HUNTS, ASKED = "hunts", "asked.json"
POLL_MS = 300


@dataclass(frozen=True)
class Asked:
    """What is hunted for.

    Attributes:
        condition: as it is written. worker: build worker, or `all`. command: of a compiler from outside, empty: this
            program builds. as_built: no shorter build is looked for.
    """

    condition: str
    worker: str = ""
    command: str = ""
    as_built: bool = False

    def arguments(self, target: Path, folder: Path) -> list[str]:
        """Of the command line."""
        found = ["hunt", str(target), "--while", self.condition, "--out", str(folder), "--json"]
        found += ["--worker", self.worker] if self.worker and not self.command else []
        found += ["--command", self.command] if self.command else []
        return [*found, *(["--as-built"] if self.as_built else [])]


class Hunting(QObject):
    """One hunt, the newest of the project.

    Attributes:
        folder: of it, None before the first. asked: what for. entries: its runs so far. result: what was found, empty
            while nothing is. trouble: why it ended early.

    Signals:
        changed: any of that is new.
    """

    changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self.folder: Path | None = None
        self.asked: Asked | None = None
        self.entries: list[Entry] = []
        self.result: dict[str, Any] = {}
        self.trouble = ""
        self._size = -1
        self._wishes: dict[str, Any] = {}
        self._process = QProcess(self)
        self._process.setStandardOutputFile(QProcess.nullDevice())
        self._process.finished.connect(self._ended)
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._follow)
        desk.level.opened.connect(self._opened)

    @property
    def running(self) -> bool:
        """Whether it goes on."""
        return self._process.state() != QProcess.ProcessState.NotRunning

    @property
    def resting(self) -> bool:
        """Whether a person lets it rest."""
        return self.running and bool(self._wishes.get("rest"))

    @property
    def cut_off(self) -> bool:
        """Whether there is one that can be gone on with."""
        return self.folder is not None and not self.running and not self.result and self.asked is not None

    def _opened(self) -> None:
        """The newest hunt of the project that was opened."""
        now = self._desk.level.now
        if now is None or self.running:
            return
        folder = now.project.folder / HUNTS
        kept = sorted(p for p in folder.glob("[0-9]*") if (p / ASKED).is_file()) if folder.is_dir() else []
        if (kept[-1] if kept else None) != self.folder:
            self._look_at(kept[-1] if kept else None)

    def _look_at(self, folder: Path | None) -> None:
        self.folder, self.asked, self.entries, self.result, self.trouble = folder, None, [], {}, ""
        self._size, self._wishes = -1, {}
        if folder is not None:
            with contextlib.suppress(OSError, ValueError, LookupError, TypeError):
                v = read_json(folder / ASKED)
                self.asked = Asked(str(v["condition"]), str(v["worker"]), str(v["command"]), bool(v["as_built"]))
        self._read()
        self.changed.emit()

    def start(self, asked: Asked) -> None:
        """Begin a hunt on what is open, as it is set now.

        Raises:
            BuildError: the project's folder cannot be written.
        """
        now = self._desk.level.now
        if now is None or self.running:
            return
        try:
            self._desk.document.save_for_build()
            folder = now.project.folder / HUNTS
            taken = [int(p.name) for p in folder.glob("[0-9]*") if p.name.isdigit()] if folder.is_dir() else []
            made = folder / f"{max(taken, default=0) + 1:04}"
            made.mkdir(parents=True)
            write_json(made / ASKED, asdict(asked))
        except OSError as error:
            raise BuildError(f"no hunt can be begun ({why(error)})", now.project.folder, step(error)) from error
        self._look_at(made)
        self._run(asked, made)

    def go_on(self) -> None:
        """Go on with the newest hunt from where it was cut off."""
        if self.cut_off and self.asked is not None and self.folder is not None:
            self._wish()
            self._run(self.asked, self.folder)

    def _run(self, asked: Asked, folder: Path) -> None:
        now = self._desk.level.now
        assert now is not None
        self.trouble = ""
        program, *arguments = own_command("ropebell.cli.main", *asked.arguments(now.project.folder, folder))
        self._process.start(program, arguments)
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """End it after the run that is under way; it can be gone on with."""
        self._wish(stop=True)
        self._process.terminate()

    def rest(self) -> None:
        """Let it rest, or go on."""
        self._wish(**{**self._wishes, "rest": not self.resting})
        self.changed.emit()

    def steer(self, key: str, paths: tuple[str, ...]) -> None:
        """Try some objects next, trust them, or leave them out.

        Args:
            key: try, trust or leave_out.
        """
        self._wish(**{**self._wishes, key: list(paths)})

    def _wish(self, **wishes: Any) -> None:
        self._wishes = wishes
        if self.folder is not None:
            try:
                write_json(self.folder / STEER, wishes)
            except OSError as error:
                self._desk.tell(f"The hunt cannot be told so: {why(error)}. {step(error)}.", "hunt")

    def _follow(self) -> None:
        if self._read():
            self.changed.emit()

    def _read(self) -> bool:
        """Take in what is new in the log; whether anything is."""
        if self.folder is None:
            return False
        if not self.running:
            self.result = read_result(self.folder / RESULT)
        try:
            size = (self.folder / LOG).stat().st_size
        except OSError:
            return False
        if size == self._size:
            return False
        self._size, self.entries = size, read_log(self.folder)
        return True

    def _ended(self, code: int, _status: QProcess.ExitStatus) -> None:
        self._timer.stop()
        said = bytes(self._process.readAllStandardError().data()).decode(errors="replace").strip()
        self._read()
        if not self.result and not self._wishes.get("stop"):
            self.trouble = said.splitlines()[-1].removeprefix("ropebell: ") if said else f"It ended with status {code}."
        self.changed.emit()

    def close(self) -> None:
        """End it; it can be gone on with when the project is opened again."""
        self._timer.stop()
        end(self._process)


def as_text(entries: list[Entry]) -> str:
    """The log, to be pasted anywhere."""
    rows = [
        f"{i + 1:>4}  {e.run.verdict:<11}  {e.objects:>6} in  {e.run.seconds:7.1f} s  {e.phase}: {e.what}"
        + (f"  [{', '.join(e.some)}]" if e.objects <= len(e.some) else "")
        + (f"  {json.dumps(e.run.told, ensure_ascii=False)}" if e.run.told else "")
        for i, e in enumerate(entries)
    ]
    return "\n".join(rows)
