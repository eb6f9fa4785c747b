"""Loudness over the song: how it moves, how it adds up, and where it lies against the target."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart, time_ticks
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import clock, figure
from gluvo.measure import loudness
from gluvo.measure.loudness import LOUDEST_SECONDS, loudest_span
from gluvo.measure.trace import Trace
from gluvo.session.records import Section, Target

POINTS = 1200


class LoudnessView(Chart):
    """Momentary and short-term loudness of the result, integrated as it builds up, the untouched song behind."""

    sought = Signal(float)
    """A place in the song, in seconds."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 60.0, ()), Axis(-36.0, -4.0, (-6, -12, -18, -24, -30)), parent)
        self.top = 22
        self._curves: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self._trace: Trace | None = None
        self._before: Trace | None = None
        self._target = Target(name="")
        self._sections: Sequence[Section] = ()
        self._range = (0.0, 0.0)
        self._gate = -70.0
        self._loudest = 0.0
        self._at: float | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Loudness over time")
        self.setToolTip(
            "Short-term loudness (3 s) as a line, momentary (400 ms) behind it, integrated as it builds up in ink, the "
            "untouched song in grey. Dotted: the target with its tolerance. Shaded across: the loudness range. Under the "
            "gate a part does not count for the integrated loudness. Click to go there; arrows move the reading."
        )

    def show_loudness(self, trace: Trace, before: Trace | None, target: Target, sections: Sequence[Section]) -> None:
        """Of the whole result and of the untouched song."""
        self._target, self._sections = target, sections
        if trace is self._trace and before is self._before:
            self.changed()
            return
        self._trace, self._before = trace, before
        short, hop = loudness.short_term(trace), trace.hop_seconds
        self._curves = {
            "momentary": _thinned(loudness.momentary(trace), 0.4, hop),
            "short": _thinned(short, 3.0, hop),
            "integrated": loudness.building_up(trace),
        }
        if before is not None:
            self._curves["before"] = _thinned(loudness.short_term(before), 3.0, before.hop_seconds)
        self._range, self._gate = loudness.range_edges(trace), loudness.gate_of(trace)
        self._loudest = loudest_span(trace, LOUDEST_SECONDS) if trace.seconds > LOUDEST_SECONDS else -1.0
        self.x_axis = Axis(0.0, max(1.0, trace.seconds), time_ticks(0.0, max(1.0, trace.seconds)))
        heard = short[short > -70.0]
        top = 6.0 * np.ceil((max(float(heard.max(initial=-14.0)), target.loudness) + 2.0) / 6.0)
        low = min(
            top - 24.0,
            6.0 * np.floor((min(float(np.percentile(heard, 2)) if len(heard) else top, self._gate) - 1.0) / 6.0),
        )
        low = max(low, top - 48.0)
        self.y_axis = Axis(low, top, [float(v) for v in np.arange(low, top + 1.0, 6.0)])
        self.changed()

    def readings(self) -> str:
        """What the pointer reads, in words; nothing where it is not over the song."""
        if self._at is None or not self._curves:
            return ""
        words = [clock(self._at)]
        for key, name in (("momentary", "M"), ("short", "S"), ("integrated", "so far"), ("before", "untouched S")):
            if key in self._curves and len(self._curves[key][0]):
                times, values = self._curves[key]
                near = int(np.clip(np.searchsorted(times, self._at), 0, len(times) - 1))
                words.append(f"{name} {figure(float(values[near]))}")
        return "   ".join(words)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._read(self.x_axis.value((event.position().x() - self.area.left()) / self.area.width()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._at is not None:
            self.sought.emit(self._at)

    def leaveEvent(self, event: object) -> None:
        self._at = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = (self.x_axis.high - self.x_axis.low) / 100.0
        moves = {Qt.Key.Key_Left: -step, Qt.Key.Key_Right: step}
        if (move := moves.get(Qt.Key(event.key()))) is not None:
            self._read((self._at if self._at is not None else 0.0) + move)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._at is not None:
            self.sought.emit(self._at)
        else:
            event.ignore()

    def _read(self, seconds: float) -> None:
        self._at = min(max(seconds, self.x_axis.low), self.x_axis.high)
        self.update()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if not self._curves:
            self.say(painter, "Nothing measured yet.")
            return
        low, high = (self.y_at(v) for v in self._range)
        if self._range[1] > self._range[0]:
            painter.fillRect(QRectF(area.left(), high, area.width(), low - high), c.soft("signal", 22))
        gate = self.y_at(self._gate)
        if gate < area.bottom():
            painter.fillRect(QRectF(area.left(), gate, area.width(), area.bottom() - gate), c.soft("faint", 34))
        if self._loudest >= 0.0:
            left, right = self.x_at(self._loudest), self.x_at(self._loudest + LOUDEST_SECONDS)
            painter.fillRect(QRectF(left, area.top(), right - left, 4), c["mid"])
        if self._target.measure == "integrated":
            wanted, miss = self._target.loudness, self._target.tolerance
            edge = self.y_at(wanted + miss)
            painter.fillRect(
                QRectF(area.left(), edge, area.width(), self.y_at(wanted - miss) - edge), c.soft("ink", 26)
            )
        for key, name, width in (("before", "faint", 1.4), ("momentary", "faint", 1.0), ("short", "signal", 2.0)):
            if key in self._curves:
                colour = c.soft("signal", 90) if key == "momentary" else c[name]
                painter.setPen(QPen(colour, width))
                painter.drawPolyline(self.line(*self._curves[key]))
        painter.setPen(QPen(c["ink"], 1.6))
        painter.drawPolyline(self.line(*self._curves["integrated"]))
        y = self.y_at(self._target.loudness)
        painter.setPen(QPen(c["ink"], 1.2, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        painter.setPen(QPen(c["rule"], 1))
        for section in self._sections:
            x = self.x_at(section.start)
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if not self._curves:
            return
        c = colours()
        painter.setPen(c["faint"])
        for section in self._sections:
            x, end = self.x_at(section.start), self.x_at(section.end)
            if end - x > 28:
                text = painter.fontMetrics().elidedText(section.name, Qt.TextElideMode.ElideRight, int(end - x) - 6)
                painter.drawText(QRectF(x + 3, 2, end - x, 16), Qt.AlignmentFlag.AlignVCenter, text)
        x = area.left() + 2
        for words, colour in (("short-term", "signal"), ("so far", "ink"), ("untouched", "faint")):
            self.note(painter, x, area.bottom() - 10, words, colour)
            x += painter.fontMetrics().horizontalAdvance(words) + 12
        y = self.y_at(self._target.loudness)
        self.note(painter, area.left(), y - 9, f"target {figure(self._target.loudness)}")
        if self._range[1] > self._range[0]:
            width = self._range[1] - self._range[0]
            self.note(
                painter, area.right(), self.y_at(self._range[0]) - 9, f"range {width:.1f} LU", "signal", right=True
            )
        if self.y_at(self._gate) < area.bottom() - 14:
            self.note(painter, area.right(), self.y_at(self._gate) + 9, "under the gate", right=True)

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        if self._at is None or not self._curves:
            return
        c, x = colours(), self.x_at(self._at)
        painter.setPen(QPen(c["ink"], 1))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        self.note(painter, x, area.top() + 10, self.readings(), "ink", right=x > area.center().x())


def _thinned(values: Sequence[float] | np.ndarray, first: float, hop: float) -> tuple[np.ndarray, np.ndarray]:
    step = max(1, len(values) // POINTS)
    return first + np.arange(len(values))[::step] * hop, np.asarray(values)[::step]
