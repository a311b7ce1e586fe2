"""Recipes of one's own, profiles, the queue, and what stays between sessions, in the real window."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

import pytest
from furnished import drafted
from pytestqt.qtbot import QtBot
from waits import LONG, Opener, idle

from ropebell.app.preferences import Preferences
from ropebell.app.queueing import Queueing
from ropebell.app.steps.build import BuildStep
from ropebell.app.steps.build.queue_page import QueuePage
from ropebell.app.steps.recipe.bench import RecipeBench
from ropebell.app.window import Window
from ropebell.build.manifest import read_manifest
from ropebell.build.plan import Plan, plan_of, with_plan, with_profile_kept
from ropebell.build.project import load_project
from ropebell.build.queue import queue_file, read_queue, write_queue
from ropebell.build.recipe import named, with_value
from ropebell.build.scope import Scope
from ropebell.build.shelf import on_shelf
from ropebell.level.brief import Box


@pytest.fixture
def window(empty_window: Window, qtbot: QtBot, open_built: Opener) -> Window:
    """A small level, once built as a draft."""
    open_built("draft", partial(drafted, empty_window, qtbot))
    return empty_window


def step(window: Window) -> BuildStep:
    found = window.steps["build"]
    assert isinstance(found, BuildStep)
    return found


def test_an_edited_recipe_never_passes_for_one_that_ships(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    window.go_to_step("recipe")
    bench = window.steps["recipe"].bench
    assert isinstance(bench, RecipeBench)
    s.document.set_recipe("Use", named("working"))
    bench._set("light.gather_rays", 200)
    assert s.document.project.recipe.name == "working, edited" and bench.names.currentText() == "working, edited"
    assert "gather rays 200 (128)" in bench.different.text()
    bench._set("light.gather_rays", 128)
    assert s.document.project.recipe.name == "working" and "As in working." in bench.different.text()
    s.document.set_recipe("Draft", with_value(named("final"), "draft", 8))
    assert "tx/m 20 → 2.5, rays 512 → 256, direct samples 64 → 8, padding 4 → 3" in bench.draft_words.text()
    assert s.document.project.recipe.name == "final"
    assert bench.numbers["light.gather_rays"].note.text().count("at ") == 2


def test_recipes_of_ones_own(window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    s = window.desk
    window.go_to_step("recipe")
    keeping = window.steps["recipe"].bench.keeping
    s.document.set_recipe("Rays", with_value(named("working"), "light.gather_rays", 300))
    keeping.keep_as("Harbour")
    assert s.document.project.recipe.name == "Harbour" and keeping.names.currentText() == "Harbour"
    s.document.save_now()
    kept = load_project(s.document.project.folder / "project.toml")
    assert kept.recipe.name == "Harbour" and kept.recipe.light.gather_rays == 300
    s.commands.attempt(lambda: keeping.keep_as("working"))
    assert "ships" in window.notices.text
    keeping.rename_to("Quay")
    s.commands.attempt(keeping.to_shelf)
    assert list(on_shelf()) == ["Quay"] and on_shelf()["Quay"].light.gather_rays == 300
    s.document.set_recipe("Use", named("sketch"))
    keeping._choose([keeping.names.itemText(i) for i in range(keeping.names.count())].index("Quay"))
    assert s.document.project.recipe.light.gather_rays == 300
    path = tmp_path / "night.toml"
    path.write_text('name = "Night"\n[light]\ngather_rays = 64\n')
    keeping.read_file(path)
    assert s.document.project.recipe.name == "Night" and s.document.project.recipe.light.gather_rays == 64
    s.commands.attempt(keeping.drop)
    assert "Night" not in [keeping.names.itemText(i) for i in range(keeping.names.count() - 1)]
    s.document.undo.setIndex(0)
    assert "recipes" not in s.document.project.rest


def test_a_profile_is_switched_in_one_act(window: Window, qtbot: QtBot) -> None:
    s, panel = window.desk, step(window).build_bench.next
    panel.add_wire("black>0.5")
    panel.keep_profile("Night test")
    assert "All is as 'Night test' says" in panel.profile_words.text()
    s.document.set_recipe("Use", named("final"))
    panel._set("Wires", stop_when=())
    panel.refresh()
    assert "Changed since" in panel.profile_words.text()
    panel._use_profile(panel.profile.findData("Night test"))
    project = s.document.project
    assert project.recipe.draft == 4 and plan_of(project).stop_when == ("black>0.5",)
    s.document.undo.undo()
    assert s.document.project.recipe.name == "final"


def test_the_queue_works_through_what_waits_and_is_kept(
    window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    s, page = window.desk, step(window).build_bench.queue
    for bounces in (1, 3):
        s.document.set_recipe("Bounces", with_value(s.document.project.recipe, "light.bounces", bounces))
        page.add.click()
    assert [e.state for e in read_queue(queue_file())] == ["waiting", "waiting"] and page.list.count() == 2
    page.work.click()
    qtbot.waitUntil(lambda: s.queue.running, timeout=LONG)
    s.commands.run("build.start")
    assert "The queue builds now" in window.notices.text and not s.builds.running
    qtbot.waitUntil(lambda: not s.queue.on and not s.queue.running, timeout=LONG)
    idle(window, qtbot)
    assert [e.state for e in s.queue.entries] == ["done", "done"]
    assert [read_manifest(k.folder).recipe.light.bounces for k in s.rope.knots[1:]] == [1, 3]
    page.clear.click()
    assert read_queue(queue_file()) == [] and not page.list.isVisible()


def test_what_the_plan_says_waits_with_the_build_and_is_kept(window: Window, qtbot: QtBot) -> None:
    s, bench = window.desk, step(window).build_bench
    box = Box((-2.0, -1.0, -2.0), (2.0, 2.0, 2.0))
    planned = with_plan(s.document.project, Plan("box", box, "finish"))
    s.document.edit("Keep", lambda _: with_profile_kept(planned, "night"))
    bench.queue.add.click()
    s.document.edit("Plan", lambda p: with_plan(p, Plan("selection")))
    s.selection.select(-1)
    bench.queue.add.click()
    assert "Nothing is selected" in window.notices.text and len(s.queue.entries) == 1
    s.selection.select(0)
    bench.queue.add.click()
    path = s.level.now.scene.node_names[0]
    whole, part = Queueing(s, s.builds).entries  # as after a restart
    assert whole.title.endswith("profile 'night', inside the cut box, up to the stage 'finish'")
    assert part.title.endswith("only 1 object") and "night" not in part.title
    assert whole.begun(Path("/x")).scope == Scope(box=box, stage="finish")
    assert part.begun(Path("/x")).scope.only == (path,)
    assert page_text(bench.queue) == [f"{e.title}: waits" for e in (whole, part)]


def page_text(page: QueuePage) -> list[str]:
    return [page.list.item(row).text() for row in range(page.list.count())]


def test_a_queue_that_was_cut_off_begins_again(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    s.queue.add()
    entry = s.queue.entries[0]
    write_queue(queue_file(), [replace(entry, state="running"), replace(entry, request="{}")])
    again = Queueing(s, s.builds)
    assert [e.state for e in again.entries] == ["waiting", "waiting"]
    again.switch()
    qtbot.waitUntil(lambda: not again.on and not again.running, timeout=LONG)
    assert [e.state for e in again.entries] == ["done", "failed"] and "no request" in again.entries[1].told
    queue_file().write_text("[")
    assert read_queue(queue_file()) == [] and queue_file().with_suffix(".damaged.json").exists()


def test_the_undo_list_is_there_in_the_next_session(window: Window, qtbot: QtBot) -> None:
    s = window.desk
    s.document.set_recipe("First", with_value(s.document.project.recipe, "light.bounces", 5))
    s.document.set_recipe("Second", with_value(s.document.project.recipe, "light.bounces", 6))
    s.document.undo.undo()
    idle(window, qtbot)
    plan = step(window).build_bench.plan.text()
    assert "First, " in plan and "Second" not in plan
    level = s.document.project.level
    window.close()
    second = Window(Preferences())
    qtbot.addWidget(second)
    with qtbot.waitSignal(second.desk.level.opened, timeout=LONG):
        second.open(level)
    document = second.desk.document
    assert document.project.recipe.light.bounces == 5
    assert document.undo.undoText() == "First" and document.undo.redoText() == "Second"
    document.undo.redo()
    assert document.project.recipe.light.bounces == 6
    document.undo.undo()
    document.undo.undo()
    assert document.project.recipe.light.bounces == 2
    idle(second, qtbot)
    document.undo.redo()
    document.save_now()
    # Written by someone else meanwhile: what led here is not what led there.
    second.close()
    path = document.project.folder / "project.toml"
    path.write_text(path.read_text().replace("bounces = 5", "bounces = 7"))
    third = Window(Preferences())
    qtbot.addWidget(third)
    with qtbot.waitSignal(third.desk.level.opened, timeout=LONG):
        third.open(level)
    assert third.desk.document.project.recipe.light.bounces == 7 and third.desk.document.undo.count() == 0
    third.close()
