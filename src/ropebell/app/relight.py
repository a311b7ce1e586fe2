"""Relight: while a lamp, an emitter or the sky is changed, the stage shows the light that a build would give."""

from __future__ import annotations

import threading
from dataclasses import dataclass

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ropebell.app.jobs import Jobs
from ropebell.app.reading import Opened, Shown
from ropebell.app.session import Session
from ropebell.app.stage.renderer import Half, to_half
from ropebell.build.manifest import Manifest
from ropebell.build.recipe import Recipe, get
from ropebell.build.relight import Relight, bouncing
from ropebell.build.stale import AsSet
from ropebell.errors import Stopped
from ropebell.level.model import F32
from ropebell.light.pages import to_pages

# The fields are solved once hands have rested, so that opening and building are not slowed.
READY_AFTER_MS = 700
ALL_BOUNCES = -1
FINISHES = ("finish.denoise", "finish.stitch_seams", "occlusion.enabled")


@dataclass(frozen=True, eq=False)
class Relit:
    """Relit light as the stage shows it.

    Attributes:
        total, direct: (P, H, W, 3) float32 lux. half: the same as the stage draws it.
        what: for the strip.
        seconds: that making it took.
    """

    total: F32
    direct: F32
    half: tuple[Half, Half]
    what: str
    seconds: float


class Relighter(QObject):
    """Keeps the solved fields of the newest build and sums them anew at every change.

    Signals:
        relit: a `Relit`, or None: what was built is what is set.
        ready_changed: fields are there, or no more.
    """

    relit = pyqtSignal(object)
    ready_changed = pyqtSignal()

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._jobs = Jobs(self)
        self._jobs.failed.connect(session.trouble)
        self._fields: Relight | None = None
        self._padding = 2
        self._stop = threading.Event()
        self._shows_relit = False
        self.only_selected = False
        self.bounce = ALL_BOUNCES
        self.enabled = True
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(READY_AFTER_MS)
        self._timer.timeout.connect(self._prepare)
        session.looking_at.connect(self._looked)
        session.rearranged.connect(self._timer.start)
        session.edited.connect(self.update)
        session.selected.connect(lambda _: self.update() if self.only_selected else None)

    @property
    def ready(self) -> bool:
        """Whether changes of light are shown at once."""
        return self._fields is not None

    @property
    def bounces(self) -> int:
        """How many single bounces can be looked at."""
        now = self._session.project
        if self._fields is None or now is None:
            return 0
        return self._fields.bounces if now.recipe.bounces is None else now.recipe.bounces

    @property
    def busy(self) -> bool:
        """Whether something is under way."""
        return self._jobs.busy or self._timer.isActive()

    def _looked(self, shown: Shown | None) -> None:
        self._forget()
        newest = max((k.number for k in self._session.knots if k.outcome.state == "done"), default=0)
        if shown is not None and self._session.shown_number == newest and not shown.fresh and self.enabled:
            self._timer.start()

    def _forget(self) -> None:
        self._stop.set()
        self._jobs.forget("fields")
        self._jobs.forget("relit")
        self._timer.stop()
        self._shows_relit = False
        if self._fields is not None:
            self._fields = None
            self.ready_changed.emit()

    def pause(self) -> None:
        """Make room for a build."""
        self._forget()

    def _prepare(self) -> None:
        now, shown = self._session.now, self._session.shown
        if now is None or shown is None or not self.enabled:
            return
        self._stop = stop = threading.Event()

        def tick(_share: float) -> None:
            if stop.is_set():
                raise Stopped()

        def make() -> Relight | None:
            try:
                return Relight.of(shown.manifest, now.gathered, now.project.cache, tick)
            except Stopped:
                return None

        def receive(found: Relight | None) -> None:
            self._fields = found
            self._padding = now.project.recipe.padding
            self.ready_changed.emit()
            self.update()

        self._jobs.start("fields", make, receive)

    def set_only_selected(self, on: bool) -> None:
        """Only the selected lights give light, or all."""
        self.only_selected = on
        self.update()

    def set_bounce(self, bounce: int) -> None:
        """Show one bounce alone, or `ALL_BOUNCES`."""
        self.bounce = bounce
        self.update()

    @property
    def looks_special(self) -> bool:
        """Whether something else than the whole light is asked for."""
        return self.only_selected or self.bounce != ALL_BOUNCES

    def update(self) -> None:
        """Show the light of the settings of now."""
        now, fields, shown = self._session.now, self._fields, self._session.shown
        if now is None or fields is None or shown is None:
            return
        if not self.looks_special and _as_built(now, shown.manifest, fields):
            if self._shows_relit:
                self._shows_relit = False
                self._jobs.forget("relit")
                self.relit.emit(None)
            return
        self._shows_relit = True
        only = self._wanted(now) if self.only_selected else None
        bounce = self.bounce
        padding = self._padding

        def make() -> Relit:
            return _relit(fields, now, only, bounce, padding, shown.manifest.recipe)

        self._jobs.start("relit", make, self.relit.emit)

    def _wanted(self, now: Opened) -> frozenset[str]:
        """The selected lights, and the emitters of selected objects."""
        paths = self._session.chosen_paths
        emitters = {e.name for e in now.baking.emitters if e.name.split(":")[0] in paths}
        return frozenset(paths) | emitters

    def close(self) -> None:
        """End the background work."""
        self._forget()
        self._jobs.close()


def _as_built(now: Opened, manifest: Manifest, fields: Relight) -> bool:
    """Whether every light, emitter, colour, bounce and the sky are set as they were built."""
    as_set, built = AsSet.now(now.baking, now.project), AsSet.built(manifest)
    same_surfaces = fields.surfaces == manifest.digests.surfaces
    same_bounces = same_surfaces and bouncing(now.project.recipe) == bouncing(manifest.recipe)
    same_light = (as_set.lights, as_set.emitters, as_set.sky) == (built.lights, built.emitters, built.sky)
    return same_bounces and same_light


def _relit(
    fields: Relight, now: Opened, only: frozenset[str] | None, bounce: int, padding: int, shown: Recipe
) -> Relit:
    import time

    began = time.perf_counter()
    strengths = fields.strengths(now.baking, now.project.sky, only)
    thrown = fields.thrown(now.baking, now.project.sky, only)
    recipe = now.project.recipe
    if bounce >= 0:
        light = fields.one_bounce(strengths, thrown, bounce, now.baking, recipe)
    elif fields.bounces_alike(recipe):
        light = fields.light(strengths, thrown)
    else:
        light, _ = fields.bounced(strengths, thrown, now.baking, recipe)
    total = to_pages(light.total, fields.texels, fields.target, max(padding, 1))
    direct = to_pages(light.direct, fields.texels, fields.target, max(padding, 1))
    parts = ["only the selected" if only is not None else "", f"bounce {bounce} alone" if bounce >= 0 else ""]
    finished = any(get(shown, key) for key in FINISHES)
    plain = "relit from stored rays, before finishing" if finished else "relit from stored rays"
    what = ", ".join(p for p in parts if p) or plain
    seconds = time.perf_counter() - began
    return Relit(total, direct, (to_half(total), to_half(direct)), what, seconds)
