"""Glow round what shines brighter than the display can: the scatter of light in an eye, so that lamps look lit.

G. Spencer et al., "Physically-based glare effects for digital images", SIGGRAPH 1995: a narrow and a wide bloom, added
to the picture. It is for the eye alone: whatever reads light reads it from the pages, not from the picture.
"""

from __future__ import annotations

from typing import Any

import moderngl
import numpy as np
from scipy.ndimage import gaussian_filter

from ropebell.app.stage.gl_calls import TRIANGLES, GlCalls, over_all, release_target

# Pixels on a side of which one is made, as a glow is soft.
COARSE = 4
# Widths of the two blooms as shares of the picture's height, and how strong they are.
BLOOMS = ((0.008, 0.04), (0.03, 0.12))


class Halo:
    """Finds what shines in a picture by its alpha (1: nothing does) and adds the glow round it.

    Args:
        gl: the context, current on this thread.
    """

    def __init__(self, gl: Any, calls: GlCalls) -> None:
        self._gl, self._calls = gl, calls
        self._shining, self._adding = over_all(gl, "shining.frag"), over_all(gl, "halo.frag")
        self._small: Any = None

    def draw(self, picture: Any, target: Any, width: int, height: int) -> None:
        """Add the glow.

        Args:
            picture: texture of what was drawn. target: framebuffer of the same.
        """
        size = (max(width // COARSE, 1), max(height // COARSE, 1))
        if self._small is None or self._small.size != size:
            if self._small is not None:
                release_target(self._small)
            self._small = self._gl.framebuffer([self._gl.texture(size, 4, dtype="f2")])
        self._small.use()
        self._gl.viewport = (0, 0, *size)
        self._gl.disable(moderngl.DEPTH_TEST)
        self._pass(self._shining, picture)
        shining = self._calls.read_floats(*size)
        if shining.any():
            glow = self._gl.texture(size, 3, _bloom(shining).tobytes(), dtype="f2", alignment=1)
            glow.repeat_x = glow.repeat_y = False
            target.use()
            self._gl.viewport = (0, 0, width, height)
            self._gl.enable(moderngl.BLEND)
            # What is bright already gets less: nothing is burnt out by it.
            self._gl.blend_func = moderngl.ONE, moderngl.ONE_MINUS_SRC_COLOR
            self._pass(self._adding, glow)
            self._gl.disable(moderngl.BLEND)
            glow.release()
        self._gl.enable(moderngl.DEPTH_TEST)

    def _pass(self, drawn: tuple[Any, Any], texture: Any) -> None:
        program, triangle = drawn
        texture.use(0)
        program["picture"].value = 0
        self._calls.draw(program, triangle, TRIANGLES, 0, 3)


def _bloom(shining: np.ndarray) -> np.ndarray:
    """(H, W, 3) float16 glow of (H, W, 3) float32 that shines, in whites."""
    height = len(shining)
    found = np.zeros_like(shining)
    for width, strength in BLOOMS:
        found += strength * gaussian_filter(shining, (width * height, width * height, 0.0), truncate=3.0)
    return np.asarray(1.0 - np.exp(-found), np.float16)
