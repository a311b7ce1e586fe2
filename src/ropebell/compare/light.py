"""How the light of two builds differs, place by place, and where that is more than noise."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter

from ropebell.build.result import Result
from ropebell.compare.places import Partners, Places, luminance, partners, places_of, same_places
from ropebell.errors import UsageError
from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, Mask

# Times the told noise of both, taken together.
SURE = 3.0
# Of the light: what pages round off.
ROUNDED = 2e-3
# Of the light: less than that is seen by nobody, and a filter may move it.
LEAST = 1e-2
# Of the median light: less than that is black beside it.
UNSEEN = 1e-3
# Texels to either side over which told noise is pooled.
POOLED = 3
# Of the baked area that has to be the same for two builds to be of one level.
ONE_LEVEL = 0.05
# Of the area that may differ beyond noise in builds that count as the same.
SAME = 0.01


@dataclass(frozen=True, eq=False)
class LightDifference:
    """B against A on the texels of one of them, the coarser one.

    Attributes:
        base: whose texels these are. there: (N,) bool, places that both have.
        a, b: (N,) lux, luminance. noise: (N,) lux, told of both together, with what pages round off; a third of a
            hundredth of the light where both are of the same rays, whose noise is the same.
        beyond: (N,) bool, differs by more than three times that. on_a: whether the base is A.
        a_color, b_color: (N, 3) lux. margin: (N,) lux by which the two may differ without that being seen as a
            difference: noise, unless it is the same in both, and what pages round off.
    """

    base: Result
    places: Places
    partners: Partners
    a: F64
    b: F64
    noise: F64
    beyond: Mask
    on_a: bool
    a_color: F32
    b_color: F32
    margin: F64

    @property
    def there(self) -> Mask:
        """Places that both have."""
        return self.partners.there

    @property
    def weight(self) -> F64:
        """(N,) m² of the places that both have, nothing elsewhere."""
        return np.where(self.there, self.places.area, 0.0)

    @property
    def mean(self) -> float:
        """(B − A) / A of the light over the area."""
        return float((self.weight * (self.b - self.a)).sum() / max(float((self.weight * self.a).sum()), 1e-30))

    @property
    def beyond_noise(self) -> float:
        """Share of the area that differs by more than noise."""
        return float(self.weight[self.beyond].sum() / max(float(self.weight.sum()), 1e-30))

    @property
    def differ(self) -> bool:
        """Whether the light differs."""
        return self.beyond_noise > SAME

    @property
    def matched(self) -> float:
        """Share of the base's area that both have."""
        return float(self.weight.sum() / max(float(self.places.area.sum()), 1e-30))

    def worst(self, count: int, apart: float) -> list[int]:
        """Rows of the largest differences beyond noise, none within so many metres of another."""
        size = np.where(self.beyond & self.there, np.abs(self.b - self.a), 0.0)
        spots = self.places.position(self.base.scene.corners)
        found: list[int] = []
        while len(found) < count and size.max(initial=0.0) > 0.0:
            row = int(size.argmax())
            found.append(row)
            size[np.linalg.norm(spots - spots[row], axis=1) < apart] = 0.0
        return found


def light_difference(a: Result, b: Result, on_a: bool | None = None) -> LightDifference:
    """Compare the light of two builds.

    Args:
        on_a: whether on the texels of A; None: on those of the coarser one.

    Raises:
        UsageError: they are builds of different levels.
    """
    place_a, place_b = places_of(a), places_of(b)
    if not len(place_a) or not len(place_b):
        empty = a.folder if not len(place_a) else b.folder
        raise UsageError("it has no baked light", empty, "Name a build of a level with baked surfaces")
    if on_a is None:
        on_a = len(place_a) / _area(place_a) <= len(place_b) / _area(place_b)
    base, places, other = (a, place_a, b) if on_a else (b, place_b, a)
    charts_alike = _charts_alike(a, b)
    found = same_places(places) if charts_alike else partners(base, places, other)
    if places.area[found.there].sum() < ONE_LEVEL * places.area.sum():
        what = "they are builds of different levels: hardly a surface is in both"
        raise UsageError(what, f"{a.folder}, {b.folder}", "Name two builds of one level")
    wide = not charts_alike and other.manifest.texels > 1.5 * base.manifest.texels
    mine = places.of(base.total)
    theirs = found.nearest(other.total) if charts_alike else found.of(other.total, wide)
    light_mine, light_theirs = luminance(mine), luminance(theirs)
    told_mine = _pooled(_told(base, places, None) * light_mine, places, base)
    told_theirs = _pooled(_told(other, places, found) * light_theirs, places, base)
    larger = np.maximum(light_mine, light_theirs)
    noise = np.hypot(told_mine, told_theirs) + ROUNDED * larger / SURE
    one_table = charts_alike and _rays(a) == _rays(b)
    if one_table:
        # Of the same rays the noise is the same, and goes out in the difference.
        noise = LEAST * larger / SURE
    bend: F64 = np.zeros(len(places))
    if not one_table:
        # Texels that lie elsewhere draw an edge a little elsewhere, and other rays are other noise of what lamps and
        # emitters bring, which is not told: neither is a difference.
        bend = _bend(luminance(base.total), places)
        if charts_alike:
            bend = np.maximum(bend, _bend(luminance(other.total), places))
    apart = np.maximum(np.abs(light_theirs - light_mine) - bend, 0.0)
    # Of what is next to nothing in both, a share says nothing.
    middle = 0.5 * (light_mine + light_theirs)[found.there]
    floor = UNSEEN * float(np.median(middle[middle > 0])) if (middle > 0).any() else 0.0
    # The same brightness in another colour is another light, too.
    tint = np.abs((theirs.astype(np.float64) - light_theirs[:, None]) - (mine - light_mine[:, None])).max(axis=1)
    tinted = tint - bend > np.maximum(SURE * noise, floor)
    beyond = found.there & (((apart > SURE * noise) & (apart > floor)) | tinted)
    margin = bend + np.maximum(SURE * noise, floor)
    margin[beyond] = np.minimum(margin, 0.5 * np.abs(light_theirs - light_mine))[beyond]
    a_, b_ = (light_mine, light_theirs) if on_a else (light_theirs, light_mine)
    colors = (mine, theirs.astype(np.float32)) if on_a else (theirs.astype(np.float32), mine)
    return LightDifference(base, places, found, a_, b_, noise, beyond, on_a, *colors, margin)


def _charts_alike(a: Result, b: Result) -> bool:
    """Whether the texels of both lie on the same places of the pages."""
    return (
        bool(a.manifest.digests.charts)
        and a.manifest.digests.charts == b.manifest.digests.charts
        and a.total.shape == b.total.shape
        and np.array_equal(a.uv, b.uv)
    )


def _area(places: Places) -> float:
    return max(float(places.area.sum()), 1e-30)


def _rays(result: Result) -> tuple[object, ...]:
    """What rays a build's light is of, and whether their noise was taken out."""
    m = result.manifest
    return m.hits_digest, m.recipe.direct_samples, m.recipe.light.seed, m.recipe.finish.denoise


def _pooled(noise: F64, places: Places, base: Result) -> F64:
    """(N,) root mean square of noise over a neighbourhood: a texel whose rays missed what is bright and small says
    that it is sure, and its neighbours know better."""
    square = np.zeros(base.total.shape[:3])
    square[places.page, places.row, places.column] = noise**2
    covered = np.zeros_like(square)
    covered[places.page, places.row, places.column] = 1.0
    size = (1, 2 * POOLED + 1, 2 * POOLED + 1)
    mean = uniform_filter(square, size, mode="constant") / np.maximum(
        uniform_filter(covered, size, mode="constant"), 1e-9
    )
    found: F64 = np.sqrt(np.maximum(mean, 0.0))[places.page, places.row, places.column]
    return np.maximum(found, noise)


def _told(result: Result, places: Places, found: Partners | None) -> F64:
    """(N,) told noise of a build as a share of its light; nothing where it does not say."""
    if result.noise is None:
        return np.zeros(len(places))
    return (places.of(result.noise) if found is None else found.nearest(result.noise))[:, 0].astype(np.float64)


def _bend(light: F64, places: Places) -> F64:
    """(N,) lux by which light differs from a straight run at a texel or beside it: nothing where it rises evenly, the
    step's height at an edge. By so much a reading between other texels may be off.

    Args:
        light: (P, H, W).
    """
    covered = np.zeros(light.shape, np.bool_)
    covered[places.page, places.row, places.column] = True
    bends, found = np.zeros(light.shape), np.empty(len(places))
    _bends(light, covered, places.page, places.row, places.column, bends)
    _largest_around(bends, covered, places.page, places.row, places.column, found)
    return found


@kernel
def _bends(light: F64, covered: Mask, page: I32, row: I32, column: I32, bends: F64) -> None:
    height, width = light.shape[1:]
    for i in range(len(page)):
        p, y, x = page[i], row[i], column[i]
        here, most = light[p, y, x], 0.0
        for axis in range(2):
            before, after = y - 1 + axis, y + 1 - axis
            left, right = x - axis, x + axis
            has_before = before >= 0 and left >= 0 and covered[p, before, left]
            has_after = after < height and right < width and covered[p, after, right]
            if has_before and has_after:
                most = max(most, abs(light[p, before, left] - 2.0 * here + light[p, after, right]))
            elif has_before:
                most = max(most, abs(light[p, before, left] - here))
            elif has_after:
                most = max(most, abs(light[p, after, right] - here))
        bends[p, y, x] = most


@kernel
def _largest_around(bends: F64, covered: Mask, page: I32, row: I32, column: I32, found: F64) -> None:
    height, width = bends.shape[1:]
    for i in range(len(page)):
        p, y, x = page[i], row[i], column[i]
        most = 0.0
        for v in range(max(y - 1, 0), min(y + 2, height)):
            for u in range(max(x - 1, 0), min(x + 2, width)):
                if covered[p, v, u]:
                    most = max(most, bends[p, v, u])
        found[i] = most
