"""The proof of a fault as two pieces of its page: as built, and with its cause taken away."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRect, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from ropebell.account.proof import Proof
from ropebell.app.palette import THEME, font
from ropebell.app.words import lux
from ropebell.level.model import F32

# Between the pictures, and what stands below them; the brightest that is shown as white, of all their texels.
GAP, BELOW, WHITE = 10, 38, 0.98


class ProofView(QWidget):
    """Draws them side by side, at one exposure; where the fault is worst is ringed."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.proof: Proof | None = None
        self._pictures: tuple[QImage, QImage] | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("The proof, before and after")

    def show_proof(self, proof: Proof | None) -> None:
        """Show one, or none."""
        self.proof = proof
        self.setVisible(proof is not None)
        if proof is None:
            return
        both = np.stack([proof.before, proof.after])
        brightest = float(np.nanquantile(both.max(axis=-1), WHITE)) if np.isfinite(both).any() else 1.0
        first, second = (_picture(x, max(brightest, 1e-9)) for x in both)
        self._pictures = first, second
        before, after = proof.values
        self.setAccessibleDescription(f"As built {lux(before)}; {proof.what} {lux(after)}")
        self.setToolTip("The texels round the worst spot, linear, both at one exposure")
        self._fit()
        self.update()

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)  # type: ignore[arg-type]
        self._fit()

    def _fit(self) -> None:
        if self.proof is not None:
            height, width = self.proof.before.shape[:2]
            self.setFixedHeight(round(self._side() * height / max(height, width)) + BELOW)

    def _side(self) -> int:
        return max((self.width() - GAP) // 2, 60)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.proof is None or self._pictures is None:
            return
        painter, side = QPainter(self), self._side()
        before, after = self.proof.values
        told = (("as built", before), (self.proof.what, after))
        for number, (picture, (words, value)) in enumerate(zip(self._pictures, told)):
            x = number * (side + GAP)
            texel = side / max(picture.width(), picture.height())
            wide, high = round(picture.width() * texel), round(picture.height() * texel)
            painter.fillRect(x, 0, side, high, THEME.color("sunk"))
            painter.drawImage(QRect(x, 0, wide, high), picture)
            self._ring(painter, x, texel)
            painter.setPen(THEME.color("text"))
            painter.setFont(font(12))
            painter.drawText(QRect(x, high + 2, side, 17), Qt.AlignmentFlag.AlignLeft, lux(value))
            painter.setPen(THEME.color("second"))
            painter.setFont(font(11))
            below = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, side)
            painter.drawText(QRect(x, high + 19, side, 16), Qt.AlignmentFlag.AlignLeft, below)

    def _ring(self, painter: QPainter, x: int, texel: float) -> None:
        assert self.proof is not None
        row, column = self.proof.at
        box = QRect(int(x + column * texel) - 3, int(row * texel) - 3, int(texel) + 6, int(texel) + 6)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, wide in ((QColor(0, 0, 0, 160), 3), (THEME.color("accent"), 1)):
            painter.setPen(QPen(colour, wide))
            painter.drawRect(box)


def _picture(light: F32, white: float) -> QImage:
    """Lux as colours of the screen, nothing where no texel is."""
    shown = np.clip(np.nan_to_num(light) / white, 0.0, 1.0)
    code = np.where(shown <= 0.0031308, 12.92 * shown, 1.055 * shown ** (1 / 2.4) - 0.055)
    alpha = np.isfinite(light).all(axis=-1, keepdims=True) * 255
    data = np.ascontiguousarray(np.concatenate([255 * code + 0.5, alpha], axis=-1).astype(np.uint8))
    height, width = data.shape[:2]
    return QImage(data.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
