"""Draws the level with its light into an image, with a GL context of its own and no window."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from importlib.resources import files
from typing import Any

import moderngl
import numpy as np
from numpy.typing import NDArray

from ropebell.app.stage.camera import Camera
from ropebell.app.stage.gl_calls import LINES, TRIANGLES, GlCalls
from ropebell.errors import GraphicsError
from ropebell.level.cutouts import has_holes
from ropebell.level.model import F32, F64, I32, Level
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

SURROUND = (0x4B / 255, 0x4B / 255, 0x4B / 255, 1.0)
VIEWS = {
    "result": "Result",
    "surface": "Surface colour",
    "light": "Light without surface colour",
    "direct": "Direct light",
    "bounced": "Bounced light",
    "texels": "Texel grid",
    "density": "Density for the distance",
    "facing": "Facing of surfaces",
    "noise": "Noise",
}
VIEW_CODES = {name: code for code, name in enumerate(VIEWS)}
PLAIN_VIEW = -1
# Views that need no light.
UNLIT_VIEWS = ("surface", "facing")
CHART_VIEWS = ("texels", "density")
FLAGS_WIDTH, HIDDEN, CHOSEN = 1024, 1, 2
Half = NDArray[np.float16]
Pixels = NDArray[np.uint8]


@dataclass(frozen=True, eq=False)
class Charted:
    """Where the scene's triangles lie on lightmap pages.

    Attributes:
        uv: (T, 3, 2) float32 in texels; page: (T,) int32, −1 for triangles without a place; side: texels.
    """

    uv: F32
    page: I32
    side: int


@dataclass
class Look:
    """How to draw.

    Attributes:
        view: a key of `VIEWS`.
        exposure: factor from radiance to display.
        by_texel: show texels as they are instead of interpolated.
        selected: node whose outline is drawn, −1 for none.
        chosen: all nodes that are marked.
        hidden: nodes that are not drawn.
        glow: radiance in cd/m² that materials are seen with, by name, where it is not the level's own.
    """

    view: str = "result"
    exposure: float = 1.0
    by_texel: bool = False
    selected: int = -1
    chosen: tuple[int, ...] = ()
    hidden: frozenset[int] = frozenset()
    glow: Mapping[str, tuple[float, float, float]] = field(default_factory=dict)


@dataclass(frozen=True)
class Batch:
    """A run of triangles of one material and sidedness."""

    material: int
    first: int
    count: int
    two_sided: bool = False


@dataclass(frozen=True, eq=False)
class Vertices:
    """Triangles as the stage draws them.

    Attributes:
        table: (T, 3, 13) float32 position, normal, picture uv, light uv and page, node, density against what is right.
        batches: runs of one material.
    """

    table: F32
    batches: list[Batch]


@dataclass
class _Light:
    total: Any = None
    direct: Any = None
    noise: Any = None
    side: int = 1
    batches: list[Batch] = field(default_factory=list)


class Renderer:
    """One GL context, one level in it. All calls from one thread."""

    def __init__(self) -> None:
        try:
            # The library's own annotations cover neither keyword settings nor the kinds of shader members.
            self._gl: Any = moderngl.create_context(standalone=True, **{"backend": "egl"})  # type: ignore[arg-type]
            self._calls = GlCalls()
        except Exception as error:
            what = f"no picture can be drawn without EGL ({error}); builds and all tables work"
            raise GraphicsError(what, "", "Install libegl1 and libgl1-mesa-dri, then start again") from error
        self._gl.enable(moderngl.DEPTH_TEST)
        source = files("ropebell.app") / "shaders"
        self._program: Any = self._gl.program(
            vertex_shader=(source / "surface.vert").read_text(),
            fragment_shader=(source / "surface.frag").read_text(),
        )
        self._lines: Any = self._gl.program(
            vertex_shader=(source / "line.vert").read_text(),
            fragment_shader=(source / "line.frag").read_text(),
        )
        self._white = self._gl.texture((1, 1), 4, b"\xff" * 4)
        self._dark = self._gl.texture_array((1, 1, 1), 3, b"\x00" * 6, dtype="f2", alignment=1)
        self._textures: dict[int, Any] = {}
        self._buffer: Any = None
        self._vertices: Any = None
        self._selection: Any = None
        self._flags: Any = None
        self._flags_of: tuple[object, ...] = ()
        self._targets: dict[tuple[int, int, int], Any] = {}
        self._state = _Light()
        self._level: Level | None = None
        self._scene: Scene | None = None
        self._centre: F64 = np.zeros(3)
        self._extent = 1.0
        self._selected = -1
        self._charted = False

    @property
    def description(self) -> str:
        """The driver's name."""
        return str(self._gl.info["GL_RENDERER"])

    def show(self, level: Level, scene: Scene, space: RaySpace, charted: Charted | None, vertices: Vertices) -> None:
        """Take a level in; light shown before is dropped.

        Args:
            vertices: from `vertex_table`, which may run on any thread.
        """
        self._release()
        self._level, self._scene = level, scene
        self._centre, self._extent = space.centre, max(space.extent, 1e-6)
        self._state.batches = vertices.batches
        if len(scene):
            self._upload(vertices.table)
        self._state.side = charted.side if charted is not None else 1
        self._charted = charted is not None
        for number, image in enumerate(level.images):
            if number not in self._textures:
                h, w = image.pixels.shape[:2]
                texture = self._gl.texture((w, h), 4, np.ascontiguousarray(image.pixels).tobytes())
                texture.build_mipmaps()
                self._textures[number] = texture

    def light(self, total: Half, direct: Half | None) -> None:
        """Show light on the pages that the level was shown with; from `to_half`."""
        self._state.total = self._array(self._state.total, total)
        self._state.direct = self._array(self._state.direct, total if direct is None else direct)

    def noise(self, noise: Half) -> None:
        """Show how noisy the light on the pages is: (P, H, W, 1) float16 shares of it."""
        self._state.noise = self._array(self._state.noise, noise)

    @property
    def has_light(self) -> bool:
        """Whether there is light to show."""
        return self._state.total is not None

    def draw(self, camera: Camera, look: Look, width: int, height: int, smooth: bool) -> Pixels:
        """The picture, (height, width, 3) uint8, top row first.

        Args:
            smooth: with four samples a pixel; slower.
        """
        samples = 4 if smooth else 0
        target, plain = self._target(width, height, samples)
        target.use()
        self._gl.viewport = (0, 0, width, height)
        target.clear(*SURROUND)
        if self._vertices is not None:
            self._draw_level(camera, look, width / height)
        if samples:
            self._calls.resolve(target, plain, width, height)
        plain.use()
        return np.ascontiguousarray(self._calls.read(width, height)[::-1])

    def _draw_level(self, camera: Camera, look: Look, aspect: float) -> None:
        assert self._level is not None
        distance = float(np.linalg.norm(np.array(camera.eye) - self._centre))
        far = distance + self._extent * 1.2
        near = -far if camera.plan else max(far / 20_000, min(0.05, self._extent / 500))
        shifted = camera.at(np.array(camera.eye) - self._centre)
        matrix = shifted.matrix(aspect, near, far)
        view = VIEW_CODES[look.view] if self._can_show(look.view) else PLAIN_VIEW
        p = self._program
        p["matrix"].write(matrix.T.astype("f4").tobytes())
        p["view"].value = view
        p["exposure"].value = look.exposure
        p["side"].value = float(self._state.side)
        kind = moderngl.NEAREST if look.by_texel else moderngl.LINEAR
        s = self._state
        for unit, texture in ((1, s.total or self._dark), (2, s.direct or self._dark), (5, s.noise or self._dark)):
            texture.filter = (kind, kind)
            texture.use(unit)
        p["picture"].value, p["total_light"].value, p["direct_light"].value, p["flags"].value = 0, 1, 2, 3
        p["glow_picture"].value, p["noise_share"].value = 4, 5
        self._node_flags(look).use(3)
        for batch in self._state.batches:
            m = self._level.materials[batch.material]
            p["base_color"].value = m.base_color[:3]
            p["emission"].value = look.glow.get(m.name, m.emission)
            texture = self._textures.get(m.emission_texture.image) if m.emission_texture is not None else None
            (texture or self._white).use(4)
            p["two_sided"].value = batch.two_sided
            p["unlit"].value = m.unlit
            p["cutoff"].value = m.alpha_cutoff / max(m.base_color[3], 1e-6) if has_holes(m) else 0.0
            texture = self._textures.get(m.base_texture.image) if m.base_texture is not None else None
            (texture or self._white).use(0)
            self._calls.draw(p, self._vertices, TRIANGLES, 3 * batch.first, 3 * batch.count)
        self._draw_selection(matrix, look.selected)

    def _draw_selection(self, matrix: F64, selected: int) -> None:
        """Crease edges of the selected object, in front of everything, faintly where hidden."""
        if selected < 0 or self._scene is None:
            return
        if selected != self._selected:
            self._selected = selected
            if self._selection is not None:
                self._selection.release()
                self._selection = None
            edges = crease_edges(self._scene, selected, self._centre)
            if len(edges):
                buffer = self._gl.buffer(edges.tobytes())
                self._selection = self._gl.vertex_array(self._lines, [(buffer, "3f", "position")])
        if self._selection is None:
            return
        self._lines["matrix"].write(matrix.T.astype("f4").tobytes())
        self._gl.enable(moderngl.BLEND)
        self._gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        self._gl.disable(moderngl.DEPTH_TEST)
        self._lines["color"].value = (0.82, 0.60, 0.33, 0.28)
        count = self._selection.vertices
        self._calls.draw(self._lines, self._selection, LINES, 0, count)
        self._gl.enable(moderngl.DEPTH_TEST)
        self._lines["color"].value = (0.86, 0.64, 0.36, 1.0)
        self._calls.draw(self._lines, self._selection, LINES, 0, count)
        self._gl.disable(moderngl.BLEND)

    def _can_show(self, view: str) -> bool:
        if view in CHART_VIEWS:
            return self._charted or self.has_light
        return view in UNLIT_VIEWS or (self._state.noise is not None if view == "noise" else self.has_light)

    def _node_flags(self, look: Look) -> Any:
        """A texture of one byte a node: hidden, chosen."""
        state = (look.hidden, look.chosen, look.selected)
        if self._flags is None or self._flags_of != state:
            count = len(self._scene.node_names) if self._scene is not None else 1
            flags = np.zeros((max(-(-count // FLAGS_WIDTH), 1), FLAGS_WIDTH), np.uint8)
            flat = flags.reshape(-1)
            flat[[n for n in look.hidden if n < count]] |= HIDDEN
            flat[[n for n in (*look.chosen, look.selected) if 0 <= n < count]] |= CHOSEN
            if self._flags is not None:
                self._flags.release()
            self._flags = self._gl.texture(flags.shape[::-1], 1, flags.tobytes(), alignment=1)
            self._flags.filter = (moderngl.NEAREST, moderngl.NEAREST)
            self._flags_of = state
        return self._flags

    def _target(self, width: int, height: int, samples: int) -> tuple[Any, Any]:
        for key in [k for k in self._targets if k[:2] != (width, height)]:
            self._targets.pop(key).release()
        for count in {0, samples}:
            if (width, height, count) not in self._targets:
                color = self._gl.renderbuffer((width, height), 4, samples=count)
                depth = self._gl.depth_renderbuffer((width, height), samples=count)
                self._targets[width, height, count] = self._gl.framebuffer([color], depth)
        return self._targets[width, height, samples], self._targets[width, height, 0]

    def _upload(self, table: F32) -> None:
        self._buffer = self._gl.buffer(np.ascontiguousarray(table).tobytes())
        layout = "3f 3f 2f 3f 1f 1f"
        names = ("position", "normal", "picture_uv", "light_uv", "node", "density")
        self._vertices = self._gl.vertex_array(self._program, [(self._buffer, layout, *names)])

    def _array(self, old: Any, half: Half) -> Any:
        pages = half
        count, height, width = pages.shape[:3]
        if old is not None and old.size == (width, height, count):
            old.write(half.tobytes())
            return old
        if old is not None:
            old.release()
        channels = pages.shape[3]
        texture = self._gl.texture_array((width, height, count), channels, half.tobytes(), dtype="f2", alignment=1)
        texture.repeat_x = texture.repeat_y = False
        return texture

    def _release(self) -> None:
        s = self._state
        held = [self._buffer, self._vertices, self._selection, self._flags, s.total, s.direct, s.noise]
        for item in [*held, *self._textures.values()]:
            if item is not None:
                item.release()
        self._buffer = self._vertices = self._selection = self._flags = None
        self._flags_of = ()
        self._textures, self._state, self._selected = {}, _Light(), -1

    def close(self) -> None:
        """Give everything back."""
        self._release()
        self._gl.release()


def charted_on(scene: Scene, charted: Charted) -> Charted:
    """Charts of what takes part in a build as charts of all that is placed."""
    if len(charted.page) == len(scene):
        return charted
    uv = np.zeros((len(scene), 3, 2), np.float32)
    page = np.full(len(scene), -1, np.int32)
    uv[scene.part], page[scene.part] = charted.uv, charted.page
    return Charted(uv, page, charted.side)


def to_half(pages: F32) -> Half:
    """(P, H, W, 3) lux as half floats, as the stage draws them."""
    return np.minimum(pages, 65000.0).astype(np.float16)


def vertex_table(scene: Scene, space: RaySpace, charted: Charted | None, density: F64 | None = None) -> Vertices:
    """The triangles as the stage draws them, those of one material and sidedness together.

    Args:
        density: (T,) density over what is right for the distance; infinite for never seen; None: right everywhere.
    """
    kind = 2 * scene.material.astype(np.int64) + scene.double_sided
    order = np.argsort(kind, kind="stable")
    batches = []
    if len(scene):
        kinds, first = np.unique(kind[order], return_index=True)
        ends = np.append(first[1:], len(order))
        batches = [Batch(int(k) // 2, int(a), int(b - a), bool(k % 2)) for k, a, b in zip(kinds, first, ends)]
    table = _table(scene, space, charted)
    table[:, :, 12] = 1.0 if density is None else np.minimum(density, 1e9)[:, None]
    return Vertices(np.ascontiguousarray(table[order]), batches)


def _table(scene: Scene, space: RaySpace, charted: Charted | None) -> F32:
    """(T, 3, 13) float32: see `Vertices`; the last column is left to the caller."""
    table = np.zeros((len(scene), 3, 13), np.float32)
    table[:, :, 0:3] = space.vertices
    table[:, :, 3:6] = scene.normals
    table[:, :, 6:8] = np.nan_to_num(scene.uv0)
    if charted is not None:
        table[:, :, 8:10] = charted.uv
        table[:, :, 10] = charted.page[:, None]
    table[:, :, 11] = scene.node[:, None]
    return table


def crease_edges(scene: Scene, node: int, centre: F64) -> F32:
    """(n, 3) float32 end points of the lines that show a node's shape: borders and creases, not the diagonals
    of flat faces."""
    rows = np.flatnonzero(scene.node == node)
    if not len(rows) or len(rows) > 60_000:
        return np.zeros((0, 3), np.float32)
    corners = scene.corners[rows] - centre
    size = max(float(np.ptp(corners.reshape(-1, 3), axis=0).max()), 1e-9)
    _, vertex = np.unique(
        np.round(corners.reshape(-1, 3) / (size * 1e-6)).astype(np.int64), axis=0, return_inverse=True
    )
    vertex = vertex.reshape(-1, 3)
    ends = np.stack([vertex.ravel(), np.roll(vertex, -1, axis=1).ravel()], axis=1)
    ends.sort(axis=1)
    points = np.stack([corners.reshape(-1, 3), np.roll(corners, -1, axis=1).reshape(-1, 3)], axis=1)
    faces = np.repeat(scene.face_normals[rows], 3, axis=0)
    _, first, edge = np.unique(ends, axis=0, return_index=True, return_inverse=True)
    edge = edge.ravel()
    agree = np.ones(len(first))
    np.minimum.at(agree, edge, np.einsum("ij,ij->i", faces, faces[first][edge]))
    alone = np.bincount(edge) == 1
    return points[first[alone | (agree < 0.93)]].reshape(-1, 3).astype(np.float32)
