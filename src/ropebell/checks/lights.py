"""Checks of lights: where they stand, who is to light what, and what was left open."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.before import BEFORE, BRIEF, GLOW, LIGHTS, SHAPES
from ropebell.checks.remedies import BAKE, MOVE_LIGHT, REACH, SWITCH_OFF, place_words
from ropebell.checks.subject import Place, Subject, as_place, listed, short
from ropebell.level.emitter_table import looks_lit
from ropebell.level.finding import Finding
from ropebell.level.model import AREA_KINDS, F64
from ropebell.level.nearest import NearestSurface
from ropebell.level.placed_light import PlacedLight
from ropebell.light.sampling import fibonacci_sphere

LOOKS = 64
# A light that reaches nothing shall reach so many times as far as the nearest surface.
BEYOND = 2.0
# A light is moved this share of the room beyond a face away from it, at least; of so many ways out the best is taken.
CLEAR, MOST_TRIED, JUST_BEYOND = 0.02, 16, 1.0 + 1e-4
# A live light is odd where fewer than this share of the lights are.
FEW = 0.34
MOST_POINTS = 20_000


@BEFORE.detector(
    {
        "light-in-solid": "Light inside a solid",
        "light-outside": "Light behind the walls",
        "light-reaches-nothing": "Light reaches nothing",
    },
    SHAPES,
    LIGHTS,
    version=2,
)
def standing(s: Subject) -> Iterator[Finding]:
    """Lights inside solids, behind the level's faces, or with nothing in reach."""

    @lru_cache(1)
    def surface() -> NearestSurface:
        return NearestSurface(s.baking.corners, s.baking.face_normals)

    def away(light: PlacedLight) -> float:
        """Metres to the nearest surface, which no ray need meet."""
        return float(surface().at(light.position[None])[2][0]) if len(s.baking) else math.inf

    for light in s.scene.lights:
        if light.kind == "directional" or light.intensity <= 0:
            continue
        place = as_place(light.position)
        front, back, out, nearest, names = _look_round(s, light.position)
        # A face that lies on another may answer for it, so not every ray need meet a back.
        if back > LOOKS / 2 and out == 0:
            reason = f"It is inside {listed(names)}: all its light stays there."
            fix = _into_the_open(s, light)
            yield Finding("light-in-solid", "error", light.name, reason, "Move it into the open", place, fix)
        elif back > 0 and back >= front and out > 0:
            reason = f"It is behind the level's faces ({listed(names)}), where nothing is lit."
            fix = _into_the_open(s, light)
            yield Finding("light-outside", "warning", light.name, reason, "Move it into the level", place, fix)
        elif light.reach is not None and nearest > light.reach and (nearest := away(light)) > light.reach:
            reason = (
                f"Nothing lies within its reach of {light.reach:.3g} m; the nearest surface is {nearest:.3g} m away."
            )
            yield Finding(
                "light-reaches-nothing", "warning", light.name, reason, "Move it, or let it reach further", place,
                REACH.of(light.name, f"{BEYOND * nearest:.4g}") if math.isfinite(nearest) else (),
            )  # fmt: skip


def _into_the_open(s: Subject, light: PlacedLight) -> tuple[str, ...]:
    """The remedy that moves a light through the nearest face that it is behind, as far beyond as it was behind, but
    never beyond the middle of the room there; none where there is no such place."""
    directions = fibonacci_sphere(LOOKS).astype(np.float64)
    far, back = _met(s, light.position, directions)
    beyond, _ = _met(s, light.position + directions * (np.where(back, far, 0.0) * JUST_BEYOND)[:, None], directions)
    room = np.where(np.isfinite(beyond), beyond, far)
    step = np.minimum(np.maximum(np.maximum(far, 2.0 * (light.size or 0.0)), CLEAR * room), 0.5 * room)
    found = list[tuple[bool, float, F64]]()
    for k in np.argsort(np.where(back, far, np.inf), kind="stable")[:MOST_TRIED]:
        if back[k]:
            place = light.position + directions[k] * (far[k] * JUST_BEYOND + step[k])
            front, behind, out, _, _ = _look_round(s, place)
            if front > behind:
                found.append((out > 0, float(far[k] + step[k]), place))
    if not found:
        return ()
    return MOVE_LIGHT.of(light.name, place_words(min(found, key=lambda one: one[:2])[2]))


def _met(s: Subject, places: F64, directions: F64) -> tuple[F64, NDArray[np.bool_]]:
    """(n,) metres to what rays meet, inf for nothing, and whether that is a back."""
    start = np.broadcast_to(places - s.space.centre, directions.shape).astype(np.float32)
    rays = directions.astype(np.float32)
    hit, far = s.blocking.nearest(np.ascontiguousarray(start), rays)
    scene = s.baking
    facing = np.einsum("ij,ij->i", scene.face_normals[hit], rays) < 0
    back = (hit >= 0) & ~facing & ~scene.double_sided[hit]
    return np.where(hit >= 0, far, np.inf).astype(np.float64), back


def _look_round(s: Subject, position: F64) -> tuple[int, int, int, float, list[str]]:
    """Of rays all round: how many meet a front, a back, nothing; the nearest hit; objects whose backs are met."""
    scene = s.baking
    directions = fibonacci_sphere(LOOKS)
    start = np.repeat((position - s.space.centre).astype(np.float32)[None], LOOKS, axis=0)
    space = s.blocking
    hit, far = space.nearest(start, directions)
    struck = hit >= 0
    facing = np.einsum("ij,ij->i", scene.face_normals[hit], directions) < 0 if len(scene) else struck
    front = struck & (facing | scene.double_sided[hit]) if len(scene) else struck
    back = struck & ~front
    names = [short(scene.node_names[n]) for n in np.unique(scene.node[hit[back]])] if back.any() else []
    nearest = float(far[struck].min()) if struck.any() else math.inf
    return int(front.sum()), int(back.sum()), int((~struck).sum()), nearest, names


@BEFORE.detector(
    {
        "undecided-light": "Light decided later",
        "work-light": "Work light",
        "subtracting-light": "Light subtracts",
        "area-light-live": "Live light with an area",
        "live-light": "Light still live",
    }
)
def modes(s: Subject) -> Iterator[Finding]:
    """Lights that nobody decided on, that are live though the others are baked, work lights, subtracting ones."""
    lights = s.scene.lights
    live = [light for light in lights if light.mode == "live"]
    for light in lights:
        place = as_place(light.position)
        if light.mode == "undecided":
            reason = "Whether it is baked is decided later; drafts bake it."
            yield Finding("undecided-light", "warning", light.name, reason, "Decide on its mode", place)
        if light.work and light.intensity > 0:
            reason = "It is a work light and on: its light would go into the build."
            fix = SWITCH_OFF.of(light.name)
            yield Finding("work-light", "warning", light.name, reason, "Switch it off before a hand-over", place, fix)
        if light.subtracts:
            reason = "It takes light away."
            yield Finding("subtracting-light", "note", light.name, reason, "Nothing, if meant so", place)
        if light.kind in AREA_KINDS and light.mode in ("live", "hybrid"):
            reason = f"It is {light.mode}, but a {light.kind} of light can only be baked."
            fix = BAKE.of(light.name)
            yield Finding("area-light-live", "warning", light.name, reason, "Bake it", place, fix)
        elif light.mode == "live" and len(live) < FEW * len(lights):
            baked = f"{len(lights) - len(live)} of {len(lights)}"
            reason = f"It is live, while {baked} lights are baked; no page holds its light."
            fix = BAKE.of(light.name)
            yield Finding("live-light", "warning", light.name, reason, "Bake it, or note here why not", place, fix)


@BEFORE.detector({"live-overlap": "Too many live lights"}, SHAPES, LIGHTS, BRIEF)
def live_overlap(s: Subject) -> Iterator[Finding]:
    """The place that more live lights reach than are allowed at once."""
    most, place, names = worst_overlap(s)
    if most > s.brief.most_live:
        reason = f"{most} live lights reach one place, {s.brief.most_live} are allowed: {listed(names, 6)}."
        yield Finding("live-overlap", "warning", "", reason, "Bake some of them, or shorten their reach", place)


def worst_overlap(s: Subject) -> tuple[int, Place, list[str]]:
    """How many live or hybrid lights reach one surface point at most, where, and which."""
    live = [x for x in s.scene.lights if x.mode in ("live", "hybrid") and x.intensity > 0]
    scene = s.baking
    if not live or not len(scene):
        return 0, (0.0, 0.0, 0.0), []
    step = max(len(scene) // MOST_POINTS, 1)
    points = np.concatenate([scene.corners[::step].mean(axis=1), *(x.position[None] for x in live)])
    reached = np.stack([_reaches(light, points) for light in live])
    counts = reached.sum(axis=0)
    worst = int(np.argmax(counts))
    names = [short(light.name) for light, hit in zip(live, reached[:, worst]) if hit]
    return int(counts[worst]), as_place(points[worst]), names


def _reaches(light: PlacedLight, points: F64) -> NDArray[np.bool_]:
    """(n,) whether a light can light each point, walls aside."""
    if light.kind == "directional":
        return np.ones(len(points), np.bool_)
    away = points - light.position
    far = np.linalg.norm(away, axis=1)
    near = far <= (light.reach or math.inf)
    if light.kind == "spot":
        cosine = away @ light.direction / np.maximum(far, 1e-9)
        near &= cosine >= math.cos(light.outer_cone)
    found: NDArray[np.bool_] = near
    return found


@BEFORE.detector({"fixture-mismatch": "Fixture and light differ"}, SHAPES, LIGHTS, GLOW, BRIEF)
def fixtures(s: Subject) -> Iterator[Finding]:
    """Linked fixtures that look lit while their light is off, or dark while it is on."""
    names = {name: i for i, name in enumerate(s.baking.node_names)}
    for light in s.scene.lights:
        fixture = s.brief.light(light.name).fixture
        if not fixture or fixture not in names:
            continue
        rows = s.scene.node == names[fixture]
        lit = any(looks_lit(s.level, int(m)) for m in np.unique(s.scene.material[rows]))
        if lit != (light.intensity > 0):
            looks, is_ = ("lit", "off") if lit else ("dark", "on")
            reason = f"Its fixture {short(fixture)} looks {looks}, but the light is {is_}."
            yield Finding(
                "fixture-mismatch", "warning", light.name, reason, "Switch both alike", as_place(light.position)
            )
