"""What lies over the picture at each step: lights and their reach, the play region, faults, found faces."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QObject

from ropebell.app.stage.overlay import Grip, Line, Mark, Overlay, box_edges, circle, snapped
from ropebell.level.brief import Box
from ropebell.level.model import AREA_KINDS, F64
from ropebell.level.scene import PlacedLight
from ropebell.light.area_light import frame_of
from ropebell.sight.walk import start_point

if TYPE_CHECKING:
    from ropebell.app.window import Window

# More marks than this would only hide the picture.
MOST_MARKS = 600
MARKS = {"point": "point", "spot": "spot", "directional": "sun"} | {kind: "emitter" for kind in AREA_KINDS}
AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}
MOST_FACES = 3000
FACES = ("x0", "x1", "y0", "y1", "z0", "z1")


class Overlays(QObject):
    """Keeps the stage's overlay in step with the session and the step.

    Args:
        window: whose stage, session and benches are used.
    """

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._faces: F64 = np.zeros((0, 3))
        self._gone: F64 = np.zeros((0, 3))
        self._fault: tuple[float, float, float] | None = None
        self._gesture = ""
        self.snap = 0.0

    def connect(self) -> None:
        """Follow everything that changes what lies over the picture."""
        w = self._window
        s = w.session
        for signal in (s.opened, s.edited, s.rearranged, s.selected, s.checked):
            signal.connect(lambda *_: self.refresh())
        w.level_bench.page_changed.connect(lambda _: self.refresh())
        w.lights_bench.page_changed.connect(lambda _: self.refresh())
        w.level_bench.region.chosen_changed.connect(lambda _: self.refresh())
        w.stage.grip_moved.connect(self._moved)

    def show_faces(self, rows: np.ndarray) -> None:
        """Mark these triangles of the session's scene."""
        now = self._window.session.now
        if now is not None and len(rows):
            corners = now.scene.corners[rows[:MOST_FACES]]
            ends = np.stack([corners, np.roll(corners, -1, axis=1)], axis=2).reshape(-1, 3)
            self._faces = ends
        else:
            self._faces = np.zeros((0, 3))
        self.refresh()

    def show_gone(self, corners: F64) -> None:
        """Outline faces, (n, 3, 3), that the shown build had and the level has no more."""
        few = corners[:MOST_FACES]
        self._gone = np.stack([few, np.roll(few, -1, axis=1)], axis=2).reshape(-1, 3)
        self.refresh()

    def show_fault(self, place: tuple[float, float, float] | None) -> None:
        """Mark the place of a finding."""
        self._fault = place
        self.refresh()

    def refresh(self) -> None:
        """Lay the marks of now over the picture."""
        w = self._window
        lines: list[Line] = []
        marks: list[Mark] = []
        grips: list[Grip] = []
        if w.session.now is not None:
            page = w.level_bench.stack.currentIndex() if w.step == "Level" else -1
            if w.step == "Lights" and w.lights_bench.pages.shown == 3:
                self._add_probes(marks)
            elif w.step == "Lights":
                self._add_lights(lines, marks, grips)
            if page == 2:
                self._add_region(lines, marks, grips)
            if page == 1 and self._fault is not None:
                marks.append(Mark(self._fault, "fault", strong=True))
            if len(self._gone):
                lines.append(Line(self._gone, "second", 1.0, dashed=True, pairs=True))
            if len(self._faces):
                lines.append(Line(self._faces, "accent", 1.4, pairs=True))
        w.stage.lay_over(Overlay(tuple(lines), tuple(marks), tuple(grips)))

    # -- lights

    def _add_lights(self, lines: list[Line], marks: list[Mark], grips: list[Grip]) -> None:
        s = self._window.session
        now = s.now
        assert now is not None
        number = {name: i for i, name in enumerate(now.scene.node_names)}
        chosen = set(s.chosen)
        for light in now.scene.lights:
            node = number.get(light.name, -1)
            at = _plain(light.position)
            strong = node in chosen
            name = light.name.rsplit("/", 1)[-1] if strong and node != s.selection else ""
            off, live = light.intensity <= 0, light.mode in ("live", "hybrid")
            marks.append(Mark(at, MARKS[light.kind], name, node, off, live, strong))
            if strong:
                lines += reach_lines(light)
                if light.mode == "hybrid":
                    lines += blend_lines(light, now.project.brief.blend_distance)
            if node == s.selection:
                grips += self._light_grips(light)

    def _light_grips(self, light: PlacedLight) -> list[Grip]:
        arm = self._window.stage.pixel_size(light.position) * 52
        at = light.position
        grips = [Grip(f"move {a}", _plain(at + arm * np.array(d)), d, a.upper()) for a, d in AXES.items()]
        if light.kind != "point":
            grips.append(Grip("aim", _plain(at + light.direction * arm * 1.9), None, "aim"))
        return grips

    def _add_probes(self, marks: list[Mark]) -> None:
        """Probes placed by hand by name, and those of the grid as they were built."""
        now = self._window.session.now
        assert now is not None
        marks += [Mark(place, "probe", name, strong=True) for name, place in now.project.brief.probes.placed.items()]
        built = self._window.picture.built_probes
        if built is not None:
            grid = [i for i, name in enumerate(built.name) if not name][:MOST_MARKS]
            marks += [Mark(_plain(built.position[i]), "probe") for i in grid]

    # -- region

    def _add_region(self, lines: list[Line], marks: list[Mark], grips: list[Grip]) -> None:
        now = self._window.session.now
        assert now is not None
        row = self._window.level_bench.region.boxes.currentRow()
        for index, box in enumerate(now.project.brief.region.boxes):
            chosen = index == row
            lines.append(
                Line(box_edges(box.low, box.high), "accent" if chosen else "text", 2.0 if chosen else 1.2, pairs=True)
            )
            if chosen:
                grips += _face_grips(box)
        start = start_point(now.level, now.scene, now.project.brief)
        if start is not None:
            marks.append(Mark(start, "start", "start"))
            grips += [
                Grip(f"start {a}", _plain(np.array(start) + 0.8 * np.array(AXES[a])), AXES[a], a.upper()) for a in "xz"
            ]

    # -- hands

    def _moved(self, name: str, to: F64, done: bool) -> None:
        w = self._window
        now = w.session.now
        if now is None:
            return
        if not self._gesture:
            self._gesture = w.session.new_gesture()
        kind, _, rest = name.partition(" ")
        if kind in ("move", "aim"):
            self._move_light(kind, rest, to)
        elif kind == "box":
            row = w.level_bench.region.boxes.currentRow()
            box = now.project.brief.region.boxes[row]
            low, high = list(box.low), list(box.high)
            axis = "xyz".index(rest[0])
            (low if rest[1] == "0" else high)[axis] = round(float(to[axis]), 2)
            w.level_bench.region.set_box(row, Box(_three(low), _three(high)), self._gesture)
        elif kind == "start":
            base = to - 0.8 * np.array(AXES[rest])
            w.level_bench.region.set_start(snapped(base, self.snap))
        if done:
            self._gesture = ""

    def _move_light(self, kind: str, axis: str, to: F64) -> None:
        w = self._window
        now, node = w.session.now, w.session.selection
        assert now is not None
        path = now.scene.node_names[node]
        light = next((x for x in now.scene.lights if x.name == path), None)
        if light is None:
            return
        if kind == "aim":
            direction = to - light.position
            length = float(np.linalg.norm(direction))
            if length > 1e-6:
                w.lights_bench.set_light(path, f"aim {self._gesture}", direction=_plain(direction / length, 4))
            return
        arm = w.stage.pixel_size(light.position) * 52
        moved = to - arm * np.array(AXES[axis])
        w.lights_bench.set_light(path, f"move {self._gesture}", position=snapped(moved, self.snap))


def blend_lines(light: PlacedLight, distance: float) -> list[Line]:
    """Within this ring the game lights by a hybrid light itself, beyond it the far set of pages does."""
    turn = np.linspace(0.0, 2.0 * np.pi, 73)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1) * distance + light.position
    return [Line(ring, "text", 1.2, dashed=True)]


def reach_lines(light: PlacedLight) -> list[Line]:
    """Reach and cone of a light as lines."""
    at, far = light.position, light.reach or 0.0
    lines: list[Line] = []
    if light.kind == "point" and far > 0:
        lines += [
            Line(circle(at, far, np.array(a)), "accent", 1.2, dashed=i > 0)
            for i, a in enumerate(([0, 1, 0], [1, 0, 0], [0, 0, 1]))
        ]
    elif light.kind == "spot":
        length = far or 4.0
        for angle, dashed in ((light.outer_cone, False), (light.inner_cone, True)):
            if angle < 1e-3:
                continue
            rim = circle(at + light.direction * length * math.cos(angle), length * math.sin(angle), light.direction)
            lines.append(Line(rim, "accent", 1.2, dashed))
            if not dashed:
                spokes = np.stack([np.repeat(at[None], 4, 0), rim[:-1][::12]], axis=1).reshape(-1, 3)
                lines.append(Line(spokes, "accent", 1.2, pairs=True))
    elif light.kind in AREA_KINDS:
        lines += outlines(light)
        if light.kind != "tube":
            lines.append(Line(np.stack([at, at + 0.6 * light.direction]), "accent", 2.0))
    elif light.kind == "directional":
        lines.append(Line(np.stack([at, at + 3.0 * light.direction]), "accent", 2.0))
    return lines


def outlines(light: PlacedLight) -> list[Line]:
    """The shape of a rectangle, disk or tube of light."""
    right, up, front = frame_of(light)
    at = light.position
    if light.kind == "rectangle":
        x, y = right * light.width / 2, up * light.height / 2
        return [Line(np.stack([at - x - y, at + x - y, at + x + y, at - x + y, at - x - y]), "accent", 1.6)]
    if light.kind == "disk":
        return [Line(circle(at, light.size, front), "accent", 1.6)]
    half = right * light.width / 2
    sides = [a * light.size for a in (up, -up, front, -front)]
    along = np.concatenate([np.stack([at - half + side, at + half + side]) for side in sides])
    ends = [Line(circle(at + end, light.size, right), "accent", 1.2) for end in (-half, half)]
    return [*ends, Line(along, "accent", 1.2, pairs=True)]


def _face_grips(box: Box) -> list[Grip]:
    middle = (np.array(box.low) + np.array(box.high)) / 2
    grips = []
    for name in FACES:
        axis = "xyz".index(name[0])
        at = middle.copy()
        at[axis] = (box.low if name[1] == "0" else box.high)[axis]
        grips.append(Grip(f"box {name}", _plain(at), AXES[name[0]]))
    return grips


def _plain(point: F64, digits: int = 6) -> tuple[float, float, float]:
    x, y, z = (round(float(v), digits) for v in point)
    return (x, y, z)


def _three(values: list[float]) -> tuple[float, float, float]:
    return (values[0], values[1], values[2])
