"""Errors a person can act on. Each says what is wrong, where, and what to do; everything else is a bug."""

from __future__ import annotations

import errno

# What the system says in one word, and what helps; of anything else, the system's own words.
REASONS = {
    errno.ENOSPC: ("the disk is full", "Free some space"),
    errno.EDQUOT: ("the share of the disk that this account may use is full", "Free some space"),
    errno.EFBIG: ("it would be larger than the limit on files allows", "Raise the limit (ulimit -f)"),
    errno.EMFILE: ("more files are open than the limit allows", "Raise the limit (ulimit -n)"),
    errno.ENFILE: ("the system has more files open than it allows", "Close other programs"),
    errno.ENOMEM: ("there is not enough memory", "Close other programs, or raise the limit (ulimit -v)"),
    errno.EACCES: ("permission is denied", "Choose another place, or change its permissions"),
    errno.EPERM: ("permission is denied", "Choose another place, or change its permissions"),
    errno.EROFS: ("it can only be read", "Choose another place"),
    errno.ENAMETOOLONG: ("its name is too long", "Choose a shorter one"),
    errno.ELOOP: ("it is a link, and nothing is written through links", "Remove the link, or choose another place"),
}

# What the C library's loader says when it cannot map a library.
NO_ROOM_FOR_LIBRARY = ("failed to map segment", "cannot allocate memory", "cannot map zero-fill pages")


def shown(text: str) -> str:
    """Text with what a terminal would obey, or cannot show, written out."""
    return "".join(c if c == " " or c.isprintable() else c.encode("unicode_escape").decode("ascii") for c in text)


def why(error: OSError) -> str:
    """What the system refused, in words; never empty."""
    number = _number(error)
    if number is None:  # the array library says only how much it has written
        return f"not all of it could be written; the disk or a limit on files is full ({error})"
    return REASONS.get(number, (str(error.strerror or error), ""))[0]


def step(error: OSError) -> str:
    """What a person can do about it, without a full stop."""
    return REASONS.get(_number(error) or 0, ("", "Check the disk and its permissions"))[1]


def _number(error: OSError) -> int | None:
    """Its number; the loader of libraries gives none where memory for one is refused."""
    no_room = error.errno is None and any(words in str(error) for words in NO_ROOM_FOR_LIBRARY)
    return errno.ENOMEM if no_room else error.errno


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
        # Names in foreign files may hold line breaks and worse; the message stays one line of plain text.
        super().__init__(shown(" ".join(f"{place}{what}{advice}".split())))


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

    Attributes:
        told: what else there is to say, by the names of the journal's last event.
    """

    def __init__(self, reason: str = "asked", detail: str = "stopped on request") -> None:
        super().__init__(detail)
        self.reason, self.detail = reason, detail
        self.told: dict[str, object] = {}
