"""Relight: while a lamp, an emitter or the sky is changed, the stage shows the light that a build would give."""

from __future__ import annotations

import threading
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.jobs import Jobs
from ropebell.app.reading import Opened, Shown
from ropebell.app.relit import ALL_BOUNCES, Asked, Relit
from ropebell.app.state import State
from ropebell.build.manifest import LightFacts, Manifest
from ropebell.build.relight import Relight, RelitLight, bouncing
from ropebell.errors import Stopped
from ropebell.level.model import I32
from ropebell.light.denoise import load_filter

# The fields are solved once hands have rested, so that opening and building are not slowed.
READY_AFTER_MS = 700
# Hands rest; less, and light would be finished between two moves of one drag.
REST_MS = 120


class Relighter(QObject):
    """Keeps the solved fields of the build that is looked at, and sums them anew at every change.

    The newest build follows the settings of now; an older one stays as it was built, but can be looked at bounce by
    bounce and light by light like any other.

    Attributes:
        trouble: why the light cannot follow, for the strip; empty where it can, or where that is not known yet.

    Signals:
        relit: a `Relit`, or None: what was built is what is set, or stored rays cannot show what is set.
        ready_changed: fields are there, or no more.
    """

    relit = pyqtSignal(object)
    ready_changed = pyqtSignal()

    def __init__(self, state: State, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._state = state
        self._jobs = Jobs(self)
        self._jobs.failed.connect(self._failed)
        self._shown: Shown | None = None
        self._fields: Relight | None = None
        self._on_level: Relight | None = None
        self._same_ground = True
        self._places: tuple[object, ...] = ()
        self._stop = threading.Event()
        self._shows_relit = False
        self.only_selected = self.unfinished = False
        self.bounce = ALL_BOUNCES
        self.enabled = True
        self.trouble = ""
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(READY_AFTER_MS)
        self._timer.timeout.connect(self._prepare)
        # Triangles of the stage's picture that are in it; whoever has the stage says so.
        self.seen: Callable[[], I32] = lambda: np.zeros(0, np.int32)
        self._next: Asked | None = None
        self._asked: Asked | None = None
        self._solved: tuple[Asked, RelitLight] | None = None
        self._summing = False
        self._moved = threading.Event()
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self._finish)
        state.rope.looking_at.connect(self._looked)
        for signal in (state.level.rearranged, state.level.recolored, state.document.edited):
            signal.connect(self._level_changed)
        state.selection.selected.connect(lambda _: self.update() if self.only_selected else None)

    @property
    def ready(self) -> bool:
        """Whether changes of light are shown at once."""
        return self._fields is not None

    @property
    def bounces(self) -> int:
        """How many single bounces can be looked at."""
        return self._fields.bounces if self._fields is not None else 0

    @property
    def busy(self) -> bool:
        """Whether something is under way."""
        return self._jobs.busy or self._timer.isActive() or self._rest.isActive()

    @property
    def why_not(self) -> str:
        """Why light cannot be looked at by bounce or lamp now, as a sentence; empty where it can."""
        if self._fields is not None:
            return ""
        if self._shown is None:
            return "There is no build to look at by bounce or lamp. Build, or click a finished knot."
        if self.trouble:
            return self.trouble
        return "The stored rays of this build are being got ready; try again in a moment."

    def _looked(self, shown: Shown | None) -> None:
        same = shown is not None and self._shown is not None and shown.result.folder == self._shown.result.folder
        if same and self._fields is not None:
            self._shown = shown
            self._level_changed()
            return
        self._forget()
        self._shown = shown
        if shown is not None and self.enabled:
            self._timer.start()

    def _forget(self) -> None:
        self._stop.set()
        self._no_sum()
        self._jobs.forget("fields")
        self._timer.stop()
        self._shows_relit, self.trouble = False, ""
        self._on_level, self._places = None, ()
        if self._fields is not None:
            self._fields = None
            self.ready_changed.emit()

    def pause(self) -> None:
        """Make room for a build."""
        self._forget()

    def _failed(self, sentence: str) -> None:
        self.trouble, self._summing, self._asked = sentence, False, None
        self.ready_changed.emit()

    def _prepare(self) -> None:
        shown = self._shown
        if shown is None or not self.enabled:
            return
        self._stop = stop = threading.Event()

        def tick(_share: float) -> None:
            if stop.is_set():
                raise Stopped()

        def receive(found: Relight) -> None:
            self._fields, self.trouble = found, ""
            self.ready_changed.emit()
            self._level_changed()

        def prepared() -> Relight:
            found = Relight.of(shown.result.manifest, tick)
            if found.finishes:
                load_filter()
            return found

        self._jobs.start("fields", prepared, receive)

    def _level_changed(self) -> None:
        """Find out what the fields still say of the level as it is now."""
        now, fields = self._state.level.now, self._fields
        if now is None or fields is None:
            return

        key = _places(now)
        if key == self._places:
            self.update()
            return

        def find() -> tuple[Relight | None, bool]:
            found = fields.on(now.gathered)
            then = {*fields.manifest.lights, *fields.manifest.emitters}
            same = found is not None and not found.moved and found.throws is fields.throws
            names = {x.name for x in now.baking.lights} | {e.name for e in now.baking.emitters}
            return found, same and then == names

        def receive(answer: tuple[Relight | None, bool]) -> None:
            self._on_level, self._same_ground = answer
            self._places = key
            self.update()

        self._jobs.start("on level", find, receive)

    def set_only_selected(self, on: bool) -> None:
        """Only the selected lights give light, or all."""
        self.only_selected = on
        self.update()

    def set_bounce(self, bounce: int) -> None:
        """Show one bounce alone, or `ALL_BOUNCES`."""
        self.bounce = bounce
        self.update()

    def set_unfinished(self, on: bool) -> None:
        """Show the light that was built as it was before it was finished, beside it as it is."""
        if on != self.unfinished:
            self.unfinished = on
            self.update()

    @property
    def looks_special(self) -> bool:
        """Whether something else than the whole light is asked for."""
        return self.only_selected or self.unfinished or self.bounce != ALL_BOUNCES

    @property
    def _follows(self) -> bool:
        """Whether the build that is looked at is the newest, which the settings of now are about."""
        finished = self._state.rope.finished
        return bool(finished) and self._state.rope.shown_number == finished[-1]

    def update(self) -> None:
        """Show the light of the settings of now, or what is asked for of what was built."""
        now, fields, shown = self._state.level.now, self._fields, self._shown
        if now is None or fields is None or shown is None:
            return
        if not self._places:
            return  # what the fields say of the level is about to be known
        follows = self._follows and not self.unfinished and not (self._same_ground and _as_built(now, fields.manifest))
        self.trouble = self._cannot_follow() if follows else ""
        if self.trouble:
            follows = False
        if not follows and not self.looks_special:
            self._back()
            return
        used = self._on_level if follows and self._on_level is not None else fields
        only = self._wanted(now, fields) if self.only_selected else None
        settings = used.as_set(now.baking, now.project.sky, only) if follows else used.as_built(only)
        followed = now.project if follows else None
        asked = Asked(used, shown, *settings, self.bounce, only is not None, followed, self.unfinished)
        self._shows_relit = True
        if self._asked is not None and asked.is_alike(self._asked):
            return  # an edit is told of more than once
        self._hands_move()
        self._rest.start()
        self._next = self._asked = asked
        if not self._summing:
            self._sum_next()

    def _sum_next(self) -> None:
        """Sum the newest that is asked for. While hands move, each sum is shown before the next is begun: a newer wish
        does not drop it, or nothing would be seen until they rest."""
        asked, self._next = self._next, None
        self._summing = asked is not None
        if asked is None:
            return

        def receive(found: tuple[Relit, RelitLight]) -> None:
            relit, light = found
            self.relit.emit(relit)
            self._solved = asked, light
            self._sum_next()
            if not self._summing and not self._rest.isActive():
                self._finish()

        self._jobs.start("relit", asked.relit, receive)

    def _hands_move(self) -> None:
        """What is being finished is no more what is asked for."""
        self._rest.stop()
        self._solved = self._next = None
        self._moved.set()
        self._jobs.forget("finish")

    def _no_sum(self) -> None:
        """Nothing is asked for any more."""
        self._hands_move()
        self._jobs.forget("relit")
        self._summing, self._asked = False, None

    def _finish(self) -> None:
        """Hands rest: finish the light, first where one looks."""
        if self._summing or self._solved is None or not self._solved[0].finishes:
            return
        (asked, light), self._moved = self._solved, threading.Event()
        moved, charts = self._moved, asked.charts(self.seen())

        def tick(_share: float) -> None:
            if moved.is_set():
                raise Stopped()

        def receive(relit: Relit) -> None:
            self.relit.emit(relit)
            self._jobs.start("finish", lambda: asked.finished(light, tick), self.relit.emit)

        if charts.any():
            self._jobs.start("finish", lambda: asked.finished(light, tick, charts), receive)
        else:
            self._jobs.start("finish", lambda: asked.finished(light, tick), self.relit.emit)

    def _back(self) -> None:
        self._no_sum()
        if self._shows_relit:
            self._shows_relit = False
            self.relit.emit(None)
        else:
            self.ready_changed.emit()

    def _cannot_follow(self) -> str:
        """What stored rays cannot show of the settings of now, empty where they can show all of it."""
        if self._on_level is None:
            return "the surfaces are others than were built"
        if self._on_level.moved:
            names = ", ".join(name.rsplit("/", 1)[-1] for name in self._on_level.moved[:3])
            more = f" and {len(self._on_level.moved) - 3} more" if len(self._on_level.moved) > 3 else ""
            return f"{names}{more} moved or new"
        return ""

    def _wanted(self, now: Opened, fields: Relight) -> frozenset[str]:
        """The selected lights, and the emitters of selected objects."""
        paths = self._state.selection.paths
        return frozenset(paths) | {n for n in fields.manifest.emitters if n.split(":")[0] in paths}

    def close(self) -> None:
        """End the background work."""
        self._forget()
        self._jobs.close()


def _as_built(now: Opened, manifest: Manifest) -> bool:
    """Whether every light, emitter, bounce and the sky are set as they were built, on the same ground."""
    lights = {x.name: LightFacts.model_validate(x.setting) for x in now.baking.lights}
    emitters = {e.name: tuple(e.radiance.tolist()) for e in now.baking.emitters}
    same_light = (lights, emitters, now.project.sky) == (manifest.lights, manifest.emitters, manifest.sky)
    return same_light and bouncing(now.project.recipe) == bouncing(manifest.recipe)


def _places(now: Opened) -> tuple[object, ...]:
    """What a level's stored rays depend on, quickly compared: while this stays, only strengths and colours changed."""
    lights = [
        (x.name, x.kind, x.position.tobytes(), x.direction.tobytes(), x.reach, x.inner_cone, x.outer_cone, x.size,
         x.width, x.height, x.roll) for x in now.baking.lights
    ]  # fmt: skip
    emitters = [(e.name, len(e.triangles), e.picture is None) for e in now.baking.emitters]
    return id(now.scene.corners), id(now.source), now.project.recipe.density, *lights, *emitters
