"""Errors a person can act on. Each says what is wrong, where, and what to do; everything else is a bug."""

from __future__ import annotations


class RopeBellError(Exception):
    """A known trouble: one plain sentence, never a traceback.

    Args:
        what: what is wrong, without a full stop.
        where: the file and the place in it.
        remedy: what the person can do, without a full stop.
    """

    exit_code = 2

    def __init__(self, what: str, where: object = "", remedy: str = "") -> None:
        self.what, self.where, self.remedy = what, str(where), remedy
        place = f"{where}: " if str(where) else ""
        advice = f". {remedy}." if remedy else ""
        # Names in foreign files may hold line breaks; the message stays one line.
        super().__init__(" ".join(f"{place}{what}{advice}".split()))


class LevelError(RopeBellError):
    """A level file cannot be read."""


class RecipeError(RopeBellError):
    """A recipe, or one of its values, is not usable."""


class ProjectError(RopeBellError):
    """A project folder or its project.toml is not usable."""


class UsageError(RopeBellError):
    """A command was called with arguments that make no sense."""


class GraphicsError(RopeBellError):
    """The stage cannot be drawn on this machine."""


class RelightError(RopeBellError):
    """A build's light cannot be shown otherwise than it was built."""


class BuildError(RopeBellError):
    """A build could not be carried out."""

    exit_code = 3


class Stopped(Exception):
    """A build was asked to stop; raised between two steps of its work.

    Args:
        reason: `"asked"` for a person's stop, `"limit"` for a tripwire.
        detail: a sentence for the journal.
    """

    def __init__(self, reason: str = "asked", detail: str = "stopped on request") -> None:
        super().__init__(detail)
        self.reason, self.detail = reason, detail
