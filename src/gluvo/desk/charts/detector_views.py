"""What a detector goes by: the spectrum that it hears with what of it triggers, and its path beside that of the sound."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.band_views import FREQ_TICKS, RIGHT
from gluvo.desk.charts.chart import Axis, Chart, time_ticks
from gluvo.desk.controls.theme import colours, font
from gluvo.dsp.compression import Curve
from gluvo.dsp.db import power_db
from gluvo.dsp.filters import response
from gluvo.dsp.kernel import Floats
from gluvo.measure.drive import RANGES, THIRDS, Drive
from gluvo.measure.hits import Hits
from gluvo.measure.paths import HOP, Paths
from gluvo.measure.spectrum import Tone, octaves
from gluvo.steps.settings import hertz

SLOPE = 4.5
"""dB per octave by which the spectrum is lifted about 1 kHz: music lies about level so."""
RANGE, ROOM = 60.0, 6.0
"""dB from top to bottom of the spectrum, and above its highest."""
FRACTION = 6
"""Of an octave over which it is smoothed."""
STRIP, AXIS = 34, 20
"""Pixels of the bar of shares, and of the figures of the axis."""
CENTRED = Qt.AlignmentFlag.AlignCenter
SIDES_APART = 8
"""Pixels between the two paths."""


class DetectorView(Chart):
    """What comes to a detector, what is left of it once it is cut, leaned and bent, and what of that triggers: as a bar under
    the frequencies where it lies."""

    bottom = AXIS + STRIP + 20

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(17.8, 22_400.0, FREQ_TICKS, log=True), Axis(-RANGE, 0.0, ()), parent)
        self._centres = octaves(96_000, 20.0, 12)
        self._tone: Tone | None = None
        self._part = "stereo"
        self._sections = np.zeros((0, 6))
        self._rate = 48_000
        self._drive: Drive | None = None
        self._words = self._ranges = self._shares = ""
        self.setToolTip(
            "Grey: the spectrum of what comes to the detector. Line: what it hears of it, after its cuts, shelves, bells and "
            "tilt; the sound itself stays as it is. The bar: where the energy lies that it hears while something is taken "
            "off. A tower in the lows says that the kick or the bass drives it: a low cut keeps it out."
        )

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        return " · ".join(word for word in (self._shares, self._words, self._ranges) if word)

    @property
    def _told(self) -> str:
        """What is written under the bar, which tells the ranges itself."""
        return " · ".join(word for word in (self._shares, self._words) if word)

    def show_tone(self, tone: Tone | None, part: str, sections: Floats, rate: int) -> None:
        """The spectra of what comes to the detector, which part of them it listens to, and what that passes."""
        self._tone, self._part, self._sections, self._rate = tone, part, sections, rate
        if tone is not None:
            top = float(max(v.max() for v in self._levels(tone)))
            top = 6.0 * math.ceil((top + ROOM) / 6.0)
            self.y_axis = Axis(top - RANGE, top, ())
        self.changed()

    def show_drive(self, drive: Drive | None) -> None:
        """What triggers, by thirds of an octave."""
        self._drive, self._words, self._ranges = drive, "", ""
        if drive is not None and drive.thirds.sum() > 0.0:
            freq, share = drive.top
            self._words = f"{100 * share:.0f} % of what triggers lies around {hertz(freq)}"
            lows, mids = drive.share(0.0, 150.0), drive.share(150.0, 2000.0)
            self._ranges = (
                f"below 150 Hz {100 * lows:.0f} %, to 2 kHz {100 * mids:.0f} %, "
                f"above {100 * max(0.0, 1.0 - lows - mids):.0f} %"
            )
        self.setAccessibleName(f"Detector: {self._words or 'nothing is reduced'}")
        self.changed()

    def show_shares(self, words: str) -> None:
        """Whose the reduction is, in words."""
        if words != self._shares:
            self._shares = words
            self.changed()

    def _levels(self, tone: Tone) -> tuple[Floats, Floats]:
        """What comes and what is heard of it, dB at the centres."""
        lift = SLOPE * np.log2(self._centres / 1000.0)
        came = np.asarray(tone.smoothed(self._part, FRACTION, self._centres) + lift)
        heard = came + power_db(np.abs(response(self._sections, self._centres, self._rate)) ** 2)
        return came, np.asarray(heard)

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._tone is None:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        came, heard = self._levels(self._tone)
        painter.fillPath(self.filled(self.line(self._centres, came), self.y_axis.low), c.soft("faint", 60))
        painter.setPen(QPen(c["reduction"], 2))
        painter.drawPolyline(self.line(self._centres, heard))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        c, drive = colours(), self._drive
        self.note(painter, area.left(), area.top() + 9, "grey: what comes to it · line: what it hears")
        if drive is None or not self._words:
            painter.setPen(c["faint"])
            painter.setFont(font(11))
            painter.drawText(
                QRectF(area.left(), area.bottom() + AXIS, area.width(), STRIP), CENTRED, "Nothing is reduced here."
            )
            return
        top = float(drive.thirds.max())
        base = area.bottom() + AXIS + STRIP
        for freq, share in zip(THIRDS.tolist(), drive.thirds.tolist(), strict=True):
            left, right = self.x_at(freq * 2.0 ** (-1.0 / 6.0)), self.x_at(freq * 2.0 ** (1.0 / 6.0))
            high = share / top * STRIP
            painter.fillRect(QRectF(left + 1, base - high, right - left - 2, high), c.soft("reduction", 90))
        painter.setFont(font(12))
        for (low, high), share in zip(RANGES, drive.ranges, strict=True):
            box = QRectF(self.x_at(low), base - STRIP, self.x_at(high) - self.x_at(low), STRIP)
            painter.setPen(QPen(c["hair"], 1))
            painter.drawRect(box)
            painter.setPen(c["ink"])
            painter.drawText(box, CENTRED, f"{100 * share:.0f} %")
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        box = QRectF(area.left(), base + 3, area.width(), 16)
        text = painter.fontMetrics().elidedText(self._told, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)


class TwoPathsView(Chart):
    """Above what passes, below what the detector reads of the same time; hits that it notices are filled, others hollow."""

    left, bottom = 34, 40

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 10.0, ()), Axis(0.0, 1.0, ()), parent)
        self._paths: Paths | None = None
        self._curve: Curve | None = None
        self._onsets, self._noticed = np.zeros(0), np.zeros(0, dtype=bool)
        self._begin = 0.0
        self._now: float | None = None
        self._words = ""
        self._levels = (-60.0, 0.0)
        """dBFS at the foot and at the top of a row."""
        self.setToolTip(
            "Above, the peaks of what passes; below, the level that the detector reads of the same moments, and the threshold. A "
            "filled mark stands at a hit that the detector notices, a hollow one at one that passes it by: there, no "
            "reduction begins, however loud the hit is."
        )

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        return self._words

    def show_paths(self, paths: Paths | None, hits: Hits | None, curve: Curve, begin: float) -> None:
        """`begin`: where in the song the paths begin, s."""
        self._paths, self._curve, self._begin = paths, curve, begin
        self._onsets, self._words = np.zeros(0), ""
        if paths is not None and len(paths.signal):
            end = begin + len(paths.signal) * HOP
            self.x_axis = Axis(begin, end, time_ticks(begin, end))
            highest = float(max(paths.signal.max(), paths.detector.max(), curve.threshold))
            top = max(-6.0, 6.0 * math.ceil(highest / 6.0))
            self._levels = min(top - 48.0, curve.threshold - 6.0), top
            if hits is not None:
                self._onsets = hits.onsets
                self._noticed = paths.noticed(hits.onsets, curve)
                count, all_of = int(self._noticed.sum()), len(self._onsets)
                self._words = f"the detector notices {count} of {all_of} hits"
        self.changed()

    def show_now(self, seconds: float | None) -> None:
        """Where playing is."""
        if seconds != self._now:
            self._now = seconds
            self.update()

    def _height(self, row: QRectF, level: Floats | float) -> Floats:
        """Where levels in dBFS stand in a row, in pixels."""
        low, top = self._levels
        return np.asarray(row.bottom() - (np.clip(level, low, top) - low) / (top - low) * row.height())

    @property
    def _rows(self) -> tuple[QRectF, QRectF]:
        area = self.area
        tall = (area.height() - SIDES_APART) / 2.0
        return (
            QRectF(area.left(), area.top(), area.width(), tall),
            QRectF(area.left(), area.top() + tall + SIDES_APART, area.width(), tall),
        )

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, paths, curve = colours(), self._paths, self._curve
        if paths is None or curve is None or len(paths.signal) < 2:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        columns = max(2, min(int(area.width()), len(paths.signal)))
        edges = np.linspace(0, len(paths.signal), columns + 1).astype(int)[:-1]
        wide = area.width() / columns
        for row, levels, name in zip(self._rows, (paths.signal, paths.detector), ("faint", "reduction"), strict=True):
            tops = self._height(row, np.maximum.reduceat(levels, edges))
            for n, y in enumerate(tops.tolist()):
                painter.fillRect(QRectF(area.left() + n * wide, y, wide + 0.4, row.bottom() - y), c.soft(name, 130))
            painter.setPen(QPen(c["rule"], 1))
            painter.drawLine(row.bottomLeft(), row.bottomRight())
        y = float(self._height(self._rows[1], curve.threshold))
        painter.setPen(QPen(c["reduction"], 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(c["ink"], 1.2))
        for onset, noticed in zip((self._begin + self._onsets).tolist(), self._noticed.tolist(), strict=False):
            painter.setBrush(c["ink"] if noticed else c["paper"])
            painter.drawEllipse(QPointF(self.x_at(onset), self._rows[1].top() - SIDES_APART / 2.0), 3.2, 3.2)

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._paths is None or self._curve is None:
            return
        first, second = self._rows
        painter.setFont(font(11))
        painter.setPen(colours()["faint"])
        low, top = self._levels
        for row in self._rows:
            for level in np.arange(top - 12.0, low + 6.0, -24.0).tolist():
                box = QRectF(0, float(self._height(row, level)) - 8, self.left - 6, 16)
                painter.drawText(box, RIGHT, f"{level:.0f}".replace("-", "−"))
        self.note(painter, area.left(), first.bottom() - 9, "what passes, peaks, dBFS")
        threshold = f"{self._curve.threshold:.1f}".replace("-", "−")
        told = f"what the detector reads, dBFS · threshold {threshold}"
        self.note(painter, area.left(), second.bottom() - 9, told, "reduction")
        painter.setPen(colours()["faint"])
        painter.setFont(font(11))
        words = (
            f"{self._words}: filled marks; the others pass it by" if self._words else "no hits to be told apart here"
        )
        box = QRectF(area.left(), area.bottom() + AXIS + 1, area.width(), 16)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        if self._now is not None and self.x_axis.low <= self._now <= self.x_axis.high:
            painter.setPen(QPen(colours()["ink"], 1))
            x = self.x_at(self._now)
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
