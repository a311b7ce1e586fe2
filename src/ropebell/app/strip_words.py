"""What the strip says of the picture: the most important first, and all of it to be had."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QPushButton

from ropebell.app.desk import Desk
from ropebell.app.exposure import Exposure
from ropebell.app.picture import Picture
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.stage.hands import HINTS
from ropebell.app.stage.picture import Spot
from ropebell.app.strip import Strip
from ropebell.app.telling import Words
from ropebell.app.words import clock, luminance, lux
from ropebell.build.plan import LIGHTS, plan_of


class StripWords(QObject):
    """Keeps the strip true.

    Args:
        of_step: asks the step that is shown now what it says of a spot.

    Attributes:
        canvas_hints: what hands do on the canvas that hides the stage, None while the stage is seen.
    """

    def __init__(
        self, desk: Desk, picture: Picture, exposure: Exposure, strip: Strip, of_step: Callable[[Spot], Words | None]
    ) -> None:
        super().__init__(desk)
        self._desk, self._picture, self._exposure, self._strip, self._of_step = desk, picture, exposure, strip, of_step
        self._spot: Spot | None = None
        self.canvas_hints: tuple[str, ...] | None = None
        for signal in (
            picture.changed, exposure.changed, desk.document.edited, desk.rope.stale_changed, desk.rope.builds_changed,
            desk.relighter.ready_changed,
        ):  # fmt: skip
            signal.connect(self.refresh)
        desk.stage.hands.pointed.connect(self.pointed)
        desk.stage.camera_changed.connect(self.refresh_eye)

    def refresh(self) -> None:
        """Say what is true of the picture now."""
        strip, stage, desk = self._strip, self._desk.stage, self._desk
        is_open = desk.level.now is not None
        view = stage.look.view
        strip.view.setText(view.in_words(stage.picture) + (", near set" if self._picture.near else ""))
        strip.exposure.setText(self._exposure.words)
        count = len(desk.selection.hidden)
        strip.hidden.setText(f"{count} hidden" if count else "all shown")
        strip.filter.setText("by texel" if stage.look.by_texel else "smooth")
        strip.build.setText(self._title() if is_open else "")
        strip.set_facts(self._facts() if is_open else [])
        self.refresh_eye()
        wanted = {strip.view, strip.eye, strip.hidden} if is_open else set[QPushButton]()
        wanted |= {strip.exposure} if stage.has_light and view.exposed else set()
        wanted |= {strip.filter} if stage.has_light else set()
        strip.show_menus(wanted if self.canvas_hints is None else set())
        self._show_spot()

    def _title(self) -> str:
        rope, kind = self._desk.rope, self._picture.kind
        if kind == "live":
            return f"Building {self._desk.builds.number}"
        if kind == "step":
            picture = self._desk.stage.picture
            return picture.title if picture is not None else ""
        relit = self._picture.relit
        if kind == "relit" and relit is not None and relit.follows:
            return f"Build {rope.shown_number}, relit"
        if kind in ("build", "relit") and rope.shown is not None:
            return f"Build {rope.shown_number}, {DRAFT_WORDS[rope.shown.manifest.recipe.draft]}"
        return "Level"

    def _facts(self) -> list[str]:
        """What one should know of this picture, the most important first."""
        rope, kind, picture = self._desk.rope, self._picture.kind, self._desk.stage.picture
        if kind == "live" and self._picture.live is not None:
            changed = [f"changed since it began: {', '.join(rope.behind)}"] if rope.behind else []
            return [f"rough: {self._picture.live.what}", *changed]
        if kind == "level":
            return ["surfaces only, no light yet"] if self._desk.stage.look.view.needs else []
        if kind not in ("relit", "build"):
            return []
        facts = self._planned()
        finished = rope.finished
        if finished and rope.shown_number != finished[-1]:
            facts.append(f"not the newest, that is {finished[-1]}")
        relit = self._picture.relit
        if relit is not None:
            # That it is relit says the title.
            more = relit.what.removeprefix("relit from stored rays").removeprefix(", ")
            facts.append(", ".join(("not built", *([more] if more else []))) if relit.follows else relit.what)
        newest = not finished or rope.shown_number == finished[-1]
        if newest and rope.stale is not None and not rope.stale.fresh:
            facts.append(f"out of date: {', '.join(rope.stale.changes) or 'its cache is gone'}")
        trouble = self._desk.relighter.trouble
        if trouble and newest and rope.stale is not None and not rope.stale.fresh:
            can = f"a build of {clock(rope.stale.seconds)} can"
            facts.append(f"{trouble.rstrip('.')}: stored rays cannot show that, {can}")
        fresh = picture.fresh if picture is not None else ()
        if fresh:
            names = ", ".join(path.rsplit("/", 1)[-1] for path in fresh[:8])
            facts.append(f"{len(fresh)} object{'s' if len(fresh) > 1 else ''} not in this light: {names}")
        return facts

    def _planned(self) -> list[str]:
        """What the next build leaves out, and what this one did: nobody shall forget a cut box that is on."""
        project, shown = self._desk.document.project, self._desk.rope.shown
        facts = []
        if shown is not None and self._picture.kind in ("build", "relit"):
            scope = shown.manifest.scope
            if scope.box is not None:
                facts.append(f"lit {scope.words} only: no sun, sky or lamps from outside")
            elif shown.manifest.parts:
                facts.append(f"lit {scope.words}, the rest is of earlier builds or rough")
        lights = plan_of(project).lights if project is not None else "everything"
        if lights != "everything":
            facts.append(f"the next build lights {LIGHTS[lights][0].lower()}{LIGHTS[lights][1:]}")
        return facts

    def refresh_eye(self) -> None:
        """Say how one looks; where from is kept with the project."""
        stage = self._desk.stage
        c = stage.camera
        plan = {"above": "plan", "front": "front", "side": "side"}[c.side]
        way = "walking" if stage.eye.walking else "perspective"
        self._strip.eye.setText(plan if c.plan else way)
        self._strip.make_room()
        self._strip.hint.show_hints(self.canvas_hints or HINTS["plan" if c.plan else way])
        if not c.plan and self._picture.restored:
            eye = [round(v, 3) for v in c.eye]
            self._desk.document.keep_view({"eye": eye, "yaw": round(c.yaw, 4), "pitch": round(c.pitch, 4)})

    def pointed(self, spot: Spot | None) -> None:
        """Say what lies under the pointer."""
        self._spot = spot
        self._show_spot()

    def say(self, words: Words) -> None:
        """Say this of what is under the pointer on a canvas of its own."""
        self._strip.say(words.where, words.value, hints=self._desk.level.now is not None)

    def _show_spot(self) -> None:
        spot, shown = self._spot, self._desk.stage.scene_shown
        if spot is None or shown is None or spot.node >= len(shown.node_names):
            self.say(Words("", ""))
            return
        words = self._of_step(spot) or Words(shown.node_names[spot.node], self._light_words(spot))
        tells, picture = self._desk.stage.look.view.tells, self._desk.stage.picture
        told = tells(picture, spot) if tells is not None and picture is not None else ""
        self.say(replace(words, value="   ".join(w for w in (told, words.value) if w)))

    def _light_words(self, spot: Spot) -> str:
        if spot.irradiance is None:
            return ""
        text = lux(luminance(spot.irradiance))
        live = self._picture.kind == "live"
        if spot.direct is not None and not live and self._desk.stage.look.view.exposed:
            text += f"   direct {lux(luminance(spot.direct))}"
        if spot.noise is not None and not live:
            text += f"   ± {100 * spot.noise:.2g} %"
        if spot.around is not None and "around" in self._desk.stage.look.view.needs:
            text += f"   closed in {100 * spot.around[0]:.0f} %   backs {100 * spot.around[1]:.2g} %"
        if spot.whose and not live:
            text += f"   {spot.whose}"
        return text
