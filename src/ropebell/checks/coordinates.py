"""Checks of lightmap coordinates and of charts too small to hold light."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ropebell.charts.layout import RANGE_SLACK
from ropebell.charts.overlap import overlap_of
from ropebell.checks.before import BEFORE, SHAPES
from ropebell.checks.remedies import LEAVE_OUT, UNWRAP
from ropebell.checks.subject import Subject, as_place, short
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64

# Fewer texels than this cannot show a shadow; light from the probes does as well.
FEW_TEXELS = 8.0
# Densities on one object that differ by more than this show.
STRETCH = 4.0
# A quarter of the surface squeezed by more along one way shows as smears.
SQUEEZE = 2.0
MOST_OVERLAP = 0.01


@dataclass(frozen=True)
class CoordinateReport:
    """A mesh's own lightmap coordinates.

    Attributes:
        node: index of the object.
        kind: fine, missing, overlapping, out-of-range, stretched or collapsed.
        amount: share of the area that overlaps or is collapsed, factor of the stretch, or 0.
        low, high: range of the coordinates.
        place: on the object, where it is worst.
    """

    node: int
    kind: str
    amount: float
    low: float
    high: float
    place: tuple[float, float, float]


def report_coordinates(s: Subject) -> list[CoordinateReport]:
    """One report for every object that is baked."""
    scene = s.baking
    return [_report(node, scene.uv1[a:b], scene.corners[a:b], scene.areas[a:b]) for node, a, b in scene.node_ranges()]


def _report(node: int, uv: F32, corners: F64, areas: F64) -> CoordinateReport:
    middle = as_place(corners[int(np.argmax(areas))].mean(axis=0))
    if np.isnan(uv).any():
        return CoordinateReport(node, "missing", 0.0, 0.0, 0.0, middle)
    low, high = float(uv.min()), float(uv.max())
    if low < -RANGE_SLACK or high > 1 + RANGE_SLACK:
        outside = (uv < -RANGE_SLACK).any(axis=(1, 2)) | (uv > 1 + RANGE_SLACK).any(axis=(1, 2))
        at = as_place(corners[int(np.argmax(outside))].mean(axis=0))
        return CoordinateReport(node, "out-of-range", float(areas[outside].sum() / areas.sum()), low, high, at)
    flat = _flat_areas(uv)
    collapsed = flat < 1e-12
    lost = float(areas[collapsed].sum() / areas.sum())
    if lost > 1e-3:
        at = as_place(corners[int(np.argmax(collapsed))].mean(axis=0))
        return CoordinateReport(node, "collapsed", lost, low, high, at)
    share, worst = overlap_of(uv)
    if share > MOST_OVERLAP:
        return CoordinateReport(node, "overlapping", share, low, high, as_place(corners[worst].mean(axis=0)))
    squeeze = _squeeze(uv, corners)
    order = np.argsort(squeeze)
    running = np.cumsum(areas[order]) / areas.sum()
    narrow = float(squeeze[order[min(int(np.searchsorted(running, 0.75)), len(order) - 1)]])
    if narrow > SQUEEZE:
        return CoordinateReport(node, "stretched", narrow, low, high, as_place(corners[order[-1]].mean(axis=0)))
    density = np.sqrt(flat / np.maximum(areas, 1e-300))
    order = np.argsort(density)
    running = np.cumsum(areas[order]) / areas.sum()
    fine, coarse = density[order[np.searchsorted(running, 0.95)]], density[order[np.searchsorted(running, 0.05)]]
    if fine > STRETCH * coarse:
        at = as_place(corners[order[0]].mean(axis=0))
        return CoordinateReport(node, "stretched", float(fine / max(coarse, 1e-12)), low, high, at)
    return CoordinateReport(node, "fine", 0.0, low, high, middle)


def _squeeze(uv: F32, corners: F64) -> F64:
    """(n,) how many times as far a metre goes on the page along the one way as along the other: the ratio of the
    singular values of each face's map (P. Sander et al., SIGGRAPH 2001)."""
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    x = np.linalg.norm(e1, axis=1)
    along = e1 / np.maximum(x, 1e-300)[:, None]
    y = np.einsum("ij,ij->i", e2, along)
    z = np.linalg.norm(e2 - y[:, None] * along, axis=1)
    flat = uv.astype(np.float64)
    d1, d2 = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    a = d1 / np.maximum(x, 1e-300)[:, None]
    b = (d2 - a * y[:, None]) / np.maximum(z, 1e-300)[:, None]
    p, q = (a * a).sum(axis=1) + (b * b).sum(axis=1), np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    root = np.sqrt(np.maximum(p * p - 4 * q * q, 0.0))
    found: F64 = np.sqrt((p + root) / np.maximum(p - root, 1e-12 * np.maximum(p, 1e-300)))
    return found


def _flat_areas(uv: F32) -> F64:
    flat = uv.astype(np.float64)
    b, c = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    return 0.5 * np.abs(b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])


def coordinate_words(r: CoordinateReport) -> str:
    """What is wrong, as the end of a sentence that begins with the object."""
    return {
        "overlapping": f"overlap on {100 * r.amount:.0f} % of their area: light of one place would show on another",
        "out-of-range": f"reach from {r.low:.2f} to {r.high:.2f}, outside 0 … 1",
        "stretched": f"are {r.amount:.1f} times as dense in one part or along one way as in another",
        "collapsed": f"have no area for {100 * r.amount:.0f} % of the surface",
        "missing": "are missing",
        "fine": "are fine",
    }[r.kind]


@BEFORE.detector(
    {
        "coordinates-overlapping": "Lightmap coordinates overlap",
        "coordinates-out-of-range": "Coordinates out of range",
        "coordinates-stretched": "Coordinates stretched",
        "coordinates-collapsed": "Coordinates collapsed",
    },
    SHAPES,
)
def coordinates(s: Subject) -> Iterator[Finding]:
    """Lightmap coordinates of the file that cannot be used as they are."""
    for r in report_coordinates(s):
        if r.kind in ("fine", "missing"):
            continue
        used = r.kind == "stretched"
        reason = (
            f"Its lightmap coordinates {coordinate_words(r)}; {'they are used' if used else 'it is unwrapped instead'}."
        )
        kind = f"coordinates-{r.kind}"
        severity = "note" if used else "warning"
        name = s.baking.node_names[r.node]
        yield Finding(kind, severity, name, reason, "Unwrap it for good", r.place, UNWRAP.of(name))


@BEFORE.detector({"tiny-chart": "Chart of a few texels"}, SHAPES)
def tiny_charts(s: Subject) -> Iterator[Finding]:
    """Objects that get only a few texels even in the final build, those of one mesh together."""
    scene = s.baking
    if not len(scene):
        return
    texels = scene.areas * (scene.factor.astype(np.float64) * s.texels_per_metre) ** 2
    total = np.bincount(scene.node, texels, len(scene.node_names))
    # What gets no lightmap anyway has no chart that could be too small.
    present = np.bincount(scene.node, ~scene.bare, len(scene.node_names)) > 0
    few = np.flatnonzero(present & (total < FEW_TEXELS))
    by_mesh: dict[int, list[int]] = {}
    for node in few:
        by_mesh.setdefault(s.level.nodes[node].mesh, []).append(int(node))
    for nodes in by_mesh.values():
        names = [scene.node_names[n] for n in nodes]
        count = "" if len(nodes) == 1 else f" They are {len(nodes)}, all of one mesh."
        share = total[nodes[0]]
        size = f"{share:.0f} texels" if share >= 2 else "a texel or two"
        reason = f"{short(names[0])} gets {size} in the final build, too few to hold light.{count}"
        yield Finding(
            "tiny-chart", "warning", names[0], reason, "Leave it out, light it by probes", s.centre(nodes[0]),
            LEAVE_OUT.of(*names), tuple(names[1:]),
        )  # fmt: skip
