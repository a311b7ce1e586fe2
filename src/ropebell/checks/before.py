"""The detectors that look at a level before it is built, and the parts of it that they look at."""

from __future__ import annotations

from typing import Any

import numpy as np

from ropebell.checks.detector import Detectors
from ropebell.checks.subject import Subject
from ropebell.digest import digest_of
from ropebell.level.brief import to_values
from ropebell.level.limits import MOST_LIGHT
from ropebell.level.placed_light import PlacedLight

SHAPES, LIGHTS, GLOW, SKY, MARKS, BRIEF, SIGHT = "shapes", "lights", "glow", "sky", "marks", "brief", "sight"
# Parts of a brief that are of light alone, or of words.
NO_MARKS = ("lights", "templates", "emitters", "tables", "skies", "sky", "known", "probes", "blend_distance")


def _shapes(s: Subject) -> str:
    """Triangles, as they are placed, and what they are made of."""
    scene = s.scene
    return digest_of(
        scene.corners, np.nan_to_num(scene.uv1, nan=-1e9), scene.node, scene.material, scene.part, scene.bare,
        scene.normals, scene.casts,
        scene.double_sided, scene.factor, list(scene.node_names), [n.mesh for n in s.level.nodes], s.texels_per_metre,
    )  # fmt: skip


def _lights(s: Subject) -> str:
    """Lights as they stand, and whether they are on."""
    return digest_of(
        [
            [
                x.name,
                x.kind,
                x.position.tolist(),
                x.direction.tolist(),
                x.reach,
                x.outer_cone,
                x.mode,
                x.intensity > 0,
                max(strongest(x), MOST_LIGHT),
            ]
            for x in s.scene.lights
        ]
    )


def strongest(light: PlacedLight) -> float:
    """The largest number that a light's strength and colour come to."""
    color = max(abs(v) for v in light.color)
    return max(abs(light.intensity), color, abs(light.intensity) * color)


def _glow(s: Subject) -> str:
    """Materials as they look, and how strongly they glow by what."""
    return digest_of(
        [[m.name, *m.base_color, *m.emission, m.emission_texture is not None, m.unlit] for m in s.level.materials],
        {name: [*found.radiance, found.source] for name, found in s.emission.items()},
    )


def _sky(s: Subject) -> str:
    """The sky in use."""
    values = to_values(s.brief)
    return digest_of(list(s.sky), values.get("skies"), values.get("sky"), s.sky_trouble)


def _marks(s: Subject) -> str:
    """What was decided about objects, places and densities."""
    return digest_of({key: value for key, value in to_values(s.brief).items() if key not in NO_MARKS})


def _brief(s: Subject) -> str:
    """All that was decided."""
    values: dict[str, Any] = to_values(s.brief)
    return digest_of({key: value for key, value in values.items() if key != "known"})


def _sight(s: Subject) -> str:
    """Whether it is known who sees whom, and what follows from that."""
    found = s.sight
    if found is None:
        return ""
    ways = [leak.trail for leak in found.leaks]
    return digest_of(found.hull, found.unseen, [vars(b) for b in found.blockers], *ways)


BEFORE = Detectors[Subject](
    {SHAPES: _shapes, LIGHTS: _lights, GLOW: _glow, SKY: _sky, MARKS: _marks, BRIEF: _brief, SIGHT: _sight}
)
