"""When bounces have settled: a bound, for each texel, on what all that are still to come would add.

One more bounce is a linear map M with no negative entry, E′ = M·E. Let a be light that is nowhere less than the
amount of a bounce (the bounce itself, or where lights subtract, the bounces of their amount), aₖ that of bounce k,
and M^w a ≤ r·a at every texel for some r < 1. Then all bounces after k add at most r/(1 − r)·(aₖ₋w₊₁ + … + aₖ): the
theorem of Collatz and Wielandt on non-negative matrices (R. Varga, "Matrix Iterative Analysis", 2nd ed. 2000, 2.2)
used w bounces at a time. The ratio is taken at each texel and the largest counts, so that a dim white room is not
taken for settled because a bright dark one is. Two bounces at a time settle where light goes to and fro between two
sides, which grow and fade in turns.

So that the first trickle of light into the far end of a tunnel does not count, a carries a small even light ε
everywhere, whose own bounces M·1, M²·1 are known.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ropebell.level.model import F32, F64

# All bounces that would follow add less than this share anywhere.
CONVERGED = 1e-3
# Light less than this share of the brightest texel's counts as dark: twenty stops below it.
DARK = 1e-6
# The even light, as a share of what counts as dark.
EVEN = 1e-5


class Settling:
    """Follows the bounces of one direct light.

    Args:
        first: (N, 3) lux that goes into the bounces.
        spread: one more bounce of some light.
    """

    def __init__(self, first: F32, spread: Callable[[F32], F32]) -> None:
        self._spread = spread
        self._signed = bool((first < 0.0).any())
        self._amounts: list[F32] = [np.abs(first)]
        once = spread(np.ones_like(first))
        self._of_even = [_most(once), _most(spread(once))]

    def after(self, bounce: F32, total: F64) -> bool:
        """Whether this was the last bounce that is needed.

        Args:
            bounce: (N, 3) lux of the next bounce. total: (N, 3) lux of all so far.
        """
        self._amounts.append(self._spread(self._amounts[-1]) if self._signed else bounce)
        del self._amounts[:-3]
        if not self._amounts[-1].any():
            return True
        floor = DARK * _most(np.abs(total))
        return any(self._settled(width, total, floor) for width in (1, 2) if width < len(self._amounts))

    def _settled(self, width: int, total: F64, floor: float) -> bool:
        even = EVEN * floor
        before, now = self._amounts[-1 - width], self._amounts[-1]
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = _most(np.nan_to_num((now + even * self._of_even[width - 1]) / (before + even), nan=0.0))
        if ratio >= 1.0:
            return False
        coming = ratio / (1.0 - ratio) * sum(amount + even for amount in self._amounts[-width:])
        # Where less than nothing is left anyway, it stays nothing.
        return bool(((coming < CONVERGED * np.maximum(np.abs(total), floor)) | (total + coming <= 0.0)).all())


def _most(field: F32 | F64) -> float:
    return float(field.max()) if field.size else 0.0
