"""What the next build shall do beside its recipe, kept in the project: how much it lights, and what stops it. A profile
is a recipe, a plan, poses and emitter tables under one name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from ropebell.build.project import Project
from ropebell.build.recipe import differences, from_differences
from ropebell.build.scope import box_of
from ropebell.errors import ProjectError, RecipeError
from ropebell.level.brief import Box, BriefError, Mark

Lights = Literal["everything", "changed", "selection", "shown", "camera", "box", "properties"]
PLAN, PROFILES, PROFILE = "plan", "profiles", "profile"
LIGHTS: dict[Lights, str] = {
    "everything": "Everything",
    "changed": "Only what changed",
    "selection": "The selection",
    "shown": "What is shown",
    "camera": "What the camera sees",
    "box": "Inside the cut box",
    "properties": "Nothing: properties alone",
}


@dataclass(frozen=True)
class Plan:
    """What the next build shall do.

    Attributes:
        lights: how much of the level. box: the cut box, kept while another choice is in force. stage: the last to run;
            empty: all. stop_when: tripwires, as they are written.
    """

    lights: Lights = "everything"
    box: Box | None = None
    stage: str = ""
    stop_when: tuple[str, ...] = ()

    def as_values(self) -> dict[str, Any]:
        """As plain values, only what is set."""
        values: dict[str, Any] = {}
        if self.lights != "everything":
            values["lights"] = self.lights
        if self.box is not None:
            values["box"] = [*self.box.low, *self.box.high]
        if self.stage:
            values["stage"] = self.stage
        if self.stop_when:
            values["stop_when"] = list(self.stop_when)
        return values

    @staticmethod
    def of(values: Any) -> Plan:
        """Back from `as_values`; what makes no sense is left out, as nothing but one's own choice is lost with it."""
        if not isinstance(values, Mapping):
            return Plan()
        lights, wires, stage = values.get("lights"), values.get("stop_when"), values.get("stage")
        try:
            box = box_of(values["box"])
        except (KeyError, TypeError, ValueError):
            box = None
        return Plan(
            _lights(lights, box),
            box,
            stage if isinstance(stage, str) else "",
            tuple(text for text in wires if isinstance(text, str)) if isinstance(wires, list | tuple) else (),
        )


def _lights(value: object, box: Box | None) -> Lights:
    """A choice as it was written, or everything."""
    for choice in LIGHTS:
        if value == choice and (choice != "box" or box is not None):
            return choice
    return "everything"


def plan_of(project: Project) -> Plan:
    """The plan in force."""
    return Plan.of(project.rest.get(PLAN, {}))


def with_plan(project: Project, plan: Plan) -> Project:
    """The project under another plan."""
    return _with(project, PLAN, plan.as_values())


def profiles(project: Project) -> dict[str, Any]:
    """What is kept as profiles, by name."""
    found = project.rest.get(PROFILES, {})
    return dict(found) if isinstance(found, Mapping) else {}


def active_profile(project: Project) -> tuple[str, bool]:
    """Name of the profile in force, empty for none, and whether all is still as it says."""
    name = project.rest.get(PROFILE, "")
    if not isinstance(name, str) or name not in profiles(project):
        return "", False
    return name, profiles(project)[name] == _profile_of(project)


def with_profile_kept(project: Project, name: str) -> Project:
    """With what is set now kept as a profile, which is in force then."""
    kept = _with(project, PROFILES, {**profiles(project), name: _profile_of(project)})
    return _with(kept, PROFILE, name)


def with_profile_dropped(project: Project, name: str) -> Project:
    """Without a profile; what it set stays."""
    left = {key: value for key, value in profiles(project).items() if key != name}
    return _with(project, PROFILES, left)


def with_profile(project: Project, name: str) -> Project:
    """Under a profile.

    Raises:
        ProjectError: there is none of that name, or what is kept makes no sense.
    """
    values = profiles(project).get(name)
    where = f"profile '{name}'"
    if not isinstance(values, Mapping):
        raise ProjectError("it is not there", where, "Keep it anew")
    try:
        recipe = from_differences(values.get("recipe", {}), where)
        poses = {str(path): str(pose) for path, pose in dict(values.get("poses", {})).items()}
        tables = tuple(str(table) for table in values.get("tables", ()))
        marks = dict(project.brief.marks)
        for path in {*poses, *_poses(project)}:
            marks[path] = replace(marks.get(path, Mark()), pose=poses.get(path))
        brief = replace(project.brief, marks={path: m for path, m in marks.items() if m != Mark()}, tables=tables)
    except (RecipeError, BriefError, TypeError, ValueError) as error:
        raise ProjectError(f"it cannot be used ({error})", where, "Keep it anew") from error
    taken = with_plan(replace(project, recipe=recipe, brief=brief), Plan.of(values.get("plan", {})))
    return _with(taken, PROFILE, name)


def _profile_of(project: Project) -> dict[str, Any]:
    return {
        "recipe": differences(project.recipe),
        "plan": plan_of(project).as_values(),
        "poses": _poses(project),
        "tables": list(project.brief.tables),
    }


def _poses(project: Project) -> dict[str, str]:
    return {path: mark.pose for path, mark in project.brief.marks.items() if mark.pose}


def _with(project: Project, key: str, value: Any) -> Project:
    rest = {k: v for k, v in project.rest.items() if k != key}
    return replace(project, rest={**rest, key: value} if value else rest)
