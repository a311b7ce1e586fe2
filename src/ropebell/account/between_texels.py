"""Light of a page as it is read between its texels, as a game does, and with nothing carried past what parts two."""

from __future__ import annotations

import numpy as np

from ropebell.level.model import F32, F64, I64, Mask

# Places along each side of a texel at which it is read.
FINER = 4


def read_between(light: F64, held: Mask, right: Mask, down: Mask) -> tuple[F32, F32]:
    """(4H, 4W, 3) float32 as bilinear filtering reads a page, and as it would if it took no texel that something parts
    from the nearest one; NaN where no texel is.

    Args:
        light: (H, W, 3) lux. held: (H, W) whether there is a texel.
        right, down: (H, W − 1) and (H − 1, W), whether something parts a texel from the next in its row and column.
    """
    height, width = held.shape
    (r, fr), (c, fc) = _along(height), _along(width)
    rows, columns = (np.stack([x, np.minimum(x + 1, n - 1)]) for x, n in ((r, height), (c, width)))
    at = rows[:, None, :, None], columns[None, :, None, :]
    weight = np.stack([1 - fr, fr])[:, None, :, None] * np.stack([1 - fc, fc])[None, :, None, :] * held[at]
    # What parts the two by two texels round a place: those of either row, and of either column.
    across = np.pad(right, ((0, 0), (0, 1)))[rows[:, :, None], c]
    along = np.pad(down, ((0, 1), (0, 0)))[r[:, None], columns[:, None, :]]
    nearest = weight.reshape(4, len(r), len(c)).argmax(axis=0)
    reached = np.zeros(weight.shape, np.bool_)
    for a, b in np.ndindex(2, 2):
        mine = nearest == 2 * a + b
        reached[a, b] |= mine
        reached[a, 1 - b] |= mine & ~across[a]
        reached[1 - a, b] |= mine & ~along[b]
        reached[1 - a, 1 - b] |= mine & ((~across[a] & ~along[1 - b]) | (~along[b] & ~across[1 - a]))
    return _mean(light[at], weight), _mean(light[at], weight * reached)


def _along(count: int) -> tuple[I64, F64]:
    """Of places along texels, the texel before each, and how far it is on the way to the next."""
    at = np.clip((np.arange(count * FINER) + 0.5) / FINER - 0.5, 0.0, count - 1.0)
    before = np.minimum(at.astype(np.int64), max(count - 2, 0))
    return before, at - before


def _mean(light: F64, weight: F64) -> F32:
    whole = weight.sum(axis=(0, 1))[..., None]
    mean = (weight[..., None] * light).sum(axis=(0, 1)) / np.maximum(whole, 1e-12)
    return np.where(whole > 0, mean, np.nan).astype(np.float32)
