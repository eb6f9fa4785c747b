"""The phase and the group delay of an equaliser, drawn."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPen

from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours
from gluvo.desk.editors.eq.curves import LOWEST
from gluvo.desk.editors.spectrum_view import OCTAVE_TICKS, PART_COLOURS
from gluvo.dsp.kernel import Floats
from gluvo.steps import MidSideEq

POINTS = 840


class PhaseLane(Chart):
    """What the bands do to the phase, or to the time at which each frequency comes out."""

    def __init__(self) -> None:
        super().__init__(
            Axis(LOWEST, 20_000.0, OCTAVE_TICKS[:-1], log=True), Axis(-180.0, 180.0, (-180, -90, 0, 90, 180))
        )
        self.setFixedHeight(84)
        self.top, self.bottom = 8, 20
        self._freqs = np.geomspace(LOWEST, 20_000.0, POINTS)
        self._curves: list[tuple[str, Floats]] = []
        self._words = ""
        self.setToolTip("How far the bands turn the phase, or by how much they delay each frequency (group delay).")

    def show_step(self, step: MidSideEq, rate: int, targets: Sequence[str], delay: bool, late: int) -> None:
        """The phase in degrees or the group delay in ms for each of these lanes; `late` frames come with linear phase."""
        self._curves = []
        for target in targets:
            along = ("stereo",) if target == "stereo" else ("stereo", target)
            h = step.response(along, self._freqs, rate)
            turn = np.zeros(len(h)) if step.phase == "linear" else np.unwrap(np.angle(h)[::-1])[::-1]
            values = -np.gradient(turn, 2.0 * np.pi * self._freqs) * 1000.0 if delay else np.degrees(turn)
            self._curves.append((target, values))
        if delay:
            most = max([float(np.abs(v).max()) for _, v in self._curves], default=0.0)
            top = next((t for t in (1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0) if most <= t), 200.0)
            self.y_axis = Axis(-top, top, (-top, 0.0, top))
            self._words = "group delay, ms"
        else:
            most = max([float(np.abs(v).max()) for _, v in self._curves], default=0.0)
            top = 180.0 if most <= 180.0 else 360.0 if most <= 360.0 else 720.0
            self.y_axis = Axis(-top, top, (-top, 0.0, top))
            self._words = "phase, degrees"
        if step.phase == "linear":
            self._words += f" · linear: everything {1000.0 * late / rate:.0f} ms late, made good"
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        for target, values in self._curves:
            painter.setPen(QPen(colours()[PART_COLOURS[target]], 1.5))
            painter.drawPolyline(self.line(self._freqs, values))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.left(), area.top() + 8, self._words)
