"""Making the gather rays: scrambled Sobol' points turned to cosine-distributed directions, a texel at a time.

The points of one texel are made in one loop over short single-precision arrays, which the compiler turns into vector
instructions; that takes a third of the time of making them one by one.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, I32, U32
from ropebell.light.sampling import dimension_seed, frame, hash32, owen_reversed
from ropebell.light.surface import Ground, Spots, sample_point

TO_UNIT_24 = np.float32(2.0**-24)
ZERO, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)
QUARTER_TURN = np.float32(0.5 * math.pi)
# Taylor series of sine and cosine on an eighth of a turn to either side, good to 3e-7.
S1, S2, S3 = (np.float32(1.0 / d) for d in (6, 20, 42))
C1, C2, C3, C4 = (np.float32(1.0 / d) for d in (2, 12, 30, 56))
# Of a sample: start, normal, two directions that make a frame with it, normal of its face.
START, NORMAL, ACROSS, ALONG, FACE, POINT = 0, 3, 6, 9, 12, 15


@kernel
def make_rays(
    ground: Ground, spots: Spots, rows: I32, plain: U32, seed: int, origins: F32, directions: F32
) -> None:  # fmt: skip
    """Gather rays of the listed texels; (len(rows)·width, 3) float32 origins and unit directions, the
    direction zero for rays that do not count.

    Args:
        plain: (4, width) points of the sequence before scrambling.
    """
    count, triangle, key, faces = spots.open, spots.triangle, spots.key, ground.faces
    samples, width = triangle.shape[1], plain.shape[1]
    points = np.empty((samples, POINT), np.float32)
    local = np.empty((3, width), np.float32)
    which = np.empty(width, np.uint32)
    for m in range(len(rows)):
        i = rows[m]
        for s in range(count[i]):
            t = triangle[i, s]
            x, y, z, nx, ny, nz = sample_point(ground, spots, i, s)
            ax, ay, az, bx, by, bz = frame(nx, ny, nz)
            p = points[s]
            p[0], p[1], p[2], p[3], p[4], p[5] = x, y, z, nx, ny, nz
            p[6], p[7], p[8], p[9], p[10], p[11] = ax, ay, az, bx, by, bz
            p[12], p[13], p[14] = faces[t, 0], faces[t, 1], faces[t, 2]
        lobe(plain, hash32(key[i] ^ hash32(np.uint32(seed))), count[i], local, which)
        for k in range(width):
            p = points[which[k]]
            x, y, z = local[0, k], local[1, k], local[2, k]
            dx = x * p[ACROSS] + y * p[ALONG] + z * p[NORMAL]
            dy = x * p[ACROSS + 1] + y * p[ALONG + 1] + z * p[NORMAL + 1]
            dz = x * p[ACROSS + 2] + y * p[ALONG + 2] + z * p[NORMAL + 2]
            if dx * p[FACE] + dy * p[FACE + 1] + dz * p[FACE + 2] <= ZERO:
                dx, dy, dz = ZERO, ZERO, ZERO  # below its own face: left out
            j = m * width + k
            origins[j, 0], origins[j, 1], origins[j, 2] = p[START], p[START + 1], p[START + 2]
            directions[j, 0], directions[j, 1], directions[j, 2] = dx, dy, dz


@kernel
def lobe(plain: U32, mine: int, count: int, local: F32, which: U32) -> None:
    """Directions about +Z with density cos θ / π, and the sample that each starts at.

    Args:
        plain: (4, width) uint32 points, of which three dimensions are used.
        mine: the texel's own seed. count: of its samples.
        local: (3, width) float32 and which: (width,) uint32, written.
    """
    seed_u, seed_v, seed_s = dimension_seed(0, mine), dimension_seed(1, mine), dimension_seed(2, mine)
    for k in range(plain.shape[1]):
        u = np.float32(owen_reversed(plain[0, k], seed_u) >> np.uint32(8)) * TO_UNIT_24
        turn = owen_reversed(plain[1, k], seed_v)
        # A fixed eighth of a turn does not matter to directions round a normal, and saves a subtraction.
        quarter = turn >> np.uint32(30)
        angle = (np.float32((turn & np.uint32(0x3FFFFFFF)) >> np.uint32(6)) * TO_UNIT_24 - HALF) * QUARTER_TURN
        q = angle * angle
        sine = angle * (ONE - q * S1 * (ONE - q * S2 * (ONE - q * S3)))
        cosine = ONE - q * C1 * (ONE - q * C2 * (ONE - q * C3 * (ONE - q * C4)))
        odd = quarter & np.uint32(1)
        radius = -math.sqrt(u) if quarter >= np.uint32(2) else math.sqrt(u)
        local[0, k] = radius * (-sine if odd else cosine)
        local[1, k] = radius * (cosine if odd else sine)
        local[2, k] = math.sqrt(ONE - u)
        which[k] = np.uint32((np.uint64(owen_reversed(plain[2, k], seed_s)) * np.uint64(count)) >> np.uint64(32))
