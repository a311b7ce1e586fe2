"""What a build process does while it waits: it loads every kernel, and lays out the meshes of the level that is open,
which no build of that level can do without."""

from __future__ import annotations

import contextlib
import json
import os
import select
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from ropebell.build.journal import Journal
from ropebell.build.layouts import StoredLayouts
from ropebell.build.pipeline import build
from ropebell.build.recipe import named, with_value
from ropebell.build.request import Request
from ropebell.build.store import Store
from ropebell.charts.shapes import placed_shapes
from ropebell.errors import Stopped
from ropebell.files import STALE_SECONDS, remove_own
from ropebell.level.cutouts import Cutouts
from ropebell.level.emission_picture import EmissionPicture
from ropebell.level.open import open_level
from ropebell.level.placed_light import PlacedLight
from ropebell.level.prepare import prepare
from ropebell.level.scene import Emitter
from ropebell.light.direct import emitter_field, light_field
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_field
from ropebell.light.solve import gathered_light
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Hits

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

SCRATCH = "ropebell-warm-"


def ahead_line(level: Path, cache: Path) -> bytes:
    """Asks a waiting process to lay out a level's meshes."""
    return json.dumps({"ahead": [str(level), str(cache)]}).encode() + b"\n"


def wanted(source: int) -> str:
    """The first line that is a request for a build, empty at the end; what is asked for ahead is done meanwhile.

    Args:
        source: file descriptor of the lines.
    """
    lines = _Lines(source)
    while line := lines.next():
        try:
            level, cache = json.loads(line)["ahead"]
        except KeyError:
            return line
        lay_out(Path(level), Path(cache), lines)
    return ""


class _Lines:
    """Lines of a pipe, which can be asked whether there is another."""

    def __init__(self, source: int) -> None:
        self._pipe, self._read = source, b""

    def next(self) -> str:
        """Wait for a line; empty at the end."""
        while b"\n" not in self._read:
            part = os.read(self._pipe, 1 << 16)
            if not part:
                break
            self._read += part
        line, _, self._read = self._read.partition(b"\n")
        return line.decode()

    @property
    def waiting(self) -> bool:
        """Whether there is more to read, or the other side is gone."""
        return bool(self._read) or bool(select.select([self._pipe], [], [], 0)[0])


def lay_out(level: Path, cache: Path, lines: _Lines) -> None:
    """Keep the layouts of a level's meshes, until something else is asked for; troubles are for the build to tell."""

    def tick(_share: float) -> None:
        if lines.waiting:
            raise Stopped

    # Stopped, or any trouble: whoever waits for a build must get it.
    with contextlib.suppress(Exception):
        # One at a time, so that whoever looks at the level meanwhile has a core to look with.
        placed_shapes(prepare(open_level(level)).baking, StoredLayouts(Store(cache)), 1, tick)


def warm() -> None:
    """Load every kernel by building a tiny level; compiles them where they never ran before."""
    _clear_scratch()
    with tempfile.TemporaryDirectory(prefix=SCRATCH) as scratch:
        folder = Path(scratch)
        (folder / "warm.mtl").write_text("newmtl a\nKd 0.5 0.5 0.5\nnewmtl glow\nKe 1 1 1\n")
        (folder / "warm.obj").write_text(WARM_LEVEL)
        recipe = with_value(named("sketch"), "occlusion.enabled", True)
        for key in ("finish.denoise", "finish.stitch_seams", "output.directional"):
            recipe = with_value(recipe, key, True)
        # From nothing, then with what was shot: to another target, and at another density.
        for number, (target, density) in enumerate(((1e-3, 4.0), (0.5, 4.0), (0.5, 5.0), (0.0, 5.0))):
            recipe = with_value(with_value(recipe, "light.noise_target", target), "density.texels_per_metre", density)
            out = folder / f"{number}"
            out.mkdir()
            journal = Journal(out)
            try:
                request = Request(folder / "warm.obj", out, folder / "cache", recipe, (1.0, 1.0, 1.0))
                build(request, journal)
            finally:
                journal.close()
        _warm_lights()


def _clear_scratch() -> None:
    """Remove what processes that were killed in getting ready have left."""
    for left in Path(tempfile.gettempdir()).glob(f"{SCRATCH}*"):
        with contextlib.suppress(OSError):
            state = left.lstat()
            if state.st_uid == os.getuid() and state.st_mtime < time.time() - STALE_SECONDS:
                remove_own(left, ".+", ".+")


def _warm_lights() -> None:
    """Lights, which OBJ does not know, holes, and pictures that glow."""
    corners = np.array([[[0, 0, 0], [0, 0, 1], [1, 0, 0]]], dtype=np.float64)
    space = RaySpace(corners)
    faces = np.array([[0, 1, 0]], np.float32)
    surface = Surface(space.vertices, np.repeat(faces[:, None], 3, 1), faces, np.zeros(1, np.bool_))
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
    seen, none = Hits.of(np.zeros((1, 1), np.int32)), np.zeros(1, np.int32)
    gathered_light(seen, np.zeros(3, np.float32), np.zeros((1, 3), np.float32), none, np.ones((1, 1), np.bool_), 1)
    sky = SkyMap.of(np.ones((2, 4, 3), np.float32), 0.0)
    sky_field(sky, surface, space, samples, 1, 0, 1, lambda _: None)
