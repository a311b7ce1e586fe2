"""Who says what the stage shows: the build that runs, the step, settings of now relit, a build, or the level alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.builds import Builds, LivePicture
from ropebell.app.exposure import Exposure
from ropebell.app.reading import Shown
from ropebell.app.relight import Relighter
from ropebell.app.relit import Relit
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.drawn import Charted
from ropebell.app.stage.lamps import Lamps
from ropebell.app.stage.picture import StagePicture, beside
from ropebell.app.stage.widget import Stage
from ropebell.app.state import State
from ropebell.build.mover import MoverLight, mover_light
from ropebell.level.model import F32
from ropebell.level.scene import index_of
from ropebell.light.probes import Probes


class Picture(QObject):
    """Keeps the stage's picture; nodes of the level and of what is shown are matched by path.

    Attributes:
        kind: who is shown: `live`, `step`, `relit`, `build`, `level`, or empty before anything is.
        live: of the build that runs. relit: of the settings of now. shown: the build that is looked at.
        around: what rays tell of each place of the charts it goes with, see `StagePicture`; None until it is asked for.
        played: whether it is shown as the game puts it together: near pages and live lights close by.
        near: whether the near set is shown: without the direct light of hybrid lights, as pages are read close by.
        of_step: asks the step that is shown now. restored: whether the eye stands where it was left.

    Signals:
        changed: the stage shows something else.
    """

    changed = pyqtSignal()

    def __init__(self, state: State, stage: Stage, builds: Builds, relighter: Relighter, exposure: Exposure) -> None:
        super().__init__(state)
        self._state, self._stage, self._builds, self._exposure = state, stage, builds, exposure
        self.kind = ""
        self.live: LivePicture | None = None
        self.relit: Relit | None = None
        self.shown: Shown | None = None
        self.around: tuple[Charted, F32] | None = None
        self.near = self.played = False
        self.restored = False
        self.of_step: Callable[[], StagePicture | None] = lambda: None
        state.level.opened.connect(self._opened)
        state.level.rearranged.connect(self._rearranged)
        state.rope.looking_at.connect(self._look_at)
        relighter.relit.connect(self._relight)
        builds.picture.connect(self._live)
        builds.started.connect(lambda _: self._began())
        builds.ended.connect(lambda *_: self._ended())
        state.selection.selected.connect(lambda _: self._mark())
        state.selection.hidden_changed.connect(self._hide)
        state.level.follow(self._glow)

    # -- who is shown

    def refresh(self) -> None:
        """Show the first of those who have something to show."""
        shown, now = self.shown, self._state.level.now
        near = shown.near if shown is not None and self.near else None
        candidates = (
            ("live", self.live.picture if self.live is not None else None),
            ("step", self.of_step()),
            ("relit", self.relit.picture if self.relit is not None and not self.played else None),
            ("build", self._as_played() or near or (shown.picture if shown is not None else None)),
            ("level", now.picture if now is not None else None),
        )
        self.kind, picture = next(((k, p) for k, p in candidates if p is not None), ("", None))
        if picture is not None and self.around is not None and picture.charted is self.around[0]:
            picture = replace(picture, around=self.around[1])
        if picture is not None and picture is not self._stage.picture:
            self._stage.show_picture(picture)
            self._mark()
            self._hide()
        self.changed.emit()

    def play(self, on: bool) -> None:
        """Show builds as the game puts them together, or their pages alone."""
        if on != self.played:
            self.played = on
            self.refresh()

    def _as_played(self) -> StagePicture | None:
        """The build with what the game adds, where that is wanted."""
        shown, now = self.shown, self._state.level.now
        if not self.played or shown is None or now is None or shown.picture.total is None:
            return None
        near = shown.near.total if shown.near is not None else None
        other = beside(shown.picture.total if near is None else near)
        lamps = Lamps.of(now.scene.lights, now.project.brief.blend_distance)
        return replace(shown.picture, other=other, lamps=lamps)

    @property
    def on_stage(self) -> StagePicture | None:
        """What is shown now."""
        return self._stage.picture

    def _opened(self) -> None:
        self.live = self.relit = self.shown = None
        self.restored = self.near = False
        self.refresh()
        self._restore_view()
        self.restored = True

    def _rearranged(self) -> None:
        """The level stands or is divided differently: a build's light is carried to it anew."""
        if self._state.rope.shown is not None:
            self._state.rope.look_again()
        else:
            self.refresh()

    def _look_at(self, shown: Shown | None) -> None:
        self.shown, self.relit = shown, None
        if shown is None or shown.near is None:
            self.near = False
        self.refresh()
        if shown is not None:
            self._exposure.choose_until_settled(done=True)

    def _relight(self, relit: Relit | None) -> None:
        if self.shown is not None and not self._builds.running:
            self.relit = relit
            self.refresh()

    def _began(self) -> None:
        self.relit = None
        self.refresh()

    def _live(self, picture: LivePicture) -> None:
        if self._builds.running:
            self.live = picture
            self.refresh()
            # The first picture may be of one lamp: the exposure follows until a build is done.
            self._exposure.choose_until_settled(done=False)

    def _ended(self) -> None:
        self.live = None
        self.refresh()

    def _restore_view(self) -> None:
        """The camera the project was left with, or an overview."""
        project = self._state.document.project
        assert project is not None
        view: dict[str, Any] = project.rest.get("view", {})
        try:
            x, y, z = (float(v) for v in view["eye"])
            self._stage.go(Camera((x, y, z), float(view["yaw"]), float(view["pitch"])))
        except (KeyError, TypeError, ValueError):
            self._stage.eye.see_all()
        self._exposure.begin()

    # -- nodes

    def node_on_stage(self, node: int) -> int:
        """Index of a node of the level in the scene that the stage shows: they are matched by path."""
        now, shown = self._state.level.now, self._stage.scene_shown
        if now is None or shown is None or node < 0 or shown is now.scene:
            return node
        return index_of(shown, now.scene.node_names[node])

    def node_of_level(self, node: int) -> int:
        """Index in the level of a node of the scene that the stage shows."""
        now, shown = self._state.level.now, self._stage.scene_shown
        if now is None or shown is None or node < 0:
            return -1
        return index_of(now.scene, shown.node_names[node])

    def _mark(self) -> None:
        """Mark what is selected."""
        s = self._state.selection
        self._stage.select(self.node_on_stage(s.node), tuple(self.node_on_stage(n) for n in s.chosen))

    def _hide(self) -> None:
        """Hide on the stage what is hidden."""
        shown, hidden = self._stage.scene_shown, self._state.selection.hidden
        names = shown.node_names if shown is not None and hidden else ()
        self._stage.hide_nodes(frozenset(i for i, name in enumerate(names) if name in hidden))
        self.changed.emit()

    def _glow(self) -> None:
        """Materials glow on the stage as the project says they are seen."""
        project = self._state.document.project
        self._stage.show_glow(project.brief.looks if project is not None else {})
        if self.played:
            self.refresh()  # live lights are those of now

    # -- moving things, near and far

    def toggle_movers(self) -> None:
        """Between moving things lit by probes and by what is below them."""
        rope = self._state.rope
        rope.movers_below = not rope.movers_below
        if rope.shown is not None:
            rope.look_again()
        how = "by the surface below them" if rope.movers_below else "by probes, where there are any"
        self._state.news(f"Moving things are lit {how}.")

    @property
    def built_probes(self) -> Probes | None:
        """The probes of the build that is shown."""
        return self.shown.probes if self.shown is not None else None

    def mover_here(self) -> MoverLight | None:
        """What a moving thing would get where the eye is."""
        shown = self.shown
        if shown is None or shown.surfaces is None:
            return None
        return mover_light(shown.surfaces, shown.probes, np.array(self._stage.camera.eye))

    def toggle_near(self) -> None:
        """Between the near and the far set of pages of a build with hybrid lights."""
        if self.shown is None or self.shown.near is None:
            self._state.tell("The build that is shown has no hybrid lights, and so no near set of pages.", "near")
            return
        self._state.telling.over("near")
        self.near = not self.near
        self.refresh()
