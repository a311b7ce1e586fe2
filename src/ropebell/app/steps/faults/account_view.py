"""The account of a spot as a ledger: what reaches it and how much, and what is kept from it."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ropebell.account.texel import Account, LightAccount
from ropebell.app.palette import THEME, font
from ropebell.app.words import luminance, lux
from ropebell.checks.subject import short

ROW, NAME, VALUE = 36, 0.36, 70
# Lights that give most, or are kept out, are told; so many.
MOST_LIGHTS = 6
# A light that is kept out is told if it would give this share of what there is.
WORTH = 0.1
# Surfaces that give it light are named, so many; and backs, from this share of the rays on.
MOST_GIVING, BEHIND = 3, 0.005
# What finishing changed is told above this share.
FINISHED = 0.02


@dataclass(frozen=True)
class Row:
    """One line.

    Attributes:
        value: lux. below: what is to be known of it.
    """

    name: str
    value: float
    below: str


def rows_of(account: Account, names: tuple[str, ...]) -> list[Row]:
    """The ledger's lines: lights straight from them, the sky, and bounces; they sum to the light before finishing."""
    found = []
    total = luminance(account.raw)
    lights = sorted(account.lights, key=lambda x: -luminance(x.direct))
    for light in lights:
        value = luminance(light.direct)
        # What gives nothing is told if it could: it is near, and something is in the way.
        kept_out = light.way is not None and light.way.in_reach and light.way.facing and light.way.open < 0.5
        if value > 0 or (kept_out and light.unblocked > WORTH * total):
            found.append(Row(light.name.rsplit("/", 1)[-1], value, _way(light, names)))
    kept = [r for r in found if r.value > 0][:MOST_LIGHTS]
    kept += [r for r in found if r.value == 0][: max(MOST_LIGHTS - len(kept), 2)]
    sky = luminance(account.sky_direct)
    if sky > 0 or account.open_share > 0:
        kept.append(Row("Sky", sky, f"{100 * account.open_share:.0f} % of its rays see it"))
    bounces = [luminance(b) for b in account.bounces[1:]]
    if bounces:
        giving = short(account.giving[0].node) if account.giving else ""
        kept.append(Row("Bounce 1", bounces[0], f"most of what bounces comes from {giving}" if giving else ""))
    if len(bounces) > 1:
        kept.append(Row(f"Bounces 2–{len(bounces)}", sum(bounces[1:]), ""))
    finished = luminance(account.shown) - total
    if abs(finished) > FINISHED * max(total, 1e-12):
        kept.append(Row("Filter, seams", finished, "what finishing made of it"))
    return kept


def facts_of(account: Account) -> str:
    """Where a spot lies on the pages, how sure its light is, which surfaces give it most, and whose backs it sees."""
    u, v = (int(x) for x in account.spot.uv)
    found = (
        f"Page {account.spot.page + 1}, texel {u}, {v}; {account.density:.3g} texels/m; "
        f"its gathered light is sure to ± {100 * account.noise:.2g} %."
    )
    if account.giving:
        most = [f"{short(g.node)} {lux(luminance(g.light))}" for g in account.giving[:MOST_GIVING]]
        found += f" Surfaces that give it most: {', '.join(most)}; thin lines show where from."
    share, whose = account.behind
    if share > BEHIND:
        names = ", ".join(name.rsplit("/", 1)[-1] for name in whose[:MOST_GIVING])
        found += f" {100 * share:.2g} % of its rays meet backs of {names}."
    if account.mixed_with:
        name, share = account.mixed_with[0]
        found += f" Far away it is read together with texels of {short(name)} ({100 * share:.0f} %)."
    return found


def _way(light: LightAccount, names: tuple[str, ...]) -> str:
    w = light.way
    if w is None:
        return ""
    if not w.in_reach:
        return "out of reach"
    if not w.facing:
        return "behind this face"
    if w.blocked_by:
        by, share = w.blocked_by[0]
        word = "kept out by" if w.open == 0 else f"{100 * share:.0f} % kept out by"
        return f"{word} {names[by].rsplit('/', 1)[-1]}"
    return "nothing in the way"


class AccountView(QWidget):
    """Draws the ledger."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows: list[Row] = []
        self.setAccessibleName("Where the light of this spot comes from")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_account(self, account: Account | None, names: tuple[str, ...]) -> None:
        """Show an account, or nothing."""
        self.rows = rows_of(account, names) if account is not None else []
        said = "; ".join(f"{r.name} {lux(r.value)}" for r in self.rows)
        self.setAccessibleDescription(said)
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, ROW * len(self.rows))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        most = max((r.value for r in self.rows), default=0.0) or 1.0
        left = int(self.width() * NAME)
        wide = self.width() - left - VALUE - 12
        for number, row in enumerate(self.rows):
            y = number * ROW
            painter.setFont(font(12))
            painter.setPen(THEME.color("text"))
            name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideMiddle, left - 10)
            painter.drawText(QRect(0, y, left - 6, 18), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(THEME.color("sunk"))
            painter.drawRoundedRect(QRectF(left, y + 6, wide, 5), 2.5, 2.5)
            if row.value > 0:
                painter.setBrush(THEME.color("accent"))
                painter.drawRoundedRect(QRectF(left, y + 6, max(wide * row.value / most, 2.0), 5), 2.5, 2.5)
            painter.setPen(THEME.color("text"))
            place = QRect(self.width() - VALUE, y, VALUE - 2, 18)
            painter.drawText(
                place,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                lux(row.value) if row.value >= 0 else f"−{lux(-row.value)}",
            )
            painter.setFont(font(11))
            painter.setPen(THEME.color("second"))
            below = painter.fontMetrics().elidedText(row.below, Qt.TextElideMode.ElideRight, self.width() - left)
            painter.drawText(QRect(left, y + 15, self.width() - left, 16), Qt.AlignmentFlag.AlignVCenter, below)
