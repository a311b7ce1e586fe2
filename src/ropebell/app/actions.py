"""Everything the window can do, as commands, with their keys and menus."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence, QShortcut
from PyQt6.QtWidgets import QMenu

from ropebell.app.commands import Command
from ropebell.app.stage.renderer import VIEWS

if TYPE_CHECKING:
    from ropebell.app.window import Window

STEPS = ("Level", "Charts", "Lights", "Recipe", "Build", "Faults", "Hunt", "Compare", "Deliver")


class Actions:
    """Registers the window's commands.

    Args:
        window: whose methods they call.
    """

    def __init__(self, window: Window) -> None:
        self._window = window

    def register(self) -> None:
        """Add every command with its key, and fill the menus."""
        opened = lambda: self._window.session.now is not None  # noqa: E731 - a condition, not a function of its own
        chosen = lambda: bool(self._window.session.chosen)  # noqa: E731
        relights = lambda: self._window.relighter.ready  # noqa: E731
        lit = lambda: self._window.stage.has_light  # noqa: E731
        self._window.commands.add(
            Command("file.open", "Open a level or project", self._window.ask_and_open, "Ctrl+O"),
            Command("file.sample", "Open the sample level", self._window.open_sample),
            Command("file.reload", "Read the level again", self._window.reload, "Ctrl+R", opened),
            Command("edit.undo", "Undo", self._window.session.undo.undo, "Ctrl+Z", self._window.session.undo.canUndo),
            Command(
                "edit.redo", "Redo", self._window.session.undo.redo, "Ctrl+Shift+Z", self._window.session.undo.canRedo
            ),
            Command("find.command", "Find a command", self._window.finder.popup, "Ctrl+Space"),
            Command(
                "build.start",
                "Build",
                self._window.start_build,
                "Ctrl+B",
                lambda: self._window.can_build,
            ),
            Command(
                "build.stop", "Stop the build", self._window.builds.stop, "Ctrl+.", lambda: self._window.builds.running
            ),
            Command(
                "rope.older",
                "Look at the build before",
                lambda: self._window.session.step_build(-1),
                "Alt+Up",
                opened,
            ),
            Command(
                "rope.newer",
                "Look at the build after",
                lambda: self._window.session.step_build(1),
                "Alt+Down",
                opened,
            ),
            Command(
                "stage.focus",
                "Go to the selection",
                self._window.focus,
                "F",
                lambda: self._window.session.selection >= 0,
            ),
            Command("stage.all", "See the whole level", self._window.stage.see_all, "Home", opened),
            Command("stage.plan", "Plan view or perspective", self._window.stage.toggle_plan, "P", opened),
            Command("stage.texels", "Show smooth or by texel", self._window.toggle_by_texel, "T", opened),
            Command("stage.expose", "Expose for what is in the picture", self._window.exposure.reset, "X", lit),
            Command(
                "stage.follow", "Exposure follows the view, or is held", self._window.exposure.toggle_follow, "Shift+X"
            ),
            Command(
                "stage.brighter",
                "Brighter by half a stop",
                partial(self._window.exposure.add_stops, 0.5),
                "+",
            ),
            Command("stage.darker", "Darker by half a stop", partial(self._window.exposure.add_stops, -0.5), "-"),
            Command("show.hide", "Hide the selection", self._window.showing.hide_selected, "Ctrl+H", chosen),
            Command("show.only", "Show the selection alone", self._window.showing.only_selected, "Ctrl+J", chosen),
            Command("show.listed", "Show only what the table lists", self._window.show_listed, "", opened),
            Command("light.only", "Only the selected lights, or all", self._window.toggle_only_selected, "O", relights),
            Command("light.bounce", "One bounce after the other", self._window.next_bounce, "B", relights),
            Command("variant.keep", "Keep what is decided as a variant", self._window.ask_variant, "", opened),
            Command("place.keep", "Keep this view as a place", self._window.places.keep, "Ctrl+D", opened),
            Command("show.all", "Show everything", self._window.showing.everything, "Ctrl+Shift+H", opened),
            Command("show.lights", "Show lights and emitters alone", self._window.showing.only_lights, "", opened),
            Command("show.unlit", "Show all but lights and emitters", self._window.showing.all_but_lights, "", opened),
            Command(
                "select.branch", "Select the branch of the selection", self._window.showing.select_branch, "", chosen
            ),
            Command("mark.guard", "Guard the selection, or free it", self._window.showing.toggle_guard, "", chosen),
            Command("guard.level", "Guard the level, or free it", self._window.showing.toggle_level_guard, "", opened),
            Command("stage.front", "Front view", partial(self._window.stage.toggle_plan, "front"), "", opened),
            Command("stage.side", "Side view", partial(self._window.stage.toggle_plan, "side"), "", opened),
            Command("stage.near", "Near or far set of pages", self._window.picture.toggle_near, "", opened),
            Command(
                "stage.movers",
                "Moving things by probes or by what is below",
                self._window.picture.toggle_movers,
                "",
                opened,
            ),
            Command("stage.walk", "Walk at eye height, or fly", self._window.toggle_walk, "G", opened),
            Command(
                "find.faces", "Find faces by material or property", self._window.face_finder.popup, "Ctrl+F", opened
            ),
            Command("window.bench", "Fold the bench away or bring it back", self._window.toggle_bench, "F9"),
            Command("window.look", "Light or dark look", self._window.toggle_look),
            Command("window.quit", "Close the window", self._window.quit, "Ctrl+Q"),
        )
        for number, (view, title) in enumerate(VIEWS.items(), 1):
            self._window.commands.add(
                Command(
                    f"view.{view}",
                    f"View: {title.lower()}",
                    partial(self._window.set_view, view),
                    str(number),
                    opened,
                )
            )
        for step in STEPS:
            self._window.commands.add(
                Command(f"step.{step.lower()}", f"Step: {step}", partial(self._window.go_to_step, step))
            )
        for command in self._window.commands.all():
            if command.key:
                shortcut = QShortcut(QKeySequence(command.key), self._window)
                shortcut.activated.connect(lambda command=command: self._window.commands.run(command.id))
        self._fill_menus()

    def _fill_menus(self) -> None:
        self._menu = QMenu(self._window)
        self._window.top.menu_button.setMenu(self._menu)
        self._menu.aboutToShow.connect(self._fill_main_menu)
        for view in VIEWS:
            self._add_to(self._window.strip.view.menu(), f"view.{view}")
        for command in ("light.only", "light.bounce"):
            self._add_to(self._window.strip.view.menu(), command)
        for command in ("stage.brighter", "stage.darker", "stage.expose", "stage.follow"):
            self._add_to(self._window.strip.exposure.menu(), command)
        self._add_to(self._window.strip.filter.menu(), "stage.texels")
        for command in ("show.all", "show.only", "show.hide", "show.listed", "show.lights", "show.unlit"):
            self._add_to(self._window.strip.hidden.menu(), command)
        eye = self._window.strip.eye.menu()
        assert eye is not None
        self._places = eye.addMenu("Places")
        eye.aboutToShow.connect(self._fill_places)
        menu = self._window.strip.hidden.menu()
        assert menu is not None
        self._groups = menu.addMenu("Groups")
        menu.aboutToShow.connect(self._fill_groups)
        for command in ("stage.plan", "stage.front", "stage.side", "stage.walk", "stage.all", "stage.focus"):
            self._add_to(self._window.strip.eye.menu(), command)

    def _add_to(self, menu: QMenu | None, command_id: str) -> None:
        assert menu is not None
        command = self._window.commands.get(command_id)
        title = command.title.removeprefix("View: ")
        action = QAction(title[0].upper() + title[1:], menu)
        # Shown beside the title only: the window's own shortcut acts.
        action.setText(f"{action.text()}\t{QKeySequence(command.key).toString()}")
        action.triggered.connect(lambda: self._window.commands.run(command_id))
        menu.addAction(action)

    def _add_variants(self) -> None:
        menu = self._menu.addMenu("Variants")
        assert menu is not None
        self._add_to(menu, "variant.keep")
        variants = self._window.variants
        for name in variants.names():
            action = menu.addAction(f"Go to {name}")
            if action is not None:
                action.triggered.connect(lambda _=False, name=name: variants.go(name))
        for name in variants.names():
            action = menu.addAction(f"Drop {name}")
            if action is not None:
                action.triggered.connect(lambda _=False, name=name: variants.drop(name))

    def _fill_places(self) -> None:
        assert self._places is not None
        self._places.clear()
        self._add_to(self._places, "place.keep")
        places = self._window.places
        for name in places.names():
            action = self._places.addAction(name)
            if action is not None:
                action.triggered.connect(lambda _=False, name=name: places.go(name))
        drop = self._places.addMenu("Drop a place") if places.names() else None
        for name in places.names() if drop is not None else ():
            action = drop.addAction(name) if drop is not None else None
            if action is not None:
                action.triggered.connect(lambda _=False, name=name: places.drop(name))

    def _fill_groups(self) -> None:
        assert self._groups is not None
        self._groups.clear()
        showing = self._window.showing
        for group in showing.groups():
            action = self._groups.addAction(group)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(showing.is_shown(group))
                action.triggered.connect(lambda _=False, group=group: showing.toggle_group(group))

    def _fill_main_menu(self) -> None:
        self._menu.clear()
        self._add_to(self._menu, "file.open")
        for path in self._window.preferences.recent[:6]:
            action = self._menu.addAction(f"    {Path(path).name}")
            if action is not None:
                action.setToolTip(path)
                action.triggered.connect(lambda _=False, path=path: self._window.open(Path(path)))
        self._add_variants()
        groups = (
            ("file.reload",),
            ("edit.undo", "edit.redo"),
            ("build.start", "build.stop"),
            ("rope.older", "rope.newer"),
            ("window.bench", "window.look", "window.quit"),
        )
        for group in groups:
            self._menu.addSeparator()
            for command_id in group:
                self._add_to(self._menu, command_id)
                action = self._menu.actions()[-1]
                action.setEnabled(self._window.commands.get(command_id).enabled())
                if command_id == "edit.undo" and self._window.session.undo.canUndo():
                    action.setText(f"Undo: {self._window.session.undo.undoText()}\tCtrl+Z")
                if command_id == "edit.redo" and self._window.session.undo.canRedo():
                    action.setText(f"Redo: {self._window.session.undo.redoText()}\tCtrl+Shift+Z")
