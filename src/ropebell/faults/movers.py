"""Things that move: dark where they stand, or baked in a pose that players rarely see."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.checks.remedies import HELPER_LIGHT, PLACE_PROBE, place_words, with_marks
from ropebell.checks.subject import as_place, short
from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.again import spread
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding, large_enough, patches
from ropebell.level.finding import Finding
from ropebell.level.model import F64, LUMINANCE
from ropebell.light.harmonics import irradiance
from ropebell.light.lookup import texel_of
from ropebell.light.probes import LitLevel, at_place, lit_probes

DARK_MOVER = "dark-mover"
# Under this share of the surfaces around it, within so many metres of it, a mover is dark.
DARK, AROUND = 0.1, 1.0
# A pose that changes the light by more, on so many m².
STAINED, STAIN_AREA = 0.2, 0.02
# How far a helper light reaches, times its height.
HELPED = 4.0
MOST_LOOKED, RAYS = 2000, 128
SIDES = np.array([[0, 1, 0], [1, 0, 0], [-1, 0, 0], [0, 0, 1], [0, 0, -1.0]])


@AFTER.detector({DARK_MOVER: "A thing that moves is dark"}, LIGHT)
def dark_movers(s: Looked) -> Iterator[Finding]:
    """Moving things that are lit under a tenth of the surfaces around them, where they stand."""
    lit = s.lit
    everything, marks = lit.subject.scene, lit.scene.marks.nodes
    for node, first, end in everything.node_ranges():
        if node >= len(marks) or marks[node].role != "moving":
            continue
        corners = everything.corners[first:end].reshape(-1, 3)
        low, high = corners.min(axis=0), corners.max(axis=0)
        middle = (low + high) / 2
        around, count = _around(lit, low, high, middle)
        if not count or around <= 0:
            continue
        texel, stands_on = _below(lit, middle)
        below = lit.scene.node_names[stands_on] if stands_on >= 0 else ""
        value = _light_of(lit, middle, texel)
        if value >= DARK * around:
            continue
        name = everything.node_names[node]
        would = _by_probe(lit, middle)
        if lit.probes is not None and len(lit.probes):
            cause = "the probes near it are dark"
        elif below:
            cause = f"it takes its light from '{short(below)}' below it, which is dark"
        else:
            cause = "there is nothing lit below it to take light from"
        proved = would >= DARK * around
        cause += f"; a probe here would give it {would:.3g} lux" if proved else "; no light finds its way here"
        reason = f"It gets {value:.2g} lux where the surfaces around it get {around:.3g}: {cause}."
        probe = (PLACE_PROBE.of(place_words(middle)),) if proved else ()
        helper = _helper(lit, name, middle, texel, around) if lit.probes is None or not len(lit.probes) else ()
        fixes = [*probe, *helper]
        told = Finding(
            DARK_MOVER, "warning" if proved else "note", name, reason,
            "Place a probe here" if proved else "Add a light, or let one reach it", as_place(middle),
            fixes[0] if fixes else (), (below,) if below else (), None, (float(f"{value:.6g}"), "lux"),
            None, None, proved, others=tuple(fixes[1:]),
        )  # fmt: skip
        # It has no texels: the spot below it gives account of it.
        lit.shown.append((told, np.array([texel] if texel >= 0 else [], np.int64)))
        yield told


def _helper(lit: Lit, name: str, middle: F64, texel: int, wanted: float) -> tuple[tuple[str, ...], ...]:
    """The remedy that lights what is below a mover, as brightly as what is around it; none where nothing is below."""
    if texel < 0 or not lit.open[texel]:
        return ()
    high = float(middle[1] - lit.places[texel][1])
    up = max(0.5 * high, min(2.0 * float(lit.pitch[texel]), 0.9 * high))
    place = np.array([middle[0], middle[1] - high + up, middle[2]])
    return (HELPER_LIGHT.of(place_words(place), f"{wanted * up * up:.4g}", f"{HELPED * up:.4g}", name),)


def _around(lit: Lit, low: F64, high: F64, middle: F64) -> tuple[float, int]:
    """Median light of the surfaces within a metre of a box that its middle sees, or of four texels where that is more;
    and how many texels they are."""
    gap = np.linalg.norm(np.maximum(np.maximum(low - lit.places, lit.places - high), 0.0), axis=1)
    rows = np.flatnonzero(lit.open & (gap <= np.maximum(AROUND, 4 * lit.pitch)) & (lit.light > 0))
    rows = spread(rows, 4000)
    if not len(rows):
        return 0.0, 0
    way = lit.places[rows] + lit.normals[rows] * (0.05 * lit.pitch[rows])[:, None] - middle
    start = np.broadcast_to((middle - lit.space.centre).astype(np.float32), way.shape)
    free = ~lit.space.blocked(
        np.ascontiguousarray(start), way.astype(np.float32), np.full(len(rows), 0.999, np.float32)
    )
    seen = rows[free & (np.einsum("ij,ij->i", way, lit.normals[rows]) < 0)]
    return (float(np.median(lit.light[seen])), len(seen)) if len(seen) else (0.0, 0)


def _light_of(lit: Lit, place: F64, texel: int) -> float:
    """Luminance that a mover gets, by the probes round it or by the texel below."""
    if lit.probes is not None and len(lit.probes):
        mixed, _ = at_place(lit.probes, lit.space, place)
        return float(np.mean([irradiance(mixed, way) @ LUMINANCE for way in SIDES]))
    return float(lit.light[texel]) if texel >= 0 else 0.0


def _below(lit: Lit, place: F64) -> tuple[int, int]:
    """Texel and object straight below, −1 where there is none."""
    start = (place - lit.space.centre).astype(np.float32)[None]
    down = np.array([[0, -1, 0]], np.float32)
    t = int(lit.space.first_hit(start, down)[0])
    if t < 0:
        return -1, -1
    return texel_of(lit.records, lit.speaking, t, start, down), int(lit.scene.node[t])


def _by_probe(lit: Lit, place: F64) -> float:
    """Luminance that a probe at a place would give a mover there."""
    leaving = lit.solved.total * lit.reflecting / np.float32(np.pi)
    for number, radiance in enumerate(lit.glow.radiance):
        leaving[lit.glow.of_texel == number] += radiance
    sky = lit.sky if lit.picture is None else lit.tint
    level = LitLevel(lit.scene, lit.space, lit.records, lit.speaking, leaving, sky, lit.picture)
    made = lit_probes(level, place[None], ["here"], lambda _: None)
    if not len(made):
        return 0.0
    found = made.coefficients[0].astype(np.float64)
    return float(np.mean([irradiance(found, way) @ LUMINANCE for way in SIDES]))


@AFTER.detector({"pose-stain": "Light of another pose"}, LIGHT)
def pose_stains(s: Looked) -> Iterator[Finding]:
    """Light baked in one pose that differs from that of the pose players mostly see."""
    lit = s.lit
    scene, brief = lit.scene, lit.subject.brief
    for node, mark in enumerate(scene.marks.nodes):
        usual, now = mark.usual or "", mark.pose or ""
        if mark.usual is None or usual == now or mark.role != "baked" or lit.posed is None:
            continue
        mine = np.flatnonzero(scene.node == node)
        name = scene.node_names[node]
        pose = mark.poses.get(usual)
        gone = pose is not None and pose.absent
        if not len(mine) and not gone:
            continue
        other = None
        if not gone:
            other = lit.posed(with_marks(brief, (name,), "pose", usual))
            if len(other) != len(scene) or not np.array_equal(other.node, scene.node):
                continue
        rows = _near(lit, mine)
        as_built = s.again.of(rows, rays=RAYS)
        if gone:
            then = s.again.of(rows, without=frozenset([node]), rays=RAYS)
        else:
            then = s.again.of(rows, scene=other, rays=RAYS)
        a, b = as_built.value.astype(np.float64), then.value.astype(np.float64)
        change = np.abs(a - b) / np.maximum(np.maximum(a, b), 0.05 * lit.usual + 1e-30)
        flagged = rows[change > STAINED]
        value = np.zeros(len(lit))
        value[rows] = change
        flagged = flagged[s.seen.of(flagged)] if len(flagged) else flagged
        # Only some texels were looked at: each stands for its neighbours as well.
        scale = max(len(_all_near(lit, mine)) / max(len(rows), 1), 1.0)
        found = list(patches(lit, flagged))
        area = scale * float(sum(lit.area[p].sum() for p in found))
        if not found or (area < STAIN_AREA and not large_enough(lit, found[0], STAIN_AREA)):
            continue
        worst = int(found[0][np.argmax(value[found[0]])])
        shown = usual or "as in the level"
        reason = (
            f"It is baked in the pose '{now or 'as in the level'}', but players mostly see it '{shown}': {area:.2g} m² "
            f"round it would get other light, up to {100 * value[worst]:.0f} %."
        )
        yield finding(
            lit, "pose-stain", "warning", np.concatenate(found), worst, reason, "Bake the pose that players see",
            measure=(area, "m²"), also=[scene.node_names[lit.node[worst]]], fix=("usual-pose", name, usual),
            proved=True, node=node, area=area,
        )  # fmt: skip


def _all_near(lit: Lit, faces: np.ndarray) -> np.ndarray:
    """Texels within twice an object's size of it, but not its own; all, where it is not there."""
    if not len(faces):
        return np.flatnonzero(lit.open)
    corners = lit.scene.corners[faces].reshape(-1, 3)
    low, high = corners.min(axis=0), corners.max(axis=0)
    gap = np.linalg.norm(np.maximum(np.maximum(low - lit.places, lit.places - high), 0.0), axis=1)
    node = int(lit.scene.node[faces[0]])
    return np.flatnonzero(lit.open & (gap <= 2.0 * float(np.linalg.norm(high - low))) & (lit.node != node))


def _near(lit: Lit, faces: np.ndarray) -> np.ndarray:
    return spread(_all_near(lit, faces), MOST_LOOKED)
