"""The evidence of a watch-out, or of what a setting does, as a small picture."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.band_views import FREQ_TICKS
from gluvo.desk.charts.chart import Axis, Chart, time_ticks
from gluvo.desk.controls.theme import colours, font
from gluvo.measure.evidence import Evidence
from gluvo.steps.settings import hertz

ALONG = {
    "frequency": "Hz",
    "time": "s of the song",
    "hit": "ms after the hit",
    "bars": "",
    "level": "dBFS in",
    "moment": "ms about the place",
}
"""What goes across."""
CENTRED = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop


class EvidenceView(Chart):
    """Values by frequency, over time, along the mean hit, or as bars; grey what they are compared with."""

    left, right, bottom = 40, 12, 36

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 1.0, ()), Axis(0.0, 1.0, ()), parent)
        self._evidence: Evidence | None = None
        self.setAccessibleName("Evidence")
        self.setToolTip(
            "What was measured. Grey: what it is compared with. Dashed: its limit. The upright line is the place."
        )

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        found = self._evidence
        if found is None or not len(found.ys):
            return ""
        if found.along == "bars":
            return ", ".join(f"{name} {value:.1f}" for name, value in zip(found.names, found.ys.tolist(), strict=False))
        return f"{found.unit} from {float(found.ys.min()):.1f} to {float(found.ys.max()):.1f}"

    def show_evidence(self, evidence: Evidence | None) -> None:
        """None where there is nothing to draw."""
        self._evidence = evidence
        if evidence is not None and len(evidence.ys):
            values = [evidence.ys, *([evidence.beside] if evidence.beside is not None else []), *evidence.more]
            every = np.concatenate([v[np.isfinite(v)] for v in values])
            if evidence.limit is not None:
                every = np.append(every, evidence.limit)
            low, high = float(every.min()), float(every.max())
            if evidence.along == "hit" and evidence.unit == "dBFS":
                low = max(low, high - 40.0)
            if evidence.reach:
                low, high = min(low, -evidence.reach), max(high, evidence.reach)
            if evidence.along in ("time", "bars") or low < 0.0 < high:
                low, high = min(low, 0.0), max(high, 0.0)
            room = max(1e-6, high - low)
            self.y_axis = Axis(
                low - 0.06 * room, high + 0.12 * room, _ticks(low, high), signed=evidence.unit.startswith("dB")
            )
            first, last = float(evidence.xs[0]), float(evidence.xs[-1])
            if evidence.along == "frequency":
                self.x_axis = Axis(first, last, [t for t in FREQ_TICKS if first <= t <= last], log=True)
            elif evidence.along == "bars":
                self.x_axis = Axis(-0.5, len(evidence.ys) - 0.5, ())
            elif evidence.along == "hit":
                self.x_axis = Axis(first, last, [t for t in (0, 100, 200, 300, 400) if first <= t <= last])
            elif evidence.along in ("level", "moment"):
                self.x_axis = Axis(first, last, _ticks(first, last))
            else:
                last = max(last, first + 1e-3)
                self.x_axis = Axis(first, last, time_ticks(first, last) if last - first > 0.5 else ())
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, found = colours(), self._evidence
        if found is None or not len(found.ys):
            self.say(painter, "The sentence says all that was measured.")
            return
        if self.y_axis.low < 0.0 < self.y_axis.high:
            zero = round(self.y_at(0.0)) + 0.5
            painter.setPen(QPen(c["rule"], 1))
            painter.drawLine(QPointF(area.left(), zero), QPointF(area.right(), zero))
        if found.along == "bars":
            self._draw_bars(painter, found)
        else:
            base = 0.0 if self.y_axis.low < 0.0 < self.y_axis.high else self.y_axis.low
            if found.beside is not None:
                painter.setPen(QPen(c["faint"], 1.4))
                painter.drawPolyline(self.line(found.xs, found.beside))
            painter.setPen(QPen(c.soft("signal", 130), 1.0))
            for values in found.more:
                painter.drawPolyline(self.line(found.xs, values))
            line = self.line(found.xs, np.nan_to_num(found.ys, nan=base))
            painter.fillPath(self.filled(line, base), c.soft("signal", 40))
            painter.setPen(QPen(c["signal"], 1.8))
            painter.drawPolyline(line)
        if found.limit is not None:
            y = self.y_at(found.limit)
            painter.setPen(QPen(c["over"], 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        if found.mark is not None:
            x = self.x_at(found.mark)
            painter.setPen(QPen(c["mid"], 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))

    def _draw_bars(self, painter: QPainter, found: Evidence) -> None:
        c, wide = colours(), self.area.width() / max(1, len(found.ys))
        zero = self.y_at(0.0)
        for n, value in enumerate(found.ys.tolist()):
            middle, y = self.x_at(float(n)), self.y_at(value)
            if found.beside is not None:
                was = self.y_at(float(found.beside[n]))
                painter.fillRect(
                    QRectF(middle - 0.34 * wide, min(was, zero), 0.3 * wide, abs(was - zero)), c.soft("faint", 150)
                )
            left = middle if found.beside is not None else middle - 0.25 * wide
            painter.fillRect(
                QRectF(left, min(y, zero), (0.34 if found.beside is not None else 0.5) * wide, abs(y - zero)),
                c["signal"],
            )

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        found = self._evidence
        if found is None or not len(found.ys):
            return
        c = colours()
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        if found.along == "bars":
            wide = area.width() / max(1, len(found.ys))
            for n, name in enumerate(found.names):
                text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(wide) - 2)
                painter.drawText(QRectF(self.x_at(float(n)) - wide / 2, area.bottom() + 3, wide, 16), CENTRED, text)
        if found.mark is not None and found.along == "frequency":
            self.note(
                painter,
                self.x_at(found.mark),
                area.top() + 9,
                hertz(found.mark),
                "mid",
                self.x_at(found.mark) > area.center().x(),
            )
        along = ALONG[found.along]
        told = " · ".join(word for word in (found.unit, along) if word)
        painter.setPen(c["faint"])
        box = QRectF(area.left(), area.bottom() + 19, area.width(), 16)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)


def _ticks(low: float, high: float) -> list[float]:
    """Three to six round values between two."""
    room = max(1e-6, high - low)
    step = 10.0 ** math.floor(math.log10(room / 3.0))
    step = next(step * k for k in (1.0, 2.0, 5.0, 10.0) if room / (step * k) <= 5.5)
    return [round(k * step, 6) for k in range(math.ceil(low / step), math.floor(high / step) + 1)]
