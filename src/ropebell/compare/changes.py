"""What is different between two builds, in settings and in contents."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ropebell.build.carry import same_within, triangle_keys
from ropebell.build.manifest import LightFacts, Manifest
from ropebell.build.recut import recut
from ropebell.build.result import Result
from ropebell.build.setting_words import setting_in_words, setting_title
from ropebell.build.stale import arranging
from ropebell.build.timing import unlike_conditions
from ropebell.level.brief import to_values
from ropebell.level.model import F64, Level, Material
from ropebell.level.scene import Scene

# What of a recipe changes no light.
UNLIT = ("name", "limits.", "output.format", "sight.")
MOVED = 1e-5
# What of a light's settings its field depends on.
PLACED = ("position", "direction", "reach", "size", "width", "height", "roll", "inner_cone", "outer_cone")


@dataclass(frozen=True)
class Setting:
    """A setting that differs: its key, and its value in A and in B."""

    key: str
    a: Any
    b: Any

    @property
    def words(self) -> str:
        """For a person, such as "Ambient occlusion: off → on"."""
        return f"{setting_title(self.key)}: {setting_in_words(self.key, self.a)} → {setting_in_words(self.key, self.b)}"


@dataclass(frozen=True)
class Content:
    """Something in the level that differs.

    Attributes:
        node: path of an object, name of a light or an emitter. what: in words.
        kind: added, removed, moved, reshaped, colour, mark, light, emitter, light moved.
        material: whose colour it is.
    """

    node: str
    what: str
    kind: str
    material: str = ""


@dataclass(frozen=True)
class Changes:
    """All of it. conditions: of the two times, where those differ."""

    settings: tuple[Setting, ...]
    contents: tuple[Content, ...]
    conditions: tuple[Setting, ...] = field(default=())

    @property
    def of_light(self) -> list[str]:
        """Keys and names of what can change light, each once; a material by the first object that has it."""
        found = [s.key for s in self.settings if not s.key.startswith(UNLIT)]
        materials = set[str]()
        for c in self.contents:
            if not c.material or c.material not in materials:
                found.append(c.node)
            materials.add(c.material)
        return list(dict.fromkeys(found))


def changes(a: Result, b: Result) -> Changes:
    """Find what is different."""
    m, n = a.manifest, b.manifest
    conditions = tuple(Setting(*each) for each in unlike_conditions(m, n))
    return Changes(tuple(_settings(m, n)), tuple(_contents(a, b)), conditions)


def _settings(a: Manifest, b: Manifest) -> list[Setting]:
    mine, theirs = _flat(a.recipe.model_dump()), _flat(b.recipe.model_dump())
    found = [Setting(key, mine[key], theirs[key]) for key in mine if mine[key] != theirs[key]]
    if a.sky != b.sky:
        found.append(Setting("sky", list(a.sky), list(b.sky)))
    elif a.digests.sky != b.digests.sky and a.digests.footing == b.digests.footing:
        found.append(Setting("sky", "another picture", "another picture"))
    if a.worker != b.worker:
        found.append(Setting("worker", a.worker, b.worker))
    if a.scope.as_values() != b.scope.as_values():
        found.append(Setting("scope", a.scope.words, b.scope.words))
    return found


def _flat(values: dict[str, Any], head: str = "") -> dict[str, Any]:
    found = dict[str, Any]()
    for key, value in values.items():
        found |= _flat(value, f"{head}{key}.") if isinstance(value, dict) else {f"{head}{key}": value}
    return found


def _contents(a: Result, b: Result) -> list[Content]:
    found = [*_objects(a.scene, b.scene), *_colors(a, b), *_marks(a.manifest, b.manifest), *_lights(a, b)]
    m, n = a.manifest.emitters, b.manifest.emitters
    for name in sorted(m.keys() | n.keys()):
        if m.get(name) != n.get(name):
            was, now = (", ".join(f"{v:.3g}" for v in x[name]) if name in x else "nothing" for x in (m, n))
            found.append(Content(name, f"glows with {was} → {now} cd/m²", "emitter"))
    return list(dict.fromkeys(found))


def _objects(a: Scene, b: Scene) -> list[Content]:
    """Objects that came, went, moved or have another shape, by their triangles wherever they stand in a list."""
    names = {name: i for i, name in enumerate(b.node_names)}
    number = np.array([*(names.get(name, -1) for name in a.node_names), -1])
    steps = same_within(b)
    mine, theirs = triangle_keys(a.corners, number[a.node], steps), triangle_keys(b.corners, b.node, steps)
    lost_faces, new_faces = ~np.isin(mine, theirs), ~np.isin(theirs, mine)
    # Cut along a density box, a face is still what it was.
    same = recut(b, new_faces, a, number, lost_faces)
    lost = set(np.unique(a.node[lost_faces & ~same[number[a.node]]]).tolist())
    new = set(np.unique(b.node[new_faces & ~same[b.node]]).tolist())
    has_a, has_b = {a.node_names[n] for n in np.unique(a.node)}, {b.node_names[n] for n in np.unique(b.node)}
    found = [Content(name, "only in B", "added") for name in sorted(has_b - has_a)]
    found += [Content(name, "only in A", "removed") for name in sorted(has_a - has_b)]
    changed = {a.node_names[n] for n in lost} | {b.node_names[n] for n in new}
    for name in sorted(changed & has_a & has_b):
        i, j = a.node_names.index(name), names[name]
        shift = np.abs(a.node_world[i] - b.node_world[j]).max()
        same_count = int((a.node == i).sum()) == int((b.node == j).sum())
        if shift > MOVED and same_count:
            far = float(np.linalg.norm(a.node_world[i][:3, 3] - b.node_world[j][:3, 3]))
            found.append(Content(name, f"moved by {far:.3g} m" if far > MOVED else "turned or scaled", "moved"))
        else:
            found.append(Content(name, "has another shape", "reshaped"))
    return found


def _colors(a: Result, b: Result) -> list[Content]:
    """Materials of one name that throw back otherwise, on each object that has them."""
    mine, theirs = ({m.name: m for m in r.level.materials} for r in (a, b))
    found = []
    for name in sorted(mine.keys() & theirs.keys()):
        if _look(a.level, mine[name]) == _look(b.level, theirs[name]):
            continue
        at = next(i for i, m in enumerate(b.level.materials) if m.name == name)
        was, now = (", ".join(f"{v:.2f}" for v in m[name].base_color[:3]) for m in (mine, theirs))
        what = f"material '{name}': {was} → {now}" if was != now else f"material '{name}' has another picture"
        for node in np.unique(b.scene.node[b.scene.material == at]):
            found.append(Content(b.scene.node_names[node], what, "colour", name))
    return found


def _look(level: Level, m: Material) -> tuple[Any, ...]:
    use = m.base_texture
    picture = () if use is None else (hash(level.images[use.image].data), use.texcoord, use.wrap, use.affine.tobytes())
    return m.base_color, picture, m.alpha_mode, m.double_sided


def _marks(a: Manifest, b: Manifest) -> list[Content]:
    mine, theirs = arranging(to_values(a.brief)), arranging(to_values(b.brief))
    found = []
    for table in ("marks", "branches"):
        m, n = mine.get(table, {}), theirs.get(table, {})
        for path in sorted(m.keys() | n.keys()):
            if m.get(path) != n.get(path):
                keys = sorted(k for k in (m.get(path, {}).keys() | n.get(path, {}).keys())
                              if m.get(path, {}).get(k) != n.get(path, {}).get(k))  # fmt: skip
                found.append(Content(path, f"marked otherwise: {', '.join(keys)}", "mark"))
    for key in ("density_boxes", "test_density", "region", "left_out"):
        if mine.get(key) != theirs.get(key):
            found.append(Content(key.replace("_", " "), "set otherwise", "mark"))
    return found


def _lights(first: Result, second: Result) -> list[Content]:
    a, b = first.manifest, second.manifest
    stand = [{n.path: n.world for n in r.level.nodes if n.light >= 0} for r in (first, second)]
    found = []
    for name in sorted(a.lights.keys() | b.lights.keys()):
        x, y = a.lights.get(name), b.lights.get(name)
        if x is None or y is None:
            found.append(Content(name, "only in B" if x is None else "only in A", "light"))
        elif x != y:
            found.append(Content(name, _light_words(x, y), "light"))
        elif _elsewhere(name, first, second, stand):
            found.append(Content(name, "stands, points or reaches otherwise", "light moved"))
    return found


def _elsewhere(name: str, a: Result, b: Result, stand: list[dict[str, F64]]) -> bool:
    """Whether a light stands, points or reaches otherwise."""
    if a.manifest.digests.footing == b.manifest.digests.footing:
        return a.manifest.digests.lights.get(name) != b.manifest.digests.lights.get(name)
    # On another ground its field has another name in any case.
    shapes = [[getattr(r.manifest.brief.light(name), key) for key in PLACED] for r in (a, b)]
    mine, theirs = (s.get(name) for s in stand)
    moved = mine is not None and theirs is not None and float(np.abs(mine - theirs).max()) > MOVED
    return shapes[0] != shapes[1] or moved


def _light_words(a: LightFacts, b: LightFacts) -> str:
    pairs = [(key, getattr(a, key), getattr(b, key)) for key in LightFacts.model_fields]
    return ", ".join(f"{key} {_shown(x)} → {_shown(y)}" for key, x, y in pairs if x != y)


def _shown(value: Any) -> str:
    if isinstance(value, tuple):
        return ", ".join(f"{v:.3g}" for v in value)
    return f"{value:.4g}" if isinstance(value, float) else str(value)
