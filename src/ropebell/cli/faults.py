"""`ropebell faults`: what is wrong with a build's light, for people, scripts and print."""

from __future__ import annotations

import json
from pathlib import Path

from ropebell.build.found import found_in, looked_through
from ropebell.build.result import open_result
from ropebell.cli.said import say
from ropebell.deliver.findings import as_csv, as_html, as_json, as_sarif
from ropebell.errors import ProjectError, UsageError, step, why
from ropebell.faults.over_builds import note_on
from ropebell.faults.run import TITLES
from ropebell.files import write_text

FOUND = 1


def faults(
    build: Path, since: Path | None, json_wanted: bool, sarif: Path | None, csv: Path | None, html: Path | None
) -> int:  # fmt: skip
    """`ropebell faults`; 1 if any is found that nobody has taken note of."""
    manifest, seen = found_in(build, since)
    if not looked_through(manifest):
        what = "the build is of an older version and was not looked through for faults"
        raise ProjectError(what, build, "Build again")
    name = build.name or build.absolute().name
    status = FOUND if seen.unknown else 0
    if sarif is not None:
        level = Path(manifest.level.file).absolute().as_uri()
        _write(sarif, json.dumps(as_sarif(name, level, seen), indent=1))
    if csv is not None:
        _write(csv, as_csv(seen))
    if html is not None:
        known = manifest.brief.known
        notes = {str(n): note_on(f, known) for n, (f, state) in enumerate(seen.found) if state == "known"}
        _write(html, as_html(name, seen, open_result(build), notes))
    if json_wanted:
        print(json.dumps(as_json(name, seen)))
        return status
    for f, state in seen.found:
        where = f" at {', '.join(f'{v:.2f}' for v in f.place)}" if f.place is not None else ""
        verdict = "proved" if f.proved else "likely"
        say(f"{state} {f.severity} ({f.kind}, {verdict}) {f.object}{where}: {f.reason} {f.remedy}.")
    for title, gone in (("mended", seen.gone), ("gone with its object", seen.taken_away)):
        for f in gone:
            say(f"{title}: {TITLES.get(f.kind, f.kind)} ({f.kind}) {f.object}")
    if not seen.found:
        say("no faults found")
    return status


def _write(path: Path, text: str) -> None:
    try:
        write_text(path, text)
    except OSError as error:
        raise UsageError(
            f"it cannot be written ({why(error)})", path, f"{step(error)}, or name another file"
        ) from error
