"""What changed since the last build, and the smallest build that repairs it: stages whose digest is not there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ropebell.build.estimate import RATES, SHARES, Estimate, estimate_for, predicted_texels
from ropebell.build.kin import predicted_spare
from ropebell.build.manifest import LightFacts, Manifest
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe
from ropebell.build.sound import CHARTS, expecting
from ropebell.build.stages import Digests, digests, sky_digest
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
    names = digests(scene, recipe)
    wanted = {"charts": names.charts, "footing": names.footing, "transport": _hits(names, project, manifest)}
    missing = [stage for stage, digest in wanted.items() if not store.has(digest)]
    share = {stage: float(stage in missing) for stage in wanted}
    sources = [*names.lights.values(), *names.emitters.values(), _sky_digest(scene, project, names)]
    unlit = [digest for digest in sources if digest and not store.has(digest)]
    share["direct"] = len(unlit) / max(sum(map(bool, sources)), 1)
    found = store.get(names.charts, expecting(CHARTS))
    texels = len(found.arrays["page"]) if found is not None else predicted_texels(scene, recipe)
    known = {**RATES, **SHARES, **rates}

    def predicted(rates: dict[str, float]) -> Estimate:
        workers = recipe.limits.workers or cores()
        return estimate_for(texels, len(scene), len(scene.lights), len(scene.emitters), recipe, workers, rates)

    whole = now = predicted(known)
    if "transport" not in missing:
        # Waves of rays are kept up to as many again as the stored ones.
        now = predicted({**known, "waves": max(known["waves"] - 1.0, 0.0)})
    spared = _spare(store, scene, recipe, names, share, known["until"]) if missing else 0.0
    changes = _changes(AsSet.now(scene, project), AsSet.built(manifest)) if manifest is not None else ("never built",)
    stages = tuple(s for s in ("charts", "footing", "direct", "transport") if share[s] > 0)
    if changes:
        stages = (*stages, "solve")
    seconds = IDLE_SECONDS + sum(s * share.get(stage, 1.0) for stage, s in now.seconds.items())
    return Stale(not stages, stages, changes, seconds, texels, IDLE_SECONDS + whole.total_seconds, spared)


def _spare(store: Store, scene: Scene, recipe: Recipe, names: Digests, share: dict[str, float], until: float) -> float:
    """Lessen the shares of stages by what earlier layouts spare; the share of texels that are taken over."""
    alike, shot = predicted_spare(store, scene, recipe, names)
    if recipe.light.noise_target:
        shot /= max(until, 1e-6)  # of the rays that it will come to
    share["transport"] *= max(1.0 - shot, 0.0)
    if not share["charts"]:
        return 0.0
    for stage in ("footing", "direct"):
        share[stage] *= 1.0 - alike
    return alike


def changes_since(scene: Scene, project: Project, begun_scene: Scene, begun: Project) -> tuple[str, ...]:
    """What changed since a build began that is still under way, in words."""
    return _changes(AsSet.now(scene, project), AsSet.now(begun_scene, begun))


def _hits(names: Digests, project: Project, manifest: Manifest | None) -> str:
    """The hit table that a build now would use, as far as that can be told before it."""
    if not project.recipe.light.noise_target or manifest is None:
        return names.transport
    same = names.transport == manifest.digests.transport and manifest.recipe.light == project.recipe.light
    return manifest.hits_digest if same else names.transport


def _sky_digest(scene: Scene, project: Project, names: Digests) -> str:
    """Name of the direct light of the sky picture in use, empty without one."""
    picture = project.sky_picture
    if picture is None:
        return ""
    return sky_digest(names.footing, picture, project.brief.sky_now.turn, scene, project.recipe)


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
        names = digests(scene, project.recipe)
        lights = {light.name: LightFacts.model_validate(light.setting) for light in scene.lights}
        emitters = {e.name: (float(e.radiance[0]), float(e.radiance[1]), float(e.radiance[2])) for e in scene.emitters}
        picture = _sky_digest(scene, project, names)
        return AsSet(
            lights, names.lights, emitters, project.sky, picture, project.recipe, project.brief, names.charts,
            names.footing,
        )  # fmt: skip

    @staticmethod
    def built(m: Manifest) -> AsSet:
        """As a build was made."""
        d = m.digests
        return AsSet(m.lights, d.lights, m.emitters, m.sky, d.sky, m.recipe, m.brief, d.charts, d.footing)


def _changes(now: AsSet, then: AsSet) -> tuple[str, ...]:
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
    if _arranging(to_values(now.brief)) != _arranging(to_values(then.brief)):
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
    "probes",
}
WORDS_OF_A_MARK = {"note", "guard", "work", "removable", "blocks_sight", "usual"}


def _arranging(brief: dict[str, Any]) -> dict[str, Any]:
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
