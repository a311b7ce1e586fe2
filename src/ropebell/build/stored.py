"""What a finished build kept in the cache, by which its light can be read and changed without its level."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ropebell.build import stages
from ropebell.build.forms import CHARTS
from ropebell.build.manifest import Manifest
from ropebell.build.stage import ONLY, Item, Names
from ropebell.build.stages.direct import SKY_ITEM
from ropebell.build.store import Store
from ropebell.level.model import I32, PerTexel3
from ropebell.light.denoise import Layout
from ropebell.light.fields import Sources
from ropebell.light.finishing import Finishing
from ropebell.light.surface import OpenSamples
from ropebell.light.transport import Hits


@dataclass(frozen=True, eq=False)
class StoredBuild:
    """The artifacts of a build, all of them its own: they say what was built, whatever has become of the level since.

    Attributes:
        emitter: (N,) int32 emitter that a texel belongs to, −1 for none.
        throws, reflecting: (N, 3) albedo of what adds bounced light, and what of it the recipe let through.
        layout, finishing: where texels lie, and what light is finished by, None in builds of older versions.
        samples: of texels, that stand in the open.
    """

    throws: PerTexel3
    reflecting: PerTexel3
    emitter: I32
    hits: Hits
    sources: Sources
    layout: Layout
    samples: OpenSamples
    finishing: Finishing | None

    @staticmethod
    def of(m: Manifest) -> StoredBuild | None:
        """None when one of the artifacts is gone, or the build is of a version that did not keep them all."""
        store, names = Store(Path(m.cache)), names_kept(m)
        laid = CHARTS.of(store, names.one(stages.CHARTS.name)) if m.digests.reading else None
        if laid is None:
            return None
        sizes = {"N": len(laid.texels), "T": len(laid.atlas.uv), "E": len(m.emitters)}
        kept: dict[str, dict[Item, Any]] = {}
        for stage in stages.STAGES:
            found = stage.read(store, names, **sizes)
            if found is None:
                return None
            kept[stage.name] = found
        fields = kept[stages.DIRECT.name]
        lights, emitters = ({n: f for (of, n), f in fields.items() if of == kind} for kind in ("light", "emitter"))
        if lights.keys() != m.lights.keys() or emitters.keys() != m.emitters.keys():
            return None
        footed, reading, hits = (kept[s.name][ONLY] for s in (stages.FOOTING, stages.WRITE, stages.TRANSPORT))
        sources = Sources(lights, emitters, fields.get(SKY_ITEM))
        return StoredBuild(
            reading.throws, reading.reflecting, reading.emitter, hits, sources,
            Layout.of(laid.texels, laid.atlas, footed.samples), footed.samples, kept[stages.FINISH.name].get(ONLY),
        )  # fmt: skip


def names_kept(m: Manifest) -> Names:
    """The artifacts of a build, as its manifest names them."""
    d = m.digests
    direct: dict[Item, str] = {("light", name): digest for name, digest in d.lights.items()}
    direct |= {("emitter", name): digest for name, digest in d.emitters.items()}
    if d.sky:
        direct[SKY_ITEM] = d.sky
    single = {"charts": d.charts, "footing": d.footing, "transport": m.hits_digest, "write": d.reading}
    if d.finish:
        single["finish"] = d.finish
    return Names("", {stages.DIRECT.name: direct, **{stage: {ONLY: digest} for stage, digest in single.items()}})
