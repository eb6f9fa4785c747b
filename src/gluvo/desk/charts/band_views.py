"""What happens by frequency and to single sounds: sibilants on time, what is tamed, and what drives a reduction."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.charts.views import ReductionView
from gluvo.desk.controls.theme import colours, font
from gluvo.dsp.kernel import Floats
from gluvo.steps.settings import hertz

FREQ_TICKS = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000)
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
FOOT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
AXIS = 22
"""Pixels that the figures of an axis take."""


class SibilantsView(ReductionView):
    """The reduction over the section, and below it the voice with what is sharp marked."""

    bottom = 112

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._wave: Floats | None = None
        self._places: Sequence[tuple[float, float, float]] = ()
        self.setToolTip(
            "Above, what is taken off moment by moment. Below, the voice's peaks over the section; what is sharp and was "
            "lowered is marked."
        )

    def show_voice(self, peaks: Floats | None, places: Sequence[tuple[float, float, float]]) -> None:
        """`peaks`: linear, evenly over the section. `places`: from and to in seconds and the most that was taken, dB."""
        self._wave, self._places = peaks, places
        self.changed()

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        """The voice below the axis."""
        c, wave = colours(), self._wave
        base, room = self.height() - 4.0, self.bottom - AXIS - 6.0
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(area.left(), base), QPointF(area.right(), base))
        if wave is None or len(wave) < 2:
            return
        columns = max(2, min(int(area.width()), len(wave)))
        edges = np.linspace(0, len(wave), columns + 1).astype(int)
        heights = np.maximum.reduceat(wave, edges[:-1]) / max(1e-9, float(wave.max())) * room
        wide = area.width() / columns
        for n, high in enumerate(heights.tolist()):
            painter.fillRect(QRectF(area.left() + n * wide, base - high, wide + 0.4, high), c.soft("faint", 120))
        for start, end, _ in self._places:
            left = self.x_at(start)
            box = QRectF(left, base - room, max(2.0, self.x_at(end) - left), room)
            painter.fillRect(box, c.soft("reduction", 90))
            painter.fillRect(QRectF(box.left(), box.top(), box.width(), 3), c["reduction"])


class TamingView(Chart):
    """What is taken by frequency, on average and at most; under it, how much is done where, as blocks whose tops are dragged."""

    weighted = Signal(int, float)
    """A block by its place, and how much is done there, %."""
    settled = Signal()

    right, bottom = 16, AXIS + 78

    def __init__(self, places: Sequence[float], parent: QWidget | None = None) -> None:
        """`places`: Hz that the blocks stand for; each reaches half the way to its neighbours."""
        super().__init__(Axis(20.0, 20_000.0, FREQ_TICKS, log=True), Axis(-12.0, 0.6, (0, -3, -6, -9, -12)), parent)
        self._places = tuple(places)
        between = [math.sqrt(a * b) for a, b in itertools.pairwise(self._places)]
        self._edges = (20.0, *between, 20_000.0)
        self._weights = [100.0] * len(self._places)
        self._freqs, self._mean, self._most = (np.zeros(0) for _ in range(3))
        self._chosen, self._held = 0, False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("What is tamed, and how much where")
        self.setToolTip(
            "What is taken by frequency over the section: filled on average, the line at most. The blocks under it set how much "
            "is done where, 0 to 200 %: drag the top of one, or press Left and Right to choose it, Up and Down to move it."
        )

    def show_cuts(self, freqs: Floats, mean: Floats, most: Floats) -> None:
        """Hz and dB ≥ 0; empty where nothing is known."""
        self._freqs, self._mean, self._most = freqs, mean, most
        deepest = float(most.max(initial=0.0))
        depth = next((d for d in (6, 12, 24) if deepest < 0.95 * d), 48)
        self.y_axis = Axis(-depth, depth * 0.05, [-depth * k / 4 for k in range(5)])
        self.changed()

    def show_weights(self, weights: Sequence[float]) -> None:
        """In %, one a node."""
        if list(weights) != self._weights:
            self._weights = list(weights)
            self._say()
            self.changed()

    def _say(self) -> None:
        place = hertz(self._places[self._chosen])
        self.setAccessibleDescription(f"around {place}: {self._weights[self._chosen]:.0f} %")

    def block(self, n: int) -> QRectF:
        """A block's room, from nothing at its foot to 200 % at its top."""
        left, right = self.x_at(self._edges[n]), self.x_at(self._edges[n + 1])
        return QRectF(left + 1, self.area.bottom() + AXIS, right - left - 2, self.bottom - AXIS - 4)

    def top_of(self, n: int) -> float:
        """Where the top of a block is, in pixels."""
        room = self.block(n)
        return room.bottom() - self._weights[n] / 200.0 * room.height()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if len(self._freqs):
            inside = (self._freqs >= 20.0) & (self._freqs <= 20_000.0)
            freqs, mean, most = self._freqs[inside], self._mean[inside], self._most[inside]
            columns = np.unique(np.round(self.x_axis.places(freqs) * area.width()).astype(int), return_index=True)[1]
            mean, most = (np.maximum.reduceat(v, columns) for v in (mean, most))
            line = self.line(freqs[columns], -mean)
            painter.fillPath(self.filled(line, 0.0), c.soft("reduction", 120))
            painter.setPen(QPen(c["reduction"], 1.4))
            painter.drawPolyline(self.line(freqs[columns], -most))
            if float(most.max(initial=0.0)) <= 0.0:
                self.say(painter, "Nothing stands out far enough to be cut here.")

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        painter.setFont(font(11))
        for n, weight in enumerate(self._weights):
            room, top, mine = self.block(n), self.top_of(n), self.hasFocus() and n == self._chosen
            painter.fillRect(room, c["sheet"])
            painter.fillRect(QRectF(room.left(), top, room.width(), room.bottom() - top), c.soft("reduction", 70))
            painter.fillRect(QRectF(room.left(), top - 1, room.width(), 2.5), c["signal" if mine else "reduction"])
            painter.setPen(QPen(c["hair"], 1))
            middle = room.center().y()
            painter.drawLine(QPointF(room.left(), middle), QPointF(room.right(), middle))
            painter.setPen(c["ink" if mine else "faint"])
            painter.drawText(room.adjusted(6, 0, -6, -3), FOOT, f"{weight:.0f} %")
        painter.setPen(c["faint"])
        painter.drawText(QRectF(0, self.block(0).top(), self.left - 6, 14), RIGHT, "200")
        painter.drawText(QRectF(0, self.block(0).center().y() - 7, self.left - 6, 14), RIGHT, "100")
        self.note(painter, area.left(), area.bottom() - 9, "dB taken: filled on average, line at most")
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    # --- hands ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        n = self._block_at(event.position())
        if event.button() == Qt.MouseButton.LeftButton and n is not None:
            self._chosen, self._held = n, True
            self._say()
            self.changed()

    def _block_at(self, place: QPointF) -> int | None:
        return next((n for n in range(len(self._places)) if self.block(n).adjusted(-1, -4, 1, 4).contains(place)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held:
            room = self.block(self._chosen)
            up = (room.bottom() - event.position().y()) / room.height()
            self.weighted.emit(self._chosen, float(round(200.0 * min(1.0, max(0.0, up)))))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held = False
            self.settled.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._block_at(event.position()) is not None:
            self.weighted.emit(self._chosen, 100.0)
            self.settled.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, keys = event.key(), Qt.Key
        step = 1.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 5.0
        if key in (keys.Key_Left, keys.Key_Right):
            self._chosen = (self._chosen + (1 if key == keys.Key_Right else -1)) % len(self._places)
            self._say()
            self.changed()
        elif key in (keys.Key_Up, keys.Key_Down):
            moved = self._weights[self._chosen] + (step if key == keys.Key_Up else -step)
            self.weighted.emit(self._chosen, min(200.0, max(0.0, moved)))
            self.settled.emit()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.changed()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.changed()
