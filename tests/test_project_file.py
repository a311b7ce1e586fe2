"""One project file, several hands."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ropebell.build.project import PROJECT_FILE, Project, load_project
from ropebell.build.project_file import Collision, ProjectFile, WindowClaim, merge
from ropebell.build.recipe import named, with_value
from ropebell.level.brief import LightChange, Mark

VALUES = st.recursive(st.integers(0, 3), lambda inner: st.dictionaries(st.sampled_from("abc"), inner, max_size=3))


WHOLE = '[recipe]\nname = "working"'


@pytest.fixture
def project(tmp_path: Path) -> Project:
    made = Project(tmp_path, tmp_path / "level.glb", "Hall", named("working"))
    made.save()
    return load_project(tmp_path / PROJECT_FILE)


def edit_by_hand(project: Project, before: str, after: str) -> None:
    path = project.folder / PROJECT_FILE
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def test_an_edit_by_hand_is_merged_and_not_overwritten(project: Project) -> None:
    file = ProjectFile(project)
    edit_by_hand(project, 'name = "Hall"', 'name = "Great hall"\nnotes = "mine"')
    edit_by_hand(project, WHOLE, f"{WHOLE}\nlight = {{ gather_rays = 96 }}")
    assert file.changed
    ours = project.with_light("lights/lamp", LightChange(9.0))
    saved = file.save(ours)
    assert (saved.name, saved.recipe.light.gather_rays) == ("Great hall", 96)
    again = load_project(project.folder / PROJECT_FILE)
    assert again == saved and again.rest == {"notes": "mine"} and again.lights["lights/lamp"].intensity == 9.0
    assert not file.changed


def test_what_both_changed_is_asked_and_nothing_is_written(project: Project) -> None:
    file = ProjectFile(project)
    edit_by_hand(project, WHOLE, f"{WHOLE}\nlight = {{ gather_rays = 96 }}")
    ours = replace(project, recipe=with_value(with_value(project.recipe, "light.gather_rays", 64), "draft", 4))
    before = (project.folder / PROJECT_FILE).read_bytes()
    with pytest.raises(Collision) as found:
        file.save(ours)
    assert found.value.keys == ("recipe.light.gather_rays",)
    assert (project.folder / PROJECT_FILE).read_bytes() == before
    theirs, mine = found.value.with_theirs.recipe, found.value.with_ours.recipe
    assert (theirs.light.gather_rays, theirs.draft) == (96, 4) and (mine.light.gather_rays, mine.draft) == (64, 4)
    # Decided for ours: it is written over what was seen, and only over that.
    file.decide(found.value.theirs)
    assert file.save(ours) == ours == load_project(project.folder / PROJECT_FILE)


def test_a_file_that_became_unreadable_is_left_alone(project: Project) -> None:
    file = ProjectFile(project)
    (project.folder / PROJECT_FILE).write_text("<<<<<<< mine\n")
    with pytest.raises(Exception, match="not valid TOML"):
        file.save(replace(project, name="Other"))
    assert (project.folder / PROJECT_FILE).read_text() == "<<<<<<< mine\n"


def test_a_project_that_was_never_saved_and_one_that_is_gone_are_written(tmp_path: Path) -> None:
    fresh = Project(tmp_path / "new", tmp_path / "level.glb", "Hall", named("working"))
    file = ProjectFile(fresh)
    file.save(fresh)
    (tmp_path / "new" / PROJECT_FILE).unlink()
    file.save(replace(fresh, name="Again"))
    assert load_project(tmp_path / "new" / PROJECT_FILE).name == "Again"


@given(VALUES, VALUES)
def test_merging_with_a_side_that_changed_nothing_is_the_other_side(base: object, other: object) -> None:
    assert merge(base, other, base) == (other, []) and merge(base, base, other) == (other, [])
    assert merge(base, other, other) == (other, [])


def test_marks_of_different_objects_do_not_collide() -> None:
    marks = [{"marks": {"a": {"density": d}, "b": {"density": e}}} for d, e in ((1, 1), (2, 1), (1, 2))]
    assert merge(*marks) == ({"marks": {"a": {"density": 2}, "b": {"density": 2}}}, [])
    dropped = {"marks": {"b": {"density": 1}}}
    assert merge(marks[0], dropped, marks[2]) == ({"marks": {"b": {"density": 2}}}, [])
    assert merge(marks[0], dropped, marks[1])[1] == ["marks.a"]
    assert Mark(density=2.0)


def test_only_one_window_edits_a_project_unless_another_takes_over(tmp_path: Path) -> None:
    first, second = WindowClaim(tmp_path), WindowClaim(tmp_path)
    assert first.claim() and first.ours
    assert not second.claim()
    assert second.claim(take_over=True)
    assert second.ours and not first.ours
    first.release()
    second.release()
    third = WindowClaim(tmp_path)
    assert third.claim() and third.ours
    third.release()
