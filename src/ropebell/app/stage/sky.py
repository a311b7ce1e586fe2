"""Draws the sky behind the level."""

from __future__ import annotations

from typing import Any

import moderngl
import numpy as np

from ropebell.app.stage.backdrop import Backdrop
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.gl_calls import TRIANGLES, GlCalls, over_all


class Sky:
    """One triangle over the picture, coloured by where each pixel looks.

    Args:
        gl: the context, current on this thread.
    """

    def __init__(self, gl: Any, calls: GlCalls) -> None:
        self._gl, self._calls = gl, calls
        self._program, self._triangle = over_all(gl, "sky.frag")
        self._texture: Any = None
        self._drawn: Backdrop | None = None

    def draw(self, sky: Backdrop, camera: Camera, exposure: float, aspect: float) -> None:
        """Fill the target; what is drawn after it lies in front."""
        if self._drawn is None or sky.pixels is not self._drawn.pixels:
            self._take(sky)
        p, reach = self._program, camera.tangent
        p["forward"].value = tuple(camera.forward)
        p["right"].value, p["up"].value = tuple(camera.right * reach * aspect), tuple(camera.up * reach)
        p["radiance"].value, p["exposure"].value, p["turn"].value, p["sky"].value = sky.radiance, exposure, sky.turn, 0
        self._texture.use(0)
        self._gl.disable(moderngl.DEPTH_TEST)
        self._calls.draw(p, self._triangle, TRIANGLES, 0, 3)
        self._gl.enable(moderngl.DEPTH_TEST)

    def _take(self, sky: Backdrop) -> None:
        if self._texture is not None:
            self._texture.release()
        pixels = sky.pixels if sky.pixels is not None else np.ones((1, 1, 3), np.float32)
        height, width = pixels.shape[:2]
        self._texture = self._gl.texture(
            (width, height), 3, pixels.astype(np.float32).tobytes(), dtype="f4", alignment=1
        )
        self._texture.repeat_y = False
        self._drawn = sky
