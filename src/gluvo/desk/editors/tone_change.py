"""What a step does to the tone, as one curve."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours
from gluvo.desk.editors.spectrum_view import difference, frequency_axis, greatest
from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Tone

CENTRES = np.geomspace(20.0, 20_000.0, 181)
FRACTION = 3.0
"""The curve is smoothed to a third of an octave."""


class ToneChange(Chart):
    """dB from what goes into a step to what comes out, by frequency, over the section."""

    def __init__(self, name: str, tip: str, parent: QWidget | None = None) -> None:
        super().__init__(frequency_axis(), Axis(-3.0, 3.0, (-3, 0, 3), signed=True), parent)
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self._change: Floats | None = None
        self.words, self.nothing = "", ""

    def show_tones(self, before: Tone | None, after: Tone | None, nothing: str) -> None:
        """What goes in and what comes out; None where that is not known, and `nothing` says why."""
        self._change, self.words, self.nothing = None, "", nothing
        if before is not None and after is not None:
            levels = [tone.smoothed("stereo", FRACTION, CENTRES) for tone in (before, after)]
            change, reach = difference(*levels)
            if np.isfinite(change).any():
                self._change = change
                self.y_axis = Axis(-reach, reach, (-reach, 0, reach), signed=True)
                self.words = f"at most {greatest(change, CENTRES)}"
        self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        if self._change is None:
            self.say(painter, self.nothing)
            return
        there = np.flatnonzero(np.isfinite(self._change))
        painter.setPen(QPen(colours()["reduction"], 1.6))
        for part in np.split(there, np.flatnonzero(np.diff(there) > 1) + 1):
            painter.drawPolyline(self.line(CENTRES[part], self._change[part]))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self.words:
            self.note(painter, area.right(), area.top() + 10, self.words, "reduction", right=True)
