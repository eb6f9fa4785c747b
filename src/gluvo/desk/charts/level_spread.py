"""How often a detector stands at each level in the section, with its threshold; as small as a ruler."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from gluvo.desk.controls.theme import colours, font
from gluvo.dsp.kernel import Floats

LOW, HIGH, BINS = -80.0, 0.0, 40


class LevelSpread(QWidget):
    """A histogram from −80 to 0 dBFS; what lies past the threshold moves the band."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._share, self._threshold, self._words = np.zeros(BINS), -30.0, "Levels here"
        self.setToolTip(
            "How often this range stands at each level in the section, from −80 to 0 dBFS. What lies right of the "
            "threshold moves the band."
        )

    def sizeHint(self) -> QSize:
        return QSize(110, 40)

    @property
    def words(self) -> str:
        """What it says."""
        return self._words

    def show_levels(self, levels: Floats | None, threshold: float) -> None:
        """`levels`: what the detector reads, dBFS, every 10 ms; None where nothing is known."""
        self._threshold = threshold
        self._share = np.zeros(BINS)
        self._words = "Levels here"
        if levels is not None and len(levels):
            counts, _ = np.histogram(levels, bins=BINS, range=(LOW, HIGH))
            self._share = counts / max(1, counts.max())
            over = 100.0 * float(np.mean(levels > threshold))
            self._words = f"{over:.0f} % over it"
        self.setAccessibleName(self._words)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        painter.drawText(QRectF(0, 0, self.width(), 16), Qt.AlignmentFlag.AlignVCenter, self._words)
        left, width, base = 5.0, self.width() - 10.0, self.height() - 4.0
        place = (self._threshold - LOW) / (HIGH - LOW)
        for n, share in enumerate(self._share):
            past = (n + 0.5) / BINS > place
            bar = QRectF(left + n * width / BINS, base - share * 20.0, max(1.0, width / BINS - 1.0), share * 20.0)
            painter.fillRect(bar, c["reduction" if past else "faint"])
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(left, base), QPointF(left + width, base))
        painter.setPen(QPen(c["ink"], 1.5))
        painter.drawLine(QPointF(left + place * width, base - 22), QPointF(left + place * width, base))
