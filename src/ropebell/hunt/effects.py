"""What a fix does beside making a fault go away."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.request import Request
from ropebell.build.sighting import sight_of
from ropebell.build.store import Store
from ropebell.checks.run import check
from ropebell.checks.subject import Subject
from ropebell.errors import RopeBellError
from ropebell.hunt.fixes import Fix
from ropebell.level.brief import Brief
from ropebell.level.model import F32, F64, I32, Level
from ropebell.light.rays import RaySpace
from ropebell.sight.walk import start_point, walkable

# Pictures that a fix is seen in, and their pixels; half their field of view.
PLACES, WIDE, HIGH, HALF_VIEW = 5, 160, 90, math.radians(35.0)
# A pixel differs if it shows another object, or the same nearer or farther by this share.
APART = 0.01
# Checks of how two objects stand to each other.
CONTACTS = ("coplanar", "hair-gap", "crossing")


def newly_touched(level: Level, fix: Fix, request: Request) -> tuple[str, ...]:
    """Paths of objects that the mended one runs into, lies in one plane with, or nearly touches, and did not before.

    Args:
        level: without the fix. request: how it is built.
    """
    before = _contacts(level, request.brief, fix.node, request)
    after = _contacts(fix.level(level), fix.brief(request.brief), fix.node, request)
    return tuple(sorted({other for _, other in after - before}))


def _contacts(level: Level, brief: Brief, node: str, request: Request) -> set[tuple[str, str]]:
    """(kind, other object) of all that one object has to do with."""
    found = set[tuple[str, str]]()
    for f in check(gather(level, brief, request.recipe, request.sky, request.tables).subject):
        if f.kind in CONTACTS and node in (f.object, *f.also):
            found |= {(f.kind, other) for other in (f.object, *f.also) if other != node}
    return found


def pixels_apart(level: Level, fix: Fix, request: Request) -> tuple[int, int]:
    """How many pixels look otherwise with a fix, from the trouble spots that are kept with the project; where these are
    fewer than five, also from floors near the object that can be walked. And how many pixels there are.

    Args:
        level: without the fix. request: how it is built.
    """
    before = gather(level, request.brief, request.recipe, request.sky, request.tables).subject
    mended = fix.level(level), fix.brief(request.brief)
    after = gather(*mended, request.recipe, request.sky, request.tables).subject
    views = [*_kept(request), *_nearby(before, fix.node)][:PLACES]
    names = {name: i for i, name in enumerate(before.baking.node_names)}
    theirs = np.array([names.get(name, -2) for name in after.baking.node_names])
    differ = 0
    for eye, forward in views:
        a, far_a = _seen(before, eye, forward)
        b, far_b = _seen(after, eye, forward)
        known = np.where(b >= 0, theirs[b], -1)
        differ += int(((a != known) | (np.abs(far_a - far_b) > APART * np.minimum(far_a, far_b))).sum())
    return differ, len(views) * WIDE * HIGH


def pairs_in_sight(level: Level, fix: Fix, request: Request) -> tuple[int, int] | None:
    """Pairs of sight cells that see each other, without a fix and with it: what it opens or closes of the level. None
    where sight is no part of the build and was not looked into before, or the level is open by nature.

    Args:
        level: without the fix. request: how it is built.
    """
    recipe, store = request.recipe, Store(request.cache)
    before = gather(level, request.brief, recipe, request.sky, request.tables, store=store).subject
    if before.sight is None and not recipe.sight.enabled:
        return None
    mended = gather(fix.level(level), fix.brief(request.brief), recipe, request.sky, request.tables).subject
    a, b = (sight_of(s, recipe.sight.cell, request.workers, store)[0] for s in (before, mended))
    return (a.pairs, b.pairs) if len(a.middles) and len(b.middles) else None


def _kept(request: Request) -> list[tuple[F64, F64]]:
    """Eye and direction of the views that are kept with the level's project."""
    try:
        kept: Any = find_project(request.level).rest.get("places", {})
    except RopeBellError:
        return []
    found = []
    for view in kept.values() if isinstance(kept, dict) else ():
        try:
            eye = np.array([float(v) for v in view["eye"]])
            yaw, pitch = float(view["yaw"]), float(view["pitch"])
        except (KeyError, TypeError, ValueError):
            continue
        if eye.shape == (3,):
            c = math.cos(pitch)
            found.append((eye, np.array([math.sin(yaw) * c, math.sin(pitch), -math.cos(yaw) * c])))
    return found


def _nearby(subject: Subject, node: str) -> list[tuple[F64, F64]]:
    """Places where one can stand, looking at an object: the nearest of those that are not right beside each other."""
    scene, level = subject.scene, subject.level
    start = start_point(level, scene, subject.brief)
    mine = scene.corners[scene.node == scene.node_names.index(node)] if node in scene.node_names else scene.corners
    if not len(mine):
        return []
    middle = (mine.min(axis=(0, 1)) + mine.max(axis=(0, 1))) / 2
    size = float(np.linalg.norm(np.ptp(mine.reshape(-1, 3), axis=0)))
    eyes = walkable(scene, RaySpace(scene.corners), start).eyes if start is not None else np.zeros((0, 3))
    if not len(eyes):
        # Nobody can stand anywhere: from all round.
        turns = np.arange(PLACES) * 2 * math.pi / PLACES
        round_ = np.stack([np.cos(turns), np.full(PLACES, 0.3), np.sin(turns)], axis=1)
        eyes = middle + 2.0 * max(size, 1e-3) * round_
    far = np.linalg.norm(eyes - middle, axis=1)
    chosen: list[F64] = []
    for row in np.argsort(far, kind="stable"):
        if far[row] > 0.5 * size and all(np.linalg.norm(eyes[row] - e) > 0.5 * far[row] for e in chosen):
            chosen.append(eyes[row])
        if len(chosen) == PLACES:
            break
    return [(eye, (middle - eye) / np.linalg.norm(middle - eye)) for eye in chosen]


def _seen(subject: Subject, eye: F64, forward: F64) -> tuple[I32, F32]:
    """(pixels,) object that each shows, −1 for none, and how far away it is, metres."""
    space, scene = subject.space, subject.baking
    flat = np.array([-forward[2], 0.0, forward[0]])
    right = flat / np.linalg.norm(flat) if np.linalg.norm(flat) > 1e-9 else np.array([1.0, 0.0, 0.0])
    up = np.cross(right, forward)
    x, y = np.meshgrid(*((2 * np.arange(n) + 1) / n - 1 for n in (WIDE, HIGH)))
    reach = math.tan(HALF_VIEW)
    way = forward + reach * (x.reshape(-1, 1) * right + y.reshape(-1, 1) * up * HIGH / WIDE)
    way = (way / np.linalg.norm(way, axis=1, keepdims=True)).astype(np.float32)
    start = np.tile((eye - space.centre).astype(np.float32), (len(way), 1))
    hit, far = space.nearest(start, way)
    return np.where(hit >= 0, scene.node[hit], -1).astype(np.int32), np.minimum(far, np.float32(1e9))
