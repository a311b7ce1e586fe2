"""What a finished build kept in the cache, by which its light can be read and changed without its level."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ropebell.build import stages
from ropebell.build.fields import Sources
from ropebell.build.manifest import Manifest
from ropebell.build.sound import CHARTS, FIELD, FOOTING, HITS, READING, expecting
from ropebell.build.sound import SKY as SKY_FIELD
from ropebell.build.store import Store
from ropebell.charts.texels import Texels
from ropebell.level.model import F32, I32
from ropebell.light.direct import DirectField
from ropebell.light.transport import Hits


@dataclass(frozen=True, eq=False)
class StoredBuild:
    """The artifacts of a build, all of them its own: they say what was built, whatever has become of the level since.

    Attributes:
        target: (N,) texel that speaks for each. emitter: (N,) int32 emitter that a texel belongs to, −1 for none.
        throws, reflecting: (N, 3) albedo of what adds bounced light, and what of it the recipe let through.
    """

    texels: Texels
    target: I32
    throws: F32
    reflecting: F32
    emitter: I32
    hits: Hits
    sources: Sources

    @staticmethod
    def of(m: Manifest) -> StoredBuild | None:
        """None when one of the artifacts is gone, or the build is of a version that did not keep them all."""
        store, names = Store(Path(m.cache)), m.digests
        charts = store.get(names.charts, expecting(CHARTS)) if names.reading else None
        if charts is None:
            return None
        _, texels, _ = stages.read_charts(charts)
        sizes = {"N": len(texels), "T": len(charts.arrays["uv"]), "E": len(m.emitters)}
        footing = store.get(names.footing, expecting(FOOTING, **sizes))
        reading = store.get(names.reading, expecting(READING, **sizes))
        transport = store.get(m.hits_digest, expecting(HITS, **sizes))
        sources = _sources(m, store, len(texels))
        if footing is None or reading is None or transport is None or sources is None:
            return None
        a = reading.arrays
        return StoredBuild(
            texels, footing.arrays["target"], a["throws"], a["reflecting"], a["emitter"], stages.read_hits(transport),
            sources,
        )  # fmt: skip


def _sources(m: Manifest, store: Store, count: int) -> Sources | None:
    """Fields of all that gave light to a build of so many texels, None if one is gone."""
    names, field, sky = m.digests, expecting(FIELD, N=count), expecting(SKY_FIELD, N=count)
    if names.lights.keys() != m.lights.keys() or names.emitters.keys() != m.emitters.keys():
        return None
    groups: list[dict[str, DirectField]] = []
    for digests in (names.lights, names.emitters):
        found = {name: store.get(digest, field) for name, digest in digests.items()}
        groups.append({name: stages.read_field(a) for name, a in found.items() if a is not None})
        if len(groups[-1]) < len(digests):
            return None
    picture = store.get(names.sky, sky) if names.sky else None
    if names.sky and picture is None:
        return None
    return Sources(groups[0], groups[1], picture.arrays["sky"] if picture is not None else None)
