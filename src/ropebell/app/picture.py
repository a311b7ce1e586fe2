"""What the stage shows: a build, the light of one that runs, settings of now relit, or surfaces alone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ropebell.app.builds import LivePicture
from ropebell.app.reading import Shown, with_page
from ropebell.app.relight import Relit
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.renderer import Charted, to_half
from ropebell.build.mover import MoverLight, mover_light
from ropebell.level.scene import index_of
from ropebell.light.probes import Probes

if TYPE_CHECKING:
    from ropebell.app.window import Window


class Picture:
    """Brings levels and light to the stage; nodes of the level and of what is shown are matched by path.

    Attributes:
        live: light of the build that runs, while it is shown. relit: light of the settings of now, while it is shown.
        near: whether the near set is shown: without the direct light of hybrid lights, as pages are read close by.
        fresh: objects without light in the build that is shown. restored: whether the eye stands where it was left.
    """

    def __init__(self, window: Window) -> None:
        self._window = window
        self.live: LivePicture | None = None
        self.relit: Relit | None = None
        self.fresh: tuple[str, ...] = ()
        self.restored = False
        self.near = False
        self._shown: Shown | None = None
        self._live_charted: Charted | None = None

    def look_at(self, shown: Shown | None) -> None:
        """Show a build, or the level without light."""
        w = self._window
        now = w.session.now
        self.live = self._live_charted = None
        self._shown = shown
        self.relit = None
        if shown is not None:
            result = shown.result
            w.stage.show_level(result.level, result.scene, shown.space, shown.charted, shown.vertices)
            near = result.near if self.near else None
            direct = with_page(result.direct, shown.movers)
            if near is not None:
                near = with_page(near, shown.movers)
                w.stage.show_light(near, direct, (to_half(near), shown.half[1]))
            else:
                self.near = False
                w.stage.show_light(with_page(result.total, shown.movers), direct, shown.half)
            if result.noise is not None:
                noise = result.noise
                # Moving things have a page of their own, without noise of their own.
                more = len(with_page(result.total, shown.movers)) - len(noise)
                w.stage.show_noise(np.pad(noise, ((0, more), (0, 0), (0, 0), (0, 0))))
            w.overlays.show_gone(shown.gone)
            self.fresh = shown.fresh
        elif now is not None:
            w.stage.show_level(now.level, now.scene, now.space, None, now.vertices)
            w.overlays.show_gone(np.zeros((0, 3, 3)))
            self.fresh = ()
        if now is not None and not self.restored:
            self.restored = True
            self._restore_view()
        elif shown is not None:
            w.exposure.choose_until_settled(done=True)
        self.mark_chosen(w.session.selection)
        self.apply_hidden()
        w.rope.set_shown(w.session.shown_number)
        w.strip_words.refresh()

    def show_live(self, picture: LivePicture) -> None:
        """Light of the build that runs, as far as it is known."""
        w = self._window
        now = w.session.now
        if now is None or not w.builds.running:
            return
        if self._live_charted is not picture.charted:
            w.stage.show_level(now.level, now.scene, now.space, picture.charted, picture.vertices)
            self._live_charted = picture.charted
        self.live = picture
        w.stage.show_light(picture.pages, None, (picture.half, None))
        # The first picture may be of one lamp: the exposure follows until a build is done.
        w.exposure.choose_until_settled(done=False)
        w.strip_words.refresh()

    def show_relit(self, relit: Relit | None) -> None:
        """Light of the settings of now on the stage, or again what was built."""
        w = self._window
        shown = w.session.shown
        if shown is None or self.live is not None or w.builds.running or w.chart_views.on_stage:
            return
        self.relit = relit
        movers = self._shown.movers if self._shown is not None else None
        source = shown if relit is None else relit
        total, direct = with_page(source.total, movers), with_page(source.direct, movers)
        half = relit.half if relit is not None and total is relit.total else (to_half(total), to_half(direct))
        w.stage.show_light(total, direct, half)
        w.strip_words.refresh()

    def _restore_view(self) -> None:
        """The camera the project was left with, or an overview."""
        w = self._window
        project = w.session.project
        assert project is not None
        view: dict[str, Any] = project.rest.get("view", {})
        try:
            eye = tuple(float(v) for v in view["eye"])
            w.stage.go(Camera((eye[0], eye[1], eye[2]), float(view["yaw"]), float(view["pitch"])))
        except (KeyError, TypeError, ValueError, IndexError):
            w.stage.see_all()
        w.exposure.begin()

    def node_on_stage(self, node: int) -> int:
        """Index of a node of the level in the scene that the stage shows: they are matched by path."""
        w = self._window
        now, shown = w.session.now, w.stage.scene_shown
        if now is None or shown is None or node < 0 or shown is now.scene:
            return node
        return index_of(shown, now.scene.node_names[node])

    def node_of_level(self, node: int) -> int:
        """Index in the level of a node of the scene that the stage shows."""
        w = self._window
        now, shown = w.session.now, w.stage.scene_shown
        if now is None or shown is None or node < 0:
            return -1
        return index_of(now.scene, shown.node_names[node])

    def mark_chosen(self, node: int) -> None:
        """Mark a node of the level and all that are chosen with it."""
        w = self._window
        w.stage.select(self.node_on_stage(node), tuple(self.node_on_stage(n) for n in w.session.chosen))

    def apply_hidden(self) -> None:
        """Hide on the stage what is hidden in the session; nodes are matched by path."""
        w = self._window
        shown, hidden = w.stage.scene_shown, w.session.hidden
        nodes = (
            frozenset(i for i, name in enumerate(shown.node_names) if name in hidden)
            if shown and hidden
            else frozenset()
        )
        w.stage.hide_nodes(nodes)
        w.strip_words.refresh()

    def toggle_movers(self) -> None:
        """Between moving things lit by probes and by what is below them."""
        session = self._window.session
        session.movers_below = not session.movers_below
        if session.shown is not None:
            session.look_at(session.shown_number)
        how = "by the surface below them" if session.movers_below else "by probes, where there are any"
        session.told.emit(f"Moving things are lit {how}.")

    @property
    def built_probes(self) -> Probes | None:
        """The probes of the build that is shown."""
        return self._shown.probes if self._shown is not None else None

    def mover_here(self) -> MoverLight | None:
        """What a moving thing would get where the eye is."""
        shown = self._shown
        if shown is None or shown.surfaces is None:
            return None
        return mover_light(shown.surfaces, shown.probes, np.array(self._window.stage.camera.eye))

    def toggle_near(self) -> None:
        """Between the near and the far set of pages of a build with hybrid lights."""
        shown = self._window.session.shown
        if shown is None or shown.near is None:
            self._window.tell("The build that is shown has no hybrid lights, and so no near set of pages.")
            return
        self.near = not self.near
        self._window.session.look_at(self._window.session.shown_number)

    def show_glow(self) -> None:
        """Materials glow on the stage as the project says they are seen."""
        project = self._window.session.project
        self._window.stage.show_glow(project.brief.looks if project is not None else {})

    def rearranged(self) -> None:
        """The level stands or is divided differently: what the stage shows of it is shown anew."""
        w = self._window
        if w.step == "Charts":
            return  # its own charts follow
        if w.session.shown is not None:
            w.session.look_at(w.session.shown_number)
        else:
            self.look_at(None)
