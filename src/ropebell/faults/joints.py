"""Where surfaces meet: seams in the light, and unequal densities."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ropebell.checks.subject import short
from ropebell.faults.after import AFTER, GROUND, LIGHT, Looked
from ropebell.faults.lit import Lit
from ropebell.faults.patches import finding, patches
from ropebell.level.finding import Finding
from ropebell.level.model import F64, I64, LUMINANCE
from ropebell.level.nearest import distance_to_triangles
from ropebell.light.seams import POINTS_PER_TEXEL, Seams, Standing, find_seams

# Planes within this go on into each other; a jump over this share is seen.
SMOOTH, JUMP = math.cos(math.radians(15.0)), 0.08
ERRORS = 3.0
# A seam is at least so many texels long, or a shadow that crosses a joint would be one.
LEAST_LENGTH = 2.5
# Densities that differ by more.
UNEVEN = 4.0
LEAST_SIDE = 3
MOST = 40


@AFTER.detector({"seam": "Seam"}, LIGHT)
def seams(s: Looked) -> Iterator[Finding]:
    """Joints of smooth surfaces of one material across which the light jumps."""
    lit = s.lit
    found = lit.seams
    if found is None or not found.points:
        standing = Standing(lit.places, lit.samples.count > 0, lit.space)
        found = find_seams(lit.scene, lit.atlas, lit.texels, lambda _: None, standing)
    if not found.points:
        return
    a, b = _sides(found)
    owner, scene = lit.texels.owner, lit.scene
    smooth = np.einsum("ij,ij->i", lit.normals[a], lit.normals[b]) > SMOOTH
    alike = scene.material[owner[a]] == scene.material[owner[b]]
    counted = lit.open[a] & lit.open[b]
    weights = LUMINANCE.astype(np.float32)
    step = np.abs(found.steps((lit.total[lit.samples.target] @ weights)[:, None]))[:, 0]
    lighter = np.maximum(lit.light[a], lit.light[b]).astype(np.float64)
    error = np.hypot(lit.told_noise[a] * lit.raw[a], lit.told_noise[b] * lit.raw[b])
    share = step / np.maximum(lighter, 1e-12)
    jumps = smooth & alike & counted & (share > JUMP) & (step > ERRORS * error) & (lighter > 0.05 * lit.usual)
    points = np.flatnonzero(jumps)
    if not len(points):
        return
    points = points[s.seen.of(a[points]) | s.seen.of(b[points])]
    value, metres = np.zeros(len(lit)), np.zeros(len(lit))
    partner = np.full(len(lit), -1, np.int64)
    for mine, other in ((a, b), (b, a)):
        order = points[np.argsort(share[points], kind="stable")]
        value[mine[order]], partner[mine[order]] = share[order], other[order]
        np.add.at(metres, mine[points], 0.5 * lit.pitch[mine[points]] / POINTS_PER_TEXEL)
    told = 0
    for patch in _joined(lit, np.flatnonzero(value > 0), partner):
        length = float(metres[patch].sum())
        if length < LEAST_LENGTH * float(np.median(lit.pitch[patch])) or told >= MOST:
            continue
        told += 1
        worst = int(patch[np.argmax(value[patch])])
        yield _seam(lit, patch, worst, int(partner[worst]), float(value[worst]), length)


def _seam(lit: Lit, patch: I64, worst: int, other: int, share: float, length: float) -> Finding:
    names = [lit.scene.node_names[lit.node[t]] for t in (worst, other)]
    cause, remedy, fix = "charts are cut there", "Join the two into one object, or raise the density", tuple[str, ...]()
    unequal = max(lit.pitch[worst], lit.pitch[other]) > 1.5 * min(lit.pitch[worst], lit.pitch[other])
    if names[0] != names[1] and unequal:
        cause, remedy, fix = "the two are of unequal density", "Give both the same density", (
            "level-density", names[0] if lit.pitch[worst] > lit.pitch[other] else names[1],
        )  # fmt: skip
    elif lit.seams is None or not lit.seams.points:
        cause, remedy, fix = "charts are cut there and nothing closes the seam", "Stitch seams", (
            "set", "finish.stitch_seams", "true",
        )  # fmt: skip
    with_whom = f" against '{short(names[1])}'" if names[1] != names[0] else ""
    reason = f"The light jumps by {100 * share:.0f} % along {length:.2g} m{with_whom}: {cause}."
    return finding(
        lit, "seam", "warning", patch, worst, reason, remedy, measure=(share, "share"), also=[names[1]], fix=fix
    )  # fmt: skip


def _sides(found: Seams) -> tuple[I64, I64]:
    """(M,) texels that say most on either side of each point of the joints."""
    sides = []
    for sign in (1.0, -1.0):
        mine = sign * found.weights > 0
        rows, columns, weights = found.rows[mine], found.columns[mine], sign * found.weights[mine]
        best = np.zeros(found.points, np.int64)
        order = np.argsort(weights, kind="stable")
        best[rows[order]] = columns[order]
        sides.append(best)
    return sides[0], sides[1]


def _joined(lit: Lit, rows: I64, partner: I64) -> Iterator[I64]:
    """Both sides of a joint as one patch."""
    seen = np.zeros(len(lit), np.bool_)
    for patch in patches(lit, rows):
        if seen[patch].all():
            continue
        other = np.unique(partner[patch][partner[patch] >= 0])
        both = np.union1d(patch[~seen[patch]], other[~seen[other]])
        seen[both] = True
        yield both


@AFTER.detector({"uneven-quality": "Unequal density"}, GROUND)
def uneven_quality(s: Looked) -> Iterator[Finding]:
    """Surfaces that meet and differ more than four times in texels per metre."""
    from scipy.spatial import cKDTree  # slow to load, and only wanted here

    lit = s.lit
    # A chart of few texels was stretched to whole ones: its density is not what anybody chose.
    shortest = lit.atlas.rects[lit.chart, 3:].min(axis=1) if len(lit) else np.zeros(0)
    rows = np.flatnonzero(lit.open & (lit.texels.cover > 0.3) & (shortest >= LEAST_SIDE))
    density = lit.atlas_density[rows]
    if not len(rows) or density.max() < UNEVEN * density.min():
        return
    edge = np.zeros(len(lit), np.bool_)
    for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        edge |= lit.beside(dx, dy) < 0
    worse: dict[tuple[int, int], tuple[float, int, int]] = {}
    # From every fine texel at a border, or on what is only some texels wide, to the nearest coarse ones.
    steps = np.unique(np.floor(np.log2(density)).astype(np.int64))
    for step in steps:
        coarse = rows[np.floor(np.log2(density)).astype(np.int64) == step]
        fine = rows[(density > UNEVEN * 2.0**step) & edge[rows]]
        if not len(coarse) or not len(fine):
            continue
        reach = 0.75 * float(lit.pitch[coarse].max())
        far, near = cKDTree(lit.places[coarse]).query(lit.places[fine], distance_upper_bound=reach)
        met = np.isfinite(far)
        fine, near = fine[met], coarse[near[met]]
        ratio = lit.atlas_density[fine] / lit.atlas_density[near]
        touching = (ratio > UNEVEN) & (_gap(lit, fine, near) <= 1.0 * lit.pitch[fine])
        touching[touching] = s.seen.of(fine[touching]) & s.seen.of(near[touching])
        for f, c, r in zip(fine[touching].tolist(), near[touching].tolist(), ratio[touching].tolist()):
            pair = int(lit.node[f]), int(lit.node[c])
            if r > worse.get(pair, (0.0, 0, 0))[0]:
                worse[pair] = r, f, c
    for (fine_node, coarse_node), (ratio, f, c) in sorted(worse.items(), key=lambda item: -item[1][0])[:MOST]:
        a, b = lit.scene.node_names[fine_node], lit.scene.node_names[coarse_node]
        reason = (
            f"It has {lit.atlas_density[f]:.3g} texels per metre and '{short(b)}' beside it "
            f"{lit.atlas_density[c]:.3g}: {ratio:.2g} times as many."
        )
        yield finding(
            lit, "uneven-quality", "note", np.array([f]), f, reason, "Give both the same density",
            measure=(ratio, "ratio"), also=[b], fix=("level-density", a, b), proved=True,
        )  # fmt: skip


def _gap(lit: Lit, fine: I64, coarse: I64) -> F64:
    """(m,) metres from each fine texel to the face of a coarse one: no more than a point of both, where they meet."""
    return distance_to_triangles(lit.scene.corners, lit.texels.owner[coarse].astype(np.int64), lit.places[fine])
