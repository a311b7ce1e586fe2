"""The Charts step on the stage and on the pages."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from ropebell.app.benches.charting import Charting
from ropebell.app.stage.pointing import Spot
from ropebell.app.stage.renderer import Charted, Vertices, charted_on, vertex_table
from ropebell.level.scene import index_of

if TYPE_CHECKING:
    from ropebell.app.window import Window


class ChartViews:
    """Shows charts before any light.

    Attributes:
        on_stage: whether the stage shows the charts of now instead of a build's.
    """

    def __init__(self, window: Window) -> None:
        self._window = window
        self.on_stage = False
        self._view_before = "result"

    def enter(self, before: str) -> None:
        """The Charts step begins; the view that was shown before comes back with `leave`."""
        w = self._window
        if before != "Charts":
            self._view_before = w.stage.look.view
        self.page_changed()
        if w.charts_bench.known is not None:
            self.charted(w.charts_bench.known)

    def leave(self) -> None:
        """The stage shows again what it showed before the step."""
        w = self._window
        w.views.setCurrentWidget(w.stage)
        w.set_view(self._view_before)
        if self.on_stage:
            self.on_stage = False
            w.picture.rearranged()

    def page_changed(self) -> None:
        """Show pages or the stage, whichever the part of the step is about."""
        w = self._window
        on_pages = w.step == "Charts" and w.charts_bench.pages.shown == 2
        w.views.setCurrentWidget(w.pages if on_pages else w.stage)
        if w.step == "Charts" and not on_pages:
            w.set_view("density" if w.charts_bench.pages.shown == 0 else "texels")

    def charted(self, found: Charting) -> None:
        """Charts are known before any light: the stage shows their texels, the pages their places."""
        w = self._window
        now = w.session.now
        if now is None:
            return
        w.pages.show_survey(found.survey, found.scene)
        result = w.session.shown
        if result is not None:
            w.pages.show_light(result.total)
        w.pages.choose(w.session.chosen)
        atlas = found.survey.atlas
        charted = charted_on(now.scene, Charted(np.asarray(atlas.uv), atlas.lightmap, atlas.side))

        def make() -> Vertices:
            return vertex_table(now.scene, now.space, charted, found.whole)

        def receive(vertices: Vertices) -> None:
            if w.step == "Charts":
                self.on_stage = True
                w.stage.show_level(now.level, now.scene, now.space, charted, vertices)
                w.picture.mark_chosen(w.session.selection)
                w.picture.apply_hidden()

        w.session.jobs.start("texel grid", make, receive)

    def picked(self, node: int) -> None:
        """Select the object whose chart was clicked on a page."""
        w = self._window
        known, now = w.charts_bench.known, w.session.now
        if known is not None and now is not None and node >= 0:
            w.session.select(index_of(now.scene, known.scene.node_names[node]))

    def pointed(self, words: str) -> None:
        """Name the chart under the pointer in the strip."""
        w = self._window
        w.strip.where.setText(words)
        w.strip.value.setText("")

    def density_words(self, spot: Spot) -> str:
        """Texels a metre under the pointer, and what its distance to players asks for."""
        w = self._window
        now, known = w.session.now, w.charts_bench.known
        if now is None or known is None or spot.triangle >= len(known.whole):
            return ""
        own = float(now.scene.factor[spot.triangle]) * now.project.recipe.density.texels_per_metre
        ratio = float(known.whole[spot.triangle])
        if known.shares is None:
            return f"{own:.3g} texels/m"
        wanted = f"{own / ratio:.3g} would do" if math.isfinite(ratio) else "never seen"
        return f"{own:.3g} texels/m, {wanted}" if ratio > 1.01 else f"{own:.3g} texels/m"
