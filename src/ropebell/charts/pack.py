"""Packing chart rectangles into pages: skyline, bottom-left (Jylänki, "A thousand ways to pack the bin", 2010)."""

from __future__ import annotations

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import I32, I64

SMALLEST_PAGE = 32


def pack(sizes: I32, page_size: int, padding: int) -> tuple[I32, int, int]:
    """Place rectangles on square pages without overlap, in the order given.

    Args:
        sizes: (n, 2) int32 width and height in texels, each at most `page_size` − 2·`padding`.
        page_size: the largest side of a page in texels.
        padding: free texels kept between two rectangles and from a page's edge.

    Returns:
        places (n, 3) int32 — page, x, y of the lowest corner; the number of pages; their side, which is
        `page_size` or, if everything fits one smaller page, a smaller power of two.
    """
    if not len(sizes):
        return np.zeros((0, 3), np.int32), 0, min(SMALLEST_PAGE, page_size)
    grown = sizes.astype(np.int64) + padding
    if int(grown.max()) + padding > page_size:
        raise ValueError(f"a rectangle of {sizes.max()} texels does not fit a page of {page_size}")
    side = min(SMALLEST_PAGE, page_size)
    while side < page_size:
        if int(grown.max()) + padding <= side and int(grown.prod(axis=1).sum()) <= side * side:
            places, pages = _skyline(grown, side - padding, padding)
            if pages == 1:
                return places, 1, side
        side *= 2
    places, pages = _skyline(grown, page_size - padding, padding)
    return places, int(pages), page_size


@kernel
def _skyline(grown: I64, room: int, padding: int) -> tuple[I32, int]:
    """Bottom-left skyline over as many pages as it takes; earlier pages are tried first.

    The skyline of a page is one height per column; the best place is the lowest, then the leftmost.
    """
    count = len(grown)
    places = np.zeros((count, 3), np.int32)
    heights = np.zeros((1, room), np.int32)
    full = np.zeros(1, np.bool_)
    for i in range(count):
        width, height = grown[i, 0], grown[i, 1]
        page = 0
        while True:
            if page == len(heights):
                more = np.zeros((len(heights) + 1, room), np.int32)
                more[:page] = heights
                heights = more
                flags = np.zeros(page + 1, np.bool_)
                flags[:page] = full
                full = flags
            if not full[page]:
                x, y = _lowest(heights[page], width, height, room)
                if x >= 0:
                    heights[page, x : x + width] = y + height
                    places[i, 0], places[i, 1], places[i, 2] = page, x + padding, y + padding
                    break
                if width <= 8 and height <= 8:
                    full[page] = True
            page += 1
    return places, len(heights)


@kernel
def _lowest(heights: I32, width: int, height: int, room: int) -> tuple[int, int]:
    """Lowest, then leftmost place for a rectangle on one skyline, or (−1, −1).

    Only columns where the skyline steps can begin a bottom-left place, so the rest are skipped.
    """
    best_x, best_y = -1, room - height + 1
    x = 0
    while x + width <= room:
        if x == 0 or heights[x] != heights[x - 1] or heights[x + width - 1] < heights[min(x + width, room - 1)]:
            top = 0
            for c in range(x, x + width):
                if heights[c] > top:
                    top = heights[c]
                    if top >= best_y:
                        break
            if top < best_y:
                best_x, best_y = x, top
        x += 1
    return best_x, best_y if best_x >= 0 else -1
