"""The eye of the stage: where it is, where it looks, and the moves that hands make with it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ropebell.level.model import F64
from ropebell.light.view import View

FIELD_OF_VIEW = math.radians(58)
STEEPEST = math.radians(89)
# Directions of view and to the right of the picture, without perspective.
SIDES = {
    "above": ((0.0, -1.0, 0.0), (1.0, 0.0, 0.0)),
    "front": ((0.0, 0.0, -1.0), (1.0, 0.0, 0.0)),
    "side": ((-1.0, 0.0, 0.0), (0.0, 0.0, -1.0)),
}


@dataclass(frozen=True)
class Camera:
    """A perspective eye, or a view without perspective: from above, from the front or from the side.

    Attributes:
        eye: (x, y, z) metres.
        yaw: radians about Y, 0 looks along −Z.
        pitch: radians up.
        plan: without perspective.
        side: of a view without perspective: above looks down, front along −Z, side along −X.
        span: metres across the height of a view without perspective.
    """

    eye: tuple[float, float, float] = (0.0, 2.0, 8.0)
    yaw: float = 0.0
    pitch: float = 0.0
    plan: bool = False
    span: float = 30.0
    side: str = "above"

    @property
    def tangent(self) -> float:
        """Of half the field of view."""
        return math.tan(FIELD_OF_VIEW / 2)

    @property
    def forward(self) -> F64:
        """(3,) unit direction of view."""
        if self.plan:
            return np.array(SIDES[self.side][0])
        c = math.cos(self.pitch)
        return np.array([math.sin(self.yaw) * c, math.sin(self.pitch), -math.cos(self.yaw) * c])

    @property
    def right(self) -> F64:
        """(3,) unit direction to the right of the picture."""
        if self.plan:
            return np.array(SIDES[self.side][1])
        return np.array([math.cos(self.yaw), 0.0, math.sin(self.yaw)])

    @property
    def up(self) -> F64:
        """(3,) unit direction to the top of the picture."""
        return np.cross(self.right, self.forward)

    def matrix(self, aspect: float, near: float, far: float) -> F64:
        """(4, 4) world to clip space, for column vectors."""
        eye = np.array(self.eye)
        view = np.eye(4)
        view[0, :3], view[1, :3], view[2, :3] = self.right, self.up, -self.forward
        view[:3, 3] = -view[:3, :3] @ eye
        project = np.zeros((4, 4))
        if self.plan:
            h = self.span / 2
            project[0, 0], project[1, 1] = 1 / (h * aspect), 1 / h
            project[2, 2], project[2, 3], project[3, 3] = -2 / (far - near), -(far + near) / (far - near), 1
        else:
            f = 1 / math.tan(FIELD_OF_VIEW / 2)
            project[0, 0], project[1, 1] = f / aspect, f
            project[2, 2], project[2, 3] = -(far + near) / (far - near), -2 * far * near / (far - near)
            project[3, 2] = -1
        return project @ view

    def ray(self, x: float, y: float, aspect: float) -> tuple[F64, F64]:
        """Origin and unit direction of the ray through a point of the picture, x right and y up in −1 … 1."""
        origins, directions = self.rays(np.array([x]), np.array([y]), aspect)
        return origins[0], directions[0]

    def rays(self, x: F64, y: F64, aspect: float) -> tuple[F64, F64]:
        """Origins and unit directions, each (n, 3), of the rays through points of the picture, x and y (n,)."""
        aside = x[:, None] * aspect * self.right + y[:, None] * self.up
        if self.plan:
            return np.array(self.eye) + self.span / 2 * aside, np.tile(self.forward, (len(x), 1))
        directions = self.forward + math.tan(FIELD_OF_VIEW / 2) * aside
        directions /= np.linalg.norm(directions, axis=1, keepdims=True)
        return np.tile(np.array(self.eye), (len(x), 1)), directions

    def cone(self, aspect: float) -> View | None:
        """What it sees, None without perspective."""
        if self.plan:
            return None
        corner = math.atan(math.tan(FIELD_OF_VIEW / 2) * math.hypot(1.0, aspect))
        x, y, z = (float(v) for v in self.forward)
        return View(self.eye, (x, y, z), corner)

    def turned(self, yaw: float, pitch: float) -> Camera:
        """Looking elsewhere from the same place."""
        return replace(self, yaw=self.yaw + yaw, pitch=min(max(self.pitch + pitch, -STEEPEST), STEEPEST))

    def orbited(self, pivot: F64, yaw: float, pitch: float) -> Camera:
        """Carried round a point that stays where it is in the picture."""
        new = self.turned(yaw, pitch)
        offset = np.array(self.eye) - pivot
        local = np.array([offset @ self.right, offset @ self.up, offset @ self.forward])
        return new.at(pivot + local[0] * new.right + local[1] * new.up + local[2] * new.forward)

    def at(self, eye: F64) -> Camera:
        """The same view from another place."""
        return replace(self, eye=(float(eye[0]), float(eye[1]), float(eye[2])))

    def moved(self, right: float, up: float, forward: float) -> Camera:
        """Shifted by metres along its own directions; `up` is the world's."""
        step = right * self.right + np.array([0.0, up, 0.0]) + forward * self.forward
        return self.at(np.array(self.eye) + step)

    def framing(self, low: F64, high: F64, aspect: float = 1.2) -> Camera:
        """Looking the same way at a box, all of it in the picture."""
        middle, size = (low + high) / 2, np.maximum((high - low) / 2, 0.02)
        if self.plan:
            away = middle - self.forward * (float(np.abs(size @ self.forward)) + 1.0)
            across, tall = float(np.abs(size) @ np.abs(self.right)), float(np.abs(size) @ np.abs(self.up))
            return replace(self.at(away), span=2.2 * max(across / aspect, tall))
        corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * size
        t = math.tan(FIELD_OF_VIEW / 2) * 0.94
        along = corners @ self.forward
        needed = np.maximum(np.abs(corners @ self.up) / t, np.abs(corners @ self.right) / (t * aspect)) - along
        return self.at(middle - self.forward * float(needed.max()))


def overview(low: F64, high: F64, aspect: float = 1.2) -> Camera:
    """A first look at a level from above a corner."""
    start = Camera(yaw=math.radians(180 - 28), pitch=math.radians(-30))
    return start.framing(low, high, aspect)
