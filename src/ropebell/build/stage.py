"""What a stage of a build is, and what it runs on.

The stages themselves are in `build.stages`: builds, estimates, what is stale and the window's words walk that table.
"""

from __future__ import annotations

import hashlib
import math
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Generic, Literal, TypeVar

import numpy as np

from ropebell.build.forms import Form
from ropebell.build.journal import Journal
from ropebell.build.memory import MemoryKeeper
from ropebell.build.pictures import Pictures
from ropebell.build.progress import Progress, Tick
from ropebell.build.recipe import Recipe
from ropebell.build.request import Request
from ropebell.build.speed import Speed
from ropebell.build.stage_log import StageLog
from ropebell.build.store import Artifact, Store
from ropebell.build.tripwires import Baked, Tripwires
from ropebell.charts.foretold import unwrapping
from ropebell.charts.texels import footprint_areas
from ropebell.errors import BuildError, Stopped
from ropebell.level.brief import Brief
from ropebell.level.limits import read_limited
from ropebell.level.scene import Scene
from ropebell.light.gate import GATE

Given = TypeVar("Given")
# Kind and name of an artifact among those of its stage; `ONLY` where a stage has one.
Item = tuple[str, str]
ONLY: Item = ("", "")
TYPICAL_CONVERGED = 8
BYTES_FIXED, BYTES_OF_TRIANGLE, BYTES_OF_RAY = 450 << 20, 600, 4


@dataclass(frozen=True)
class Size:
    """What the cost of a build depends on.

    Attributes:
        unwrapping: of its curved shapes, see `charts.foretold`.
        lights: how many, each with a reach counted as the share of the surfaces that it can reach.
    """

    texels: int
    triangles: int
    lights: float
    emitters: int
    recipe: Recipe
    unwrapping: float = 0.0

    @staticmethod
    def of(scene: Scene, recipe: Recipe, texels: int = 0) -> Size:
        """Of a scene; before its texels are known: its area at the density of each face, and what borders add."""
        if not texels:
            density = scene.density(recipe.texels_per_metre).astype(np.float64)
            texels = int(float((scene.areas * density**2).sum()) * 1.15 + 0.5 * len(scene))
        return Size(texels, len(scene), reached(scene), len(scene.emitters), recipe, unwrapping(scene))

    @property
    def gather(self) -> int:
        """Gather rays, all that may be shot."""
        return self.texels * self.recipe.gather_rays

    @property
    def shadow(self) -> int:
        """Shadow rays."""
        samples = self.lights * self.recipe.footprint_samples + self.emitters * self.recipe.direct_samples
        return int(self.texels * samples / 2)

    @property
    def bounces(self) -> int:
        """That will be solved for, as far as that can be told before."""
        return TYPICAL_CONVERGED if self.recipe.bounces is None else self.recipe.bounces

    @property
    def least_bytes(self) -> int:
        """Resident at the peak, beside the stored rays."""
        return BYTES_FIXED + self.texels * bytes_of_texel(self.recipe) + self.triangles * BYTES_OF_TRIANGLE


def bytes_of_texel(recipe: Recipe) -> int:
    """What is held of a texel beside its stored rays."""
    return 24 * recipe.footprint_samples + 200


def reached(scene: Scene) -> float:
    """Lights of a scene, each with a reach counted as the share of the surfaces in it."""
    whole = float(len(scene.lights))
    lamps = [x for x in scene.lights if x.reach and x.kind != "directional"]
    if not lamps or not len(scene):
        return whole
    middles, spread = scene.corners.mean(axis=1), np.sqrt(scene.areas)
    total = max(float(scene.areas.sum()), 1e-30)
    for lamp in lamps:
        near = np.linalg.norm(middles - lamp.position, axis=1) <= float(lamp.reach or 0.0) + spread
        # Of a face larger than the reach, no more than what it covers.
        part = np.minimum(scene.areas[near], math.pi * float(lamp.reach or 0.0) ** 2)
        whole -= 1.0 - min(float(part.sum()) / total, 1.0)
    return whole


@dataclass(frozen=True)
class SkyFile:
    """A sky picture in use, turned by so many degrees."""

    path: Path
    turn: float

    @staticmethod
    def of(picture: Path | None, brief: Brief) -> SkyFile | None:
        """The picture that a brief turns, if there is one."""
        return SkyFile(picture, brief.sky_now.turn) if picture is not None else None

    @cached_property
    def content(self) -> str:
        """Names what is in it.

        Raises:
            LevelError: the picture cannot be read.
        """
        return hashlib.sha256(read_limited(self.path)).hexdigest()


@dataclass(frozen=True)
class Inputs:
    """All that the names of artifacts are made of: nothing else may decide what a stage gives.

    Attributes:
        part: which texels are lit, where not all are.
    """

    scene: Scene
    recipe: Recipe
    sky: SkyFile | None = None
    part: Sequence[Any] = ()


@dataclass(frozen=True)
class Names:
    """Digests of the artifacts of one scene and recipe, by stage and item.

    Attributes:
        ground: no stage: it names what rays meet, however finely it is lit.
    """

    ground: str = ""
    of: Mapping[str, Mapping[Item, str]] = field(default_factory=dict)

    def one(self, stage: str, item: Item = ONLY) -> str:
        """An artifact, empty where there is none."""
        return self.of.get(stage, {}).get(item, "")

    def kind(self, stage: str, kind: str) -> dict[str, str]:
        """All artifacts of a kind, by name."""
        return {name: digest for (of, name), digest in self.of.get(stage, {}).items() if of == kind}

    def but(self, stage: str, items: Mapping[Item, str]) -> Names:
        """The same with other artifacts of a stage."""
        return replace(self, of={**self.of, stage: items})

    def everything(self) -> set[str]:
        """All of them."""
        return {digest for items in self.of.values() for digest in items.values()}


@dataclass(frozen=True, eq=False)
class Stage(Generic[Given]):
    """One stage.

    Attributes:
        name: in journals, manifests and conditions. words: what a person reads.
        run: does the work and gives what later stages take from it, by `Work[stage]`.
        predict: seconds it will take.
        inputs: names its artifacts by all they depend on, given the names of the stages before it; None where it keeps
            none, or none that can be named before the build.
        version: raised when its method changes, so that artifacts of an older one are not taken for new ones.
        forms: what its artifacts must be, and how they are read, by kind of item.
        rate: work per second and worker on the reference machine (2 cores at 2.5 GHz); builds adapt it.
        alone: it works on one core.
        carried: what it takes over from earlier layouts of the same ground, if anything.
        stale: it is done anew whenever anything changed.
    """

    name: str
    words: str
    run: Callable[[Work], Given]
    predict: Callable[[Size, Speed], float]
    inputs: Callable[[Inputs, Names], Mapping[Item, str]] | None = None
    version: int = 0
    forms: Mapping[str, Form[Any]] = field(default_factory=dict)
    rate: float = 0.0
    alone: bool = False
    carried: Literal["", "texels", "rays"] = ""
    stale: bool = False

    def read(self, store: Store, names: Names, **sizes: int) -> dict[Item, Any] | None:
        """What its artifacts say, None if one of them is gone."""
        found = {}
        for item, digest in names.of.get(self.name, {}).items():
            found[item] = self.forms[item[0]].of(store, digest, **sizes)
            if found[item] is None:
                return None
        return found


def time_is_over(limit: float) -> str:
    """What a build says that has reached its limit of seconds."""
    return f"the limit of {limit:g} seconds (limits.seconds) was reached"


def names_of(stages: Sequence[Stage[Any]], inputs: Inputs, begun: Names) -> Names:
    """Walk the table; stages that `begun` has a name of keep it."""
    names = begun
    for stage in stages:
        if stage.inputs is not None and stage.name not in names.of:
            names = names.but(stage.name, stage.inputs(inputs, names))
    return names


class Work:
    """What a build has at hand while its stages run.

    Attributes:
        names: of all artifacts, once the scene is known.
    """

    def __init__(
        self, stages: Sequence[Stage[Any]], request: Request, journal: Journal, rates: Mapping[str, float],
        stop_wanted: Callable[[], Stopped | None], wires: Tripwires | None = None,
    ) -> None:  # fmt: skip
        self.wires = wires or Tripwires()
        self.stages, self.request, self.journal = stages, request, journal
        self.recipe, self.workers = request.recipe, request.workers
        self.store = Store(request.cache)
        self.memory = MemoryKeeper(self.recipe.limits.memory_mb << 20)
        self.pictures = Pictures(request.out, journal, request.pictures)
        self.sky = SkyFile.of(request.sky_picture, request.brief)
        self.names = Names()
        self._limit, self._stop_wanted = self.recipe.limits.seconds, stop_wanted
        self._speed = Speed(rates, self.workers)
        self._given: dict[str, Any] = {}
        # Of a build from nothing, told before the first ray.
        self.foreseen, self.foreseen_bytes = 0.0, 0
        # Before this build adds its own: what else the machine has to do, in cores.
        self.load = os.getloadavg()[0]
        # Replaced as soon as the level is read.
        self._expected = self.predicted(Size(20_000, 20_000, 8, 2, self.recipe))
        self.progress = Progress(self._expected, self._tell, self._stop)
        self.log = StageLog(journal, self.progress, self.store, self.wires.found)

    def run(self, stage: Stage[Any]) -> None:
        """Do a stage and keep what it gives."""
        self.wires.enter(stage.name)
        self.check_stop()
        self._given[stage.name] = stage.run(self)

    def __getitem__(self, stage: Stage[Given]) -> Given:
        """What a stage before has given."""
        given: Given = self._given[stage.name]
        return given

    def inputs(self, scene: Scene) -> Inputs:
        """What the names of artifacts are made of."""
        return Inputs(scene, self.recipe, self.sky, self.request.scope.part)

    # -- costs

    def predicted(self, size: Size) -> dict[str, float]:
        """Seconds of each stage."""
        return {stage.name: stage.predict(size, self._speed) for stage in self.stages}

    def expect(self, size: Size) -> None:
        """Predict all stages anew.

        Raises:
            BuildError: the build would need more memory than it may.
        """
        self._expected = self.predicted(size)
        if not self.foreseen:
            self.foreseen = sum(self._expected.values())
            self.foreseen_bytes = size.least_bytes + BYTES_OF_RAY * size.gather
        for stage, seconds in self._expected.items():
            self.progress.expect(stage, seconds)
        limit = self.recipe.limits.memory_mb
        if limit and size.least_bytes > limit << 20:
            what = (
                f"it is predicted to need {size.least_bytes >> 20:,} MB beside its stored rays, "
                f"more than limits.memory_mb = {limit:,}"
            )
            raise BuildError(what, "", "Lower the density, or raise the limit")

    @cached_property
    def baked(self) -> Baked:
        """What shares of the level are counted over, once its texels are known."""
        scene, texels, atlas = self._given["scene"].scene, self._given["charts"].texels, self._given["charts"].atlas
        areas = footprint_areas(scene, texels, atlas)
        if len(scene.bare):
            areas = np.where(scene.bare[texels.owner], 0.0, areas)
        return Baked(areas, scene.node[texels.owner], scene.node_names)

    def expect_share(self, stage: str, share: float) -> None:
        """Only so much of a stage is left to do."""
        self.progress.expect(stage, share * self._expected[stage])

    def rate(self, stage: Stage[Any], units: float) -> None:
        """Note the work that the stage which has just ended did."""
        self.log.rate(stage.name, units, 1 if stage.alone else self.workers)

    def kept(
        self, stage: Stage[Any], item: Item, make: Callable[[Tick], Artifact], digest: str = "", **sizes: int
    ) -> Any:
        """What an artifact of a stage says; made if it is not there, or is damaged.

        Args:
            digest: where it has another name than could be told before the build.
        """
        kind, name = item
        form = stage.forms[kind]
        digest = digest or self.names.one(stage.name, item)
        return form.read(self.log.cached(stage.name, digest, form.fits(**sizes), make, name or kind))

    # -- telling and stopping

    def check_stop(self, _share: float = 0.0) -> None:
        """Leave if that is wanted.

        Raises:
            Stopped: on request or by a tripwire.
        """
        stop = self._stop()
        if stop is not None:
            raise stop

    def _stop(self) -> Stopped | None:
        # At rest, it looks now and then whether it shall stop instead.
        while GATE.closed and self._stop_wanted() is None:
            GATE.wait(0.1)
        self.wires.beat()
        if self._limit and self.journal.seconds > self._limit:
            return Stopped("limit", time_is_over(self._limit))
        return self.wires.overdue() or self._stop_wanted()

    def _tell(self, stage: str, share: float, remaining: float) -> None:
        self.journal.write("progress", stage=stage, share=round(share, 4), remaining=round(remaining, 2))
