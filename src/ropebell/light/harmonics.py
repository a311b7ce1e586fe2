"""Real spherical harmonics of bands 0 to 2, and the irradiance that they give.

R. Ramamoorthi and P. Hanrahan, "An efficient representation for irradiance environment maps", SIGGRAPH 2001: a cosine
lobe keeps π, 2π/3 and π/4 of bands 0, 1 and 2, which is all but about 1 % of the irradiance of most surroundings.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.level.model import F32, F64

COUNT = 9
LOBE = np.array([math.pi, *[2 * math.pi / 3] * 3, *[math.pi / 4] * 5])


def basis(directions: F32 | F64) -> F64:
    """(n, 9) values of Y₀₀, Y₁₋₁, Y₁₀, Y₁₁, Y₂₋₂ … Y₂₂ with Y up as their own axis.

    Args:
        directions: (n, 3) unit.
    """
    x, y, z = (directions[:, i].astype(np.float64) for i in range(3))
    one = 0.5 * math.sqrt(1 / math.pi) * np.ones(len(x))
    first = math.sqrt(3 / (4 * math.pi))
    second = 0.5 * math.sqrt(15 / math.pi)
    return np.stack(
        [
            one, first * x, first * y, first * z, second * x * z, second * x * y,
            0.25 * math.sqrt(5 / math.pi) * (3 * y * y - 1), second * y * z, 0.5 * second * (z * z - x * x),
        ],
        axis=1,
    )  # fmt: skip


def projected(radiance: F64, directions: F32 | F64, weight: float | F64) -> F64:
    """(9, 3) coefficients of light from some directions.

    Args:
        radiance: (n, 3). weight: steradians of each direction, or (n,).
    """
    weights = np.broadcast_to(np.asarray(weight, dtype=np.float64), len(radiance))
    out: F64 = basis(directions).T @ (radiance * weights[:, None])
    return out


def irradiance(coefficients: F32 | F64, normal: F32 | F64) -> F64:
    """(…, 3) lux on a surface with this normal, not below zero.

    Args:
        coefficients: (…, 9, 3) of radiance. normal: (3,) unit, or (…, 3) one for each.
    """
    flat = np.asarray(normal, dtype=np.float64).reshape(-1, 3)
    lobe = (basis(flat) * LOBE).reshape(*np.asarray(normal).shape[:-1], COUNT)
    found: F64 = np.maximum(np.einsum("...k,...kc->...c", lobe, np.asarray(coefficients, dtype=np.float64)), 0.0)
    return found
