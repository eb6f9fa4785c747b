"""What a compressor does to hits, and a lane to a chain, drawn."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart, time_ticks
from gluvo.desk.controls.theme import colours
from gluvo.measure import loudness
from gluvo.measure.hits import Hits, calm
from gluvo.measure.overview import REDUCED_BY, ReducedBy
from gluvo.measure.trace import Span, Trace


class HitsView(Chart):
    """The mean hit before (grey) and after (line), each with its quartiles; the reduction over it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(-20.0, 430.0, range(0, 401, 50)), Axis(-21.0, 9.0, (0, -6, -12, -18)), parent)
        self.bottom = 38
        self._hits: Hits | None = None
        self._attack = 0.0
        self._name = ""
        self._live: list[tuple[float, float]] = []
        """What is taken now since the last hit: ms and dB."""
        self.setToolTip(
            "The mean of all hits in the section: before the step (grey), after it (blue), half of the hits lie in the "
            "bands around them. Over it the reduction (its scale is the same, from the line at the top down); while it plays, "
            "what is taken now since the last hit is drawn over it."
        )

    def show_hits(self, hits: Hits | None, attack_ms: float, section: str) -> None:
        self._hits, self._attack, self._name = hits, attack_ms, section
        self._live = []
        self.changed()

    def show_live(self, seconds: float | None, reduction: float) -> None:
        """What is taken now, dB, at a place in the section in seconds; None where nothing plays in it."""
        hits, before = self._hits, len(self._live)
        since = -1.0
        if hits is not None and seconds is not None:
            past = hits.onsets[hits.onsets <= seconds]
            since = 1000.0 * (seconds - float(past[-1])) if len(past) else -1.0
        if not 0.0 <= since <= self.x_axis.high:
            self._live = []
        elif self._live and since < self._live[-1][0]:
            self._live = [(since, reduction)]  # the next hit
        elif not self._live or since > self._live[-1][0]:
            self._live.append((since, reduction))
        if self._live or before:
            self.update()

    @property
    def live(self) -> list[tuple[float, float]]:
        return self._live

    def sentence(self) -> str:
        hits = self._hits
        if hits is None:
            return "Fewer than two hits in this section."
        told = [f"Mean of {len(hits.onsets)} hits in {self._name}", f"punch kept {100 * hits.punch_kept:.0f} %"]
        told.append(f"{hits.reduction.max(initial=0.0):.1f} dB taken at most")
        if math.isfinite(hits.recovery):
            told.append(f"90 % recovered {1000 * hits.recovery:.0f} ms later")
        return ", ".join(told)

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        if not self._live:
            return
        c, zero = colours(), 7.0
        times, taken = (np.array(values) for values in zip(*self._live, strict=True))
        painter.setPen(QPen(c["ink"], 2))
        painter.drawPolyline(self.line(times, zero - taken))
        x, y = self.x_at(float(times[-1])), self.y_at(zero - float(taken[-1]))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["ink"])
        painter.drawEllipse(QPointF(x, y), 4, 4)

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, hits = colours(), self._hits
        if hits is None:
            self.say(painter, "Fewer than two hits in this section, or nothing measured yet.")
            return
        ms = hits.times * 1000.0
        top, end = float(hits.before.max()), float(hits.after.max())
        painter.fillPath(self.filled(self.line(ms, calm(hits.before) - top), -60.0), c.soft("faint", 60))
        self._band(painter, hits, (hits.before_low, hits.before_high), top, "faint")
        self._band(painter, hits, (hits.after_low, hits.after_high), end, "signal")
        painter.setPen(QPen(c["signal"], 2))
        painter.drawPolyline(self.line(ms, calm(hits.after) - end))
        if hits.reduction.any():
            self._draw_reduction(painter, area, hits)
        bottom = area.bottom() - 10
        for value, text in self._marks(hits):
            x = self.x_at(value)
            painter.setPen(QPen(c["ink"], 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, self.y_at(0)), QPointF(x, area.bottom()))
            self.note(painter, x, bottom, text, right=value > 250)
            bottom -= 16

    def _draw_reduction(self, painter: QPainter, area: QRectF, hits: Hits) -> None:
        """Reduction hangs from its own line above the hit, so that the two do not cross."""
        c, zero = colours(), 7.0
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(area.left(), self.y_at(zero)), QPointF(area.right(), self.y_at(zero)))
        curve = self.line(hits.times * 1000.0, zero - hits.reduction)
        painter.fillPath(self.filled(curve, zero), c.soft("reduction", 36))
        painter.setPen(QPen(c["reduction"], 2))
        painter.drawPolyline(curve)

    def _band(self, painter: QPainter, hits: Hits, edges: tuple[np.ndarray, np.ndarray], top: float, name: str) -> None:
        ms = hits.times * 1000.0
        low, high = (self.line(ms, calm(edge) - top) for edge in edges)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours().soft(name, 38))
        painter.drawPolygon([*high, *reversed(low)])
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _marks(self, hits: Hits) -> list[tuple[float, str]]:
        marks = [(self._attack, f"attack {self._attack:.0f} ms")]
        if math.isfinite(hits.recovery) and hits.recovery > 0.0:
            start = float(hits.times[int(np.argmax(hits.reduction))])
            marks.append(
                ((start + hits.recovery) * 1000.0, f"90 % recovered at {(start + hits.recovery) * 1000:.0f} ms")
            )
        spacing = hits.spacing * 1000.0
        if spacing < self.x_axis.high:
            marks.append((spacing, f"next hit at {spacing:.0f} ms"))
        return [mark for mark in marks if mark[0] < self.x_axis.high]

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._hits is None:
            return
        if self._hits.reduction.any():
            self.note(painter, area.right(), self.y_at(7.0) - 1, "reduction, dB from here", "reduction", right=True)
        c = colours()
        painter.setPen(c["faint"])
        spacing = self._hits.spacing * 1000.0
        later = f", {spacing:.0f} ms apart" if spacing >= self.x_axis.high else ""
        text = f"ms after the hit · mean of {len(self._hits.onsets)} hits in {self._name}{later}, dB under their tops"
        painter.drawText(QRectF(0, area.bottom() + 20, area.right(), 16), Qt.AlignmentFlag.AlignRight, text)


class SpreadView(Chart):
    """How often each amount of reduction occurs in the section, with the band around the aim."""

    BAND = 1.0
    """dB to either side of the aim."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 6.0, range(7)), Axis(0.0, 1.1, ()), parent)
        self.bottom = 38
        self._shares: np.ndarray | None = None
        self._width, self._reached, self._words = 0.25, 0.0, ""
        self._by: ReducedBy = "mean"
        self._aim: float | None = 0.0
        self.setToolTip(
            "How much of the section's time has how much reduction, in quarters of a dB. The band lies 1 dB to either "
            "side of the aim; a narrow hill inside it is steady, a wide one moves a lot."
        )

    def show_spread(self, values: np.ndarray, aim: float | None, reached: float, by: ReducedBy = "mean") -> None:
        """`values`: the reduction of every 10 ms that had signal, dB; `reached`: what that comes to at peaks, at most or on
        average (`by`). `aim`: None where there is none."""
        self._aim, self._reached, self._by, self._shares = aim, reached, by, None
        if len(values) and (aim is not None or values.max() > 0.0):
            most = max(3.0, (aim or 0.0) + 2.0, math.ceil(float(np.percentile(values, 99.5)) + 0.5))
            self._width = most / 48
            counts, _ = np.histogram(values, bins=48, range=(0.0, most))
            self._shares = counts / len(values)
            step = next(s for s in (1, 2, 5, 10) if most / s <= 10 or s == 10)
            self.x_axis = Axis(0.0, most, [float(v) for v in range(0, int(most) + 1, step)])
            low, high = np.percentile(values, [25.0, 75.0])
            self._words = f"half of it between {low:.1f} and {high:.1f} dB"
            if aim is not None and by == "mean":
                inside = float((np.abs(values - aim) <= self.BAND).mean())
                self._words = f"{100 * inside:.0f} % within 1 dB of the aim · {self._words}"
        self.changed()

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        return self._words

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._shares is None:
            self.say(painter, "Nothing is taken off here." if self._aim is None else "Nothing measured yet.")
            return
        lines = [(self._reached, "ink", Qt.PenStyle.SolidLine)]
        if self._aim is not None and self._by == "mean":
            left, right = self.x_at(max(0.0, self._aim - self.BAND)), self.x_at(self._aim + self.BAND)
            painter.fillRect(QRectF(left, area.top(), right - left, area.height()), c.soft("signal", 40))
        if self._aim is not None:
            lines.append((self._aim, "signal", Qt.PenStyle.DashLine))
        top = float(self._shares.max())
        for n, share in enumerate(self._shares):
            x, end = self.x_at(n * self._width), self.x_at((n + 1) * self._width)
            height = share / top * area.height() * 0.86
            painter.fillRect(QRectF(x, area.bottom() - height, end - x - 1, height), c.soft("reduction", 190))
        for value, name, style in lines:
            painter.setPen(QPen(c[name], 1.5, style))
            painter.drawLine(QPointF(self.x_at(value), area.top()), QPointF(self.x_at(value), area.bottom()))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._shares is None:
            return
        aim = self._aim
        under = aim is not None and self._reached < aim
        told = f"{REDUCED_BY[self._by]} {self._reached:.1f}"
        self.note(painter, self.x_at(self._reached), area.top() + 9, told, "ink", under)
        if aim is not None:
            self.note(painter, self.x_at(aim), area.top() + 25, f"aim {aim:.1f}", "signal", not under)
        painter.setPen(colours()["faint"])
        text = f"dB of reduction · {self._words}"
        painter.drawText(QRectF(0, area.bottom() + 20, area.right(), 16), Qt.AlignmentFlag.AlignRight, text)


class LaneView(Chart):
    """Momentary loudness over the section: the chain, the lane at its level, and both together."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 10.0, ()), Axis(-48.0, -6.0, (-12, -24, -36)), parent)
        self._curves: list[tuple[str, float, np.ndarray]] = []
        self._times = np.zeros(0)
        self.setToolTip(
            "Momentary loudness over the section: what comes along the chain (grey), the lane as it comes back (amber), "
            "and both together (blue)."
        )

    def show_lane(self, main: Trace, lane: Trace, both: Trace, span: Span | None) -> None:
        parts = (("faint", 1.2, main), ("mid", 1.6, lane), ("signal", 2.0, both))
        self._curves = [(name, width, loudness.momentary(trace)[::4]) for name, width, trace in parts]
        begin = span.start if span else 0.0
        self._times = np.asarray(begin + 0.4 + np.arange(len(self._curves[0][2])) * 4 * main.hop_seconds)
        if len(self._times) > 1:
            end = float(self._times[-1])
            self.x_axis = Axis(begin, end, time_ticks(begin, end))
            top = 6.0 * math.ceil((float(self._curves[2][2].max()) + 2.0) / 6.0)
            self.y_axis = Axis(top - 42.0, top, [top - 6.0 * k for k in range(0, 8, 2)])
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        if not self._curves or len(self._times) < 2:
            self.say(painter, "Nothing measured yet.")
            return
        for name, width, values in self._curves:
            painter.setPen(QPen(colours()[name], width))
            painter.drawPolyline(self.line(self._times, np.maximum(values, self.y_axis.low - 20.0)))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._curves:
            for n, (name, text) in enumerate((("faint", "chain"), ("mid", "lane"), ("signal", "both"))):
                self.note(painter, area.left() + 4 + 52 * n, area.top() + 9, text, name)
            self.note(painter, area.right(), area.top() + 9, "LUFS, momentary", right=True)
