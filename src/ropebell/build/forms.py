"""The forms of the stages' artifacts: what is in them, and how it is read."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Generic, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from ropebell.build import sound
from ropebell.build.sound import Array, expecting
from ropebell.build.store import Artifact, Fits, Store
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.level.model import F32, I32, Notice, PerTexel3
from ropebell.light.direct import DirectField
from ropebell.light.finishing import Finishing
from ropebell.light.seams import Seams
from ropebell.light.surface import OpenSamples
from ropebell.light.transport import Hits

Read = TypeVar("Read")


@dataclass(frozen=True, eq=False)
class Form(Generic[Read]):
    """What the arrays of an artifact must be, and how they are read."""

    arrays: dict[str, Array]
    read: Callable[[Artifact], Read]

    def fits(self, **sizes: int) -> Fits:
        """A check of an artifact, for `Store.get`; see `sound.expecting`."""
        return expecting(self.arrays, **sizes)

    def of(self, store: Store, digest: str, **sizes: int) -> Read | None:
        """What is kept under a digest, None if it is not there, or damaged."""
        artifact = store.get(digest, self.fits(**sizes)) if digest else None
        return self.read(artifact) if artifact is not None else None


class Laid(NamedTuple):
    """Where charts and texels lie, and what had to be told of it.

    Attributes:
        vertices: (T, 3, 3) of the triangles, relative to the centre.
    """

    atlas: Atlas
    texels: Texels
    notices: list[Notice]
    vertices: F32


class Reading(NamedTuple):
    """By what a build's light is traced back to its lamps, whatever has become of its level.

    Attributes:
        throws: (N, 3) albedo of what adds bounced light. reflecting: (N, 3) what of it the recipe let through.
        emitter: (N,) int32 emitter that a texel belongs to, −1 for none.
    """

    throws: PerTexel3
    reflecting: PerTexel3
    emitter: I32


def _laid(artifact: Artifact) -> Laid:
    a, meta = artifact.arrays, artifact.meta
    atlas = Atlas(a["uv"], a["chart"], a["rects"], meta["pages"], meta["side"], meta["written"])
    texels = Texels(
        a["page"], a["column"], a["row"], a["cover"], a["owner"], a["sample_triangle"], a["sample_weights"], a["grid"]
    )  # fmt: skip
    return Laid(atlas, texels, [Notice(*n) for n in meta["notices"]], a["vertices"])


class Footed(NamedTuple):
    """Samples in the open, (T,) uint64 names of the triangles as rays meet them, and (N,) uint8 which texels took a
    second look."""

    samples: OpenSamples
    faces: NDArray[np.uint64]
    wary: NDArray[np.uint8]


def _samples(artifact: Artifact) -> Footed:
    a = artifact.arrays
    return Footed(OpenSamples(a["count"], a["triangle"], a["weights"], a["target"], a["key"]), a["faces"], a["wary"])


def _field(artifact: Artifact) -> DirectField:
    a = artifact.arrays
    return DirectField(a["texel"], a["value"], a["gathered"])


def _hits(artifact: Artifact) -> Hits:
    a = artifact.arrays
    return Hits(a["hits"], a["counted"], a["open"], a["done"], a["hits"].shape[1])


def _sky(artifact: Artifact) -> PerTexel3:
    sky: PerTexel3 = artifact.arrays["sky"]
    return sky


def _albedo(artifact: Artifact) -> PerTexel3:
    albedo: PerTexel3 = artifact.arrays["albedo"]
    return albedo


def _reading(artifact: Artifact) -> Reading:
    a = artifact.arrays
    return Reading(a["throws"], a["reflecting"], a["emitter"])


def _finishing(artifact: Artifact) -> Finishing:
    a = artifact.arrays
    points = int(a["point"].max(initial=-1)) + 1
    return Finishing(a["shade"], Seams(a["point"], a["column"], a["weight"], points))


CHARTS = Form(sound.CHARTS, _laid)
FOOTING = Form(sound.FOOTING, _samples)
FIELD = Form(sound.FIELD, _field)
HITS = Form(sound.HITS, _hits)
SKY = Form(sound.SKY, _sky)
ALBEDO = Form(sound.ALBEDO, _albedo)
READING = Form(sound.READING, _reading)
FINISHING = Form(sound.FINISHING, _finishing)
