"""The commands that measure: the light, the detectors, the machine."""

from __future__ import annotations

import datetime
import json
from pathlib import Path
from typing import Any

from ropebell.cli.said import say
from ropebell.errors import UsageError, why
from ropebell.files import temporary_beside, write_text

EXIT_DONE = 0


def _try(path: Path) -> None:
    """Find out before the work whether its result can be written.

    Raises:
        UsageError: it cannot.
    """
    try:
        part = temporary_beside(path)
        part.touch()
        part.unlink()
    except (OSError, ValueError) as error:
        raise UsageError(
            f"it cannot be written ({why(error) if isinstance(error, OSError) else error})",
            path,
            "Name another file, in a folder that is there",
        ) from error


def bench(as_json: bool, scale: float, long: bool, window: bool, plot: Path | None) -> int:
    """`ropebell bench`."""
    from ropebell.bench import report, run

    if not 0.01 <= scale <= 100.0:
        raise UsageError(f"--scale {scale} is outside 0.01 … 100", "", "Choose another number")
    if plot is not None:
        _try(plot)
    if window:
        from ropebell.app.main import application

        application()  # without a display this ends here, not after minutes of measuring
    figures = run(scale, long or plot is not None)  # the curve is one of the long ones
    if window:
        from ropebell.app.latency import measure

        figures["window"] = measure()
    if plot is not None:
        from ropebell.bench.engine import curve_svg

        write_text(plot, curve_svg(figures["scaling"]))
    print(json.dumps(figures, indent=1) if as_json else report(figures))
    return EXIT_DONE


def hunts(out: Path) -> int:
    """`ropebell bench --hunts`."""
    from ropebell.bench import hunting

    _try(out)
    page = hunting.report(hunting.run(5), datetime.date.today())
    write_text(out, page)
    say(page)
    return EXIT_DONE


def accuracy(out: Path | None, as_json: bool) -> int:
    """`ropebell accuracy`."""
    from ropebell.bench import accuracy as closed
    from ropebell.bench import told_noise

    if out is not None:
        _try(out)
    found, noise = closed.run(), told_noise.run()
    page = closed.report(found, noise, datetime.date.today())
    if out is not None:
        try:
            write_text(out, page)
        except OSError as error:
            raise UsageError(f"it cannot be written ({why(error)})", out, "Name another file") from error
    if as_json:
        print(json.dumps(closed.as_json(found, noise)))
    elif out is None:
        print(page)
    return EXIT_DONE


def detection(out: Path | None, each: int, as_json: bool) -> int:
    """`ropebell detection`."""
    from dataclasses import asdict

    from ropebell.bench import detection as planted

    if not 1 <= each <= 100:
        raise UsageError(f"--each {each} is outside 1 … 100", "", "Choose another number")
    if out is not None:
        _try(out)
    by_draft: dict[int, list[planted.Kind]] = {}
    quiet: list[list[Any]] = []
    for draft in (1, 4):
        by_draft[draft], quiet = planted.run(each, draft)
    page = planted.report(by_draft, quiet, each, datetime.date.today())
    if out is not None:
        write_text(out, page)
    if as_json:
        told = {str(draft): [asdict(kind) for kind in kinds] for draft, kinds in by_draft.items()}
        print(json.dumps({"drafts": told, "clean": [len(found) for found in quiet]}))
    elif out is None:
        print(page)
    return EXIT_DONE
