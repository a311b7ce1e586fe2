"""Light that is relit from stored rays, as the stage shows it: at once as it is solved, then as a build finishes it."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from ropebell.app.reading import Shown
from ropebell.app.stage.backdrop import backdrop_of
from ropebell.app.stage.drawn import Half, to_half
from ropebell.app.stage.picture import StagePicture, beside
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe
from ropebell.build.relight import Relight, RelitLight
from ropebell.level.model import F32, F64, I32, Mask

ALL_BOUNCES = -1
PLAIN = "relit from stored rays"


@dataclass(frozen=True, eq=False)
class Relit:
    """Relit light as the stage shows it.

    Attributes:
        what: for the strip.
        follows: whether it is the light of the settings of now, or that of the build, looked at in part.
        seconds: that making it took.
    """

    picture: StagePicture
    what: str
    follows: bool
    seconds: float


@dataclass(frozen=True, eq=False)
class Asked:
    """What light is asked for.

    Attributes:
        strengths, thrown: (J, 3) of the sources, and what of them goes into the bounces.
        bounce: one alone, or `ALL_BOUNCES`. only: whether some lights are left out.
        followed: whose settings of now these are; None: they are the build's own.
        raw: whether it stays as it was before finishing, with the build's own beside it as `StagePicture.other`.
    """

    fields: Relight
    shown: Shown
    strengths: F64
    thrown: F64
    bounce: int
    only: bool
    followed: Project | None
    raw: bool = False

    def is_alike(self, other: Asked) -> bool:
        """Whether the same light is asked for."""
        mine, theirs = (
            (id(a.fields), id(a.shown), a.strengths.tobytes(), a.thrown.tobytes(), a.bounce, a.only, a.followed, a.raw)
            for a in (self, other)
        )
        return mine == theirs

    @property
    def finishes(self) -> bool:
        """Whether a build would do something to this light yet."""
        return self.fields.finishes and self.bounce == ALL_BOUNCES and not self.raw

    @property
    def _recipe(self) -> Recipe:
        return self.followed.recipe if self.followed is not None else self.fields.manifest.recipe

    def relit(self) -> tuple[Relit, RelitLight]:
        """The light as it is solved, and what the stage shows of it."""
        began = time.perf_counter()
        if self.bounce >= 0:
            light = self.fields.one_bounce(self.strengths, self.thrown, self.bounce, self._recipe)
        elif self.fields.bounces_alike(self._recipe):
            light = self.fields.light(self.strengths, self.thrown)
        else:
            light, _ = self.fields.bounced(self.strengths, self.thrown, self._recipe)
        return self._as_shown(light, "before finishing" if self.finishes or self.raw else "", began), light

    def finished(
        self, light: RelitLight, tick: Callable[[float], None], charts: Mask | None = None
    ) -> Relit:  # fmt: skip
        """The same light as a build finishes it.

        Args:
            tick: called now and then, may raise `Stopped`.
            charts: (C,) those whose noise is taken out, None for all.
        """
        began = time.perf_counter()
        m, now = self.fields.manifest, self.followed
        sky = now.sky if now is not None else m.sky
        done = self.fields.finished(light, self.strengths, self._recipe, sky, tick, charts)
        return self._as_shown(done, "finished" if charts is None else "finished where you look", began)

    def charts(self, seen: I32) -> Mask:
        """(C,) charts that triangles of the shown build lie in."""
        layout, charted = self.fields.layout, self.shown.picture.charted
        found = np.zeros(len(layout.atlas.rects), np.bool_)
        if charted is None:
            return found
        grid = layout.texels.grid
        seen = seen[(charted.page[seen] >= 0) & (charted.page[seen] < len(grid))]
        # The middle of a triangle lies in its chart.
        at = charted.uv[seen].mean(axis=1).astype(np.int64).clip(0, grid.shape[1] - 1)
        texel = grid[charted.page[seen], at[:, 1], at[:, 0]]
        found[layout.atlas.chart[layout.texels.owner[texel[texel >= 0]]]] = True
        return found

    def _as_shown(self, light: RelitLight, state: str, began: float) -> Relit:
        fields = self.fields

        def page(field: F32) -> tuple[F32, Half]:
            pages = fields.filling.pages(field, fields.layout.target)
            return pages, to_half(pages)

        with ThreadPoolExecutor(2, thread_name_prefix="relit") as pool:
            (total, drawn), (direct, drawn_direct) = pool.map(page, (light.total, light.direct))
        looks = ["only the selected"] if self.only else []
        looks += [f"bounce {self.bounce} alone"] if self.bounce >= 0 else []
        words = ", ".join((*(looks or [PLAIN]), *([state] if state else [])))
        picture = self.shown.relit(total, direct, (drawn, drawn_direct))
        if self.raw:
            built = self.shown.picture.total
            assert built is not None
            picture = replace(picture, other=beside(built))
        if self.followed is not None:
            f = self.followed
            picture = replace(picture, sky=backdrop_of(f.brief.sky_now, f.sky_picture, f.sky))
        return Relit(picture, words, self.followed is not None, time.perf_counter() - began)
