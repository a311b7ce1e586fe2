"""Find the samples of each texel that stand in the open; before it, the lamps at a glance."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.build.forms import FOOTING as FORM
from ropebell.build.kin import Earlier
from ropebell.build.progress import Tick
from ropebell.build.speed import Speed
from ropebell.build.stage import ONLY, Inputs, Item, Names, Size, Stage, Work
from ropebell.build.stages.charts import CHARTS, met, met_faces
from ropebell.build.stages.scene import SCENE
from ropebell.build.store import Artifact
from ropebell.digest import digest_of
from ropebell.level.model import Mask
from ropebell.light.affected import Change, facing
from ropebell.light.direct import DirectField
from ropebell.light.fields import Sources, shadow_ray_light
from ropebell.light.footing import find_open_samples, footprints, looking_through
from ropebell.light.glance import glance
from ropebell.light.surface import OpenSamples


class Footed(NamedTuple):
    """Samples in the open, light of the lamps at a glance by name, if that was wanted, and what is known of texels from
    earlier layouts."""

    samples: OpenSamples
    glanced: dict[str, DirectField]
    earlier: Earlier[Names]


def _inputs(of: Inputs, names: Names) -> Mapping[Item, str]:
    return {ONLY: digest_of(FOOTING.version, names.one(CHARTS.name), *met(of.scene))}


def _run(work: Work) -> Footed:
    texels, earlier = work[CHARTS].texels, work[CHARTS].earlier
    glanced = _glance(work)
    sizes = dict(zip("NS", texels.sample_triangle.shape))
    samples, *_ = work.kept(FOOTING, ONLY, lambda tick: _make(work, tick), T=len(work[SCENE].scene), **sizes)
    if earlier.closest is None:
        work.rate(FOOTING, 2 * texels.sample_triangle.size)
    work.pictures.table(work.names.one(CHARTS.name), work.store.folder, samples.target, work.request.out)
    return Footed(samples, glanced, earlier.settled(samples))


def _make(work: Work, tick: Tick) -> Artifact:
    placed, charted = work[SCENE], work[CHARTS]
    known, before = charted.earlier.known(FORM, lambda names: names.one(FOOTING.name)), None
    wary = np.zeros(len(charted.texels), np.bool_)
    if known is not None:
        kept, then = known.kept, FORM.read(known.artifact)
        rows = kept.rows
        wary[rows] = then.wary[kept.before[rows]]
        if known.change is not None:
            kept = kept.without(_unsure(work, known.change, wary, tick))
        before = kept, then.samples, known.number
    samples = find_open_samples(
        placed.surface, placed.space, charted.texels, charted.atlas, work.workers, tick, before, wary
    )  # fmt: skip
    arrays: dict[str, NDArray[Any]] = {
        "count": samples.count, "triangle": samples.triangle, "weights": samples.weights, "target": samples.target,
        "key": samples.key, "faces": met_faces(placed.scene, placed.surface), "wary": wary.astype(np.uint8),
    }  # fmt: skip
    return work.store.put(work.names.one(FOOTING.name), arrays)


def _unsure(work: Work, change: Change, wary: Mask, tick: Tick) -> Mask:
    """(N,) bool: texels of which a sample may be buried now, or free: those with a look that passes what came or went,
    and those that took a second look then and can see it."""
    surface, (atlas, texels, _) = work[SCENE].surface, work[CHARTS]
    found = facing(change.both, surface, footprints(texels))
    rows = np.flatnonzero(found & ~wary).astype(np.int32)
    found[rows] = looking_through(surface, texels, atlas, change.both, rows, work.workers, lambda _: tick(0.0))
    return found


def _glance(work: Work) -> dict[str, DirectField]:
    placed, charted = work[SCENE], work[CHARTS]
    lamps = {x.name for x in placed.scene.lights if x.strength.any()}
    lit = work.names.kind("direct", "light")
    known = any(work.store.has(lit[name]) for name in lamps)
    if not work.pictures.wanted or not lamps or known or charted.earlier.closest is not None:
        return {}
    texels, count = charted.texels, len(charted.texels)
    # Told first, so that who watches reads where the texels lie meanwhile.
    everything = np.arange(count, dtype=np.int32)
    work.pictures.table(work.names.one(CHARTS.name), work.store.folder, everything, work.request.out)
    glanced = glance(
        placed.scene.lights, placed.surface, placed.space, texels, charted.atlas, work.recipe.light.seed, work.workers,
        work.check_stop,
    )  # fmt: skip
    light = shadow_ray_light(placed.scene, Sources(glanced, {}), count)
    if light.any():
        work.pictures.show(np.maximum(light, 0.0), "lamps at a glance")
    return glanced


def _predict(size: Size, speed: Speed) -> float:
    return size.texels * size.recipe.footprint_samples * 2 / speed.all("footing")


FOOTING = Stage(
    "footing", "Texels in the open", _run, _predict, _inputs, version=5, forms={"": FORM}, rate=1.3e6, carried="texels"
)
