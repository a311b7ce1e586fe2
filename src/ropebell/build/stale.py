"""What changed since the last build, and the smallest build that repairs it: stages whose digest is not there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ropebell.build.estimate import RATES, SHARES, estimate_for, predicted_texels
from ropebell.build.kin import predicted_spare
from ropebell.build.project import Project
from ropebell.build.sound import CHARTS, expecting
from ropebell.build.stages import Digests, digests, hits_digest, sky_digest
from ropebell.build.store import Store
from ropebell.level.brief import to_values
from ropebell.level.scene import Scene

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


def stale_stages(scene: Scene, project: Project, manifest: dict[str, Any] | None, rates: dict[str, float]) -> Stale:
    """Compare the level and settings of now with the last finished build and the cache.

    Args:
        manifest: of the last finished build, None if there is none.
        rates: measured work rates.
    """
    names = digests(scene, project.recipe)
    store = Store(project.cache)
    wanted = {"charts": names.charts, "footing": names.footing, "transport": _hits(names, project, manifest)}
    missing = [stage for stage, digest in wanted.items() if not store.has(digest)]
    sources = [*names.lights.values(), *names.emitters.values()]
    pictured = _sky_digest(scene, project, names)
    sources += [pictured] if pictured else []
    unlit = [digest for digest in sources if not store.has(digest)]
    changes = _changes(scene, project, manifest, names)
    workers = project.recipe.limits.workers or _cores()
    found = store.get(names.charts, expecting(CHARTS))
    texels = len(found.arrays["page"]) if found is not None else predicted_texels(scene, project.recipe)
    known = {**RATES, **SHARES, **rates}
    whole = estimate_for(texels, len(scene), len(scene.lights), len(scene.emitters), project.recipe, workers, known)
    now = whole
    if "transport" not in missing:
        # Waves of rays are kept up to as many again as the stored ones.
        waves = known["waves"] * (1.0 - min(1.0 / max(known["waves"], 1e-6), 1.0))
        now = estimate_for(
            texels, len(scene), len(scene.lights), len(scene.emitters), project.recipe, workers,
            {**known, "waves": waves},
        )  # fmt: skip
    share = {stage: 0.0 for stage in ("charts", "footing", "transport", "direct")}
    share.update({stage: 1.0 for stage in missing})
    share["direct"] = len(unlit) / max(len(sources), 1)
    spared = 0.0
    if missing:
        alike, shot = predicted_spare(store, scene, project.recipe, names)
        if "charts" in missing:
            spared = alike
            for stage in ("footing", "direct"):
                share[stage] *= 1.0 - alike
        if project.recipe.light.noise_target:
            shot /= max(known["until"], 1e-6)  # of the rays that it will come to
        share["transport"] *= max(1.0 - shot, 0.0)
    seconds = IDLE_SECONDS + sum(s * share.get(stage, 1.0) for stage, s in now.seconds.items())
    stages = [s for s in ("charts", "footing", "direct", "transport") if share[s] > 0]
    if changes or manifest is None:
        stages.append("solve")
    return Stale(
        not stages, tuple(stages), tuple(changes), seconds, texels, IDLE_SECONDS + whole.total_seconds, spared
    )  # fmt: skip


def changes_since(scene: Scene, project: Project, begun_scene: Scene, begun: Project) -> tuple[str, ...]:
    """What changed since a build began that is still under way, in words."""
    names = digests(begun_scene, begun.recipe)
    as_built = {
        "lights": {light.name: light.setting for light in begun_scene.lights},
        "emitters": {e.name: e.radiance.tolist() for e in begun_scene.emitters},
        "digests": {
            "charts": names.charts, "footing": names.footing, "lights": names.lights,
            "sky": _sky_digest(begun_scene, begun, names),
        },
        "sky": list(begun.sky), "recipe": begun.recipe.model_dump(), "brief": to_values(begun.brief),
    }  # fmt: skip
    return tuple(_changes(scene, project, as_built, digests(scene, project.recipe)))


def _hits(names: Digests, project: Project, manifest: dict[str, Any] | None) -> str:
    """The hit table that a build now would use, as far as that can be told before it."""
    if not project.recipe.light.noise_target or manifest is None:
        return names.transport
    built = manifest["recipe"]["light"]
    same = names.transport == manifest["digests"]["transport"] and built == project.recipe.light.model_dump()
    return hits_digest(manifest) if same else names.transport


def _cores() -> int:
    import os

    return os.cpu_count() or 1


def _sky_digest(scene: Scene, project: Project, names: Digests) -> str:
    """Name of the direct light of the sky picture in use, empty without one."""
    picture = project.sky_picture
    if picture is None:
        return ""
    return sky_digest(names.footing, picture, project.brief.sky_now.turn, scene, project.recipe)


def _changes(scene: Scene, project: Project, manifest: dict[str, Any] | None, names: Digests) -> list[str]:
    if manifest is None:
        return ["never built"]
    changes = []
    before, shapes = manifest["lights"], manifest["digests"]["lights"]
    same_ground = names.footing == manifest["digests"]["footing"]
    now = {light.name: light.setting for light in scene.lights}
    moved = {n for n in now if n in shapes and same_ground and shapes[n] != names.lights[n]}
    lights = len({n for n in now if now[n] != before.get(n)} | moved | (before.keys() - now.keys()))
    if lights:
        changes.append(f"{lights} light{'s' if lights > 1 else ''}")
    glow = {e.name: e.radiance.tolist() for e in scene.emitters}
    built_glow = manifest.get("emitters", glow)
    emitters = len({n for n in glow if glow[n] != built_glow.get(n)} | (built_glow.keys() - glow.keys()))
    if emitters:
        changes.append(f"{emitters} emitter{'s' if emitters > 1 else ''}")
    pictured = _sky_digest(scene, project, names)
    if list(project.sky) != manifest["sky"] or pictured != manifest["digests"].get("sky", ""):
        changes.append("sky")
    recipe, built = project.recipe.model_dump(), manifest["recipe"]
    settings = [key for key in recipe if key not in ("name", "limits") and recipe[key] != built.get(key)]
    if settings:
        changes.append("draft factor" if settings == ["draft"] else "recipe")
    if to_values(project.brief).get("probes") != manifest.get("brief", {}).get("probes"):
        changes.append("probes")
    if _arranging(to_values(project.brief)) != _arranging(manifest.get("brief", {})):
        changes.append("marks")
    elif names.charts != manifest["digests"]["charts"] and not {"density", "draft"} & set(settings):
        changes.append("level")
    return changes


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
