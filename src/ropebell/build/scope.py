"""How much of a level a build lights: all of it, some objects, what changed, what a place looks at, or a cut box.

A part build lights its part as a whole build would, with light that comes from everywhere. Of the rest only so many
rays are shot as its light needs to be thrown back, and what is written for it is an earlier build's light where there
is one. A cut box is another level: what lies outside is cut away, and no light comes in through the cut.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.errors import UsageError
from ropebell.level.brief import Box
from ropebell.level.model import I32, Mask
from ropebell.level.scene import Scene
from ropebell.light.view import View

# Of the rays of what is not lit, one in so many is shot, and at least so many.
ROUGH, LEAST_ROUGH = 16, 8


@dataclass(frozen=True)
class Scope:
    """What a build lights; nothing set is everything.

    Attributes:
        only: paths of nodes, each with everything below it.
        box: only what lies inside, the cut sealed.
        since: an earlier build: what changed after it, and what is written for the rest.
        seen: what this place looks at.
        stage: the last stage to run; empty: all.
        properties: no light at all: that of `since` is written on the level as it is now.
    """

    only: tuple[str, ...] = ()
    box: Box | None = None
    since: Path | None = None
    seen: View | None = None
    stage: str = ""
    properties: bool = False

    @property
    def whole(self) -> bool:
        """Whether everything is lit."""
        return self == Scope(stage=self.stage) or self == Scope(box=self.box, stage=self.stage)

    @property
    def everywhere(self) -> bool:
        """Whether everything is lit, and of the whole level."""
        return self.whole and self.box is None

    @property
    def part(self) -> list[Any]:
        """What decides which texels are lit, for a name; empty where all are."""
        seen = [self.seen.as_values()] if self.seen is not None else []
        return [] if self.whole else [list(self.only), *seen]

    def lights(self, path: str) -> bool:
        """Whether all of an object is lit anew."""
        return self.everywhere or any(path == one or path.startswith(f"{one}/") for one in self.only)

    def as_values(self) -> dict[str, Any]:
        """As plain values, only what is set."""
        values: dict[str, Any] = {}
        if self.only:
            values["only"] = list(self.only)
        if self.box is not None:
            values["box"] = [*self.box.low, *self.box.high]
        if self.since is not None:
            values["since"] = str(self.since.absolute())
        if self.seen is not None:
            values["seen"] = self.seen.as_values()
        if self.stage:
            values["stage"] = self.stage
        if self.properties:
            values["properties"] = True
        return values

    @staticmethod
    def of(values: Any) -> Scope:
        """Back from `as_values`.

        Raises:
            ValueError: they are not those of a scope.
        """
        if isinstance(values, Scope):
            return values
        try:
            box, since, seen = values.get("box"), values.get("since"), values.get("seen")
            return Scope(
                tuple(str(path) for path in values.get("only", ())),
                box_of(box) if box else None,
                Path(str(since)) if since else None,
                View.of(seen) if seen else None,
                str(values.get("stage", "")),
                bool(values.get("properties", False)) and bool(since),
            )  # fmt: skip
        except (TypeError, LookupError, AttributeError, OverflowError) as error:
            raise ValueError(f"it is no scope ({error})") from error

    @property
    def words(self) -> str:
        """For a person, such as "only 3 objects"."""
        parts = []
        if self.only:
            parts.append(f"only {len(self.only)} object{'s' if len(self.only) > 1 else ''}")
        if self.properties and self.since is not None:
            parts.append(f"properties alone, lit as {in_words(self.since)}")
        elif self.since is not None and not self.only and self.seen is None:
            parts.append(f"what changed since {in_words(self.since)}")
        if self.seen is not None:
            parts.append("what the camera sees")
        if self.box is not None:
            parts.append("inside the cut box")
        if self.stage:
            parts.append(f"up to the stage '{self.stage}'")
        return ", ".join(parts) or "everything"


EVERYTHING = Scope()


def in_words(build: Path) -> str:
    """A build by its folder, such as "build 9"."""
    return f"build {int(build.name)}" if build.name.isdecimal() else build.name


def box_of(numbers: Sequence[float]) -> Box:
    """A box from its six numbers, X0, Y0, Z0, X1, Y1, Z1 in metres.

    Raises:
        ValueError: it is flat, or they are not six finite numbers.
    """
    x0, y0, z0, x1, y1, z1 = (float(v) for v in numbers)
    box = Box((x0, y0, z0), (x1, y1, z1)).ordered()
    if not all(low < high for low, high in zip(box.low, box.high)):
        raise ValueError("a box without any room")
    return box


def named_nodes(scene: Scene, names: tuple[str, ...]) -> tuple[str, ...]:
    """Paths of the nodes that are meant: by path, or by their own name where only one has it.

    Raises:
        UsageError: there is none, or there are several.
    """
    found = []
    paths = {path for name in scene.node_names for path in _branches(name)}
    for name in names:
        wanted = name.strip("/")
        own = sorted(path for path in paths if path.rsplit("/", 1)[-1] == wanted)
        if wanted in paths:
            found.append(wanted)
        elif len(own) == 1:
            found.append(own[0])
        elif own:
            some = ", ".join(own[:3])
            raise UsageError(f"there are {len(own)} objects named '{name}'", "", f"Name one by its path: {some}")
        else:
            raise UsageError(f"there is no object '{name}'", "", "Name it as the level does, such as props/crate 1")
    return tuple(dict.fromkeys(found))


def all_but(scene: Scene, paths: tuple[str, ...]) -> tuple[str, ...]:
    """Paths of all nodes with faces but the named ones and what is below them."""
    but = set(paths)
    return tuple(
        scene.node_names[node] for node, _, _ in scene.node_ranges()
        if not but.intersection(_branches(scene.node_names[node]))
    )  # fmt: skip


def _branches(path: str) -> list[str]:
    """A path and all above it."""
    parts = path.split("/")
    return ["/".join(parts[: n + 1]) for n in range(len(parts))]


def below(scene: Scene, paths: tuple[str, ...]) -> Mask:
    """(T,) bool: triangles of the named nodes and of everything below them."""
    wanted = set(paths)
    mine = np.array([any(path in wanted for path in _branches(name)) for name in scene.node_names] + [False])
    found: Mask = mine[scene.node]
    return found


def rough_rays(want: I32) -> I32:
    """(N,) rays of texels whose light is only thrown back."""
    return np.minimum(want, np.maximum(-(-want // ROUGH), LEAST_ROUGH)).astype(np.int32)
