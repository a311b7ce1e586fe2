"""What speaks against handing a build over: what must not go out by accident."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from ropebell.build.found import found_in
from ropebell.build.manifest import Manifest, parts_in_words
from ropebell.build.outdated import KIND as OUTDATED
from ropebell.build.precheck import gather
from ropebell.build.project import PROJECT_FILE, Project, find_project
from ropebell.build.stale import AsSet, arranging, changes_between
from ropebell.checks.run import TITLES as CHECKS
from ropebell.errors import LevelError, RopeBellError
from ropebell.faults.run import TITLES as FAULTS
from ropebell.level.brief import Brief, to_values
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.open import open_level

# Severity of what a person may hand over all the same, and of what nobody may.
OPEN, FIRM = "warning", "error"
# Findings of the checks before a build that concern a hand-over, whatever their severity.
TEMPORARY = (
    "work-light", "work-object", "undecided-light", "test-density", "subtracting-light", "removable-shadow",
    "unusual-pose",
)  # fmt: skip
TITLES = {
    "draft": "Draft", "part-build": "Lit in part", "source-missing": "Source missing", "changed-since": "Out of date",
    "decided-since": "Decided otherwise since",
    "extra-table": "Extra emitter tables", "other-arithmetic": "Simulated worker", "too-large": "Too large",
}  # fmt: skip
MEGABYTE = 1e6
# Where a project keeps what its pages may take.
KEPT_AS, LIMIT = "deliver", "most_mb"
# Parts of a brief that light depends on beside those that arrange the level.
OF_LIGHT = ("lights", "templates", "added", "emitters", "tables", "skies", "sky", "probes")


def limit_of(project: Project) -> float:
    """What a project's pages may take, megabytes of a million bytes; 0: as much as they like."""
    kept = project.rest.get(KEPT_AS, {})
    value = kept.get(LIMIT, 0.0) if isinstance(kept, Mapping) else 0.0
    return float(value) if isinstance(value, int | float) and 0.0 < value < 1e9 else 0.0


def with_limit(project: Project, most_mb: float) -> Project:
    """The project with that limit, or without one if it is 0."""
    kept = project.rest.get(KEPT_AS, {})
    others = {key: value for key, value in kept.items() if key != LIMIT} if isinstance(kept, Mapping) else {}
    table = {**others, **({LIMIT: most_mb} if most_mb else {})}
    rest = {key: value for key, value in project.rest.items() if key != KEPT_AS}
    return replace(project, rest={**rest, **({KEPT_AS: table} if table else {})})


def objections(folder: Path, most_mb: float | None = None) -> list[Finding]:
    """What speaks against handing a finished build over, the gravest first: `FIRM` ones cannot be accepted.

    Args:
        most_mb: what its pages may take, 0 as much as they like; None: what its project says.

    Raises:
        ProjectError: the build is not done, or damaged.
    """
    m, seen = found_in(folder)
    if most_mb is None:
        try:
            most_mb = limit_of(find_project(Path(m.level.file)))
        except (OSError, RopeBellError):
            most_mb = 0.0  # that it cannot be read is told below
    found = [*_of_the_build(m, most_mb), *_of_its_source(m)]
    # What was found then; what is noted as fine is.
    for f in m.findings:
        if f.kind in TEMPORARY and f.proved is None and f.key not in m.brief.known:
            found.append(replace(f, severity=OPEN))
    for f, state in seen.found:
        if state != "known" and f.severity == "error" and f.kind != OUTDATED:
            found.append(replace(f, severity=OPEN))
    checked = [f for f in m.findings if f.proved is None and f.severity == "error" and f.key not in m.brief.known]
    found += [replace(f, severity=OPEN) for f in checked if f.kind not in TEMPORARY]
    return sorted(found, key=lambda f: f.severity != FIRM)


def title_of(finding: Finding) -> str:
    """What a person reads of what kind it is."""
    return {**CHECKS, **FAULTS, **TITLES}.get(finding.kind, finding.kind)


def left_of(found: Collection[Finding], accepted: Collection[str]) -> list[Finding]:
    """Those that still speak against it once some kinds are accepted."""
    return [f for f in found if f.severity == FIRM or f.kind not in accepted]


def _of_the_build(m: Manifest, most_mb: float) -> list[Finding]:
    found, recipe = list[Finding](), m.recipe
    if recipe.draft > 1:
        reason = f"It is a draft at 1/{recipe.draft} of its recipe's density and rays."
        found.append(Finding("draft", FIRM, "", reason, "Build it final"))
    drafts = [words for words, part in zip(parts_in_words(m), m.parts) if part.draft > 1 or not part.build]
    if not m.scope.everywhere or m.left or drafts:
        what = "a cut box alone" if m.scope.box is not None else "a part of the level"
        what = "nothing, its light is that of an earlier build" if m.scope.properties else what
        more = f", and some of its light is of {', '.join(drafts)}" if drafts else ""
        left = f"; {len(m.left)} objects were left as they were" if m.left else ""
        found.append(Finding("part-build", FIRM, "", f"It lit {what}{more}{left}.", "Build everything"))
    if m.worker:
        reason = f"It was computed as the build worker '{m.worker}' computes, not as this engine does."
        found.append(Finding("other-arithmetic", OPEN, "", reason, "Build it without --worker"))
    if len(m.brief.tables) > 1:
        reason = f"Beside the shared emitter table it reads {', '.join(m.brief.tables[1:])}."
        found.append(Finding("extra-table", OPEN, "", reason, "They go along; see that whoever builds it wants them"))
    size = page_bytes(m) / MEGABYTE
    if most_mb and size > most_mb:
        reason = f"Its pages take {size:,.3g} MB of the {most_mb:,.3g} MB that they may."
        found.append(Finding("too-large", OPEN, "", reason, "Lower densities, or ask advice on the page size"))
    return found


def page_bytes(m: Manifest) -> int:
    """Bytes of the pages that a game loads."""
    chosen = m.recipe.output.format
    return sum(int(page.formats[chosen]["bytes"]) if page.delivered else page.bytes for page in m.pages)


def project_of_build(m: Manifest) -> Project:
    """The project that a build was made in, with everything decided as it was built.

    Raises:
        ProjectError, LevelError: it cannot be read.
    """
    return replace(find_project(Path(m.level.file)), brief=m.brief, recipe=m.recipe)


def as_set(project: Project) -> tuple[Level, AsSet]:
    """The level of a project, and all that light depends on as it is set there.

    Raises:
        LevelError: something that the project is made of cannot be read, or is not there.
    """
    level = open_level(project.level)
    needed = [*level.files, *project.tables, *([project.sky_picture] if project.sky_picture is not None else [])]
    missing = [path.name for path in needed if not path.is_file()]
    if missing:
        what = f"files that it needs are not there: {', '.join(missing[:4])}"
        raise LevelError(what, project.level, "Bring them back")
    gathered = gather(level, project.brief, project.recipe, project.sky, project.tables)
    return level, AsSet.now(gathered.subject.baking, project)


def _of_its_source(m: Manifest) -> list[Finding]:
    """What is missing of what it was built from, and what is not as it was."""
    try:
        project = project_of_build(m)
        changes = changes_between(as_set(project)[1], AsSet.built(m))
        decided = find_project(Path(m.level.file)).brief
    except (OSError, RopeBellError) as error:
        return [Finding("source-missing", FIRM, "", f"It cannot be built again: {error}", "Bring back what is missing")]
    if changes:
        reason = f"Since it was built, files that it was built from changed: {', '.join(changes)}."
        return [Finding("changed-since", FIRM, "", reason, "Build what changed")]
    if (project.folder / PROJECT_FILE).is_file() and light_of(decided) != light_of(m.brief):
        reason = "Since it was built, things were decided otherwise; the package has them as they were built."
        return [Finding("decided-since", OPEN, "", reason, "Build what changed")]
    return []


def light_of(brief: Brief) -> dict[str, Any]:
    """What of a brief light depends on, as plain values."""
    values = to_values(brief)
    return {**arranging(values), **{key: values.get(key) for key in OF_LIGHT}}
