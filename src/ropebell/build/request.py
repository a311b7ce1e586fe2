"""What a build is asked to do: plain values that cross to the build process as JSON."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.recipe import Recipe, parse
from ropebell.build.scope import EVERYTHING, Scope
from ropebell.errors import ProjectError
from ropebell.level.brief import NO_BRIEF, Brief, from_values, to_values
from ropebell.level.model import F32
from ropebell.light.view import View
from ropebell.light.workers import cores


@dataclass(frozen=True)
class Request:
    """A build to be made.

    Attributes:
        level: the level file.
        out: the build's folder.
        cache: the folder of stage artifacts.
        recipe: all settings.
        sky: (3,) uniform sky radiance in cd/m²; black with a cut box.
        brief: what the designer decided about the level.
        tables: emitter tables, the shared default first.
        sky_picture: equirectangular picture whose mean is `sky`, None for a uniform sky.
        rates: measured work rates for the remaining time.
        note: free text kept in the manifest.
        pictures: whether intermediate pictures are wanted.
        view: from where the level is looked at, to be served first; None: no place before others.
        scope: how much of the level is lit. stop_when: tripwires, as they are written.
        worker: of `light.arithmetic.WORKERS`; empty: the engine as it is.
    """

    level: Path
    out: Path
    cache: Path
    recipe: Recipe
    sky: tuple[float, float, float] = (0.0, 0.0, 0.0)
    brief: Brief = NO_BRIEF
    tables: tuple[Path, ...] = ()
    sky_picture: Path | None = None
    rates: dict[str, float] = field(default_factory=dict)
    note: str = ""
    pictures: bool = True
    view: View | None = None
    scope: Scope = EVERYTHING
    stop_when: tuple[str, ...] = ()
    worker: str = ""

    def __post_init__(self) -> None:
        """No light comes in through a cut: with a cut box there is no sky."""
        if self.scope.box is not None:
            object.__setattr__(self, "sky", (0.0, 0.0, 0.0))
            object.__setattr__(self, "sky_picture", None)

    @property
    def gathered_sky(self) -> F32:
        """(3,) radiance in cd/m² of the sky that gather rays see; a sky picture is sampled by rays of its own."""
        return np.array(self.sky if self.sky_picture is None else (0.0, 0.0, 0.0), np.float32)

    @property
    def workers(self) -> int:
        """Threads to use."""
        return self.recipe.limits.workers or cores()

    def to_json(self) -> str:
        """As one line of JSON."""
        return json.dumps(
            {
                "level": str(self.level.absolute()),
                "out": str(self.out.absolute()),
                "cache": str(self.cache.absolute()),
                "recipe": self.recipe.model_dump(),
                "sky": list(self.sky),
                "brief": to_values(self.brief),
                "tables": [str(path.absolute()) for path in self.tables],
                "sky_picture": str(self.sky_picture.absolute()) if self.sky_picture is not None else "",
                "rates": self.rates,
                "note": self.note,
                "pictures": self.pictures,
                "view": self.view.as_values() if self.view is not None else None,
                "scope": self.scope.as_values(),
                "stop_when": list(self.stop_when),
                "worker": self.worker,
            }
        )

    @staticmethod
    def from_json(text: str) -> Request:
        """Back from `to_json`.

        Raises:
            ProjectError: this is no request.
        """
        try:
            return Request._of(json.loads(text))
        except (ValueError, LookupError, TypeError, AttributeError, OverflowError, RecursionError) as error:
            raise ProjectError("it is no request for a build", "", "Begin the build again") from error

    @staticmethod
    def _of(values: dict[str, Any]) -> Request:
        r, g, b = (float(v) for v in values["sky"])
        return Request(
            level=Path(values["level"]),
            out=Path(values["out"]),
            cache=Path(values["cache"]),
            recipe=parse(values["recipe"]),
            sky=(r, g, b),
            brief=from_values(values["brief"]),
            tables=tuple(Path(path) for path in values["tables"]),
            sky_picture=Path(values["sky_picture"]) if values["sky_picture"] else None,
            rates={str(stage): float(rate) for stage, rate in values["rates"].items()},
            note=str(values["note"]),
            pictures=bool(values["pictures"]),
            view=View.of(values["view"]) if values["view"] else None,
            scope=Scope.of(values.get("scope", {})),
            stop_when=tuple(str(text) for text in values.get("stop_when", ())),
            worker=str(values.get("worker", "")),
        )
