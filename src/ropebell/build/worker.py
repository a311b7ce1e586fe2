"""The build process: `python -m ropebell.build.worker`, a request on standard input, told in the journal.

SIGTERM or SIGINT asks it to stop. If the library it is in does not come back within half a second, it notes the
stop and leaves: every artifact is written whole, so nothing half-done stays behind.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import tempfile
import threading
import traceback
from dataclasses import replace
from pathlib import Path
from types import FrameType

import numpy as np

from ropebell.build.journal import Journal
from ropebell.build.pictures import Pictures
from ropebell.build.pipeline import Pipeline
from ropebell.build.recipe import named, with_value
from ropebell.build.request import Request
from ropebell.errors import RopeBellError, Stopped
from ropebell.level.cutouts import Cutouts
from ropebell.level.emission_picture import EmissionPicture
from ropebell.level.scene import Emitter, PlacedLight
from ropebell.light.direct import emitter_field, light_field
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_field
from ropebell.light.surface import OpenSamples, Surface

EXIT_DONE, EXIT_FAILED, EXIT_TRIPWIRE, EXIT_STOPPED = 0, 3, 4, 130
PATIENCE = 0.5
STDERR = "stderr.txt"
WARM_LEVEL = """mtllib warm.mtl
v 0 0 0\nv 0 0 1\nv 1 0 1\nv 1 0 0\nv 0 1 0\nv 1 1 0\nv 0.5 1.2 0.2
vt 0 0\nvt 0 1\nvt 1 1\nvt 1 0
o floor
usemtl a
f 1/1 2/2 3/3 4/4
o panel
usemtl glow
f 1/1 4/4 6/3 5/2
f 5/1 6/2 7/3
"""


class _Ending:
    """Decides a build's one final state: the first word counts."""

    def __init__(self, journal: Journal) -> None:
        self._journal, self._lock, self._said = journal, threading.Lock(), False

    def say(self, outcome: str, code: int, **values: object) -> int:
        with self._lock:
            if self._said:
                # Another thread is ending this process.
                threading.Event().wait()
            self._said = True
            self._journal.write("end", outcome=outcome, **values)
            self._journal.close()
        return code


def run(request: Request, gentle: bool = True) -> int:
    """Carry out a build in this process.

    Args:
        gentle: lower this process's priority, so that the window stays quick.

    Returns:
        The exit status of the contract: 0 done, 3 failed, 4 tripwire, 130 stopped.
    """
    request.out.mkdir(parents=True, exist_ok=True)
    journal = Journal(request.out)
    ending = _Ending(journal)
    stop = threading.Event()
    _listen(stop, ending, request.out)
    if gentle:
        os.nice(max(15 - os.nice(0), 0))
    journal.write("begin", pid=os.getpid(), request=request.to_json())
    pipeline = Pipeline(request, journal, lambda: Stopped() if stop.is_set() else None)
    try:
        manifest = pipeline.run()
        return ending.say("done", EXIT_DONE, seconds=manifest["seconds"]["total"])
    except Stopped as stopped:
        if stopped.reason == "limit":
            return ending.say("tripwire", EXIT_TRIPWIRE, message=stopped.detail)
        return ending.say("stopped", EXIT_STOPPED, message=stopped.detail)
    except RopeBellError as error:
        return ending.say("failed", EXIT_FAILED if error.exit_code == 3 else error.exit_code, message=str(error))
    except MemoryError:
        message = "There is not enough memory. Lower the density or the gather rays, or set limits.memory_mb."
        return ending.say("failed", EXIT_FAILED, message=message)
    except Exception as error:  # noqa: BLE001 - the border of the process: a bug is told in the journal, not lost
        message = f"The build met a fault of this program: {type(error).__name__}: {error}"
        return ending.say("failed", EXIT_FAILED, message=message, traceback=traceback.format_exc())
    finally:
        Pictures.clear(request.out)


def _listen(stop: threading.Event, ending: _Ending, out: Path) -> None:
    """Turn signals into a wish to stop, and insist after a while."""

    def insist() -> None:
        ending.say("stopped", EXIT_STOPPED, message="stopped on request")
        # The other thread may be writing a picture just now; who waits for this process clears up after it as well.
        Pictures.clear(out)
        os._exit(EXIT_STOPPED)

    def wanted(_signal: int, _frame: FrameType | None) -> None:
        if not stop.is_set():
            stop.set()
            timer = threading.Timer(PATIENCE, insist)
            timer.daemon = True
            timer.start()

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, wanted)
        signal.signal(signal.SIGINT, wanted)


def warm() -> None:
    """Load every kernel by building a tiny level; compiles them where they never ran before."""
    with tempfile.TemporaryDirectory(prefix="ropebell-warm-") as scratch:
        folder = Path(scratch)
        (folder / "warm.mtl").write_text("newmtl a\nKd 0.5 0.5 0.5\nnewmtl glow\nKe 1 1 1\n")
        (folder / "warm.obj").write_text(WARM_LEVEL)
        out = folder / "out"
        out.mkdir()
        journal = Journal(out)
        try:
            recipe = with_value(named("sketch"), "occlusion.enabled", True)
            for key in ("finish.denoise", "finish.stitch_seams", "output.directional"):
                recipe = with_value(recipe, key, True)
            recipe = with_value(recipe, "light.noise_target", 1e-3)
            request = Request(folder / "warm.obj", out, folder / "cache", recipe, (1.0, 1.0, 1.0))
            Pipeline(request, journal, lambda: None).run()
            _warm_lights()
        finally:
            journal.close()


def _warm_lights() -> None:
    """Lights, which OBJ does not know, holes, and pictures that glow."""
    corners = np.array([[[0, 0, 0], [0, 0, 1], [1, 0, 0]]], dtype=np.float64)
    space = RaySpace(corners)
    faces = np.array([[0, 1, 0]], np.float32)
    surface = Surface(space.vertices, np.repeat(faces[:, None], 3, 1), faces, np.zeros(1, np.bool_), space.extent)
    samples = OpenSamples(
        np.ones(1, np.int32),
        np.zeros((1, 4), np.int32),
        np.zeros((1, 4, 2), np.float32),
        np.zeros(1, np.int32),
        np.zeros(1, np.uint32),
    )
    for kind in ("point", "spot", "directional"):
        light = PlacedLight(kind, kind, np.array([0.0, 1, 0]), np.array([0.0, -1, 0]), (1, 1, 1), 1.0, None, 0.1, 0.5)
        light_field(light, surface, space, samples, 1, lambda _: None)
        light_field(replace(light, size=0.1), surface, space, samples, 1, lambda _: None)
    near = TexelBlocks.of(surface, samples)
    lamp = PlacedLight("x", "point", np.array([0.0, 1, 0]), np.array([0.0, -1, 0]), (1, 1, 1), 1.0, 3.0, 0.1, 0.5)
    light_field(lamp, surface, space, samples, 1, lambda _: None, near=near)
    picture = EmissionPicture(
        np.zeros((1, 3, 2), np.float32), np.ones((2, 2, 3), np.float32), np.full(2, 10497, np.int32)
    )
    glowing = Emitter("x", np.zeros(1, np.int32), np.ones(3), True, picture)
    emitter_field(glowing, np.ones(1), surface, space, samples, 1, 1, 1, lambda _: None)
    holed = Cutouts(
        np.zeros(1, np.int32), np.zeros((1, 3, 2), np.float32), np.zeros(1, np.int32),
        np.array([[0, 1, 1, 10497, 10497]], np.int32), np.zeros(1, np.uint8),
    )  # fmt: skip
    down = np.array([[0.0, -1.0, 0.0]], np.float32)
    RaySpace(corners, None, holed).blocked(-down - space.centre.astype(np.float32), down, np.ones(1, np.float32))
    sky = SkyMap.of(np.ones((2, 4, 3), np.float32), 0.0)
    sky_field(sky, surface, space, samples, 1, 0, 1, lambda _: None)


def main() -> int:
    """Read a request from standard input and carry it out; with `--standby`, get ready first."""
    if "--standby" in sys.argv:
        os.nice(10)
        warm()
    line = sys.stdin.readline()
    if not line:
        return EXIT_DONE  # not needed after all
    request = Request.from_json(line)
    with contextlib.suppress(OSError):
        sys.stdin.close()
    request.out.mkdir(parents=True, exist_ok=True)
    log = os.open(request.out / STDERR, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
    os.dup2(log, 1)
    os.dup2(log, 2)
    os.close(log)
    return run(request)


if __name__ == "__main__":
    sys.exit(main())
