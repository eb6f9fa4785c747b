"""How often a band stands how far from what came into it: a histogram on its side, with the live value as a mark."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours
from gluvo.dsp.kernel import Floats
from gluvo.measure.overview import PEAKS_SHARE

BINS = 32
LEAST_DOWN = -6.0
"""dB that the axis reaches down to at least."""
SOME = 0.05
"""dB under which nothing has changed."""


class ChangeSpread(Chart):
    """What a band's steps and gain do over the section: 0 dB is as it came, down is taken off, up is added."""

    left, right, top, bottom = 30, 4, 6, 6

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 1.06, ()), Axis(LEAST_DOWN, 0.6, (0, -2, -4, -6)), parent)
        self._shares: Floats | None = None
        self._edges = np.zeros(0)
        self._live: float | None = None
        self._words = ""
        self.setMinimumHeight(84)
        self.setToolTip(
            "How much of the section's time the band stands how many dB from what came into it, every 10 ms. Down is taken "
            "off, up is added. The arrow is what is done now."
        )

    @property
    def words(self) -> str:
        """What it shows, in a few words."""
        return self._words

    def show_change(self, change: Floats | None) -> None:
        """`change`: dB from before to after of every 10 ms with signal; None where nothing is known."""
        self._shares, self._words = None, ""
        if change is not None and len(change):
            low, high = (float(v) for v in np.percentile(change, (0.5, 99.5)))
            mean = float(change.mean())
            if max(abs(low), abs(high)) > SOME:
                down = min(LEAST_DOWN, 2.0 * math.floor((low - 0.5) / 2.0))
                up = 0.6 if high < 0.5 else 2.0 * math.ceil((high + 0.3) / 2.0)
                step = 2 if up - down <= 16.0 else 6
                first = step * math.ceil(down / step)
                self.y_axis = Axis(down, up, [float(v) for v in range(int(first), int(up) + 1, step)], signed=True)
                counts, self._edges = np.histogram(change, bins=BINS, range=(down, up))
                self._shares = counts / max(1, counts.max())
                self._words = _words(change, mean, low, high)
        self.setAccessibleName(self._words or "Nothing is changed")
        self.changed()

    def show_live(self, change: float | None) -> None:
        """What is done now, dB; None where nothing plays."""
        if change != self._live:
            self._live = change
            self.update()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._shares is None:
            return
        for share, low, high in zip(self._shares, self._edges[:-1], self._edges[1:], strict=True):
            if share > 0.0:
                top, bottom = self.y_at(high), self.y_at(low)
                bar = QRectF(
                    area.left(), top + 0.5, max(1.5, share * area.width() / 1.06), max(1.0, bottom - top - 1.0)
                )
                painter.fillRect(bar, c.soft("reduction" if low + high < 0.0 else "signal", 150))

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        if self._live is None or self._shares is None:
            return
        c = colours()
        y = min(area.bottom(), max(area.top(), self.y_at(self._live)))
        painter.setPen(QPen(c["ink"], 1.5))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["ink"])
        left = area.left()
        painter.drawPolygon(QPolygonF([QPointF(left, y), QPointF(left + 8, y - 5), QPointF(left + 8, y + 5)]))


def _words(change: Floats, mean: float, low: float, high: float) -> str:
    """“2.0 dB off at peaks, 4.1 at most, 0.7 mean” or the like, up."""
    way, most, share = ("off", low, PEAKS_SHARE) if mean < 0.0 else ("up", high, 1.0 - PEAKS_SHARE)
    peaks = float(np.quantile(change, share))
    return f"{abs(peaks):.1f} dB {way} at peaks, {abs(most):.1f} at most, {abs(mean):.1f} mean"
