"""Where the stage is looked at from, and every way of moving there."""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

import numpy as np
from PyQt6.QtCore import QObject, QPointF, pyqtSignal

from ropebell.app.stage.camera import Camera, overview
from ropebell.app.stage.picture import EYE_HEIGHT, Spot, StagePicture
from ropebell.app.stage.viewpoint import clear_view
from ropebell.level.model import F64

# Metres a second, and what Shift does to it.
WALK_SPEED, WALK_FASTER = 2.0, 2.5
# Shift in the air.
FLY_FASTER = 4.0


class Seen(Protocol):
    """What is looked at, and the widget that it is looked at in."""

    picture: StagePicture | None

    def width(self) -> int:
        """Pixels."""

    def height(self) -> int:
        """Pixels."""

    def spot_at(self, at: QPointF) -> Spot | None:
        """What lies under a point of the widget."""

    def hidden(self) -> frozenset[int]:
        """Nodes that are not drawn."""

    @property
    def panes(self) -> int:
        """How many pictures are drawn side by side."""


class Eye(QObject):
    """The camera and its movements.

    Signals:
        moved: the view was moved.
    """

    moved = pyqtSignal()

    def __init__(self, seen: Seen, parent: QObject) -> None:
        super().__init__(parent)
        self._seen = seen
        self.camera = Camera()
        self.walking = False
        self._before_plan: Camera | None = None

    def go(self, camera: Camera) -> None:
        """Look from elsewhere."""
        self.camera = camera
        self.moved.emit()

    @property
    def at(self) -> F64:
        """(3,) metres."""
        return np.array(self.camera.eye)

    @property
    def aspect(self) -> float:
        """Width over height of one picture."""
        return self._seen.width() / self._seen.panes / max(self._seen.height(), 1)

    def ray(self, at: QPointF) -> tuple[F64, F64]:
        """Origin and direction of what lies under a point of the widget."""
        width, height = max(self._seen.width() / self._seen.panes, 1.0), max(self._seen.height(), 1)
        return self.camera.ray(2 * (at.x() % width) / width - 1, 1 - 2 * at.y() / height, self.aspect)

    def pixel_size(self, point: F64, least: float = 0.2) -> float:
        """Metres that a pixel spans at a place.

        Args:
            least: metres that the place is taken to be away at least.
        """
        height = max(self._seen.height(), 1)
        if self.camera.plan:
            return self.camera.span / height
        depth = max(float((point - self.at) @ self.camera.forward), least)
        return 2 * depth * self.camera.tangent / height

    def see_all(self) -> None:
        """The whole level."""
        picture = self._seen.picture
        if picture is not None and len(picture.scene):
            low, high = picture.scene.bounds()
            plan = self.camera.plan
            self.go(self.camera.framing(low, high, self.aspect) if plan else overview(low, high, self.aspect))

    def focus_on(self, node: int) -> None:
        """Bring an object into the middle of the picture; a light by the space round it."""
        picture = self._seen.picture
        if picture is None or node < 0:
            return
        scene = picture.scene
        rows = np.flatnonzero(scene.node == node)
        if len(rows):
            points = scene.corners[rows].reshape(-1, 3)
            low, high = points.min(axis=0), points.max(axis=0)
        else:
            middle = scene.node_world[node][:3, 3]
            low, high = middle - 0.6, middle + 0.6
        self._go_and_see(low, high, node)

    def go_near(self, place: F64, room: float = 1.2) -> None:
        """Look at a place from where it can be seen, with some room round it."""
        self._go_and_see(place - room, place + room, -1)

    def _go_and_see(self, low: F64, high: F64, node: int) -> None:
        """Look at a box from where nothing stands between: the same way if that can be, else from another side."""
        picture = self._seen.picture
        if self.camera.plan or picture is None:
            self.go(self.camera.framing(low, high, self.aspect))
        else:
            self.go(clear_view(picture, self.camera, low, high, self.aspect, node))

    def place_ahead(self, metres: float) -> F64:
        """A place in front of the eye, at most so far and short of what is in the way."""
        ahead, picture = self.camera.forward, self._seen.picture
        spot = picture.spot(self.at, ahead, False, self._seen.hidden()) if picture is not None else None
        far = float(np.linalg.norm(spot.position - self.at)) if spot is not None else metres
        return self.at + ahead * min(metres, 0.8 * far)

    def floor_below(self) -> F64 | None:
        """The floor below the eye, or what is looked at from above."""
        picture = self._seen.picture
        if picture is None:
            return None
        if self.camera.plan:
            spot = self._seen.spot_at(QPointF(self._seen.width() / 2, self._seen.height() / 2))
            return spot.position if spot is not None else None
        return picture.floor_below(self.at)

    def stand_at(self, floor: F64) -> None:
        """Look from eye height above a place on the floor."""
        self.go(replace(self.camera, plan=False, pitch=0.0).at(floor + [0.0, EYE_HEIGHT, 0.0]))

    def toggle_plan(self, side: str = "above") -> None:
        """Between looking round and a view without perspective; coming back, the view is as it was.

        Args:
            side: above, front or side.
        """
        if self.camera.plan and self.camera.side == side:
            self.go(self._before_plan or Camera())
            return
        if not self.camera.plan:
            self._before_plan = self.camera
        self.go(Camera(plan=True, side=side))
        self.see_all()

    def pan(self, dx: float, dy: float, pivot: F64) -> None:
        """Move along the picture, so that a place stays under the hand."""
        scale = self.pixel_size(pivot, 0.3)
        self.go(self.camera.at(self.at - dx * scale * self.camera.right + dy * scale * self.camera.up))

    def come_nearer(self, notches: float, spot: Spot | None) -> None:
        """Toward what is pointed at, or away from it; a step never goes through it."""
        if self.camera.plan:
            self.go(replace(self.camera, span=self.camera.span * 0.86**notches))
            return
        toward = spot.position - self.at if spot is not None else self.camera.forward * 4.0
        self.go(self.camera.at(self.at + toward * (1 - 0.84**notches if notches > 0 else -(0.84**notches - 1))))

    def fly(self, way: F64, fast: bool) -> None:
        """A step through the air, or at eye height: not through walls, up and down with the floor."""
        picture = self._seen.picture
        if picture is None:
            return
        if self.walking:
            right, _, forward = way * WALK_SPEED * (WALK_FASTER if fast else 1.0)
            eye = picture.walked(self.at, self.camera.right, self.camera.forward, right, forward)
            if eye is not None:
                self.go(self.camera.at(eye))
            return
        speed = max(picture.space.extent / 12, 0.05) * (FLY_FASTER if fast else 1.0)
        self.go(self.camera.moved(*(way * speed)))
