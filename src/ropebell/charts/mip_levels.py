"""How far apart charts must lie so that a coarser level of a page mixes no two of them.

A level's texel is the mean of an aligned block of 2^level by 2^level texels of the page (a box filter). Derived: a
block that starts at any place holds the last texel of one chart and the first of the next if and only if these and the
p free texels between them fit into it, p + 2 ≤ 2^level. So p ≥ 2^level − 1 keeps them apart. An interpolated lookup at
a chart's edge reads the neighbouring texel of the level as well; that one is free texels or another chart's.
"""

from __future__ import annotations

# The mip level at which charts must not mix, where a project asks for none.
MIP = 2


def padding_for(level: int) -> int:
    """Free texels between charts that keep each texel of a mip level to one chart."""
    return int(2**level) - 1


def safe_mip(padding: int) -> int:
    """The deepest mip level at which no texel is of two charts."""
    return (padding + 1).bit_length() - 1
