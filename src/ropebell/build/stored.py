"""What a finished build kept in the cache, by which its light can be read and changed without its level."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ropebell.build.fields import Sources
from ropebell.build.forms import CHARTS, FIELD, FOOTING, HITS, READING, SKY
from ropebell.build.manifest import Manifest
from ropebell.build.store import Store
from ropebell.charts.texels import Texels
from ropebell.level.model import I32, PerTexel3, TexelIndex
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
    target: TexelIndex
    throws: PerTexel3
    reflecting: PerTexel3
    emitter: I32
    hits: Hits
    sources: Sources

    @staticmethod
    def of(m: Manifest) -> StoredBuild | None:
        """None when one of the artifacts is gone, or the build is of a version that did not keep them all."""
        store, names = Store(Path(m.cache)), m.digests
        laid = CHARTS.of(store, names.charts) if names.reading else None
        if laid is None:
            return None
        sizes = {"N": len(laid.texels), "T": len(laid.atlas.uv), "E": len(m.emitters)}
        footing = FOOTING.of(store, names.footing, **sizes)
        reading = READING.of(store, names.reading, **sizes)
        hits = HITS.of(store, m.hits_digest, **sizes)
        sources = _sources(m, store, len(laid.texels))
        if footing is None or reading is None or hits is None or sources is None:
            return None
        return StoredBuild(laid.texels, footing.target, *reading, hits, sources)


def _sources(m: Manifest, store: Store, count: int) -> Sources | None:
    """Fields of all that gave light to a build of so many texels, None if one is gone."""
    names = m.digests
    if names.lights.keys() != m.lights.keys() or names.emitters.keys() != m.emitters.keys():
        return None
    groups: list[dict[str, DirectField]] = []
    for digests in (names.lights, names.emitters):
        found = {name: FIELD.of(store, digest, N=count) for name, digest in digests.items()}
        groups.append({name: field for name, field in found.items() if field is not None})
        if len(groups[-1]) < len(digests):
            return None
    picture = SKY.of(store, names.sky, N=count)
    return Sources(groups[0], groups[1], picture) if picture is not None or not names.sky else None
