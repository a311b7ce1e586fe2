"""Draws the level with its light into an image, with a GL context of its own and no window."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from importlib.resources import files
from typing import Any

import moderngl
import numpy as np
from numpy.typing import NDArray

from ropebell.app.stage.camera import Camera
from ropebell.app.stage.drawn import Half, crease_edges, to_half
from ropebell.app.stage.gl_calls import LINES, TRIANGLES, GlCalls, release_target
from ropebell.app.stage.halo import Halo
from ropebell.app.stage.lamps import MOST
from ropebell.app.stage.picture import StagePicture
from ropebell.app.stage.sky import Sky
from ropebell.app.views import RESULT, View, chain
from ropebell.errors import GraphicsError
from ropebell.level.cutouts import has_holes
from ropebell.level.model import F32, F64, Level

SURROUND = (0x4B / 255, 0x4B / 255, 0x4B / 255, 1.0)
# A pixel, where edges are smooth.
SMOOTH_SAMPLES = 4
# Textures of the shader, by unit.
SAMPLERS = (
    "picture",
    "total_light",
    "direct_light",
    "flags",
    "glow_picture",
    "noise_share",
    "origin_part",
    "other_light",
    "ray_shares",
)
# Layers of light, by the unit of their texture.
LAYERS = {"total": 1, "direct": 2, "noise": 5, "origin": 6, "other": 7, "around": 8}
PLAIN_VIEW = -1
FLAGS_WIDTH, HIDDEN, CHOSEN = 1024, 1, 2
Pixels = NDArray[np.uint8]


@dataclass
class Look:
    """How to draw.

    Attributes:
        view: what is shown of the picture.
        exposure: factor from radiance to display.
        by_texel: show texels as they are instead of interpolated.
        selected: node whose outline is drawn, −1 for none.
        chosen: all nodes that are marked.
        hidden: nodes that are not drawn.
        glow: radiance in cd/m² that materials are seen with, by name, where it is not the level's own.
        sky: draw the sky behind the level where light is shown. halo: let what shines glow.
        split: where the picture is parted between two builds, 0 … 1 from the left. gain: of their difference.
    """

    view: View = RESULT
    exposure: float = 1.0
    by_texel: bool = False
    selected: int = -1
    chosen: tuple[int, ...] = ()
    hidden: frozenset[int] = frozenset()
    glow: Mapping[str, tuple[float, float, float]] = field(default_factory=dict)
    sky: bool = True
    halo: bool = True
    split: float = 0.5
    gain: float = 1.0


class Renderer:
    """One GL context, one picture in it. All calls from one thread.

    Args:
        views: all that may be asked for.
    """

    def __init__(self, views: tuple[View, ...]) -> None:
        try:
            # The library's own annotations cover neither keyword settings nor the kinds of shader members.
            self._gl: Any = moderngl.create_context(standalone=True, **{"backend": "egl"})  # type: ignore[arg-type]
            self._calls = GlCalls()
        except Exception as error:
            what = f"no picture can be drawn without EGL ({error}); builds and all tables work"
            raise GraphicsError(what, "", "Install libegl1 and libgl1-mesa-dri, then start again") from error
        self._gl.enable(moderngl.DEPTH_TEST)
        source = files("ropebell.app") / "shaders"
        # Some are only ever seen beside another.
        views = tuple(dict.fromkeys((*views, *(pane for view in views for pane in view.panes))))
        self._codes = {view.id: number for number, view in enumerate(views)}
        functions, choice = chain(views)
        fragment = (source / "surface.frag").read_text().replace("//VIEWS//", functions).replace("//CHOICE//", choice)
        self._program: Any = self._gl.program(
            vertex_shader=(source / "surface.vert").read_text(), fragment_shader=fragment
        )  # fmt: skip
        self._lines: Any = self._gl.program(
            vertex_shader=(source / "line.vert").read_text(),
            fragment_shader=(source / "line.frag").read_text(),
        )
        self._sky, self._halo = Sky(self._gl, self._calls), Halo(self._gl, self._calls)
        self._white = self._gl.texture((1, 1), 4, b"\xff" * 4)
        self._dark = self._gl.texture_array((1, 1, 1), 3, b"\x00" * 6, dtype="f2", alignment=1)
        self._textures: dict[int, Any] = {}
        self._buffer: Any = None
        self._vertices: Any = None
        self._selection: Any = None
        self._flags: Any = None
        self._flags_of: tuple[object, ...] = ()
        self._targets: dict[tuple[int, int, int], Any] = {}
        self._picture: StagePicture | None = None
        self._light: dict[str, Any] = dict.fromkeys(LAYERS)
        self._selected = -1

    @property
    def description(self) -> str:
        """The driver's name."""
        return str(self._gl.info["GL_RENDERER"])

    def show(self, picture: StagePicture) -> None:
        """Take a picture in; what is of the level shown before stays where it is the same."""
        before, self._picture = self._picture, picture
        if before is None or before.level is not picture.level or before.vertices is not picture.vertices:
            self._release()
            if len(picture.scene):
                self._upload(picture.vertices.table)
            self._upload_pictures(picture.level)
        total, direct = picture.half if picture.half is not None else (None, None)
        drawn = before.half if before is not None and before.half is not None else (None, None)
        if total is not drawn[0] or direct is not drawn[1] or self._light["total"] is None:
            self._set("total", total)
            self._set("direct", total if direct is None else direct)
        for layer in ("noise", "origin", "other", "around"):
            pages = getattr(picture, layer)
            if before is None or pages is not getattr(before, layer) or self._light[layer] is None:
                self._set(layer, to_half(pages) if pages is not None else None)

    def _upload_pictures(self, level: Level) -> None:
        for number, image in enumerate(level.images):
            h, w = image.pixels.shape[:2]
            texture = self._gl.texture((w, h), 4, np.ascontiguousarray(image.pixels).tobytes())
            texture.build_mipmaps()
            self._textures[number] = texture

    def _set(self, layer: str, half: Half | None) -> None:
        """Show (P, H, W, C) float16 on the pages, or nothing."""
        old = self._light[layer]
        if half is None:
            if old is not None:
                old.release()
            self._light[layer] = None
            return
        self._light[layer] = self._array(old, half)

    def draw(self, camera: Camera, look: Look, width: int, height: int, smooth: bool) -> Pixels:
        """The picture, (height, width, 3) uint8, top row first.

        Args:
            smooth: with several samples a pixel; slower.
        """
        samples = SMOOTH_SAMPLES if smooth else 0
        target, plain = self._target(width, height, samples)
        target.use()
        self._gl.viewport = (0, 0, width, height)
        target.clear(*SURROUND)
        panes = look.view.panes or (look.view,)
        for number, view in enumerate(panes if self._vertices is not None else ()):
            left, right = (round(width * n / len(panes)) for n in (number, number + 1))
            self._gl.viewport = (left, 0, right - left, height)
            self._draw_level(camera, replace(look, view=view), right - left, height)
        self._gl.viewport = (0, 0, width, height)
        if samples:
            self._calls.resolve(target, plain, width, height)
        if look.halo and any(view.glows for view in panes):
            self._halo.draw(plain.color_attachments[0], plain, width, height)
        plain.use()
        return np.ascontiguousarray(self._calls.read(width, height)[::-1])

    def _draw_level(self, camera: Camera, look: Look, width: int, height: int) -> None:
        picture, aspect = self._picture, width / height
        assert picture is not None
        centre, extent = picture.space.centre, max(picture.space.extent, 1e-6)
        distance = float(np.linalg.norm(np.array(camera.eye) - centre))
        far = distance + extent * 1.2
        near = -far if camera.plan else max(far / 20_000, min(0.05, extent / 500))
        shifted = camera.at(np.array(camera.eye) - centre)
        matrix = shifted.matrix(aspect, near, far)
        shows = all(picture.has(layer) for layer in look.view.needs)
        view = self._codes[look.view.id] if shows else PLAIN_VIEW
        if shows and look.view.exposed and look.sky and picture.sky is not None and not camera.plan:
            self._sky.draw(picture.sky, camera, look.exposure, aspect)
        p = self._program
        p["matrix"].write(matrix.T.astype("f4").tobytes())
        p["view"].value = view
        p["exposure"].value = look.exposure
        for name, number in (("split", look.split * width), ("gain", look.gain)):
            if name in p:
                p[name].value = number
        self._set_lamps(picture, np.array(camera.eye), centre)
        p["side"].value = float(picture.charted.side) if picture.charted is not None else 1.0
        kind = moderngl.NEAREST if look.by_texel else moderngl.LINEAR
        for layer, unit in LAYERS.items():
            texture = self._light[layer] or self._dark
            # Between two builds there is none.
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST) if layer == "origin" else (kind, kind)
            texture.use(unit)
        for unit, name in enumerate(SAMPLERS):
            if name in p:
                p[name].value = unit
        self._node_flags(look).use(3)
        for batch in picture.vertices.batches:
            m = picture.level.materials[batch.material]
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
        self._draw_selection(picture, matrix, look.selected)

    def _set_lamps(self, picture: StagePicture, eye: F64, centre: F64) -> None:
        p = self._program
        if "lamps" not in p:
            return  # none of the views asks for them
        rows = picture.lamps.rows(eye, centre) if picture.lamps is not None else np.zeros((0, 16), np.float32)
        table = np.zeros((MOST, 16), np.float32)
        table[: len(rows)] = rows
        p["lamps"].write(table.tobytes())
        p["lamp_count"].value = len(rows)
        p["eye"].value = tuple(float(v) for v in eye - centre)
        p["blend"].value = picture.lamps.blend if picture.lamps is not None else 1.0

    def _draw_selection(self, picture: StagePicture, matrix: F64, selected: int) -> None:
        """Crease edges of the selected object, in front of everything, faintly where hidden."""
        if selected < 0:
            return
        if selected != self._selected:
            self._selected = selected
            if self._selection is not None:
                self._selection.release()
                self._selection = None
            edges = crease_edges(picture.scene, selected, picture.space.centre)
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

    def _node_flags(self, look: Look) -> Any:
        """A texture of one byte a node: hidden, chosen."""
        state = (look.hidden, look.chosen, look.selected)
        if self._flags is None or self._flags_of != state:
            count = len(self._picture.scene.node_names) if self._picture is not None else 1
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
            release_target(self._targets.pop(key))
        for count in {0, samples}:
            if (width, height, count) not in self._targets:
                # What is drawn at last is read for its glow, too.
                color = self._gl.renderbuffer((width, height), 4, samples=count) if count else self._gl.texture(
                    (width, height), 4
                )  # fmt: skip
                depth = self._gl.depth_renderbuffer((width, height), samples=count)
                self._targets[width, height, count] = self._gl.framebuffer([color], depth)
        return self._targets[width, height, samples], self._targets[width, height, 0]

    def _upload(self, table: F32) -> None:
        self._buffer = self._gl.buffer(np.ascontiguousarray(table).tobytes())
        sizes = {"position": 3, "normal": 3, "picture_uv": 2, "light_uv": 3, "node": 1, "density": 1, "chart": 1}
        # What none of the views asks for is not in the program.
        used = [name for name in sizes if name in self._program]
        layout = " ".join(f"{size}{'f' if name in used else 'x4'}" for name, size in sizes.items())
        self._vertices = self._gl.vertex_array(self._program, [(self._buffer, layout, *used)])

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
        held = [self._buffer, self._vertices, self._selection, self._flags, *self._light.values()]
        for item in [*held, *self._textures.values()]:
            if item is not None:
                item.release()
        self._buffer = self._vertices = self._selection = self._flags = None
        self._flags_of, self._selected = (), -1
        self._textures, self._light = {}, dict.fromkeys(self._light)

    def close(self) -> None:
        """Give everything back."""
        self._release()
        self._gl.release()
