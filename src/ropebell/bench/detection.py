"""How well faults are found: recall and precision over levels made by code, with each fault and nearly with it."""

from __future__ import annotations

import datetime
import os
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.bench.detection_levels import cases, clean
from ropebell.bench.detection_room import Case
from ropebell.build.journal import Journal
from ropebell.build.pipeline import build
from ropebell.build.recipe import named, with_value
from ropebell.build.request import Request
from ropebell.level.finding import Finding
from ropebell.level.gltf_write import plain_glb

CLEAN = 3
DETECTION_LEVELS = "`bench/detection_levels.py`"


@dataclass(frozen=True)
class Kind:
    """Of one kind: how many were planted and found, how many only nearly had it and were told to have it."""

    kind: str
    planted: int
    found: int
    near: int
    wrong: int

    @property
    def recall(self) -> float:
        """Share of what is there that is found."""
        return self.found / max(self.planted, 1)

    @property
    def precision(self) -> float:
        """Share of what is told that is there."""
        return self.found / max(self.found + self.wrong, 1)


def findings_of(case: Case, folder: Path, draft: int = 1) -> list[Finding]:
    """Build a level, and what was found in its light."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "level.glb"
    path.write_bytes(plain_glb(case.room.b.level(path), "detection"))
    recipe = with_value(named("working"), "density.texels_per_metre", case.room.density * draft / case.room.size)
    recipe = with_value(with_value(recipe, "draft", draft), "density.page_size", 2048)
    for key, value in case.settings.items():
        recipe = with_value(recipe, key, value)
    out = folder / "out"
    out.mkdir()
    asked = Request(path, out, folder / "cache", recipe, brief=case.brief, pictures=False)
    journal = Journal(out)
    try:
        journal.write("begin", pid=os.getpid(), request=asked.to_json())
        manifest = build(asked, journal)
    finally:
        journal.close()
    return [f for f in manifest.findings if f.proved is not None]


def told(case: Case, found: Iterable[Finding]) -> bool:
    """Whether what is planted in a level is among what was found: its kind, at its place, of its objects."""
    for f in found:
        if f.kind != case.kind:
            continue
        mine = not case.objects or bool({f.object, *f.also} & set(case.objects))
        away = 0.0 if case.where is None or f.place is None else float(np.linalg.norm(np.array(f.place) - case.where))
        if mine and away <= case.near * case.room.size:
            return True
    return False


def run(each: int = 8, draft: int = 1) -> tuple[list[Kind], list[list[Finding]]]:
    """Every kind over `each` levels with it and as many nearly; and what was found in clean ones."""
    counts: dict[str, list[int]] = {}
    with tempfile.TemporaryDirectory(prefix="ropebell-detection-") as scratch:
        for number, case in enumerate(cases(each)):
            found = findings_of(case, Path(scratch) / str(number), draft)
            mine = counts.setdefault(case.kind, [0, 0, 0, 0])
            if case.planted:
                mine[0] += 1
                mine[1] += told(case, found)
            else:
                mine[2] += 1
                mine[3] += any(f.kind == case.kind for f in found)
        quiet = [findings_of(clean(n), Path(scratch) / f"clean {n}", draft) for n in range(CLEAN)]
    return [Kind(kind, *values) for kind, values in counts.items()], quiet


def report(by_draft: dict[int, list[Kind]], quiet: list[list[Finding]], each: int, when: datetime.date) -> str:
    """docs/detection.md."""
    lines = [
        "# How well faults are found", "",
        f"Made by `ropebell detection --out docs/detection.md` on {when.isoformat()}: for each kind {each} levels with "
        f"the fault and {each} that nearly have it, made by code ({DETECTION_LEVELS}) over sizes of 0.05 to 30 times, "
        "turns, densities and recipes, none of them the sample; found means its kind, at its place, of its objects.",
        "",
    ]  # fmt: skip
    for draft, kinds in by_draft.items():
        title = "At final settings" if draft == 1 else f"At draft 1/{draft}"
        lines += [
            f"## {title}",
            "",
            "| kind | found | cried at near misses | recall | precision |",
            "| --- | --- | --- | --- | --- |",
        ]
        lines += [
            f"| `{k.kind}` | {k.found} of {k.planted} | {k.wrong} of {k.near} | {k.recall:.2f} | {k.precision:.2f} |"
            for k in kinds
        ]
        lines.append("")
    told_ = [len(found) for found in quiet]
    lines += [
        "## On right levels", "",
        f"Three levels of over 110 objects each that are ugly but right: {', '.join(map(str, told_))} findings.", "",
        "## Not measured here", "",
        "- `overlap-light` cannot arise: coordinates that overlap are not used, and `check` names them.",
        "- `stale-object` is told of a build beside the level of now; `non-finite` by the stage that meets it.",
        "- `grid-light`: rays start so far off their faces that no level made so far shows it.",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"
