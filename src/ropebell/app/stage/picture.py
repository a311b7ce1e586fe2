"""What the stage shows, as one frozen value, and what a ray into it meets. Rays, not pixels, so it needs no GL."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np

from ropebell.app.stage.backdrop import Backdrop
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.drawn import Charted, Half, Vertices, to_half
from ropebell.app.stage.lamps import Lamps
from ropebell.build.meter import look_up
from ropebell.level.model import F32, F64, I32, Level, Mask
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

# Exposure times lux of a surface that shall be shown as middle grey.
MID_GREY = 0.7 * math.pi
MOST_LAYERS = 64
# So far along the way to a place what is met belongs to its own face.
AT_ITS_FACE = 0.99
# Texels on each side of one that an exposure is chosen for.
AROUND = 2
# Of what is looked at, the darkest and the brightest share that an exposure is not chosen by.
TRIMMED = 0.2
# Columns and rows of rays.
EXPOSED_FOR, LOOKED_THROUGH = (13, 9), (96, 64)
EYE_HEIGHT, KNEE, HIGHEST_STEP, DEEPEST_STEP, BODY = 1.6, 0.5, 0.45, 3.0, 0.25


@dataclass(frozen=True)
class Spot:
    """What lies under a point of the picture.

    Attributes:
        node: index of the object. triangle: index of its face.
        position: (3,) metres.
        irradiance, direct: (3,) lux, None without light.
        noise: standard error of the gathered light as a share of all of it, None where it is not known.
        whose: of which build the light is, where that is not of one alone.
        around: (2,) how closed in it is, and its share of rays that met backs; None where that is not known.
        other: (4,) light of another build there, as `StagePicture.other`, None where nothing is compared.
    """

    node: int
    position: F64
    irradiance: F64 | None
    direct: F64 | None
    triangle: int = -1
    noise: float | None = None
    whose: str = ""
    other: F64 | None = None
    around: F64 | None = None


@dataclass(frozen=True, eq=False)
class StagePicture:
    """What the stage shows: a level with its charts and its light, all of one state, so that nothing is ever drawn on
    another's level.

    Attributes:
        vertices: the scene's triangles as the stage draws them, placed on the pages of `charted`.
        charted: where the triangles lie on the pages, None without charts.
        total, direct: (P, H, W, 3) lux, None without light. half: the same as the stage draws it.
        noise: (P, H, W, 1) shares of it, None where it is not known.
        origin: (P, H, W, 1) whose light each texel has, a number into `parts`, which are words; None where it is all of
            one build.
        other: (P, H, W, 4) float32, light of another build on these pages in lux, and behind it the lux by which they
            may differ within noise, under nought where the other has no such place; None where nothing is compared.
        around: (P, H, W, 2) how closed in each place is, and its share of rays that met backs; None where that was not
            asked for.
        lamps: lights that the game adds to `total`, where they are shown; `other` is then what it adds them to nearby.
        fresh: objects that have no light here, as they are new or moved.
        gone: (n, 3, 3) corners of faces that had light and are no more.
        sky: what is seen behind it, None where that is dark.
        title: what a picture of a step is, for the strip.
    """

    level: Level
    scene: Scene
    space: RaySpace
    vertices: Vertices
    charted: Charted | None = None
    total: F32 | None = None
    direct: F32 | None = None
    half: tuple[Half, Half | None] | None = None
    noise: F32 | None = None
    origin: F32 | None = None
    parts: tuple[str, ...] = ()
    other: F32 | None = None
    around: F32 | None = None
    lamps: Lamps | None = None
    fresh: tuple[str, ...] = ()
    gone: F64 = field(default_factory=lambda: np.zeros((0, 3, 3)))
    sky: Backdrop | None = None
    title: str = "Charts of now"

    def has(self, layer: str) -> bool:
        """Whether there is what a view needs: `light`, `charts`, `noise`, `origin`, `other` or `around`."""
        layers = {
            "light": self.total, "charts": self.charted, "noise": self.noise, "origin": self.origin,
            "other": self.other, "around": self.around,
        }  # fmt: skip
        return layers[layer] is not None

    def lit(self, total: F32, direct: F32 | None, half: tuple[Half, Half | None] | None = None) -> StagePicture:
        """The same under other light: (P, H, W, 3) lux."""
        drawn = half or (to_half(total), to_half(direct) if direct is not None else None)
        return replace(self, total=total, direct=direct, half=drawn)

    def spot(self, origin: F64, direction: F64, by_texel: bool, hidden: frozenset[int] = frozenset()) -> Spot | None:
        """What a ray from the eye meets first, None for nothing.

        Args:
            by_texel: read the texel itself instead of between texels.
            hidden: nodes that are looked through.
        """
        t, origin = self.first_visible(origin, direction, hidden)
        if t < 0:
            return None
        weights, position = _meet(origin, direction, self.scene.corners[t])
        node = int(self.scene.node[t])
        page = int(self.charted.page[t]) if self.charted is not None else -1
        if self.total is None or self.charted is None or not 0 <= page < len(self.total):
            return Spot(node, position, None, None, t)
        u, v = weights @ self.charted.uv[t].astype(np.float64)
        read = _texel if by_texel else look_up
        direct = read(self.direct, page, u, v) if self.direct is not None else None
        noise = float(read(self.noise, page, u, v)[0]) if self.noise is not None and page < len(self.noise) else None
        whose = ""
        if self.origin is not None and page < len(self.origin):
            whose = self.parts[min(int(_texel(self.origin, page, u, v)[0]), len(self.parts) - 1)]
        other = _texel(self.other, page, u, v) if self.other is not None and page < len(self.other) else None
        around = read(self.around, page, u, v) if self.around is not None and page < len(self.around) else None
        return Spot(node, position, read(self.total, page, u, v), direct, t, noise, whose, other, around)

    def first_visible(self, origin: F64, direction: F64, hidden: frozenset[int]) -> tuple[int, F64]:
        """The first triangle along a ray that is not hidden, −1 for none, and where the ray to it begins."""
        for _ in range(MOST_LAYERS):
            start = (origin - self.space.centre).astype(np.float32)[None]
            t = int(self.space.first_hit(start, direction.astype(np.float32)[None])[0])
            if t < 0 or int(self.scene.node[t]) not in hidden:
                return t, origin
            _, at = _meet(origin, direction, self.scene.corners[t])
            origin = at + direction * (self.space.extent * 2e-5)
        return -1, origin

    def in_sight(self, camera: Camera, places: F64, hidden: frozenset[int]) -> Mask:
        """(n,) bool: whether nothing that is drawn stands before a place, (n, 3) metres; in plan, always."""
        if camera.plan or not len(places):
            return np.ones(len(places), np.bool_)
        eye = np.asarray(camera.eye)
        origins = np.tile((eye - self.space.centre).astype(np.float32), (len(places), 1))
        way = (places - eye).astype(np.float32)
        free = ~self.space.blocked(origins, way, np.full(len(places), AT_ITS_FACE, np.float32))
        # Few are behind what is hidden, and may have other things behind that before them.
        for row in np.flatnonzero(~free) if hidden else ():
            t, start = self.first_visible(eye, way[row].astype(np.float64), hidden)
            if t >= 0:
                _, at = _meet(start, way[row].astype(np.float64), self.scene.corners[t])
            free[row] = t < 0 or np.linalg.norm(at - eye) >= AT_ITS_FACE * np.linalg.norm(way[row])
        return free

    def walked(self, eye: F64, right: F64, forward: F64, aside: float, ahead: float) -> F64 | None:
        """The eye after a step on foot, None where a wall, a high step or nothing to stand on is in the way.

        Args:
            right, forward: of the camera. aside, ahead: metres along them.
        """
        step = aside * np.array([right[0], 0, right[2]]) + ahead * np.array([forward[0], 0, forward[2]])
        length = float(np.linalg.norm(step))
        if length < 1e-9:
            return None
        start = eye - [0.0, EYE_HEIGHT - KNEE, 0.0] - self.space.centre
        run = (step * (1 + BODY / length)).astype(np.float32)[None]
        chest = (eye - self.space.centre - [0.0, 0.3, 0.0]).astype(np.float32)[None]
        for origin in (start.astype(np.float32)[None], chest):
            if self.space.blocked(origin, run, np.ones(1, np.float32))[0]:
                return None
        there = (eye + step - self.space.centre).astype(np.float32)[None]
        fall = float(self.space.distances(there, np.array([[0, -1, 0]], np.float32))[0])
        if not EYE_HEIGHT - HIGHEST_STEP <= fall <= EYE_HEIGHT + DEEPEST_STEP:
            return None
        return eye + step + [0.0, EYE_HEIGHT - fall, 0.0]

    def floor_below(self, point: F64) -> F64 | None:
        """The place straight below a point, None where there is nothing."""
        start = (point - self.space.centre).astype(np.float32)[None]
        fall = float(self.space.distances(start, np.array([[0, -1, 0]], np.float32))[0])
        return point - [0.0, fall, 0.0] if fall < 1e29 else None

    def seen(self, camera: Camera, aspect: float, columns: int, rows: int) -> I32:
        """(n,) int32 triangles that evenly spread rays through the picture meet first."""
        x, y = np.meshgrid(*((2 * np.arange(n) + 1) / n - 1 for n in (columns, rows)))
        origins, directions = camera.rays(x.ravel(), y.ravel(), aspect)
        struck = self.space.first_hit((origins - self.space.centre).astype(np.float32), directions.astype(np.float32))
        return struck[struck >= 0]

    def exposure(self, camera: Camera, aspect: float) -> float:
        """An exposure that shows the mean light in the picture, in stops, as middle grey."""
        if self.total is None or self.charted is None:
            return 1.0
        seen = self.seen(camera, aspect, *EXPOSED_FOR)
        page = self.charted.page[seen]
        seen = seen[(page >= 0) & (page < len(self.total))]
        if not len(seen):
            return 1.0
        # The middle of the triangle is near enough for an exposure.
        at = self.charted.uv[seen].mean(axis=1).astype(np.int64)
        side = self.total.shape[1] - 1
        # Of the texels round each: the mean of logarithms of what is still noisy would be far too low.
        near = np.arange(-AROUND, AROUND + 1)
        rows = (at[:, 1, None, None] + near[:, None]).clip(0, side)
        columns = (at[:, 0, None, None] + near).clip(0, side)
        light = self.total[self.charted.page[seen][:, None, None], rows, columns].mean(axis=3)
        count = (light > 0).sum(axis=(1, 2))
        lit = np.sort(light.sum(axis=(1, 2))[count > 0] / count[count > 0])
        # Corners that no light has reached yet have no say, nor has what is dazzling.
        lit = lit[int(TRIMMED * len(lit)) : len(lit) - int(TRIMMED * len(lit))]
        return MID_GREY / math.exp(float(np.mean(np.log(lit)))) if len(lit) else 1.0


def beside(pages: F32) -> F32:
    """(P, H, W, 4) float32: light of (P, H, W, 3) lux as `StagePicture.other`, of which nothing lies within noise."""
    found: F32 = np.concatenate([pages, np.zeros_like(pages[..., :1])], axis=3)
    return found


def _meet(origin: F64, direction: F64, corners: F64) -> tuple[F64, F64]:
    """Barycentric weights and position where a ray meets a triangle's plane."""
    e1, e2 = corners[1] - corners[0], corners[2] - corners[0]
    p = np.cross(direction, e2)
    det = float(e1 @ p)
    s = origin - corners[0]
    b = float(s @ p) / det if det else 0.0
    c = float(direction @ np.cross(s, e1)) / det if det else 0.0
    weights = np.clip(np.array([1 - b - c, b, c]), 0.0, 1.0)
    weights /= weights.sum()
    return weights, weights @ corners


def _texel(pages: F32, page: int, u: float, v: float) -> F64:
    """Value of the texel at page coordinates."""
    y, x = min(max(int(v), 0), pages.shape[1] - 1), min(max(int(u), 0), pages.shape[2] - 1)
    found: F64 = pages[page, y, x].astype(np.float64)
    return found
