"""Light bounce by bounce, kept: another number of bounces or another gain is then a sum, not a solve.

With a gain g every bounce is g times stronger, so the light after n of them is Σ_b g^b · B_b with B_b those of gain 1.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ropebell.level.model import F32, I32
from ropebell.light.settling import Settling
from ropebell.light.solve import MOST_BOUNCES, bounced_once

# More are summed as they come, without keeping each.
MOST_KEPT = 24


class BounceSeries:
    """The bounces of one direct light under one albedo.

    Args:
        hits: (N, R) table of the transport stage.
        direct: (N, 3) lux that goes into the bounces; held: (N, 3) lux that does not, None for none.
        reflecting: (N, 3) from `reflectance` with gain 1.
    """

    def __init__(self, hits: I32, direct: F32, held: F32 | None, reflecting: F32, workers: int) -> None:
        self._hits, self._held, self._reflecting, self._workers = hits, held, reflecting, workers
        self._bounces: list[F32] = [direct]

    def light(self, bounces: int | None, gain: float, tick: Callable[[float], None]) -> tuple[F32, int]:
        """(N, 3) float32 lux of the direct light and its bounces, as `solve` gives it, and how many these are.

        Args:
            bounces: how many, or None: until a further one would add under 0.1 %.
            tick: called between bounces, may raise `Stopped`.
        """
        first = self._bounces[0] if self._held is None else self._bounces[0] + self._held
        total = first.astype(np.float64)
        settling = None
        if bounces is None:
            settling = Settling(self._bounces[0], lambda light: gain * self._once(light))
        most = MOST_BOUNCES if bounces is None else bounces
        done, scale, last = 0, 1.0, self._bounces[0]
        while done < most:
            tick(done / max(min(most, 16), done + 1))
            last = self._bounce(done + 1, last)
            done, scale = done + 1, scale * gain
            added = (scale * last).astype(np.float32)
            total += added
            if settling is not None and settling.after(added, total):
                break
        tick(1.0)
        return np.maximum(total, 0.0).astype(np.float32), done

    def one(self, bounce: int, gain: float) -> F32:
        """(N, 3) float32 lux that one bounce alone adds; 0 is direct light."""
        last = self._bounces[0]
        for number in range(1, bounce + 1):
            last = self._bounce(number, last)
        found: F32 = np.maximum(gain**bounce * last, 0.0).astype(np.float32)
        return found

    def _bounce(self, number: int, before: F32) -> F32:
        if number < len(self._bounces):
            return self._bounces[number]
        found = self._once(before)
        if number == len(self._bounces) and number <= MOST_KEPT:
            self._bounces.append(found)
        return found

    def _once(self, light: F32) -> F32:
        return bounced_once(self._hits, light, self._reflecting, self._workers)
