"""A package that others can build: the baked level with its pages, all it was built from, and what to expect.

It is written beside its place first, opened there, and held against the build: only what would be built as it was comes
to its place.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import time
import zipfile
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory

import ropebell
from ropebell.build.manifest import MANIFEST, Manifest, Page, read_manifest
from ropebell.build.outputs import BAKED_LEVEL, FINDINGS, OPTIONAL_LAYERS, THUMBNAIL
from ropebell.build.probe_file import PROBES
from ropebell.build.project import PROJECT_FILE, Project, load_project
from ropebell.build.result import open_result
from ropebell.build.stale import AsSet, changes_between
from ropebell.compare.expected import expected
from ropebell.deliver.objections import as_set, project_of_build
from ropebell.errors import BuildError, UsageError, step, why
from ropebell.files import STALE_SECONDS, open_regular, remove_tree, write_json, write_text
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.output_place import PACKAGE, is_zip, output_package

BAKED, SOURCE, LEVEL = "baked", "source", "level"
CONTENTS, EXPECTED, README = "contents.json", "expected.json", "README.txt"
FORMAT = 1
# What of a project is about the level and not about whoever works on it.
KEPT = ("recipes", "places")
BLOCK = 4 << 20
SCRATCH = ".rope-bell-package-"
READABLE = 0o644
# In a name they mean something else on another system.
UNPORTABLE = frozenset("\\:")


@dataclass(frozen=True)
class Packed:
    """What a package holds.

    Attributes:
        path: where it is. files: name, bytes and SHA-256 of each.
    """

    path: Path
    files: tuple[tuple[str, int, str], ...]

    @property
    def bytes(self) -> int:
        """Of all files."""
        return sum(size for _, size, _ in self.files)


def package(
    folder: Path, out: Path, accepted: Sequence[Finding] = (), tick: Callable[[float], None] = lambda _: None
) -> Packed:  # fmt: skip
    """Write a package of a finished build: a folder, or a file if its name ends in `.zip`.

    Args:
        accepted: what speaks against it and is handed over all the same: it is told in the package.
        tick: called with the share done, may raise `Stopped`; nothing is left then.

    Raises:
        UsageError: there is something at its place already, or it has no name; or a file has a name that could not be
            unpacked everywhere.
        BuildError: it cannot be written, or what was packed would not be built as it was.
        ProjectError, LevelError: the build or its source cannot be read.
    """
    out, root = output_package(out)
    m = read_manifest(folder)
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        _clear_left(out.parent)
        with TemporaryDirectory(prefix=SCRATCH, suffix=".part", dir=out.parent) as scratch:
            made = Written(Path(scratch) / PACKAGE)
            files = _packed(folder, m, made, accepted, tick)
            place = _zipped(made, root, Path(scratch) / "package.zip") if is_zip(out) else made.folder
            output_package(out)  # it took a while, and others may have been faster
            os.replace(place, out)
    except OSError as error:
        raise BuildError(f"the package cannot be written ({why(error)})", out, step(error)) from error
    tick(1.0)
    return Packed(out, files)


def _clear_left(folder: Path) -> None:
    """Remove what packages that were killed have left beside their place."""
    for left in folder.glob(f"{SCRATCH}*.part"):
        with suppress(OSError):
            if left.lstat().st_mtime < time.time() - STALE_SECONDS:
                remove_tree(left)


class Written:
    """The folder of a package, and the list of what was written into it.

    Attributes:
        folder: where it is made. names: of files, as they were written, with `/` between their parts.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.names: list[str] = []
        folder.mkdir()

    def place(self, name: str) -> Path:
        """Where a file is to be written; it stands in the list then.

        Raises:
            UsageError: a part of its name means something else on another system.
        """
        parts = name.split("/")
        if any(part in ("", ".", "..") or set(part) & UNPORTABLE or not part.isprintable() for part in parts):
            what = f"'{name}' has a name that could not be unpacked everywhere"
            raise UsageError(what, "", "Rename the file, name it so in the level, and build again")
        path = self.folder.joinpath(*parts)
        path.parent.mkdir(parents=True, exist_ok=True)
        self.names.append(name)
        return path

    def copy(self, source: Path, name: str) -> None:
        """Take a file in; two pictures may be the same one."""
        if name in self.names:
            return
        with open_regular(source) as file, open(self.place(name), "wb") as out:
            shutil.copyfileobj(file, out, BLOCK)
            out.flush()
            os.fsync(out.fileno())

    def listed(self) -> tuple[tuple[str, int, str], ...]:
        """Name, bytes and SHA-256 of every file, in the order of their names."""
        return tuple((name, *_measured(self.folder / name)) for name in sorted(self.names))


def _measured(path: Path) -> tuple[int, str]:
    with open_regular(path) as file:
        return os.fstat(file.fileno()).st_size, hashlib.file_digest(file, "sha256").hexdigest()


def _packed(
    folder: Path, m: Manifest, to: Written, accepted: Sequence[Finding], tick: Callable[[float], None]
) -> tuple[tuple[str, int, str], ...]:  # fmt: skip
    """Write all of it into a folder; what each file is."""
    _write_baked(folder, m, to)
    tick(0.3)
    project = project_of_build(m)
    level, _ = as_set(project)
    packed = _write_source(project, level, to)
    tick(0.5)
    _hold_against(packed, m)
    tick(0.7)
    write_json(to.place(EXPECTED), expected(open_result(to.folder / BAKED)))
    write_text(to.place(README), _readme(m, project, accepted))
    files = to.listed()
    write_json(to.place(CONTENTS), {
        "format": FORMAT, "program": {"name": "Rope Bell", "version": ropebell.__version__}, "made": m.made,
        "handed_over_with": [f.as_json() for f in accepted],
        "files": [{"name": name, "bytes": size, "sha256": digest} for name, size, digest in files],
    })  # fmt: skip
    tick(0.8)
    return files


def files_of_page(page: Page) -> list[str]:
    """Files of a build that a page is made of."""
    layers = [getattr(page, layer) for layer in OPTIONAL_LAYERS if getattr(page, layer)]
    return [page.file, page.direct, *layers, *([page.delivered.file] if page.delivered is not None else [])]


def _write_baked(folder: Path, m: Manifest, to: Written) -> None:
    """The build without what only this machine knows."""
    names = [BAKED_LEVEL, *(name for page in m.pages for name in files_of_page(page))]
    names += [name for name in (PROBES, FINDINGS, THUMBNAIL) if (folder / name).is_file()]
    for name in names:
        to.copy(folder / name, f"{BAKED}/{name}")
    at_home = m.level.model_copy(update={"file": f"{SOURCE}/{Path(m.level.file).name}"})
    m.model_copy(update={"level": at_home, "cache": "", "made_in": ""}).write(to.place(f"{BAKED}/{MANIFEST}").parent)


def _write_source(project: Project, level: Level, to: Written) -> Project:
    """Everything a build is made from, as a project that stands for itself.

    Raises:
        LevelError: something lies where no package can have it.
    """
    home, own = project.level.parent.resolve(), project.folder.resolve()
    # Beside its project a level stays where it is; else it gets a folder of its own.
    into = Path(SOURCE) / (home.relative_to(own) if home.is_relative_to(own) else LEVEL)
    for path in [project.level, *level.files]:
        to.copy(path, (into / path.resolve().relative_to(home)).as_posix())
    skies = [sky.picture for sky in project.brief.skies.values() if sky.picture]
    for path in [*project.tables, *(project.beside(name) for name in skies)]:
        if path.is_file():
            to.copy(path, (Path(SOURCE) / path.resolve().relative_to(own)).as_posix())
    rest = {key: project.rest[key] for key in KEPT if key in project.rest}
    file = to.place(f"{SOURCE}/{PROJECT_FILE}")
    packed = replace(project, folder=file.parent, level=to.folder / into / project.level.name, rest=rest)
    packed.save()
    return load_project(file)


def _hold_against(packed: Project, m: Manifest) -> None:
    """Open what was packed, and see that it would be built as it was.

    Raises:
        BuildError: it would not.
    """
    changes = changes_between(as_set(packed)[1], AsSet.built(m))
    if changes:
        what = f"what was packed would not be built as it was: {', '.join(changes)} differ"
        raise BuildError(what, packed.folder, "Build again, and report this if it stays so")


def _zipped(made: Written, root: str, out: Path) -> Path:
    """One file of what was written; the same gives the same bytes."""
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(made.names):
            entry = zipfile.ZipInfo(f"{root}/{name}")
            entry.external_attr = READABLE << 16  # else whoever unpacks it may not read it
            archive.writestr(entry, (made.folder / name).read_bytes(), zipfile.ZIP_DEFLATED)
    with open(out, "rb") as file:
        os.fsync(file.fileno())
    return out


def _readme(m: Manifest, project: Project, accepted: Sequence[Finding]) -> str:
    poses = [f"{path}: {mark.pose}" for path, mark in m.brief.marks.items() if mark.pose]
    lines = [
        project.name, "=" * len(project.name), "",
        f"Built {m.made} with Rope Bell {m.program.get('version', '')}, recipe {m.recipe.name}, in "
        f"{m.total_seconds:,.0f} s: {m.texels:,} texels on {len(m.pages)} pages.", "",
        f"{BAKED}/      {BAKED_LEVEL}, its lightmap coordinates in TEXCOORD_1, and its pages in lux, linear RGB.",
        f"{SOURCE}/     all that it was built from, with its recipe; it was opened and held against the build.",
        f"{EXPECTED}  light at places spread over the level, to see whether another machine agrees.",
        f"{CONTENTS}  every file with its size and SHA-256.", "",
        "To build it again, and to see whether it agrees:", "",
        f"    ropebell bake {SOURCE} --out again",
        f"    ropebell expect again --against {EXPECTED}", "",
        *(["Poses that it was built in:", *(f"    {pose}" for pose in poses), ""] if poses else []),
        *(["Handed over although:", *(f"    {f.object + ': ' if f.object else ''}{f.reason}" for f in accepted), ""]
          if accepted else []),
    ]  # fmt: skip
    return "\n".join(lines)
