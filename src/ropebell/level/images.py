"""Decoding pictures from files that nobody vouches for."""

from __future__ import annotations

import io
import warnings

import numpy as np
from PIL import Image as PillowImage
from PIL import UnidentifiedImageError

from ropebell.errors import LevelError
from ropebell.level.limits import MAX_IMAGE_PIXELS
from ropebell.level.model import Image

FORMATS = {"PNG": "image/png", "JPEG": "image/jpeg"}


def decode(data: bytes, name: str, where: str) -> Image:
    """Decode a PNG or JPEG picture to (H, W, 4) uint8.

    Raises:
        LevelError: it is neither, is damaged, or declares more than `MAX_IMAGE_PIXELS` pixels.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # oversized pictures are refused below, by our own bound
            with PillowImage.open(io.BytesIO(data), formats=list(FORMATS)) as picture:
                width, height = picture.size
                if width * height > MAX_IMAGE_PIXELS:
                    raise LevelError(f"the picture declares {width}×{height} pixels", where, "Use a smaller picture")
                mime = FORMATS[picture.format or "PNG"]
                pixels = np.asarray(picture.convert("RGBA"), dtype=np.uint8)
    except LevelError:
        raise
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError, MemoryError) as error:
        raise LevelError("the picture is damaged or neither PNG nor JPEG", where, "Export it again as PNG") from error
    except PillowImage.DecompressionBombError as error:
        raise LevelError("the picture declares too many pixels", where, "Use a smaller picture") from error
    return Image(name=name, mime=mime, data=data, pixels=pixels)
