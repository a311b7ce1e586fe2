"""The grid a level was modelled on, and what stands a hair off it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.before import BEFORE, MARKS, SHAPES
from ropebell.checks.remedies import MOVE
from ropebell.checks.subject import Subject
from ropebell.level.arrange import transform
from ropebell.level.brief import Move
from ropebell.level.finding import Finding
from ropebell.level.model import F64
from ropebell.level.triangles import bounds_by

# Steps that editors offer, in metres: decimal ones and halves of a metre.
STEPS = sorted({m * 10.0**e for m in (1, 2, 5) for e in range(-4, 3)} | {2.0**-e for e in range(-3, 8)}, reverse=True)
# A step counts as the level's grid when so many of its square objects' sides lie on it, and there are enough of them.
ON_GRID, LEAST_EXACT, LEAST_SIDES = 0.7, 0.5, 12
# Nearer than this share of a step a side is on the grid; off by no more than that, the object looks meant to be on it.
EXACT, HAIR = 1e-3, 4e-2
SQUARE = 1.0 - 1e-7
AXES = "xyz"


@dataclass(frozen=True, eq=False)
class Sides:
    """The flat sides of objects that stand square to the axes.

    Attributes:
        node, axis: (n,) of each pair of opposite sides.
        low, high: (n,) float64 metres along that axis.
    """

    node: NDArray[np.int64]
    axis: NDArray[np.int64]
    low: F64
    high: F64


def square_sides(s: Subject) -> Sides:
    """Where objects begin and end along an axis, if they do so with faces square to it."""
    scene = s.baking
    along = np.abs(scene.face_normals.astype(np.float64) @ s.frame)
    rows = np.flatnonzero(along.max(axis=1) > SQUARE)
    if not len(rows):
        none = np.zeros(0, np.int64)
        return Sides(none, none, np.zeros(0), np.zeros(0))
    axis = along[rows].argmax(axis=1)
    key = scene.node[rows].astype(np.int64) * 3 + axis
    corners = scene.corners @ s.frame
    at = corners[rows, 0, axis]
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, np.diff(key[order]) != 0))
    low, high = np.minimum.reduceat(at[order], starts), np.maximum.reduceat(at[order], starts)
    node, axis = np.divmod(key[order][starts], 3)
    node_low, node_high = bounds_by(corners, scene.node, len(scene.node_names))
    fine = 1e-6 * s.extent
    whole = (np.abs(node_low[node, axis] - low) < fine) & (np.abs(node_high[node, axis] - high) < fine)
    whole &= high - low > 10 * fine
    return Sides(node[whole], axis[whole], low[whole], high[whole])


def grid_step(sides: Sides, extent: float) -> float:
    """The widest step that most sides lie on, metres; 0 if there is none.

    Args:
        extent: of the level, metres: above a quarter of it or below a thousandth, a step says nothing.
    """
    at = np.concatenate([sides.low, sides.high])
    if len(at) < LEAST_SIDES:
        return 0.0
    # The grid goes through the origin, as editors lay it.
    for step in STEPS:
        if 1e-3 * extent <= step <= extent / 4 and _on_grid(at, step, extent) >= ON_GRID:
            return step
    return 0.0


def _on_grid(at: F64, step: float, extent: float) -> float:
    """Share of the sides that lie on a grid, a hair off counted as meant to be on it."""
    off = np.abs(_off(at, step))
    exact = off < _exact(step, extent)
    meant = exact | (off < HAIR * step)
    return float(meant.mean()) if exact.mean() >= LEAST_EXACT else 0.0


def _exact(step: float, extent: float) -> float:
    return max(EXACT * step, 1e-6 * extent)


def _off(at: F64, step: float) -> F64:
    """Signed distance to the nearest line of the grid."""
    return at - np.round(at / step) * step


@BEFORE.detector({"off-grid": "A hair off the grid"}, SHAPES, MARKS, version=2)
def off_grid(s: Subject) -> Iterator[Finding]:
    """Objects as wide as the grid asks that stand a hair off it: next to others they leave gaps and steps."""
    sides = square_sides(s)
    step = grid_step(sides, s.extent)
    if step == 0:
        return
    exact = _exact(step, s.extent)
    shift = _off(sides.low, step)
    fits = np.abs(_off(sides.high - sides.low, step)) < exact
    astray = np.flatnonzero(fits & (np.abs(shift) > 2 * exact) & (np.abs(shift) < HAIR * step))
    for node in np.unique(sides.node[astray]):
        mine = astray[sides.node[astray] == node]
        name = s.baking.node_names[node]
        back = np.zeros(3)
        back[sides.axis[mine]] = -shift[mine]
        back = s.frame @ back
        words = " and ".join(f"{1e3 * abs(shift[i]):.2g} mm along {AXES[sides.axis[i]]}" for i in mine)
        reason = f"It stands {words} off the grid of {step:g} m that the level keeps to, too little to be meant."
        fix = _onto_grid(s, int(node), back)
        yield Finding("off-grid", "note", name, reason, "Move it onto the grid", s.centre(int(node)), fix)


def _onto_grid(s: Subject, node: int, back: F64) -> tuple[str, ...]:
    """The remedy: the object's own move, shifted by `back` metres in the level's frame."""
    name = s.baking.node_names[node]
    before = s.brief.moves.get(name, Move())
    if name in {path for path, mark in s.brief.marks.items() if mark.pose}:
        return ()  # its pose stands between its own frame and where it is
    # world = above · local · move, and what stands before the move's shift turns and scales that shift.
    source = s.level.nodes[node]
    step = np.linalg.inv(source.world)[:3, :3] @ back
    shift = np.array(before.move) + transform(before)[:3, :3] @ step
    move = [round(float(v), 9) for v in shift]
    return MOVE.of(name, json.dumps([move, list(before.turn), before.scale]))
