"""Write an earlier build's light on the level as it is now, with its names, extras and other properties of now.

No ray is shot and nothing is solved: pages, layers, probes and what was found are those of the earlier build, and so is
its manifest as far as light goes, so that what is out of date stays so and is told.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

import ropebell
from ropebell.build.carry import Carried, carry
from ropebell.build.manifest import Kept, Manifest, this_moment
from ropebell.build.memory import peak_bytes
from ropebell.build.outputs import BAKED_LEVEL, FINDINGS, LAYERS, OPTIONAL_LAYERS, PAGES, THUMBNAIL
from ropebell.build.probe_file import PROBES
from ropebell.build.result import Result, open_result
from ropebell.build.scope import in_words
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.write import WRITE
from ropebell.errors import BuildError, step, why
from ropebell.files import make_folder, write_bytes
from ropebell.level.gltf_write import LightmapPlacement, baked_glb

MOST_NAMED = 3


def _run(work: Work) -> Manifest:
    base = work.request.scope.since
    assert base is not None
    try:
        with work.log.stage(WRITE.name):
            result = open_result(base)
            _write(work, result, _carried(work, result))
        return _manifest(work, result.manifest)
    except OSError as error:
        remedy = f"{step(error)} and build again; earlier builds are untouched"
        raise BuildError(f"the results cannot be written ({why(error)})", work.request.out, remedy) from error


def _carried(work: Work, result: Result) -> Carried:
    """The earlier build's charts on the faces of now.

    Raises:
        BuildError: not all faces are as they were.
    """
    scene = work[SCENE].scene
    carried = carry(result, scene)
    if carried.fresh or len(carried.gone):
        some = ", ".join(carried.fresh[:MOST_NAMED]) + (" …" if len(carried.fresh) > MOST_NAMED else "")
        what = f"{some} came, moved or changed" if some else "something is gone"
        raise BuildError(
            f"{what} since {in_words(result.folder)}, so its light does not fit any more", work.request.level,
            "Light what changed (--changed-since), or everything",
        )  # fmt: skip
    return carried


def _write(work: Work, result: Result, carried: Carried) -> None:
    out, base, manifest = work.request.out, result.folder, result.manifest
    scene, level = work[SCENE].scene, work[SCENE].gathered.subject.level
    tick = work.progress.stage(WRITE.name)
    make_folder(out / PAGES)
    make_folder(out / LAYERS)
    for page in manifest.pages:
        layers = [getattr(page, layer) for layer in ("file", "direct", *OPTIONAL_LAYERS)]
        for name in [*layers, page.delivered.file if page.delivered is not None else None]:
            if name is not None:
                write_bytes(out / name, (base / name).read_bytes())
        work.check_stop()
    tick(0.5)
    for name in (PROBES, THUMBNAIL, FINDINGS):
        if (base / name).is_file():
            write_bytes(out / name, (base / name).read_bytes())
    side = np.float32(manifest.pages[0].width if manifest.pages else 1)
    placement = LightmapPlacement((carried.uv / side).astype(np.float32), carried.page)
    generator = f"Rope Bell {ropebell.__version__}"
    # Lights and looks are those of the light that is written.
    write_bytes(out / BAKED_LEVEL, baked_glb(level, scene, placement, manifest.brief, generator))
    tick(0.9)


def _manifest(work: Work, then: Manifest) -> Manifest:
    """The earlier build's, but for what is of this one."""
    took = {done.name: round(done.seconds, 4) for done in work.log.done}
    request, scope = work.request, work.request.scope
    # Whose light it is, and not who has handed it on.
    lit_by = then.scope.since if then.scope.properties else scope.since
    timed = {"workers": request.workers, "load": round(work.load, 2), "watched": request.pictures}
    manifest = then.model_copy(
        update={
            "made": this_moment(), "note": request.note, "scope": replace(scope, since=lit_by),
            "machine": {**then.machine, **timed}, "reused": (), "kept": Kept(),
            "seconds": {**took, "total": round(work.journal.seconds, 4)}, "rates": {}, "remaining_error": None,
            "predicted": {"seconds": round(work.foreseen, 3)}, "peak_memory_mb": peak_bytes() >> 20,
            "made_in": str(request.out.absolute()),
            "level": then.level.model_copy(update={
                "file": str(work.request.level), "nodes": len(work[SCENE].gathered.subject.level.nodes),
            }),
        }
    )  # fmt: skip
    manifest.write(work.request.out)
    return manifest


def _predict(size: Size, _speed: Speed) -> float:
    return 0.2 + size.triangles / 2e5 + size.texels / 4e6


REWRITE = Stage(WRITE.name, "Write", _run, _predict)
