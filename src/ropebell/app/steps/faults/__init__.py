"""The Faults step: what is wrong with a build's light, where, why, and the least that mends it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import cast

import numpy as np
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QWidget

from ropebell.account.texel import LightAccount
from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.places import Place, Places, cameras
from ropebell.app.stage.overlay import Line, Mark, Overlay
from ropebell.app.stage.picture import Spot
from ropebell.app.steps.faults.account_view import MOST_GIVING
from ropebell.app.steps.faults.bench import FaultsBench
from ropebell.app.steps.faults.scale import LightScale
from ropebell.app.steps.faults.sheet import ContactSheet
from ropebell.app.steps.faults.state import FaultsState
from ropebell.app.steps.faults.views import BACKS, CLIPPED, CLOSED, FINISHING, LUX
from ropebell.app.steps.step import Step
from ropebell.app.views import View
from ropebell.app.walk import Station
from ropebell.build.sighting import LEAK, ways_out
from ropebell.checks.subject import short
from ropebell.faults.over_builds import known_key
from ropebell.faults.run import TITLES
from ropebell.level.finding import Finding
from ropebell.level.model import F64

# So many are marked in the picture; ways to lights that give most are drawn, or are kept out.
MOST_MARKS, MOST_WAYS = 60, 5


class FaultsStep(Step):
    """Look, find, explain."""

    id, title = "faults", "Faults"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.state = FaultsState(desk)
        self._spot: Spot | None = None
        self._sheet: ContactSheet | None = None
        self._scale: LightScale | None = None
        self._as_sheet = False
        self._place, self._bend = -1, -1
        self._awaited: tuple[Place, int] | None = None
        self.state.changed.connect(self._choose_awaited)
        self.state.changed.connect(self.changed)
        self.state.accounted.connect(self.changed)
        # The picture is put on the desk after the steps.
        desk.rope.looking_at.connect(lambda _: QTimer.singleShot(0, self._look_around))

    def make_bench(self) -> FaultsBench:
        bench = FaultsBench(self.desk, self.state)
        bench.go_to.connect(self.desk.go_to_finding)
        bench.keep_spot.connect(self._keep_spot)
        bench.sheet.clicked.connect(self.toggle_sheet)
        self.desk.stage.hands.pointed.connect(self._pointed)
        self.desk.stage.hands.picked.connect(self._picked)
        return bench

    @property
    def faults_bench(self) -> FaultsBench:
        """The panel."""
        return cast(FaultsBench, self.bench)

    def canvas(self) -> QWidget | None:
        if not self._as_sheet:
            return None
        if self._sheet is None:
            self._sheet = ContactSheet(self.desk)
            self._sheet.sheet.chosen.connect(self._stand_there)
        self._sheet.refresh()
        return self._sheet

    @property
    def sheet_complete(self) -> bool:
        """Whether the contact sheet is shown with all its pictures."""
        return self._sheet is not None and self._sheet.complete

    def toggle_sheet(self) -> None:
        """Show trouble spots over builds in the place of the stage, or the stage again."""
        self._as_sheet = not (self._as_sheet and self.active)
        self.desk.go_to_step(self.id)
        self.faults_bench.sheet.setChecked(self._as_sheet)
        self.changed.emit()

    def _stand_there(self, number: int, name: str) -> None:
        """From a picture of the sheet to the stage: that build, from that place."""
        self._as_sheet = False
        self.faults_bench.sheet.setChecked(False)
        self.changed.emit()
        self.desk.rope.look_at(number)
        self._places().go(name)
        # Its fault is chosen once it is known what is found in that build.
        kept = [p for p in cameras(self.desk.document.project) if p.name == name]
        self._awaited = (kept[0], number) if kept else None
        self._choose_awaited()

    def _choose_awaited(self) -> None:
        if self._awaited is not None and self.state.number == self._awaited[1]:
            place, self._awaited = self._awaited[0], None
            self._choose_of(place)

    def _places(self) -> Places:
        return Places(self.desk, self.desk.stage, lambda: "")

    def _next_spot(self) -> None:
        """Stand at the next trouble spot, in the order in which they were kept."""
        kept = cameras(self.desk.document.project)
        if kept:
            self._place = (self._place + 1) % len(kept)
            place = kept[self._place]
            self.desk.stage.go(place.camera)
            note = f": {place.note}" if place.note else ""
            gone = "" if self._choose_of(place) or not place.fault else " It is not found in this build."
            self.desk.telling.news(f"{self._place + 1} of {len(kept)}, {place.name}{note}{gone}")

    def _choose_of(self, place: Place) -> bool:
        """Choose the fault that a trouble spot was kept for, if the build that is looked at has it."""
        found = next((f for f, _ in self.state.seen.found if place.shows(f)), None)
        if found is not None:
            self.state.choose(found)
        return found is not None

    def _keep_spot(self, finding: Finding) -> None:
        """Keep the view of now as a trouble spot of a finding, or stand at the one that it has."""
        place = self.state.spot_of(finding)
        if place is not None:
            self.desk.stage.go(place.camera)
            return
        title = TITLES.get(finding.kind, finding.kind).lower()
        name, note = f"{short(finding.object)}, {title}", f"{title}: {finding.remedy.lower()}?"
        self._places().keep(name, note, known_key(finding))

    def commands(self) -> Sequence[Command]:
        def any_found() -> bool:
            return bool(self.state.seen.found)

        def lit() -> bool:
            return self.desk.stage.has_light

        return (
            Command("faults.next", "Next fault", lambda: self._step(1), "Ctrl+Down", any_found),
            Command("faults.previous", "Fault before", lambda: self._step(-1), "Ctrl+Up", any_found),
            Command("faults.spot", "Stand at the next trouble spot", self._next_spot, "Ctrl+Shift+Down", lambda: (
                bool(cameras(self.desk.document.project))
            )),
            Command("faults.sheet", "Trouble spots over builds, or the stage", self.toggle_sheet, "Ctrl+Shift+T"),
            Command("faults.way_out", "Follow the way out", self._fly_out, "Ctrl+Shift+L", lambda: (
                self._trail() is not None
            )),
            Command("faults.spread", "Histogram of light, or none", lambda: self.scale.toggle(), "Ctrl+Shift+G", lit),
            Command("faults.account", "Why it looks so here", self._account_here, "Ctrl+E", lambda: (
                self.desk.rope.shown is not None
            )),
        )  # fmt: skip

    def views(self) -> Sequence[View]:
        return (LUX, CLIPPED, CLOSED, BACKS, FINISHING)

    def view_shown(self, view: View) -> None:
        relighter = self.desk.relighter
        relighter.set_unfinished(view is FINISHING)
        if view is FINISHING and relighter.why_not:
            self.desk.tell(relighter.why_not, "finishing")
        else:
            self.desk.telling.over("finishing")
        if view in (LUX, CLIPPED) or self._scale is not None:
            self.scale.view_shown()
        self._look_around()

    @property
    def scale(self) -> LightScale:
        """The scale in the corner of the stage, made when it is first needed."""
        if self._scale is None:
            self._scale = LightScale(self.desk)
        return self._scale

    def _look_around(self) -> None:
        if "around" in self.desk.stage.look.view.needs:
            self.state.look_around()

    def overlay(self) -> Overlay:
        state = self.state
        marks = []
        for finding, known in state.seen.found[:MOST_MARKS]:
            if finding.place is not None:
                strong = finding == state.chosen
                marks.append(Mark(
                    finding.place, f"fault {finding.kind}", "", -1, hollow=known == "known", strong=strong,
                    ringed=strong, through=strong,
                ))  # fmt: skip
        return Overlay((*self._from_surfaces(), *self._ways(), *self._way_out()), tuple(marks))

    def _trail(self) -> F64 | None:
        """(n, 3) the way out by the leak that is looked at."""
        chosen, shown = self.state.chosen, self.desk.rope.shown
        if chosen is None or chosen.kind != LEAK or chosen.place is None or shown is None:
            return None
        ways = ways_out(shown.folder)
        far = [float(np.linalg.norm(place - chosen.place)) for place, _ in ways]
        return ways[int(np.argmin(far))][1] if ways else None

    def _way_out(self) -> list[Line]:
        trail = self._trail()
        return [] if trail is None else [Line(trail, "accent", 2.4)]

    def _fly_out(self) -> None:
        """Stand at the next bend of the way out, looking along it; after the last, at the first again."""
        trail = self._trail()
        if trail is None:
            return
        self._bend = (self._bend + 1) % (len(trail) - 1)
        x, y, z = (float(v) for v in trail[self._bend])
        way = trail[self._bend + 1] - trail[self._bend]
        flat = float(np.hypot(way[0], way[2]))
        yaw, pitch = float(np.arctan2(way[0], -way[2])), float(np.arctan2(way[1], flat))
        self.desk.stage.go(replace(self.desk.stage.camera, eye=(x, y, z), yaw=yaw, pitch=pitch, plan=False))
        self.desk.telling.news(f"Bend {self._bend + 1} of {len(trail) - 1} on the way out.")

    def _ways(self) -> list[Line]:
        """From the spot to the lights that give it most, and to those that something keeps out."""
        account, now = self.state.account, self.desk.level.now
        if account is None or now is None:
            return []
        start = account.spot.position
        place = {light.name: light for light in now.scene.lights}
        lines: list[Line] = []
        for light in sorted(account.lights, key=_weight)[: 3 * MOST_WAYS]:
            placed = place.get(light.name)
            way = light.way
            if placed is None or way is None or not way.in_reach or not way.facing or len(lines) >= MOST_WAYS:
                continue
            if placed.kind == "directional":
                end = start - np.asarray(placed.direction) * 0.25 * self._extent()
            else:
                end = np.asarray(placed.position)
            lines.append(
                Line(np.stack([start, end]), "accent" if way.open > 0 else "second", 1.6, dashed=way.open < 0.5)
            )
        return lines

    def _from_surfaces(self) -> list[Line]:
        """From the spot to where its rays end on the surfaces that give it most, pairs of points."""
        account = self.state.account
        if account is None or not account.giving:
            return []
        start = account.spot.position
        ends = np.concatenate([g.places for g in account.giving[:MOST_GIVING]])
        pairs = np.stack([np.broadcast_to(start, ends.shape), ends], axis=1).reshape(-1, 3)
        return [Line(pairs, "second", 0.8, pairs=True)]

    def _extent(self) -> float:
        picture = self.desk.stage.picture
        return picture.space.extent if picture is not None else 1.0

    def show_finding(self, finding: Finding) -> bool:
        return True

    def enter(self) -> None:
        super().enter()
        self.state.refresh()

    def station(self) -> Station:
        words = "Every build is looked through. Choose a fault, or click any spot: it gives account of its light."
        return Station(6, words, lambda: self.desk.go_to_step(self.id))

    def _step(self, by: int) -> None:
        """Look at the next finding in the list's order."""
        self.desk.go_to_step(self.id)
        found = [f for f, state in self.state.seen.found if state != "known"]
        if not found:
            return
        chosen = self.state.chosen
        at = (found.index(chosen) + by) % len(found) if chosen in found else 0 if by > 0 else len(found) - 1
        self.state.choose(found[at])
        self.desk.go_to_finding(found[at])

    def _pointed(self, spot: Spot | None) -> None:
        self._spot = spot

    def _picked(self, _node: int) -> None:
        if self.active:
            self._account_here()

    def _account_here(self) -> None:
        spot, picture = self._spot, self.desk.stage.picture
        if spot is None or picture is None or self.desk.rope.shown is None:
            return
        self.desk.go_to_step(self.id)
        self.state.chosen = None
        x, y, z = (float(v) for v in spot.position)
        normal = picture.scene.face_normals[spot.triangle].astype(np.float64) if spot.triangle >= 0 else None
        self.state.ask((x, y, z), normal)
        self.state.changed.emit()


def _weight(light: LightAccount) -> float:
    return -float((light.direct + light.bounced).sum())
