"""Low-discrepancy points: the first four Sobol' dimensions, Owen-scrambled by hash.

Sobol' direction numbers after S. Joe and F. Y. Kuo, "Constructing Sobol sequences with better
two-dimensional projections", SIAM J. Sci. Comput. 30 (2008); scrambling after B. Burley, "Practical
hash-based Owen scrambling", JCGT 9.4 (2020).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.kernel import inlined, kernel
from ropebell.level.model import U32


def _direction_numbers() -> np.ndarray:
    """(4, 32) uint32 direction numbers by the Joe–Kuo recurrence."""
    table = np.zeros((4, 32), np.uint64)
    table[0] = [1 << (31 - i) for i in range(32)]
    for d, (s, a, m) in enumerate([(1, 0, [1]), (2, 1, [1, 3]), (3, 1, [1, 3, 1])], start=1):
        v = [m[i] << (31 - i) for i in range(s)]
        for i in range(s, 32):
            new = v[i - s] ^ (v[i - s] >> s)
            for k in range(1, s):
                new ^= ((a >> (s - 1 - k)) & 1) * v[i - k]
            v.append(new)
        table[d] = v
    return table.astype(np.uint32)


DIRECTIONS = _direction_numbers()
TO_UNIT = np.float64(2.0**-32)


@inlined
def hash32(x: Any) -> Any:
    """A 32-bit mix with good avalanche (the `lowbias32` constants of C. Wellons' hash search)."""
    x = np.uint32(x)
    x ^= x >> np.uint32(16)
    x = np.uint32(x * np.uint32(0x7FEB352D))
    x ^= x >> np.uint32(15)
    x = np.uint32(x * np.uint32(0x846CA68B))
    x ^= x >> np.uint32(16)
    return x


@inlined
def reverse_bits(x: Any) -> Any:
    """The 32 bits of `x` in reverse order."""
    x = np.uint32(x)
    x = np.uint32((x >> np.uint32(16)) | (x << np.uint32(16)))
    x = np.uint32(((x & np.uint32(0xFF00FF00)) >> np.uint32(8)) | ((x & np.uint32(0x00FF00FF)) << np.uint32(8)))
    x = np.uint32(((x & np.uint32(0xF0F0F0F0)) >> np.uint32(4)) | ((x & np.uint32(0x0F0F0F0F)) << np.uint32(4)))
    x = np.uint32(((x & np.uint32(0xCCCCCCCC)) >> np.uint32(2)) | ((x & np.uint32(0x33333333)) << np.uint32(2)))
    return np.uint32(((x & np.uint32(0xAAAAAAAA)) >> np.uint32(1)) | ((x & np.uint32(0x55555555)) << np.uint32(1)))


@inlined
def owen(x: Any, seed: Any) -> Any:
    """Owen-scramble a 32-bit fraction."""
    return owen_reversed(reverse_bits(x), seed)


@inlined
def owen_reversed(x: Any, seed: Any) -> Any:
    """Owen-scramble a 32-bit fraction whose bits are given in reverse order (Burley 2020, listing 3)."""
    x = np.uint32(np.uint32(x) + np.uint32(seed))
    x ^= np.uint32(x * np.uint32(0x6C50B47C))
    x ^= np.uint32(x * np.uint32(0xB82F1E52))
    x ^= np.uint32(x * np.uint32(0xC7AFE638))
    x ^= np.uint32(x * np.uint32(0x8D22F6E6))
    return reverse_bits(x)


@kernel
def _reverse_all(points: U32) -> None:
    for i in range(points.shape[0]):
        for d in range(points.shape[1]):
            points[i, d] = reverse_bits(points[i, d])


def plain_points(first: int, end: int) -> NDArray[np.uint32]:
    """(4, end − first) uint32 points of the sequence before scrambling, bits in reverse order, for kernels that use
    them with `owen_reversed` for many seeds."""
    index = np.arange(first, end, dtype=np.uint32)
    points = np.zeros((len(index), 4), np.uint32)
    for bit in range(32):
        points[(index >> np.uint32(bit)) & np.uint32(1) == 1] ^= DIRECTIONS[:, bit]
    _reverse_all(points)
    return np.ascontiguousarray(points.T)


@inlined
def dimension_seed(dimension: int, seed: Any) -> Any:
    """The scrambling seed of one dimension."""
    return hash32(np.uint32(seed) ^ np.uint32(0x9E3779B9 * (dimension + 1) & 0xFFFFFFFF))


@kernel
def sobol(index: int, dimension: int, seed: Any) -> float:
    """Coordinate `dimension` (0 … 3) of point `index` of the sequence scrambled by `seed`, in [0, 1)."""
    x: Any = np.uint32(0)
    i = np.uint32(index)
    bit = 0
    while i:
        if i & np.uint32(1):
            x ^= DIRECTIONS[dimension, bit]
        i >>= np.uint32(1)
        bit += 1
    found: float = owen(x, dimension_seed(dimension, seed)) * TO_UNIT
    return found


@kernel
def frame(n0: float, n1: float, n2: float) -> tuple[float, float, float, float, float, float]:
    """Two unit vectors that make a right-handed frame with a unit normal.

    Duff et al., "Building an orthonormal basis, revisited", JCGT 6.1 (2017).
    """
    sign = math.copysign(1.0, n2)
    a = -1.0 / (sign + n2)
    b = n0 * n1 * a
    return 1.0 + sign * n0 * n0 * a, sign * b, -sign * n0, b, sign + n1 * n1 * a, -n1


@inlined
def unit_circle(v: float) -> tuple[float, float]:
    """The point of the unit circle an eighth of a turn before the share v of a turn; to 3e-7.

    Taylor series on a quarter turn: a third of the time of the library's sine and cosine, and a fixed turn does
    not matter to directions round a normal.
    """
    quarter = int(4.0 * v)
    x = (4.0 * v - quarter - 0.5) * (0.5 * math.pi)
    q = x * x
    s = x * (1.0 - q / 6.0 * (1.0 - q / 20.0 * (1.0 - q / 42.0)))
    c = 1.0 - q / 2.0 * (1.0 - q / 12.0 * (1.0 - q / 30.0 * (1.0 - q / 56.0)))
    if quarter == 0:
        return c, s
    if quarter == 1:
        return -s, c
    if quarter == 2:
        return -c, -s
    return s, -c


@kernel
def cosine_direction(n0: float, n1: float, n2: float, u: float, v: float) -> tuple[float, float, float]:
    """A direction about a unit normal with density cos θ / π, from a point of the unit square."""
    radius = math.sqrt(u)
    c, s = unit_circle(v)
    x, y, z = radius * c, radius * s, math.sqrt(max(0.0, 1.0 - u))
    t0, t1, t2, b0, b1, b2 = frame(n0, n1, n2)
    return x * t0 + y * b0 + z * n0, x * t1 + y * b1 + z * n1, x * t2 + y * b2 + z * n2


def fibonacci_sphere(count: int) -> NDArray[np.float32]:
    """(count, 3) float32 directions spread evenly: R. Swinbank and J. Purser, "Fibonacci grids", QJRMS 132 (2006)."""
    i = np.arange(count) + 0.5
    y = 1 - 2 * i / count
    turn = math.pi * (1 + math.sqrt(5)) * i
    r = np.sqrt(1 - y * y)
    return np.stack([r * np.cos(turn), y, r * np.sin(turn)], axis=1).astype(np.float32)
