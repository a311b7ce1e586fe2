"""What the frame itself can do, as commands, with their keys and menus; steps add their own."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtGui import QAction, QKeySequence, QShortcut
from PyQt6.QtWidgets import QInputDialog, QMenu, QWidget

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.exposure import Exposure
from ropebell.app.frame import TopBar
from ropebell.app.picture import Picture
from ropebell.app.places import Places
from ropebell.app.relit import ALL_BOUNCES
from ropebell.app.strip import Strip
from ropebell.app.variants import Variants
from ropebell.app.views import View
from ropebell.app.words import told_apart

# Single bounces that are stepped through; later ones are too dark to look at.
MOST_LOOKS = 6


def stage_commands(desk: Desk, picture: Picture, exposure: Exposure, views: tuple[View, ...]) -> list[Command]:
    """Looking at the picture, in every step."""
    stage, showing = desk.stage, desk.showing
    opened = lambda: desk.level.now is not None  # noqa: E731 - a condition, not a function of its own
    chosen = lambda: bool(desk.selection.chosen)  # noqa: E731
    lit = lambda: stage.has_light  # noqa: E731
    return [
        Command("stage.focus", "Go to the selection", lambda: _focus(desk, picture), "F", chosen),
        Command("stage.all", "See the whole level", stage.eye.see_all, "Home", opened),
        Command("stage.plan", "Plan view or perspective", stage.eye.toggle_plan, "P", opened),
        Command("stage.front", "Front view", partial(stage.eye.toggle_plan, "front"), "", opened),
        Command("stage.side", "Side view", partial(stage.eye.toggle_plan, "side"), "", opened),
        Command("stage.walk", "Walk at eye height, or fly", lambda: _walk(desk, picture), "G", opened),
        Command("stage.texels", "Show smooth or by texel", lambda: _by_texel(desk, picture), "T", opened),
        Command("stage.expose", "Expose for what is in the picture", exposure.reset, "X", lit),
        Command("stage.follow", "Exposure follows the view, or is held", exposure.toggle_follow, "Shift+X"),
        Command("stage.brighter", "Brighter by half a stop", partial(exposure.add_stops, 0.5), "+"),
        Command("stage.darker", "Darker by half a stop", partial(exposure.add_stops, -0.5), "-"),
        Command("stage.sky", "Sky behind the level, or none", lambda: _sky(desk), "", lit),
        Command("stage.halo", "Glow round what shines, or none", lambda: _halo(desk), "", lit),
        Command("stage.near", "Near or far set of pages", picture.toggle_near, "", opened),
        Command("stage.movers", "Moving things by probes or by what is below", picture.toggle_movers, "", opened),
        Command("light.only", "Only the selected lights, or all", lambda: _only_selected(desk), "O", opened),
        Command("light.bounce", "One bounce after the other", lambda: _next_bounce(desk), "B", opened),
        Command("show.hide", "Hide the selection", showing.hide_selected, "Ctrl+H", chosen),
        Command("show.only", "Show the selection alone", showing.only_selected, "Ctrl+J", chosen),
        Command("show.all", "Show everything", showing.everything, "Ctrl+Shift+H", opened),
        Command("show.lights", "Show lights and emitters alone", showing.only_lights, "", opened),
        Command("show.unlit", "Show all but lights and emitters", showing.all_but_lights, "", opened),
        *(
            Command(f"view.{v.id}", f"View: {v.title.lower()}", partial(desk.show_view, v), v.key, opened)
            for v in views
        ),
    ]


def _sky(desk: Desk) -> None:
    desk.stage.look.sky = not desk.stage.look.sky
    desk.stage.redraw()


def _halo(desk: Desk) -> None:
    desk.stage.look.halo = not desk.stage.look.halo
    desk.stage.redraw()


def _focus(desk: Desk, picture: Picture) -> None:
    desk.stage.eye.focus_on(picture.node_on_stage(desk.selection.node))


def _by_texel(desk: Desk, picture: Picture) -> None:
    desk.stage.look.by_texel = not desk.stage.look.by_texel
    desk.stage.redraw()
    picture.changed.emit()


def _walk(desk: Desk, picture: Picture) -> None:
    stage = desk.stage
    if not stage.eye.walking:
        floor = stage.eye.floor_below()
        if floor is None:
            desk.tell("There is no floor below to walk on. Move over a floor and try again.", "place")
            return
        stage.eye.stand_at(floor)
    desk.telling.over("place")
    stage.eye.walking = not stage.eye.walking
    picture.changed.emit()


def _can_relight(desk: Desk) -> bool:
    """Whether stored rays answer; tells why not."""
    why_not = desk.relighter.why_not
    if why_not:
        desk.tell(why_not, "relight")
    else:
        desk.telling.over("relight")
    return not why_not


def _only_selected(desk: Desk) -> None:
    if _can_relight(desk):
        desk.relighter.set_only_selected(not desk.relighter.only_selected)


def _next_bounce(desk: Desk) -> None:
    """Direct light alone, then one bounce after the other, then all again."""
    if not _can_relight(desk):
        return
    relighter = desk.relighter
    bounce = relighter.bounce + 1
    relighter.set_bounce(bounce if bounce <= min(relighter.bounces, MOST_LOOKS) else ALL_BOUNCES)


class Menus:
    """Fills the menus of the frame.

    Args:
        window: owns them, and the shortcuts.
    """

    def __init__(
        self, window: QWidget, desk: Desk, top: TopBar, strip: Strip, views: tuple[View, ...], places: Places,
        variants: Variants,
    ) -> None:  # fmt: skip
        self._window, self._desk, self._top, self._strip = window, desk, top, strip
        self._places, self._variants = places, variants
        for command in desk.commands.all():
            if command.key:
                shortcut = QShortcut(QKeySequence(command.key), window)
                shortcut.activated.connect(lambda command=command: desk.commands.run(command.id))
        self._menu = QMenu(window)
        top.menu_button.setMenu(self._menu)
        self._menu.aboutToShow.connect(self._fill_main)
        light = [f"view.{v.id}" for v in views] + ["light.only", "light.bounce"]
        for button, commands in (
            (strip.view, light),
            (strip.exposure, ("stage.brighter", "stage.darker", "stage.expose", "stage.follow")),
            (strip.filter, ("stage.texels",)),
            (strip.hidden, ("show.all", "show.only", "show.hide", "show.listed", "show.lights", "show.unlit")),
        ):
            for command_id in commands:
                self._add(button.menu(), command_id)
        self._place_menu = self._sub(strip.eye.menu(), "Places", self._fill_places)
        self._group_menu = self._sub(strip.hidden.menu(), "Groups", self._fill_groups)
        for command_id in ("stage.plan", "stage.front", "stage.side", "stage.walk", "stage.all", "stage.focus"):
            self._add(strip.eye.menu(), command_id)

    @staticmethod
    def _sub(menu: QMenu | None, title: str, fill: object) -> QMenu:
        assert menu is not None
        inner = menu.addMenu(title)
        assert inner is not None
        menu.aboutToShow.connect(fill)  # type: ignore[arg-type]
        return inner

    def _add(self, menu: QMenu | None, command_id: str) -> QAction:
        assert menu is not None
        command = self._desk.commands.get(command_id)
        title = command.title.removeprefix("View: ")
        action = QAction(title[0].upper() + title[1:], menu)
        # Shown beside the title only: the window's own shortcut acts.
        action.setText(f"{action.text()}\t{QKeySequence(command.key).toString()}")
        action.triggered.connect(lambda: self._desk.commands.run(command_id))
        menu.addAction(action)
        return action

    def _add_each(self, menu: QMenu | None, names: list[str], word: str, act: object) -> None:
        for name in names if menu is not None else ():
            action = menu.addAction(f"{word}{name}") if menu is not None else None
            if action is not None:
                action.triggered.connect(lambda _=False, name=name: act(name))  # type: ignore[operator]

    def _fill_places(self) -> None:
        self._place_menu.clear()
        self._add(self._place_menu, "place.keep")
        names = self._places.names()
        self._add_each(self._place_menu, names, "", self._places.go)
        if names:
            self._add_each(self._place_menu.addMenu("Drop a place"), names, "", self._places.drop)

    def _fill_groups(self) -> None:
        self._group_menu.clear()
        showing = self._desk.showing
        for group in showing.groups():
            action = self._group_menu.addAction(group)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(showing.is_shown(group))
                action.triggered.connect(lambda _=False, group=group: showing.toggle_group(group))

    def _fill_main(self) -> None:
        desk, menu = self._desk, self._menu
        menu.clear()
        self._add(menu, "file.open")
        recent = [Path(path) for path in desk.preferences.recent[:6]]
        for path, name in zip(recent, told_apart(recent)):
            action = menu.addAction(f"    {name}")
            if action is not None:
                action.setToolTip(str(path))
                action.triggered.connect(lambda _=False, path=path: desk.open_path(path))
        variants = menu.addMenu("Variants")
        self._add(variants, "variant.keep")
        self._add_each(variants, self._variants.names(), "Go to ", self._variants.go)
        self._add_each(variants, self._variants.names(), "Drop ", self._variants.drop)
        groups = (
            ("file.reload",), ("edit.undo", "edit.redo"), ("build.start", "build.stop"), ("rope.older", "rope.newer"),
            ("window.bench", "window.look", "window.keys", "window.quit"),
        )  # fmt: skip
        undo = desk.document.undo
        for group in groups:
            menu.addSeparator()
            for command_id in group:
                action = self._add(menu, command_id)
                action.setEnabled(desk.commands.get(command_id).enabled())
                if command_id == "edit.undo" and undo.canUndo():
                    action.setText(f"Undo: {undo.undoText()}\tCtrl+Z")
                if command_id == "edit.redo" and undo.canRedo():
                    action.setText(f"Redo: {undo.redoText()}\tCtrl+Shift+Z")

    def ask_variant(self) -> None:
        """Ask for a name and keep what is decided now as a variant."""
        name, done = QInputDialog.getText(self._window, "Keep a variant", "Name of the variant")
        if done and name.strip():
            self._variants.keep(name.strip())
