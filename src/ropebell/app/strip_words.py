"""What the strip says of the picture."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.stage.pointing import Spot
from ropebell.app.stage.renderer import CHART_VIEWS, UNLIT_VIEWS, VIEWS
from ropebell.app.words import luminance, lux

NOISE_SCALE = "1 % grey, 3 % amber, 10 % red"

if TYPE_CHECKING:
    from ropebell.app.window import Window


class StripWords:
    """Keeps the strip true."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._spot: Spot | None = None

    def refresh(self) -> None:
        """Say what is true of the picture now."""
        w = self._window
        strip, s = w.strip, w.session
        strip.view.setText(self._view_words())
        strip.exposure.setText(w.exposure.words)
        count = len(s.hidden)
        strip.hidden.setText(f"{count} hidden" if count else "all shown")
        strip.filter.setText("by texel" if w.stage.look.by_texel else "smooth")
        strip.state.setText("")
        if s.now is None:
            strip.build.setText("")
        elif w.picture.live is not None:
            strip.build.setText(f"Building {w.builds.number}")
            strip.state.setText(f"rough: {w.picture.live.what}")
        elif s.shown is not None:
            draft = s.shown.manifest.recipe.draft
            strip.build.setText(f"Build {s.shown_number}, {DRAFT_WORDS[draft]}")
            newest = max((k.number for k in s.knots if k.outcome.state == "done"), default=0)
            if s.shown_number != newest:
                strip.state.setText(f"not the newest, that is {newest}")
            elif s.stale is not None and not s.stale.fresh:
                strip.state.setText(f"out of date: {', '.join(s.stale.changes)}")
            if w.picture.relit is not None:
                strip.build.setText(f"Build {s.shown_number}, relit")
                strip.state.setText(f"{w.picture.relit.what}; not built")
            if w.picture.fresh:
                many = len(w.picture.fresh)
                strip.state.setText(f"{many} object{'s' if many > 1 else ''} not in this light")
                strip.state.setToolTip(", ".join(w.picture.fresh[:20]))
        else:
            strip.build.setText("Level")
            lightless = w.stage.look.view not in (*UNLIT_VIEWS, *CHART_VIEWS)
            strip.state.setText("surfaces only, no light yet" if lightless else "")
        for button in (strip.view, strip.exposure, strip.filter, strip.eye, strip.hidden):
            button.setVisible(s.now is not None)
        strip.exposure.setVisible(w.stage.has_light and w.stage.look.view != "noise")
        strip.filter.setVisible(w.stage.has_light)
        strip.view.setVisible(s.now is not None)
        self.refresh_eye()
        self._show_spot()

    def _view_words(self) -> str:
        w = self._window
        if w.stage.look.view == "noise":
            return "noise: " + (NOISE_SCALE if w.stage.has_noise else "known once a build is done")
        return VIEWS[w.stage.look.view].lower() + (", near set" if w.picture.near else "")

    def refresh_eye(self) -> None:
        """Say how one looks; where from is kept with the project."""
        w = self._window
        plan = {"above": "plan", "front": "front", "side": "side"}[w.stage.camera.side]
        walk = "walking" if w.stage.walking else "perspective"
        w.strip.eye.setText(plan if w.stage.camera.plan else walk)
        c = w.stage.camera
        if not c.plan and w.picture.restored:
            eye = [round(v, 3) for v in c.eye]
            w.session.keep_view({"eye": eye, "yaw": round(c.yaw, 4), "pitch": round(c.pitch, 4)})

    def pointed(self, spot: Spot | None) -> None:
        """Say what lies under the pointer."""
        self._spot = spot
        self._show_spot()

    def _show_spot(self) -> None:
        w = self._window
        spot, shown = self._spot, w.stage.scene_shown
        if spot is None or shown is None or spot.node >= len(shown.node_names):
            w.strip.where.setText("")
            w.strip.value.setText("")
            return
        w.strip.where.setText(shown.node_names[spot.node])
        if w.step == "Charts" and w.charts_bench.known is not None:
            w.strip.value.setText(w.chart_views.density_words(spot))
            return
        if spot.irradiance is None:
            w.strip.value.setText("")
            return
        light = luminance(spot.irradiance)
        text = lux(light)
        noisy = w.stage.look.view == "noise"
        if spot.direct is not None and w.picture.live is None and not noisy:
            text += f"   direct {lux(luminance(spot.direct))}"
        if spot.noise is not None and w.picture.live is None:
            text += f"   ± {100 * spot.noise:.2g} %"
        w.strip.value.setText(text)
