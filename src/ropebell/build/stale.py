"""What changed since the last build, and the smallest build that repairs it: stages whose digest is not there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from ropebell.build.estimate import RATES, estimate_for
from ropebell.build.kin import predicted_spare
from ropebell.build.manifest import LightFacts, Manifest
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe
from ropebell.build.speed import Speed
from ropebell.build.stage import ONLY, Inputs, Item, Names, Size, SkyFile
from ropebell.build.stages import CHARTS, DIRECT, FOOTING, STAGES, TRANSPORT, digests
from ropebell.build.stages.charts import faces_met
from ropebell.build.stages.direct import SKY_ITEM
from ropebell.build.store import Store
from ropebell.level.brief import Brief, to_values
from ropebell.level.scene import Scene
from ropebell.light.workers import cores

IDLE_SECONDS = 1.4  # starting the process and reading the level


@dataclass(frozen=True)
class Stale:
    """What a build made now would have to do.

    Attributes:
        fresh: nothing changed since the last build.
        stages: names of stages whose artifacts are missing, in working order.
        changes: what changed, in words, such as "2 lights".
        seconds: predicted time of the build.
        texels: predicted number of texels.
        from_nothing: predicted time of a build that re-uses nothing.
        spared: share of the texels whose light is taken over from an earlier layout, 0 where the layout stays.
    """

    fresh: bool
    stages: tuple[str, ...]
    changes: tuple[str, ...]
    seconds: float
    texels: int
    from_nothing: float
    spared: float = 0.0


def stale_stages(scene: Scene, project: Project, manifest: Manifest | None, rates: dict[str, float]) -> Stale:
    """Compare the level and settings of now with the last finished build and the cache.

    Args:
        manifest: of the last finished build, None if there is none.
        rates: measured work rates.
    """
    recipe, store = project.recipe, Store(project.cache)
    names = digests(_inputs(scene, project))
    names = names.but(TRANSPORT.name, {ONLY: _hits(names, project, manifest)})
    share = {stage: _missing(names.of[stage], store) for stage in names.of}
    laid = CHARTS.forms[""].of(store, names.one(CHARTS.name))
    size = Size.of(scene, recipe, len(laid.texels) if laid is not None else 0)
    speed = Speed({**RATES, **rates}, recipe.limits.workers or cores())
    whole = now = estimate_for(size, speed)
    if not share[TRANSPORT.name]:
        # Waves of rays are kept up to as many again as the stored ones.
        until, waves = speed.shares(recipe)
        known = {"until": until, "waves": max(waves - 1.0, 0.0), "target": recipe.light.noise_target}
        now = estimate_for(size, replace(speed, rates={**speed.rates, **known}))
    spared = _spare(store, scene, recipe, names, share, speed) if any(share.values()) else 0.0
    changes = (
        changes_between(AsSet.now(scene, project), AsSet.built(manifest)) if manifest is not None else ("never built",)
    )
    stages = tuple(s.name for s in STAGES if share.get(s.name, float(s.stale and bool(changes))) > 0)
    seconds = IDLE_SECONDS + sum(s * share.get(stage, 1.0) for stage, s in now.seconds.items())
    return Stale(not stages, stages, changes, seconds, size.texels, IDLE_SECONDS + whole.total_seconds, spared)


def _missing(items: Mapping[Item, str], store: Store) -> float:
    """Share of a stage's artifacts that are not there."""
    return sum(not store.has(digest) for digest in items.values()) / max(len(items), 1)


def _spare(store: Store, scene: Scene, recipe: Recipe, names: Names, share: dict[str, float], speed: Speed) -> float:
    """Lessen the shares of stages by what earlier layouts spare; the share of texels that are taken over."""
    alike, shot = predicted_spare(store, scene, recipe, names.ground, lambda: faces_met(scene))
    if recipe.light.noise_target:
        shot /= max(speed.shares(recipe)[0], 1e-6)  # of the rays that it will come to
    taken = {"rays": shot, "texels": alike if share[CHARTS.name] else 0.0, "": 0.0}
    for stage in STAGES:
        if stage.name in share:
            share[stage.name] *= max(1.0 - taken[stage.carried], 0.0)
    return taken["texels"]


def changes_since(scene: Scene, project: Project, begun_scene: Scene, begun: Project) -> tuple[str, ...]:
    """What changed since a build began that is still under way, in words."""
    return changes_between(AsSet.now(scene, project), AsSet.now(begun_scene, begun))


def _hits(names: Names, project: Project, manifest: Manifest | None) -> str:
    """The hit table that a build now would use, as far as that can be told before it."""
    rays = names.one(TRANSPORT.name)
    if not project.recipe.light.noise_target or manifest is None:
        return rays
    same = rays == manifest.digests.transport and manifest.recipe.light == project.recipe.light
    return manifest.hits_digest if same else rays


def _inputs(scene: Scene, project: Project) -> Inputs:
    return Inputs(scene, project.recipe, SkyFile.of(project.sky_picture, project.brief))


@dataclass(frozen=True)
class AsSet:
    """All that light depends on, as it is set or as it was built.

    Attributes:
        lights: how each is set. shapes: names what depends on its place and shape.
        emitters: radiance by name. sky: mean radiance. picture: names the light of a sky picture, or empty.
    """

    lights: dict[str, LightFacts]
    shapes: dict[str, str]
    emitters: dict[str, tuple[float, float, float]]
    sky: tuple[float, float, float]
    picture: str
    recipe: Recipe
    brief: Brief
    charts: str
    footing: str

    @staticmethod
    def now(scene: Scene, project: Project) -> AsSet:
        """As the level and the project are."""
        names = digests(_inputs(scene, project))
        lights = {light.name: LightFacts.model_validate(light.setting) for light in scene.lights}
        emitters = {e.name: (float(e.radiance[0]), float(e.radiance[1]), float(e.radiance[2])) for e in scene.emitters}
        return AsSet(
            lights, names.kind(DIRECT.name, "light"), emitters, project.sky, names.one(DIRECT.name, SKY_ITEM),
            project.recipe, project.brief, names.one(CHARTS.name), names.one(FOOTING.name),
        )  # fmt: skip

    @staticmethod
    def built(m: Manifest) -> AsSet:
        """As a build was made."""
        d = m.digests
        return AsSet(m.lights, d.lights, m.emitters, m.sky, d.sky, m.recipe, m.brief, d.charts, d.footing)


def changes_between(now: AsSet, then: AsSet) -> tuple[str, ...]:
    """What is different that light depends on, in words, such as "2 lights"."""
    changes = []
    lights = {name for name in now.lights.keys() | then.lights.keys() if now.lights.get(name) != then.lights.get(name)}
    if now.footing == then.footing:
        lights |= {name for name in now.shapes.keys() & then.shapes.keys() if now.shapes[name] != then.shapes[name]}
    if lights:
        changes.append(f"{len(lights)} light{'s' if len(lights) > 1 else ''}")
    emitters = [n for n in now.emitters.keys() | then.emitters.keys() if now.emitters.get(n) != then.emitters.get(n)]
    if emitters:
        changes.append(f"{len(emitters)} emitter{'s' if len(emitters) > 1 else ''}")
    if (now.sky, now.picture) != (then.sky, then.picture):
        changes.append("sky")
    settings = {
        key for key in Recipe.model_fields
        if key not in ("name", "limits") and getattr(now.recipe, key) != getattr(then.recipe, key)
    }  # fmt: skip
    if settings:
        changes.append("draft factor" if settings == {"draft"} else "recipe")
    if now.brief.probes != then.brief.probes:
        changes.append("probes")
    if arranging(to_values(now.brief)) != arranging(to_values(then.brief)):
        changes.append("marks")
    elif now.charts != then.charts and not {"density", "draft"} & settings:
        changes.append("level")
    return tuple(changes)


# Parts of a brief that say nothing of surfaces or their density, and settings of a mark that no light depends on.
LIGHT_KEYS = {
    "lights",
    "templates",
    "added",
    "emitters",
    "tables",
    "skies",
    "sky",
    "sets",
    "most_live",
    "known",
    "prints",
    "guard",
    "blend_distance",
    "white",
    "probes",
}
WORDS_OF_A_MARK = {"note", "guard", "work", "removable", "blocks_sight", "usual"}


def arranging(brief: dict[str, Any]) -> dict[str, Any]:
    """What of a brief's values decides where surfaces stand, what they do to light, and how finely they are lit."""
    kept = {key: value for key, value in brief.items() if key not in LIGHT_KEYS}
    for table in ("marks", "branches"):
        marks = {
            path: {key: value for key, value in mark.items() if key not in WORDS_OF_A_MARK}
            for path, mark in kept.pop(table, {}).items()
        }
        kept[table] = {path: mark for path, mark in marks.items() if mark}
    if "region" in kept:
        kept["region"] = {key: value for key, value in kept["region"].items() if key != "start"}
    return kept
