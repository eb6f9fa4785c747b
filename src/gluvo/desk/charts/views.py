"""What a step does, drawn: hits, transfer curve, reduction over time, what a limiter caught, tone."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart, time_ticks
from gluvo.desk.controls.theme import colours
from gluvo.dsp.compression import arriving, lifted_curve, static_curve
from gluvo.dsp.db import power_db
from gluvo.measure.overview import REDUCTION_HOP, Reduction
from gluvo.measure.spectrum import Spectrum, spanned
from gluvo.measure.trace import Span, Trace


class TransferView(Chart):
    """The static curve, how often the detector stands at each level, and where it stands now."""

    def __init__(self, hears: str = "detector level, dBFS", parent: QWidget | None = None) -> None:
        """`hears`: what the level is that goes across."""
        self._hears = hears
        self._lift: tuple[float, float, float, float] | None = None
        ticks = (-60, -48, -36, -24, -12, 0)
        super().__init__(Axis(-60.0, 3.0, ticks), Axis(-60.0, 3.0, ticks), parent)
        self._curve: tuple[float, float, float, float] | None = None
        self._mix = 1.0
        self._share: np.ndarray | None = None
        self._live: float | None = None
        self._live_reduction = 0.0
        self.setToolTip(
            "Level in (across) and out (up). Grey: how often the detector reads each level in the section. The dot is the "
            "level that it hears now, at the reduction it now causes."
        )

    def show_curve(
        self,
        curve: Iterable[float],
        levels: np.ndarray | None,
        lift: Iterable[float] | None = None,
        mix: float = 1.0,
    ) -> None:
        """`curve`: threshold, slope, knee and range, as `compression.static_curve` takes them; `lift` likewise, as
        `compression.lifted_curve` takes them, where what is quiet is lifted. `levels`: what the detector reads in the
        section, dBFS, every 10 ms. Of a `mix` under 1 what comes out is drawn, and what is reduced alone beside it."""
        self._lift, self._mix = None, mix
        if lift is not None:
            low, up, soft, highest = (float(v) for v in lift)
            self._lift = (low, up, soft, highest)
        threshold, slope, knee, most = (float(v) for v in curve)
        self._curve, self._share = (threshold, slope, knee, most), None
        if levels is not None and len(levels):
            counts, _ = np.histogram(levels, bins=63, range=(-60.0, 3.0))
            self._share = counts / max(1, counts.max())
        self.changed()

    def show_live(self, level: float | None, reduction: float) -> None:
        if (level, reduction) != (self._live, self._live_reduction):
            self._live, self._live_reduction = level, reduction
            self.update()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, curve = colours(), self._curve
        if curve is None:
            return
        if self._share is not None:
            for k, share in enumerate(self._share):
                left, right = self.x_at(-60.0 + k), self.x_at(-59.0 + k)
                height = share * area.height() * 0.4
                painter.fillRect(QRectF(left, area.bottom() - height, right - left - 1, height), c.soft("faint", 60))
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(self.x_at(-60), self.y_at(-60)), QPointF(self.x_at(3), self.y_at(3)))
        x = self.x_at(curve[0])
        painter.setPen(QPen(c["reduction"], 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        self.note(painter, x, area.top() + 10, f"threshold {curve[0]:.1f}".replace("-", "−"), "reduction", right=True)
        levels = np.linspace(-60.0, 3.0, 190)
        painter.setPen(QPen(c["signal"], 2))
        out = static_curve(levels, *curve)
        if self._lift is not None:
            out = out + lifted_curve(levels, *self._lift)
        if self._mix < 1.0:
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.drawPolyline(self.line(levels, out))
            painter.setPen(QPen(c["signal"], 2))
            out = levels - arriving(levels - out, self._mix)
        painter.drawPolyline(self.line(levels, out))

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._live is not None and self._live > -60.0:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c["reduction"])
            painter.drawEllipse(QPointF(self.x_at(self._live), self.y_at(self._live - self._live_reduction)), 4.5, 4.5)

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.right(), area.bottom() - 10, self._hears, right=True)


class ReductionView(Chart):
    """Reduction over the section, with where it is aimed."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 10.0, ()), Axis(-12.0, 0.5, (0, -3, -6, -9, -12)), parent)
        self._curve: np.ndarray | None = None
        self._times = np.zeros(0)
        self._aim: float | None = None
        self._now: float | None = None
        self._told = ""
        self.setToolTip("What the step takes away over the section, moment by moment; the upright line is now.")

    def show_reduction(
        self, reduction: Reduction | None, span: Span | None, offset: float, aim: float | None, told: str = ""
    ) -> None:
        """`span` in the song; `offset` is where the reduction's arrays begin in it. `told` stands at the line of the `aim`."""
        self._aim, self._told = aim, told
        self._curve = None
        if reduction is not None:
            start = (span.start - offset) if span else 0.0
            rate = reduction.curve_rate
            stop = (span.end - offset) if span else len(reduction.curve) / rate
            part = reduction.curve[max(0, round(start * rate)) : round(stop * rate)]
            points = 900
            if len(part) >= points:  # the most in each column, so that no peak is lost
                size = len(part) // points
                part = part[: size * points].reshape(points, size).max(axis=1)
            if len(part):
                begin = span.start if span else 0.0
                end = span.end if span else len(reduction.curve) * REDUCTION_HOP / reduction.rate
                self._curve = -part
                self._times = np.linspace(begin, end, len(part))
                self.x_axis = Axis(begin, end, time_ticks(begin, end))
                deepest = float(part.max(initial=0.0))
                depth = next((d for d in (3, 6, 12, 24) if deepest < 0.95 * d), 60)
                self.y_axis = Axis(-depth, depth * 0.04, [-depth * k / 4 for k in range(5)])
        self.changed()

    def sentence(self) -> str:
        return self._told

    def show_now(self, seconds: float | None) -> None:
        if seconds != self._now:
            self._now = seconds
            self.update()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._curve is None:
            self.say(painter, "Nothing measured yet.")
            return
        line = self.line(self._times, self._curve)
        painter.fillPath(self.filled(line, 0.0), c.soft("reduction", 70))
        painter.setPen(QPen(c["reduction"], 1.2))
        painter.drawPolyline(line)
        if self._aim is not None:
            y = self.y_at(-self._aim)
            painter.setPen(QPen(c["ink"], 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            self.note(painter, area.left(), y + 9, self._told)

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._now is not None and self.x_axis.low <= self._now <= self.x_axis.high:
            x = self.x_at(self._now)
            painter.setPen(QPen(c["ink"], 1.5))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))


class CaughtView(Chart):
    """The peaks that come to a limiter against its ceiling; what stands above is what it catches."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 10.0, ()), Axis(-18.0, 12.0, (6, 0, -6, -12, -18)), parent)
        self._peaks: np.ndarray | None = None
        self._times = np.zeros(0)
        self._ceiling = 0.0
        self._name = "ceiling"
        self._words = ""
        self.setToolTip(
            "Peaks before the limiter, with its drive, over the section. Above the ceiling is what it catches."
        )

    def show_peaks(
        self,
        before: Trace | None,
        span: Span | None,
        drive: float,
        ceiling: float,
        true_peak: bool,
        name: str = "the ceiling",
    ) -> None:
        """`before` is the trace of the section alone."""
        self._ceiling, self._peaks, self._name = ceiling, None, name
        if before is not None and len(before.true_peak):
            hops = power_db((before.true_peak if true_peak else before.sample_peak) ** 2) + drive
            over = hops > ceiling
            count = int((np.diff(over.astype(np.int8), prepend=0) == 1).sum())
            self._words = f"{count} peaks over {name} · {100.0 * over.mean():.1f} % of the time"
            points = 600
            size = max(1, len(hops) // points)
            self._peaks = hops[: len(hops) // size * size].reshape(-1, size).max(axis=1)
            begin = span.start if span else 0.0
            self._times = np.asarray(begin + np.arange(len(self._peaks)) * size * before.hop_seconds, dtype=np.float64)
            end = float(self._times[-1]) + 1e-3
            self.x_axis = Axis(begin, end, time_ticks(begin, end))
            top = max(6.0, 3.0 * math.ceil((float(self._peaks.max()) + 1.0) / 3.0))
            self.y_axis = Axis(-18.0, top, [float(v) for v in range(-18, int(top) + 1, 6)])
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._peaks is None:
            self.say(painter, "Nothing measured yet.")
            return
        line = self.line(self._times, self._peaks)
        painter.fillPath(self.filled(line, -60.0), c.soft("signal", 60))
        painter.save()
        painter.setClipRect(QRectF(area.left(), area.top(), area.width(), self.y_at(self._ceiling) - area.top()))
        painter.fillPath(self.filled(line, -60.0), c.soft("reduction", 150))
        painter.restore()
        painter.setPen(QPen(c["signal"], 1))
        painter.drawPolyline(line)
        y = self.y_at(self._ceiling)
        painter.setPen(QPen(c["ink"], 1.5))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        self.note(
            painter,
            area.left(),
            y + 10,
            f"{self._name.removeprefix('the ')} {self._ceiling:.1f}".replace("-", "−"),
            "ink",
        )

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._peaks is not None:
            self.note(painter, area.right(), area.top() + 9, self._words, right=True)


class ToneView(Chart):
    """The section's tone against the references', all at the same loudness."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(
            Axis(25.0, 18000.0, (50, 200, 1000, 5000, 15000), log=True),
            Axis(-30.0, 12.0, (-24, -12, 0, 12), signed=True),
            parent,
        )
        self.left, self.right, self.top = 28, 6, 8
        self.setAccessibleName("Tone against references")
        self._own: Spectrum | None = None
        self._others: list[np.ndarray] = []
        self.setToolTip(
            "Average spectrum of the section (blue) and the corridor of the references' paired sections (violet), "
            "in dB against their middle level, tilted by 4.5 dB per octave so that music lies about level."
        )

    def show_tone(self, own: Spectrum | None, others: list[Spectrum]) -> None:
        self._own = own
        self._others = []
        if own is not None:
            self._others = [
                self._levelled(Spectrum(own.freqs, np.interp(own.freqs, s.freqs, s.levels))) for s in others
            ]
            most = max(float(np.max(levels)) for levels in (self._levelled(own), *self._others))
            self.y_axis.high = max(12.0, 6.0 * math.ceil((most + 4.0) / 6.0))
        self.changed()

    @staticmethod
    def _levelled(s: Spectrum) -> np.ndarray:
        tilted = s.levels + 4.5 * np.log2(s.freqs / 1000.0)
        return np.asarray(tilted - np.median(tilted[(s.freqs > 100) & (s.freqs < 8000)]))

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._own is None:
            self.say(painter, "Nothing measured yet.")
            return
        f = self._own.freqs
        if self._others:
            mean, spread = spanned(np.stack(self._others))
            low, high = mean - spread, mean + spread
            band = [*self.line(f, high), *reversed(self.line(f, low))]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 56))
            painter.drawPolygon(band)
            painter.setPen(QPen(c["reference"], 1, Qt.PenStyle.DashLine))
            painter.drawPolyline(self.line(f, mean))
        painter.setPen(QPen(c["signal"], 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(self.line(f, self._levelled(self._own)))
