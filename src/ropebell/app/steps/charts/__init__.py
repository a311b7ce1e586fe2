"""The Charts step: how finely surfaces are divided, on how many pages, by whose coordinates."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import cast

import numpy as np
from PyQt6.QtWidgets import QWidget

from ropebell.app.stage.drawn import Charted, charted_on, vertex_table
from ropebell.app.stage.pages import PageView
from ropebell.app.stage.picture import Spot, StagePicture
from ropebell.app.steps.charts.bench import ChartsBench
from ropebell.app.steps.charts.charting import Charting
from ropebell.app.steps.charts.views import CHART_IDS, DENSITY, TEXELS
from ropebell.app.steps.step import Step
from ropebell.app.telling import Words
from ropebell.app.views import RESULT, View
from ropebell.level.scene import index_of

AS_DENSITY, AS_COORDINATES, AS_PAGES = range(3)


class ChartsStep(Step):
    """Shows charts before any light, on the stage and as pages."""

    id, title = "charts", "Charts"
    _picture: StagePicture | None = None
    _view_before: View = RESULT
    _page_words: Words | None = None

    @property
    def charts_bench(self) -> ChartsBench:
        """The panel."""
        return cast(ChartsBench, self.bench)

    def make_bench(self) -> ChartsBench:
        bench = ChartsBench(self.desk)
        bench.page_changed.connect(lambda _: self._page_changed())
        bench.charted.connect(self._charted)
        bench.go_to.connect(lambda _: self.desk.commands.run("stage.focus"))
        self.pages = PageView()
        self.pages.picked.connect(self._picked)
        self.pages.pointed.connect(self._pointed)
        self.desk.selection.selected.connect(self._selected)
        self.desk.rope.looking_at.connect(lambda _: self._light_pages())
        return bench

    def views(self) -> Sequence[View]:
        return (TEXELS, DENSITY, CHART_IDS)

    def enter(self) -> None:
        self._view_before = self.desk.stage.look.view
        super().enter()
        self.charts_bench.set_active(True)
        self._page_changed()

    def leave(self) -> None:
        super().leave()
        self.charts_bench.set_active(False)
        self.desk.show_view(self._view_before)

    def canvas(self) -> QWidget | None:
        return self.pages if self.charts_bench.pages.shown == AS_PAGES else None

    def hints(self) -> tuple[str, ...]:
        shown = ("light shown in sRGB, exposed for its mean",) if self.pages.lit else ()
        return (*shown, "wheel: nearer", "drag: shift", "F1: all keys")

    def picture(self) -> StagePicture | None:
        """The charts of now, once they are laid out; of a level that has changed since, none."""
        now = self.desk.level.now
        return self._picture if self._picture is not None and now is not None and (
            self._picture.scene is now.scene
        ) else None  # fmt: skip

    def words(self, spot: Spot) -> Words | None:
        """Texels a metre under the pointer, and what its distance to players asks for."""
        now, known = self.desk.level.now, self.charts_bench.known
        if now is None or known is None or self.picture() is None or spot.triangle >= len(known.whole):
            return None
        own = float(now.scene.factor[spot.triangle]) * now.project.recipe.density.texels_per_metre
        ratio = float(known.whole[spot.triangle])
        text = f"{own:.3g} texels/m"
        if known.shares is not None and ratio > 1.01:
            text += f", {own / ratio:.3g} would do" if math.isfinite(ratio) else ", never seen"
        return Words(now.scene.node_names[spot.node], text)

    def _page_changed(self) -> None:
        if self.active and self.canvas() is None:
            self.desk.show_view(DENSITY if self.charts_bench.pages.shown == AS_DENSITY else TEXELS)
        self.changed.emit()

    def _charted(self, found: Charting) -> None:
        """Charts are known before any light: the stage shows their texels, the pages their places."""
        now = self.desk.level.now
        if now is None:
            return
        self.pages.show_survey(found.survey, found.scene)
        self._light_pages()
        self.pages.choose(self.desk.selection.chosen)
        atlas = found.survey.atlas
        charted = charted_on(now.scene, Charted(np.asarray(atlas.uv), atlas.lightmap, atlas.side))

        def make() -> StagePicture:
            vertices = vertex_table(now.scene, now.space, charted, found.whole)
            return StagePicture(now.level, now.scene, now.space, vertices, charted)

        def receive(picture: StagePicture) -> None:
            self._picture = picture
            self.changed.emit()

        self.desk.jobs.start("texel grid", make, receive)

    def _light_pages(self) -> None:
        """Light under the charts, if it is of these very charts."""
        known, result = self.charts_bench.known, self.desk.rope.shown
        if known is None:
            return
        same = result is not None and result.manifest.digests.charts == known.digest
        self.pages.show_light(result.total if same and result is not None else None)

    def _selected(self, node: int) -> None:
        self.pages.choose(self.desk.selection.chosen)
        if self.active and self.canvas() is not None and node >= 0:
            self.pages.go_to(node)

    def _picked(self, node: int) -> None:
        """Select the object whose chart was clicked on a page."""
        known, now = self.charts_bench.known, self.desk.level.now
        if known is not None and now is not None and node >= 0:
            self.desk.selection.select(index_of(now.scene, known.scene.node_names[node]))

    def _pointed(self, words: str) -> None:
        self.desk.say_spot(Words(words, ""))
