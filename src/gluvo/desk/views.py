"""What a step does, drawn: hits, transfer curve, reduction over time, what a limiter caught, tone."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.chart import Axis, Chart
from gluvo.desk.theme import colours
from gluvo.dsp.compression import static_curve
from gluvo.dsp.db import power_db
from gluvo.measure import loudness
from gluvo.measure.hits import Hits
from gluvo.measure.overview import REDUCTION_HOP, Reduction
from gluvo.measure.spectrum import Spectrum
from gluvo.measure.trace import Span, Trace
from gluvo.steps import Glue


def calm(curve: np.ndarray) -> np.ndarray:
    """An envelope without the half-waves of low notes: the largest of 8 ms, then their mean. For drawing only."""
    windows = np.lib.stride_tricks.sliding_window_view(np.pad(curve, 8, mode="edge"), 17)
    return np.asarray(np.convolve(np.pad(windows.max(axis=1), 4, mode="edge"), np.full(9, 1 / 9), mode="valid"))


class HitsView(Chart):
    """The mean hit before (grey) and after (line), each with its quartiles; the reduction over it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(-20.0, 430.0, range(0, 401, 50)), Axis(-21.0, 9.0, (0, -6, -12, -18)), parent)
        self.bottom = 38
        self._hits: Hits | None = None
        self._attack = 0.0
        self._name = ""
        self.setToolTip(
            "The mean of all hits in the section: before the step (grey), after it (blue), half of the hits lie in the "
            "bands around them. Over it the reduction (its scale is the same, from the line at the top down)."
        )

    def show_hits(self, hits: Hits | None, attack_ms: float, section: str) -> None:
        self._hits, self._attack, self._name = hits, attack_ms, section
        self.changed()

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
        # reduction hangs from its own line above the hit, so that the two do not cross
        zero = 7.0
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(area.left(), self.y_at(zero)), QPointF(area.right(), self.y_at(zero)))
        curve = self.line(ms, zero - hits.reduction)
        painter.fillPath(self.filled(curve, zero), c.soft("reduction", 36))
        painter.setPen(QPen(c["reduction"], 2))
        painter.drawPolyline(curve)
        bottom = area.bottom() - 10
        for value, text in self._marks(hits):
            x = self.x_at(value)
            painter.setPen(QPen(c["ink"], 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, self.y_at(0)), QPointF(x, area.bottom()))
            self.note(painter, x, bottom, text, right=value > 250)
            bottom -= 16

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
        self._width, self._aim, self._mean, self._words = 0.25, 0.0, 0.0, ""
        self.setToolTip(
            "How much of the section's time has how much reduction, in quarters of a dB. The band lies 1 dB to either "
            "side of the aim; a narrow hill inside it is steady, a wide one moves a lot."
        )

    def show_spread(self, values: np.ndarray, aim: float, mean: float) -> None:
        """`values`: the reduction of every 10 ms that had signal, dB."""
        self._aim, self._mean, self._shares = aim, mean, None
        if len(values):
            most = max(3.0, aim + 2.0, math.ceil(float(np.percentile(values, 99.5)) + 0.5))
            self._width = most / 48
            counts, _ = np.histogram(values, bins=48, range=(0.0, most))
            self._shares = counts / len(values)
            step = next(s for s in (1, 2, 5, 10) if most / s <= 10 or s == 10)
            self.x_axis = Axis(0.0, most, [float(v) for v in range(0, int(most) + 1, step)])
            inside = float((np.abs(values - aim) <= self.BAND).mean())
            low, high = np.percentile(values, [25.0, 75.0])
            self._words = (
                f"{100 * inside:.0f} % within 1 dB of the aim · half of it between {low:.1f} and {high:.1f} dB"
            )
        self.changed()

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        return self._words

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._shares is None:
            self.say(painter, "Nothing measured yet.")
            return
        left, right = self.x_at(max(0.0, self._aim - self.BAND)), self.x_at(self._aim + self.BAND)
        painter.fillRect(QRectF(left, area.top(), right - left, area.height()), c.soft("signal", 40))
        top = float(self._shares.max())
        for n, share in enumerate(self._shares):
            x, end = self.x_at(n * self._width), self.x_at((n + 1) * self._width)
            height = share / top * area.height() * 0.86
            painter.fillRect(QRectF(x, area.bottom() - height, end - x - 1, height), c.soft("reduction", 190))
        for value, name, style in (
            (self._aim, "signal", Qt.PenStyle.DashLine),
            (self._mean, "ink", Qt.PenStyle.SolidLine),
        ):
            painter.setPen(QPen(c[name], 1.5, style))
            painter.drawLine(QPointF(self.x_at(value), area.top()), QPointF(self.x_at(value), area.bottom()))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._shares is None:
            return
        self.note(
            painter, self.x_at(self._mean), area.top() + 9, f"mean {self._mean:.1f}", "ink", self._mean < self._aim
        )
        self.note(
            painter, self.x_at(self._aim), area.top() + 25, f"aim {self._aim:.1f}", "signal", self._mean >= self._aim
        )
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


def time_ticks(begin: float, end: float) -> list[float]:
    """Round times in seconds to be marked between two."""
    step = next(s for s in (1, 2, 5, 10, 20, 30, 60, 120, 300) if (end - begin) / s <= 10 or s == 300)
    return [float(t) for t in np.arange(math.ceil(begin / step) * step, end, step)]


class TransferView(Chart):
    """The static curve, how often the detector stands at each level, and where it stands now."""

    def __init__(self, parent: QWidget | None = None) -> None:
        ticks = (-60, -48, -36, -24, -12, 0)
        super().__init__(Axis(-60.0, 3.0, ticks), Axis(-60.0, 3.0, ticks), parent)
        self._glue: Glue | None = None
        self._share: np.ndarray | None = None
        self._before: Trace | None = None
        self._live: float | None = None
        self._live_reduction = 0.0
        self.setToolTip(
            "Level in (across) and out (up). Grey: how often the section has each level. The dot is the level that "
            "the detector hears now, at the reduction it now causes."
        )

    def show_glue(self, glue: Glue, before: Trace | None) -> None:
        self._glue = glue
        if before is None:
            self._share = None
        elif before is not self._before and len(before.squares):
            self._before = before
            levels = power_db(2.0 * before.squares.max(axis=1))
            counts, _ = np.histogram(levels, bins=63, range=(-60.0, 3.0))
            self._share = counts / max(1, counts.max())
        self.changed()

    def show_live(self, level: float | None, reduction: float) -> None:
        if (level, reduction) != (self._live, self._live_reduction):
            self._live, self._live_reduction = level, reduction
            self.update()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, glue = colours(), self._glue
        if glue is None:
            return
        if self._share is not None:
            for k, share in enumerate(self._share):
                left, right = self.x_at(-60.0 + k), self.x_at(-59.0 + k)
                height = share * area.height() * 0.4
                painter.fillRect(QRectF(left, area.bottom() - height, right - left - 1, height), c.soft("faint", 60))
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(self.x_at(-60), self.y_at(-60)), QPointF(self.x_at(3), self.y_at(3)))
        x = self.x_at(glue.threshold)
        painter.setPen(QPen(c["reduction"], 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        self.note(
            painter, x, area.top() + 10, f"threshold {glue.threshold:.1f}".replace("-", "−"), "reduction", right=True
        )
        levels = np.linspace(-60.0, 3.0, 190)
        painter.setPen(QPen(c["signal"], 2))
        painter.drawPolyline(self.line(levels, static_curve(levels, *glue.curve)))

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._live is not None and self._live > -60.0:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c["reduction"])
            painter.drawEllipse(QPointF(self.x_at(self._live), self.y_at(self._live - self._live_reduction)), 4.5, 4.5)

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.right(), area.bottom() - 10, "detector level, dBFS", right=True)


class ReductionView(Chart):
    """Reduction over the section, with where it is aimed."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(Axis(0.0, 10.0, ()), Axis(-12.0, 0.5, (0, -3, -6, -9, -12)), parent)
        self._curve: np.ndarray | None = None
        self._times = np.zeros(0)
        self._aim: float | None = None
        self._now: float | None = None
        self._mean = 0.0
        self.setToolTip("What the step takes away over the section, moment by moment; the upright line is now.")

    def show_reduction(
        self, reduction: Reduction | None, span: Span | None, offset: float, aim: float | None, mean: float
    ) -> None:
        """`span` in the song; `offset` is where the reduction's arrays begin in it."""
        self._aim, self._mean = aim, mean
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
            self.note(painter, area.left(), y + 9, f"aim {self._aim:.1f} dB · mean {self._mean:.2f} dB")

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
        super().__init__(Axis(25.0, 18000.0, (50, 200, 1000, 5000, 15000), log=True), Axis(-30.0, 12.0, ()), parent)
        self.left, self.right, self.top = 4, 4, 4
        self._own: Spectrum | None = None
        self._others: list[np.ndarray] = []
        self.setToolTip(
            "Average spectrum of the section (blue) and of the references (violet, the range between them filled), "
            "tilted by 4.5 dB per octave so that music lies about level, at the same overall level."
        )

    def show_tone(self, own: Spectrum | None, others: list[Spectrum]) -> None:
        self._own = own
        self._others = []
        if own is not None:
            self._others = [
                self._levelled(Spectrum(own.freqs, np.interp(own.freqs, s.freqs, s.levels))) for s in others
            ]
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
            low, high = np.min(self._others, axis=0), np.max(self._others, axis=0)
            band = [*self.line(f, high), *reversed(self.line(f, low))]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 56))
            painter.drawPolygon(band)
            painter.setPen(QPen(c["reference"], 1, Qt.PenStyle.DashLine))
            painter.drawPolyline(self.line(f, np.mean(self._others, axis=0)))
        painter.setPen(QPen(c["signal"], 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(self.line(f, self._levelled(self._own)))
