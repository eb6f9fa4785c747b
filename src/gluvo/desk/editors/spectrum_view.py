"""The spectrum of what goes into a step and what comes out: averaged and live, with limits and one to compare with."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.compare.tones import Frozen
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import figure
from gluvo.dsp.kernel import Floats
from gluvo.dsp.notes import note_of
from gluvo.measure.spectrum import Tone, octaves, spanned
from gluvo.session.records import Analyser, Limit

PIVOT = 1000.0
"""Hz about which a slope turns the drawing."""
DEPTH = 66.0
"""dB under the highest at which a difference is not told any more."""
RANGE = 72.0
"""dB from top to bottom."""
LOW = 170
"""Pixels of height under which every other level is written."""
OCTAVE_TICKS = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000)
CALM = 0.35
"""How much of a new live spectrum comes in at a time."""
PART_COLOURS = {"stereo": "signal", "mid": "mid", "side": "side", "left": "signal", "right": "signal"}


def frequency_axis(low: float = 20.0) -> Axis:
    return Axis(low, 20_000.0, [t for t in OCTAVE_TICKS if t >= low], log=True)


def lifted(freqs: Floats, slope: float) -> Floats:
    """dB that a slope adds at frequencies."""
    return np.asarray(slope * np.log2(freqs / PIVOT))


def described(freq: float) -> str:
    """A frequency and the note that is nearest."""
    return f"{freq:.0f} Hz · {note_of(freq)}" if freq < 10_000 else f"{freq / 1000:.1f} kHz · {note_of(freq)}"


def difference(before: Floats, after: Floats) -> tuple[Floats, float]:
    """After less before, dB, of two levels by frequency, not a number where there is next to nothing; and the dB to either side
    that a drawing of it needs."""
    there = np.maximum(before, after) > np.maximum(before, after).max() - DEPTH
    change = np.where(there, after - before, np.nan)
    most = float(np.nanmax(np.abs(change), initial=0.0))
    return change, next((reach for reach in (3.0, 6.0, 12.0, 24.0) if most < 0.95 * reach), 48.0)


def greatest(change: Floats, centres: Floats) -> str:
    """The greatest change and where it is, in words; some of it must be a number."""
    place = int(np.nanargmax(np.abs(change)))
    return f"{figure(float(change[place]), signed=True)} dB at {described(float(centres[place]))}"


class LiveTone:
    """A spectrum that follows the sound calmly, and the highest that it has reached."""

    def __init__(self) -> None:
        self.tone: Tone | None = None
        self.held: Tone | None = None

    def push(self, tone: Tone) -> None:
        """The spectra of the last moments."""
        old = self.tone
        if old is None or len(old.freqs) != len(tone.freqs):
            self.tone = tone
        else:
            self.tone = _mixed(old, tone, CALM)

    def hold(self, on: bool) -> None:
        """Keep the highest, or forget it."""
        if not on or self.tone is None:
            self.held = None
        elif self.held is None or len(self.held.freqs) != len(self.tone.freqs):
            self.held = self.tone
        else:
            self.held = _highest(self.held, self.tone)


def _mixed(a: Tone, b: Tone, share: float) -> Tone:
    def mix(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        return x + share * (y - x)

    return Tone(a.freqs, mix(a.left, b.left), mix(a.right, b.right), mix(a.cross, b.cross))


def _highest(a: Tone, b: Tone) -> Tone:
    """At each frequency the one that has more power in all."""
    more = a.left + a.right >= b.left + b.right
    return Tone(
        a.freqs, np.where(more, a.left, b.left), np.where(more, a.right, b.right), np.where(more, a.cross, b.cross)
    )


class SpectrumView(Chart):
    """Before (grey), after (line), what is frozen (dashed), limits (red dots); live over it."""

    drawn_limit = Signal(object)
    """A line was drawn: points of Hz and dB, the slope taken out."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(frequency_axis(), Axis(-100.0, -28.0, ()), parent)
        self.centres = octaves(96_000, 20.0, 24)
        self._settings = Analyser()
        self._before: Tone | None = None
        self._after: Tone | None = None
        self._loudness = 0.0
        self._frozen: Frozen | None = None
        self._references: Sequence[Frozen] = ()
        self._limits: Sequence[Limit] = ()
        self._live: list[Floats] = []
        """Levels as they are drawn: before, after, and the highest after."""
        self._pointer: QPointF | None = None
        self.drawing = False
        """Whether a drag draws a limit."""
        self._stroke: dict[int, float] = {}
        self.setMouseTracking(True)
        self.setAccessibleName("Spectrum")
        self.setToolTip(
            "Power by frequency. Grey: what comes in. Line: what goes out. Dashed: what was frozen, at the same loudness. "
            "Dotted: limits. With Live on, the lines follow the sound."
        )

    # --- what is shown -------------------------------------------------------------------------------------

    def show_tones(self, before: Tone | None, after: Tone | None, loudness: float) -> None:
        """Averages of the section; `loudness` of what comes out, LUFS."""
        if before is not self._before or after is not self._after or loudness != self._loudness:
            self._before, self._after, self._loudness = before, after, loudness
            self._set_range()
            self.changed()

    def show_settings(self, settings: Analyser) -> None:
        if settings != self._settings:
            self._settings = settings
            if not settings.live:
                self._live = []
            self._set_range()
            self.changed()

    def show_limits(self, limits: Sequence[Limit]) -> None:
        if limits is not self._limits:
            self._limits = limits
            self.changed()

    def show_frozen(self, frozen: Frozen | None) -> None:
        if frozen is not self._frozen:
            self._frozen = frozen
            self.changed()

    def show_references(self, references: Sequence[Frozen]) -> None:
        """Those whose corridor is drawn, where the settings ask for it."""
        if references is not self._references:
            self._references = references
            self.changed()

    def show_live(self, before: Tone, after: Tone, held: Tone | None) -> None:
        if not self._live:  # the average is drawn until there is something live
            self.changed()
        self._live = [self.levels(tone) for tone in (before, after, held) if tone is not None]
        self.update()

    def levels(self, tone: Tone) -> Floats:
        """A spectrum as it is drawn: dB at `centres`."""
        smoothed = tone.smoothed(self._settings.part, self._settings.fraction, self.centres)
        return np.asarray(smoothed + lifted(self.centres, self._settings.slope))

    def _set_range(self) -> None:
        tone = self._before or self._after
        if tone is None:
            return
        top = 6.0 * math.ceil((float(self.levels(tone).max()) + 5.0) / 6.0)
        apart = 12.0 if self.height() > LOW else 24.0
        ticks = tuple(top - apart * k for k in range(round(RANGE / apart) + 1))
        if ticks != self.y_axis.ticks:
            self.y_axis = Axis(top - RANGE, top, ticks)

    def over_limits(self) -> list[tuple[Limit, float, float]]:
        """Limits that what comes out passes: by how many dB at most, and where in Hz."""
        found = []
        if self._after is not None:
            plain = self._after.smoothed(self._settings.part, self._settings.fraction, self.centres)
            for limit in self._limits:
                freqs, levels = np.array(limit.points).T
                inside = (self.centres >= freqs[0]) & (self.centres <= freqs[-1])
                if inside.any():
                    over = plain[inside] - np.interp(np.log(self.centres[inside]), np.log(freqs), levels)
                    place = int(np.argmax(over))
                    if over[place] > 0.0:
                        found.append((limit, float(over[place]), float(self.centres[inside][place])))
        return found

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)
        self._set_range()

    # --- drawing -------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._before is None and self._after is None:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        if self._before is not None:
            painter.fillPath(
                self.filled(self.line(self.centres, self.levels(self._before)), self.y_axis.low), c.soft("faint", 52)
            )
        if self._settings.corridor and self._references:
            spectra = np.stack([self.levels(r.tone) - r.loudness for r in self._references])
            mean, spread = spanned(spectra + self._loudness)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 56))
            high, low = self.line(self.centres, mean + spread), self.line(self.centres, mean - spread)
            painter.drawPolygon([*high, *reversed(low)])
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._frozen is not None:
            shifted = self.levels(self._frozen.tone) + self._loudness - self._frozen.loudness
            painter.setPen(QPen(c["reference"], 1.5, Qt.PenStyle.DashLine))
            painter.drawPolyline(self.line(self.centres, shifted))
        if self._after is not None and not (self._settings.live and self._live):
            painter.setPen(QPen(c[PART_COLOURS[self._settings.part]], 2))
            painter.drawPolyline(self.line(self.centres, self.levels(self._after)))
        if self._settings.change and self._before is not None and self._after is not None and not self._live:
            self._draw_difference(painter, area, self.levels(self._before), self.levels(self._after))
        painter.setPen(QPen(c["over"], 2, Qt.PenStyle.DotLine))
        for limit in self._limits:
            freqs, levels = np.array(limit.points).T
            painter.drawPolyline(self.line(freqs, levels + lifted(freqs, self._settings.slope)))

    def _draw_difference(self, painter: QPainter, area: QRectF, before: Floats, after: Floats) -> None:
        """The line of after less before about the middle of the view, with its own scale at the right."""
        c, middle = colours(), area.center().y()
        change, reach = difference(before, after)
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(area.left(), middle), QPointF(area.right(), middle))
        xs = area.left() + self.x_axis.places(self.centres) * area.width()
        ys = middle - change / reach * area.height() / 2.0
        painter.setPen(QPen(c["reduction"], 1.6))
        there = np.isfinite(ys)
        for part in np.split(np.arange(len(ys)), np.flatnonzero(np.diff(there)) + 1):
            if there[part[0]]:
                painter.drawPolyline([QPointF(x, y) for x, y in zip(xs[part].tolist(), ys[part].tolist(), strict=True)])

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        y = area.top() + 10
        if (told := self._change_words()) and not self._live:
            self.note(painter, area.right(), area.bottom() - 9, told, "reduction", right=True)
        if self._frozen is not None:
            self.note(painter, area.right(), y, f"{self._frozen.name}, equally loud", "reference", right=True)
            y += 16
        for limit, by, freq in self.over_limits():
            text = f"{limit.name}: over by {figure(by)} dB at {described(freq)}"
            self.note(painter, area.right(), y, text, "over", right=True)
            y += 16
        self.note(painter, area.left(), area.bottom() - 9, self._words())

    def _change_words(self) -> str:
        """What the line of after less before says."""
        if not self._settings.change or self._before is None or self._after is None:
            return ""
        change, reach = difference(self.levels(self._before), self.levels(self._after))
        if not np.isfinite(change).any():
            return ""
        return f"change, ±{reach:.0f} dB: at most {greatest(change, self.centres)}"

    @property
    def words(self) -> str:
        """What the chart says, in a sentence."""
        return self._change_words()

    def _words(self) -> str:
        s = self._settings
        return f"{s.part}, 1/{s.fraction} octave, {s.slope:g} dB/oct · dB"

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        c, colour = colours(), PART_COLOURS[self._settings.part]
        if self._settings.live:
            pens = QPen(c["faint"], 1), QPen(c[colour], 1.5), QPen(c.soft(colour, 150), 1, Qt.PenStyle.DotLine)
            for levels, pen in zip(self._live, pens, strict=False):
                painter.setPen(pen)
                painter.drawPolyline(self.line(self.centres, levels))
            if self._settings.change and len(self._live) >= 2:
                self._draw_difference(painter, area, *self._live[:2])
        if self._stroke:
            freqs = np.array(sorted(self._stroke)) / 100.0
            painter.setPen(QPen(c["over"], 2))
            painter.drawPolyline(
                [QPointF(self.x_at(2.0**f), self.y_at(self._stroke[round(f * 100)])) for f in freqs.tolist()]
            )
        if self._pointer is not None:
            painter.setPen(QPen(c["rule"], 1))
            x = self._pointer.x()
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            self.note(painter, x, area.bottom() - 10, self._at_pointer(), "ink", right=x > area.center().x())

    def _at_pointer(self) -> str:
        assert self._pointer is not None
        freq = self.x_axis.value((self._pointer.x() - self.area.left()) / self.area.width())
        words = [described(freq)]
        for name, tone in (("in", self._before), ("out", self._after)):
            if tone is not None:
                words.append(f"{name} {figure(float(np.interp(freq, self.centres, self.levels(tone))))} dB")
        return " · ".join(words)

    # --- the mouse -----------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.drawing and event.button() == Qt.MouseButton.LeftButton:
            self._stroke = {}
            self._draw_to(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._pointer = event.position() if self.area.contains(event.position()) else None
        if self.drawing and event.buttons() & Qt.MouseButton.LeftButton:
            self._draw_to(event.position())
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if not self._stroke:
            return
        stroke, self._stroke = self._stroke, {}
        self.update()
        if len(stroke) >= 2:
            freqs = 2.0 ** (np.array(sorted(stroke)) / 100.0)
            levels = np.array([stroke[k] for k in sorted(stroke)]) - lifted(freqs, self._settings.slope)
            self.drawn_limit.emit(
                tuple((round(float(f), 2), round(float(v), 2)) for f, v in zip(freqs, levels, strict=True))
            )

    def leaveEvent(self, event: object) -> None:
        self._pointer = None
        self.update()

    def _draw_to(self, place: QPointF) -> None:
        """Take a point into the stroke: one for each hundredth of an octave."""
        across = min(1.0, max(0.0, (place.x() - self.area.left()) / self.area.width()))
        up = min(1.0, max(0.0, (self.area.bottom() - place.y()) / self.area.height()))
        self._stroke[round(100.0 * math.log2(self.x_axis.value(across)))] = self.y_axis.value(up)
        self.update()
