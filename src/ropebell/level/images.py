"""Decoding pictures from files that nobody vouches for."""

from __future__ import annotations

import hashlib
import io
import warnings
from dataclasses import replace

import numpy as np
from PIL import Image as PillowImage
from PIL import UnidentifiedImageError

from ropebell.errors import LevelError
from ropebell.level.limits import MAX_DECODED_BYTES, MAX_IMAGE_PIXELS
from ropebell.level.model import Image

FORMATS = {"PNG": "image/png", "JPEG": "image/jpeg"}


class Pictures:
    """Decodes the pictures of one level: equal ones once, and all of them within one budget, since a few bytes may
    declare very many pixels."""

    def __init__(self) -> None:
        self._known: dict[bytes, Image] = {}
        self._left = MAX_DECODED_BYTES

    def decode(self, data: bytes, name: str, where: str) -> Image:
        """Decode a PNG or JPEG picture to (H, W, 4) uint8.

        Raises:
            LevelError: it is neither, is damaged, or declares more pixels than are read of one picture, or of all of
                a level's together.
        """
        key = hashlib.sha256(data).digest()
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = _decoded(data, name, where, self._left)
            self._left -= known.pixels.nbytes
        return replace(known, name=name)


def _decoded(data: bytes, name: str, where: str, left: int) -> Image:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # oversized pictures are refused below, by our own bound
            with PillowImage.open(io.BytesIO(data), formats=list(FORMATS)) as picture:
                width, height = picture.size
                if width * height > MAX_IMAGE_PIXELS:
                    raise LevelError(f"the picture declares {width}×{height} pixels", where, "Use a smaller picture")
                if 4 * width * height > left:
                    what = f"the level's pictures together take more than {MAX_DECODED_BYTES >> 20} MB decoded"
                    raise LevelError(what, where, "Use smaller pictures")
                mime = FORMATS[picture.format or "PNG"]
                pixels = np.asarray(picture.convert("RGBA"), dtype=np.uint8)
    except LevelError:
        raise
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError, MemoryError) as error:
        raise LevelError("the picture is damaged or neither PNG nor JPEG", where, "Export it again as PNG") from error
    except PillowImage.DecompressionBombError as error:
        raise LevelError("the picture declares too many pixels", where, "Use a smaller picture") from error
    return Image(name=name, mime=mime, data=data, pixels=pixels)
