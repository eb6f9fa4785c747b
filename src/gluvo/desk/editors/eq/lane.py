"""One lane of an equaliser's curves: the bands of a target over the spectra before and after."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPen,
    QPolygonF,
    QWheelEvent,
)

from gluvo.compare.tones import Frozen
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.eq.curves import LOWEST, db_of_response
from gluvo.desk.editors.spectrum_view import OCTAVE_TICKS, PART_COLOURS, described, lifted
from gluvo.dsp.kernel import Floats
from gluvo.measure.resonances import Resonance
from gluvo.measure.spectrum import Tone, spanned
from gluvo.session.records import Analyser, Limit
from gluvo.steps import Band, MidSideEq
from gluvo.steps.bands import WITH_GAIN

SPECTRUM_RANGE = 60.0
"""dB of spectrum over the height of a lane."""
REACH = 11.0
"""Pixels from its middle within which a mark is met."""
FINE = 0.1
CURVE_POINTS = 420
SEMITONE = 2.0 ** (1.0 / 12.0)
LANE_TITLES = {"stereo": "Stereo", "mid": "Mid", "side": "Side", "left": "Left", "right": "Right"}


@dataclass(frozen=True)
class Gesture:
    """What the user does to a band."""

    band: int
    """Its id."""
    changes: dict[str, object]
    """Its changed settings."""


class EqLane(Chart):
    """Marks are dragged: across for the frequency, up and down for the gain; the wheel turns the Q. Double-click in the open
    adds a bell; on a mark it takes its gain back to 0."""

    changed_band = Signal(object)
    """A `Gesture`."""
    settled = Signal()
    chosen = Signal(int)
    wanted = Signal(float, float)
    """A band is wanted at this frequency and gain."""
    removed = Signal(int)
    asked = Signal(int, object)
    """The menu of a band, at a place on the screen."""
    stepped = Signal(int)
    """The next band (1) or the one before it (−1) is to be chosen."""
    hunted = Signal(object)
    """Where on screen the pointer is while hunting, a `QPointF`; None: it was let go."""

    def __init__(self, target: str, *, last: bool) -> None:
        self.target = target
        self._freqs = np.geomspace(LOWEST, 20_000.0, CURVE_POINTS)
        super().__init__(Axis(LOWEST, 20_000.0, OCTAVE_TICKS[:-1], log=True), _gains(6.0))
        self.bottom = 20 if last else 4
        self.top = 4
        self._shows_ticks = last
        self._step = MidSideEq()
        self._rate = 48_000
        self._chosen = 0
        self._curve = np.zeros(CURVE_POINTS)
        self._before: Tone | None = None
        self._after: Tone | None = None
        self._settings = Analyser()
        self._top = 0.0
        """dB of the spectra at the upper edge."""
        self._levels: list[Floats] = []
        self._references: tuple[tuple[Frozen, ...], float] = (), 0.0
        self._paths: tuple[tuple[int, int, int], list[QPainterPath]] | None = None
        self._live: tuple[Floats, Floats] | None = None
        self._lively: Tone | None = None
        """The spectrum that `_live` was last made of."""
        self._moves: Mapping[int, float] = {}
        self._resonances: Sequence[Resonance] = ()
        self._limits: Sequence[Limit] = ()
        self._dragged, self._at, self._origin = 0, QPointF(), (0.0, 0.0)
        self._pointer: QPointF | None = None
        self.hunting = False
        """Whether the pointer hunts rather than drags."""
        self._hunts = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(64)
        self.setAccessibleName(f"{LANE_TITLES[target]} curve")
        self.setToolTip(
            f"<b>{LANE_TITLES[target]}</b><br>What the bands do to it (line), over its spectrum before (filled) and after "
            "(thin); dotted: limits that were drawn in the Spectrum.<br><span style='font-size:11px'>Double-click adds a bell. "
            "Drag a mark; Shift is fine; the wheel turns Q; double-click takes its gain to 0; right-click for more. Keys: ←→ a "
            "semitone, ↑↓ half a dB, Page keys Q, Ctrl+←→ another band, Insert adds, Del removes.</span>"
        )

    @property
    def targets(self) -> tuple[str, ...]:
        """The targets whose bands work here."""
        return ("stereo",) if self.target == "stereo" else ("stereo", self.target)

    @property
    def bands(self) -> list[tuple[int, Band]]:
        """The bands drawn here, with their numbers."""
        return [(n, b) for n, b in enumerate(self._step.bands, start=1) if b.target in self.targets]

    # --- what is shown -------------------------------------------------------------------------------------

    def set_last(self, last: bool) -> None:
        """Whether the frequencies are written under this lane."""
        if last != self._shows_ticks:
            self._shows_ticks, self.bottom = last, 20 if last else 4
            self.changed()

    def show_step(self, step: MidSideEq, rate: int, chosen: int, top: float) -> None:
        """`top`: dB at the upper edge, the same for all lanes; see `gain_range`."""
        if (step, rate, chosen, top) == (self._step, self._rate, self._chosen, self.y_axis.high):
            return
        self._step, self._rate, self._chosen = step, rate, chosen
        self._curve = db_of_response(step.response(self.targets, self._freqs, rate))
        if top != self.y_axis.high and not self._dragged:  # what is dragged keeps its scale
            self.y_axis = _gains(top)
        self.changed()

    def show_tones(self, before: Tone | None, after: Tone | None, settings: Analyser) -> None:
        if (before, after, settings) != (self._before, self._after, self._settings):
            self._before, self._after, self._settings = before, after, settings
            if before is not None:
                self._top = self._upper_edge(before)
            self._levels = [self._over_edge(tone) for tone in (before, after) if tone is not None]
            self._paths = None
            self.changed()

    def show_references(self, references: Sequence[Frozen], loudness: float) -> None:
        """Those whose corridor is drawn, as loud as what comes out (LUFS), where the settings ask for it."""
        wanted = tuple(references) if self._settings.corridor else ()
        if (wanted, loudness) != self._references:
            self._references = wanted, loudness
            self.changed()

    def show_limits(self, limits: Sequence[Limit]) -> None:
        """Lines that a spectrum should stay under."""
        if limits is not self._limits:
            self._limits = limits
            self.changed()

    def show_resonances(self, found: Sequence[Resonance]) -> None:
        mine = [r for r in found if r.part == self.target or (self.target == "stereo" and r.part == "mid")]
        if mine != self._resonances:
            self._resonances = mine
            self.changed()

    def show_moves(self, moves: Mapping[int, float]) -> None:
        """By how many dB each moving band, by its id, has moved now."""
        if moves != self._moves:
            self._moves = moves
            self.update()

    def show_live(self, before: Tone | None, after: Tone | None) -> None:
        if after is self._lively:
            return
        had, self._lively, self._live = self._live is not None, after, None
        if before is not None and after is not None:
            self._live = self._over_edge(before), self._over_edge(after)
            self.update()
        if had is not (self._live is not None):  # the average is drawn in its place, or no longer
            self.changed()

    # --- drawing -------------------------------------------------------------------------------------------

    def _over_edge(self, tone: Tone) -> Floats:
        """A spectrum in dB over the level at the upper edge."""
        levels = tone.smoothed(self.target, self._settings.fraction, self._freqs)
        return np.asarray(levels + lifted(self._freqs, self._settings.slope) - self._top)

    def _spectrum_line(self, levels: Floats) -> list[QPointF]:
        """A spectrum as it lies in the lane, whose height is `SPECTRUM_RANGE` dB."""
        return self.line(self._freqs, self.y_axis.high * (1.0 + levels * 2.0 / SPECTRUM_RANGE))

    def _spectrum_paths(self) -> list[QPainterPath]:
        """The spectra before and after, made once for as long as they and the lane stay as they are."""
        key = (self.width(), self.height(), self.bottom)
        if self._paths is None or self._paths[0] != key:
            paths = []
            for levels in self._levels:
                path = QPainterPath()
                path.addPolygon(QPolygonF(self._spectrum_line(levels)))
                paths.append(path)
            self._paths = key, paths
        return self._paths[1]

    def _upper_edge(self, tone: Tone) -> float:
        """dB at the upper edge: the same for all that is drawn in the lane."""
        heard = self._freqs[self._freqs > 20.0]
        levels = tone.smoothed(self.target, self._settings.fraction, heard) + lifted(heard, self._settings.slope)
        return float(6.0 * math.ceil((levels.max() + 4.0) / 6.0))

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, colour = colours(), PART_COLOURS[self.target]
        paths = self._spectrum_paths()
        if paths:
            floor = QPainterPath(paths[0])
            floor.lineTo(area.right(), area.bottom())
            floor.lineTo(area.left(), area.bottom())
            painter.fillPath(floor, c.soft(colour, 44))
        references, loudness = self._references
        if references and paths:
            mean, spread = spanned(np.stack([self._over_edge(r.tone) + loudness - r.loudness for r in references]))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 56))
            high, low = self._spectrum_line(mean + spread), self._spectrum_line(mean - spread)
            painter.drawPolygon([*high, *reversed(low)])
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if len(paths) > 1 and self._live is None:
            painter.setPen(QPen(c.soft(colour, 190), 1))
            painter.drawPath(paths[1])
        if paths:
            painter.setPen(QPen(c["over"], 1.4, Qt.PenStyle.DotLine))
            for limit in self._limits:
                freqs, levels = np.array(limit.points).T
                over_edge = levels + lifted(freqs, self._settings.slope) - self._top
                painter.drawPolyline(self.line(freqs, self.y_axis.high * (1.0 + over_edge * 2.0 / SPECTRUM_RANGE)))
        painter.setPen(QPen(c["rule"], 1))
        zero = round(self.y_at(0.0)) + 0.5
        painter.drawLine(QPointF(area.left(), zero), QPointF(area.right(), zero))
        self._draw_chosen(painter)
        painter.setPen(QPen(c[colour], 2.2))
        painter.drawPolyline(self.line(self._freqs, np.maximum(self._curve, self.y_axis.low - 3.0)))
        for r in self._resonances:
            x = self.x_at(r.freq)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c["reduction"])
            painter.drawPolygon(
                QPolygonF([QPointF(x - 4, area.top()), QPointF(x + 4, area.top()), QPointF(x, area.top() + 7)])
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)

    def _draw_chosen(self, painter: QPainter) -> None:
        """The chosen band's own curve, and where it may move to."""
        band = self._step.band(self._chosen)
        if band is None or band.target not in self.targets or not band.on:
            return
        c, strength = colours(), self._step.strength
        own = db_of_response(band.response(self._freqs, self._rate, strength))
        painter.fillPath(self.filled(self.line(self._freqs, own), 0.0), c.soft("ink", 30))
        if band.moving:
            most = band.curve(strength).most
            moved = band.reaching(most if band.moves == "up" else -most, strength)
            away = db_of_response(moved.response(self._freqs, self._rate))
            painter.setPen(QPen(c["reduction"], 1.2, Qt.PenStyle.DashLine))
            painter.drawPolyline(self.line(self._freqs, self._curve + away - own))

    def mark_at(self, band: Band) -> QPointF:
        """Where a band's mark is: on the curve at its frequency, or at the lane's edge."""
        level = float(np.interp(band.freq, self._freqs, self._curve))
        inside = min(self.y_axis.high * 0.94, max(self.y_axis.low * 0.94, level))
        return QPointF(self.x_at(band.freq), self.y_at(inside))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        c, colour = colours(), PART_COLOURS[self.target]
        painter.setFont(font(12, bold=True))
        painter.setPen(c[colour])
        painter.drawText(
            QRectF(area.left() + 8, area.top() + 2, 80, 18), Qt.AlignmentFlag.AlignVCenter, LANE_TITLES[self.target]
        )
        ordered = sorted(self.bands, key=lambda pair: pair[1].id == self._chosen)
        painter.setFont(font(11, bold=True))
        for number, band in ordered:
            place, chosen = self.mark_at(band), band.id == self._chosen
            box = QRectF(place.x() - 8, place.y() - 8, 16, 16)
            name = PART_COLOURS[band.target]
            painter.setPen(QPen(c["ink" if chosen else name if band.on else "rule"], 1.6))
            painter.setBrush(c["ink"] if chosen else c["sheet"])
            painter.drawRect(box)
            painter.setPen(c["paper" if chosen else "ink" if band.on else "faint"])
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(number))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -0.5))

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._live is not None:
            pens = QPen(c["faint"], 1), QPen(c[PART_COLOURS[self.target]], 1.2)
            for levels, pen in zip(self._live, pens, strict=True):
                painter.setPen(pen)
                painter.drawPolyline(self._spectrum_line(levels))
        for _, band in self.bands:
            if moved := self._moves.get(band.id, 0.0):
                mark, away = self.mark_at(band), self.y_at(moved) - self.y_at(0.0)
                painter.setPen(QPen(c["reduction"], 2.5))
                painter.drawLine(mark, mark + QPointF(0.0, away))
                painter.drawEllipse(mark + QPointF(0.0, away), 2.5, 2.5)
        if self._pointer is not None and not self._dragged:
            x = self._pointer.x()
            painter.setPen(QPen(c["over" if self._hunts else "rule"], 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            freq = self.freq_at(x)
            level = figure(float(np.interp(freq, self._freqs, self._curve)))
            self.note(
                painter, x, area.bottom() - 9, f"{described(freq)} · {level} dB", "ink", right=x > area.center().x()
            )

    def _draw_axes(self, painter: QPainter, area: QRectF) -> None:
        super()._draw_axes(painter, area)
        if not self._shows_ticks:  # the lane below tells them
            painter.fillRect(QRectF(0, area.bottom() + 1, self.width(), self.bottom), colours()["paper"])

    # --- places --------------------------------------------------------------------------------------------

    def gain_at(self, y: float) -> float:
        share = min(1.0, max(0.0, (self.area.bottom() - y) / self.area.height()))
        return self.y_axis.value(share)

    def band_at(self, place: QPointF) -> Band | None:
        """The band whose mark is there; of several the chosen one, else the nearest."""
        near = []
        for _, band in self.bands:
            mark = self.mark_at(band)
            away = math.hypot(mark.x() - place.x(), mark.y() - place.y())
            if away <= REACH:
                near.append((band.id != self._chosen, away, band))
        return min(near, key=lambda found: found[:2])[2] if near else None

    # --- the mouse -----------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self.hunting:
            self._hunts = True
            self.hunted.emit(event.globalPosition())
            return
        band = self.band_at(event.position())
        if band is None:
            self.chosen.emit(0)
            return
        self.chosen.emit(band.id)
        self._dragged, self._at = band.id, event.position()
        self._origin = self.x_axis.place(band.freq), band.gain

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        self._pointer = place if self.area.contains(place) else None
        if self._hunts:
            self.hunted.emit(event.globalPosition())
        elif self._dragged:
            self._drag(place, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        else:
            self.setCursor(Qt.CursorShape.SizeAllCursor if self.band_at(place) else Qt.CursorShape.CrossCursor)
        self.update()

    def _drag(self, place: QPointF, fine: bool) -> None:
        band = self._step.band(self._dragged)
        if band is None:
            return
        slow = FINE if fine else 1.0
        across, gain = self._origin
        across += slow * (place.x() - self._at.x()) / self.area.width()
        gain += slow * (self._at.y() - place.y()) / self.area.height() * 2.0 * self.y_axis.high
        self._origin, self._at = (across, gain), place
        freq = min(20_000.0, max(LOWEST, self.x_axis.value(across)))
        changes: dict[str, object] = {"freq": rounded_freq(freq)}
        if band.shape in WITH_GAIN:
            changes["gain"] = min(24.0, max(-24.0, round(gain, 2 if fine else 1)))
        self.changed_band.emit(Gesture(band.id, changes))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._hunts:
            self._hunts = False
            self.hunted.emit(None)
        elif self._dragged:
            self._dragged = 0
            self.settled.emit()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self.hunting:
            return
        band = self.band_at(event.position())
        if band is not None:
            self._change(band, gain=0.0)
        elif self.area.contains(event.position()):
            gain = round(self.gain_at(event.position().y()) * 2.0) / 2.0
            self.wanted.emit(rounded_freq(self.freq_at(event.position().x())), min(24.0, max(-24.0, gain)))

    def wheelEvent(self, event: QWheelEvent) -> None:
        band = self.band_at(event.position()) or self._step.band(self._chosen)
        if band is None:
            event.ignore()
            return
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._turn_q(band, event.angleDelta().y() / 120.0, fine)
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        band = self.band_at(QPointF(event.pos()))
        if band is not None:
            self.chosen.emit(band.id)
        self.asked.emit(band.id if band is not None else 0, event.globalPos())

    def leaveEvent(self, event: object) -> None:
        self._pointer = None
        self.update()

    # --- the keyboard --------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, key, held = Qt.Key, event.key(), event.modifiers()
        fine = bool(held & Qt.KeyboardModifier.ShiftModifier)
        band = self._step.band(self._chosen)
        way = {keys.Key_Right: 1, keys.Key_Up: 1, keys.Key_Left: -1, keys.Key_Down: -1}.get(keys(key), 0)
        if held & Qt.KeyboardModifier.ControlModifier and key in (keys.Key_Left, keys.Key_Right):
            self.stepped.emit(way)
        elif key == keys.Key_Insert:
            self.wanted.emit(1000.0, 0.0)
        elif band is None:
            super().keyPressEvent(event)
        elif key in (keys.Key_Left, keys.Key_Right):
            self._change(band, freq=rounded_freq(band.freq * SEMITONE ** (way * (FINE if fine else 1.0))))
        elif key in (keys.Key_Up, keys.Key_Down) and band.shape in WITH_GAIN:
            self._change(band, gain=min(24.0, max(-24.0, round(band.gain + way * (0.1 if fine else 0.5), 2))))
        elif key in (keys.Key_PageUp, keys.Key_PageDown):
            self._turn_q(band, 1.0 if key == keys.Key_PageUp else -1.0, fine)
        elif key in (keys.Key_Delete, keys.Key_Backspace):
            self.removed.emit(band.id)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.changed()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.changed()

    def _turn_q(self, band: Band, notches: float, fine: bool) -> None:
        q = band.q * 1.12 ** (notches * (FINE * 2.0 if fine else 1.0))
        self._change(band, q=round(min(40.0, max(0.1, q)), 2 if q < 10 else 1))

    def _change(self, band: Band, **changes: object) -> None:
        self.changed_band.emit(Gesture(band.id, changes))
        self.settled.emit()


def rounded_freq(freq: float) -> float:
    """To the digits that a frequency is shown with."""
    freq = min(20_000.0, max(10.0, freq))
    return round(freq, 2 if freq < 100.0 else 1 if freq < 1000.0 else 0)


def _gains(top: float) -> Axis:
    return Axis(-top, top, (-top / 2, 0.0, top / 2), signed=True)
