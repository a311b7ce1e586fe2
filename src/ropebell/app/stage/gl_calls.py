"""The few GL calls that take long, made through ctypes: it releases the interpreter lock, `moderngl` does not.

A software rasteriser compiles shaders inside the first draw and rasterises inside the read; with the lock held, the
window would stand still meanwhile.
"""

from __future__ import annotations

import ctypes
import ctypes.util
from importlib.resources import files
from typing import Any

import numpy as np
from numpy.typing import NDArray

TRIANGLES, LINES, RGB, UNSIGNED_BYTE, FLOAT, PACK_ALIGNMENT = 0x0004, 0x0001, 0x1907, 0x1401, 0x1406, 0x0D05
READ_FRAMEBUFFER, DRAW_FRAMEBUFFER, COLOR_BUFFER, NEAREST = 0x8CA8, 0x8CA9, 0x4000, 0x2600


def over_all(gl: Any, fragment: str) -> tuple[Any, Any]:
    """A program that colours each pixel of the target, and the one triangle it is drawn with.

    Args:
        gl: the context, current on this thread. fragment: file of its shader.
    """
    source = files("ropebell.app") / "shaders"
    program = gl.program(
        vertex_shader=(source / "over_all.vert").read_text(), fragment_shader=(source / fragment).read_text()
    )
    return program, gl.vertex_array(program, [])


def release_target(target: Any) -> None:
    """Give a framebuffer back with what is attached to it, which it does not take along by itself."""
    for attached in (*target.color_attachments, target.depth_attachment):
        if attached is not None:
            attached.release()
    target.release()


class GlCalls:
    """GL functions by address; the context must be current on the calling thread."""

    def __init__(self) -> None:
        egl = ctypes.CDLL(ctypes.util.find_library("EGL") or "libEGL.so.1")
        address = egl.eglGetProcAddress
        address.restype, address.argtypes = ctypes.c_void_p, [ctypes.c_char_p]
        i, u = ctypes.c_int, ctypes.c_uint

        def function(name: str, *arguments: Any) -> Any:
            return ctypes.CFUNCTYPE(None, *arguments)(address(name.encode()))

        self._use_program = function("glUseProgram", u)
        self._bind_vertices = function("glBindVertexArray", u)
        self._draw_arrays = function("glDrawArrays", u, i, i)
        self._pixel_store = function("glPixelStorei", u, i)
        self._bind_framebuffer = function("glBindFramebuffer", u, u)
        self._blit = function("glBlitFramebuffer", *([i] * 8), u, u)
        self._read_pixels = function("glReadPixels", i, i, i, i, u, u, ctypes.c_void_p)

    def draw(self, program: Any, vertices: Any, kind: int, first: int, count: int) -> None:
        """Draw vertices with a program of `moderngl`."""
        self._use_program(program.glo)
        self._bind_vertices(vertices.glo)
        self._draw_arrays(kind, first, count)

    def resolve(self, source: Any, target: Any, width: int, height: int) -> None:
        """Average the samples of one framebuffer of `moderngl` into another."""
        self._bind_framebuffer(READ_FRAMEBUFFER, source.glo)
        self._bind_framebuffer(DRAW_FRAMEBUFFER, target.glo)
        self._blit(0, 0, width, height, 0, 0, width, height, COLOR_BUFFER, NEAREST)

    def read(self, width: int, height: int) -> NDArray[np.uint8]:
        """(height, width, 3) pixels of the bound framebuffer, bottom row first."""
        pixels = np.empty((height, width, 3), np.uint8)
        self._pixel_store(PACK_ALIGNMENT, 1)
        self._read_pixels(0, 0, width, height, RGB, UNSIGNED_BYTE, pixels.ctypes.data)
        return pixels

    def read_floats(self, width: int, height: int) -> NDArray[np.float32]:
        """The same of a framebuffer that holds any numbers."""
        pixels = np.empty((height, width, 3), np.float32)
        self._pixel_store(PACK_ALIGNMENT, 1)
        self._read_pixels(0, 0, width, height, RGB, FLOAT, pixels.ctypes.data)
        return pixels
