"""Which objects and lights a build's time went to, without opening a log."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from ropebell.app.desk import Desk
from ropebell.build.result import Result, open_result
from ropebell.compare.ledger import Ledger, ledger
from ropebell.errors import RopeBellError

# Of each sort so many are named, and so many in the tool tip; after the first, those with this share of the time.
NAMED, MORE, LEAST = 3, 25, 0.005


def longest(found: Ledger, what: str, many: int) -> str:
    """The objects or lights that took longest, with their seconds; empty where none took any.

    The first is named even if it took next to nothing: that it did is worth knowing.

    Args:
        what: `object` or `light`.
    """
    some = found.by(what, of_all=False)[:many]
    told = [(name, s) for i, (name, s) in enumerate(some) if s > 0.0 and (i == 0 or s >= LEAST * found.total)]
    return ", ".join(f"{name.rsplit('/', 1)[-1]} {_seconds(seconds)}" for name, seconds in told)


def _seconds(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds >= 0.05 else "under 0.1 s"


class LongestLabel(QLabel):
    """Follows the build that is looked at; it is asked for while somebody looks."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._wanted: Result | None = None
        self._asked: Result | None = None
        self.setProperty("role", "second")
        self.setWordWrap(True)
        self.hide()

    def show_result(self, result: Result | None, watched: bool) -> None:
        """Say where the time of a finished build went; nothing for none.

        Args:
            watched: whether anybody would read it.
        """
        if result is not self._wanted:
            self._wanted = result
            self.hide()
        if result is None or not watched or self._asked is result:
            return
        self._asked = result

        def work() -> Ledger | None:
            try:
                # What is shown may stand on the level of now; where time went is a matter of the build's own.
                return ledger(open_result(result.folder))
            except RopeBellError:
                return None  # what it left is damaged; the bench says so

        def receive(found: Ledger | None) -> None:
            if found is None or self._wanted is not result:
                return
            words = [f"{title}: {told}" for title, what in SORTS if (told := longest(found, what, NAMED))]
            self.setText("\n".join(words))
            self.setToolTip("\n".join(f"{title}: {longest(found, what, MORE)}" for title, what in SORTS))
            self.setVisible(bool(words))

        self._desk.jobs.start("longest", work, receive)


SORTS = (("Longest objects", "object"), ("Longest lights", "light"))
