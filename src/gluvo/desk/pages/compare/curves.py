"""Curves of all that is compared, over one another: tone with the references' corridor, loudness, width, crest."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtSvg import QSvgGenerator

from gluvo.compare.corridor import Finding
from gluvo.compare.hearables import REFERENCES, SONG
from gluvo.compare.match import RESULT
from gluvo.compare.profile import LEVELS, OCTAVES
from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours
from gluvo.desk.model.comparing import Column, Comparison

KINDS = (("tone", "Tone"), ("loudness", "Loudness"), ("width", "Width"), ("crest", "Crest"))
UNITS = {
    "tone": "dB, pink noise is flat, all at equal loudness",
    "loudness": "% of the time per LU, by LU over the integrated loudness",
    "width": "side against mid, dB",
    "crest": "peak against RMS by octave, dB",
}
FREQS = Axis(25.0, 18_000.0, (50, 100, 200, 500, 1000, 2000, 5000, 10000), log=True)
DASHES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


class CurvesView(Chart):
    """One kind of curve at a time."""

    def __init__(self) -> None:
        super().__init__(FREQS, Axis(-30.0, 6.0, (-24, -12, 0)))
        self.setAccessibleName("Curves")
        self.setMinimumHeight(120)
        self.kind = "tone"
        self._comparison = Comparison()
        self._off: Collection[str] = ()
        self._marked: Finding | None = None
        self.setToolTip(
            "Curves of all columns, each of which can be switched off above. Tone: third-octave spectra at equal loudness, "
            "with the corridor that the references span. Loudness: how much of the time is how loud. Width: side against mid "
            "by frequency. Crest: peaks against RMS by octave."
        )

    def show_curves(self, kind: str, comparison: Comparison, off: Collection[str], marked: Finding | None) -> None:
        """`off`: the ids of columns that are switched off; `marked`: a finding to point at."""
        self.kind, self._comparison, self._off, self._marked = kind, comparison, off, marked
        self._set_axes()
        self.changed()

    def _shown(self) -> list[Column]:
        return [c for c in self._comparison.columns if c.hearable.id not in self._off]

    def curve(self, column: Column) -> tuple[np.ndarray, np.ndarray]:
        """What is drawn of a column: places and values."""
        p = column.profile
        if self.kind == "loudness":
            return LEVELS, p.spread
        if self.kind == "crest":
            there = ~np.isnan(p.crests)
            return np.asarray(OCTAVES)[there], p.crests[there]
        return p.centres, p.spectrum if self.kind == "tone" else p.width

    def _set_axes(self) -> None:
        shown = [values for c in self._shown() if len(values := self.curve(c)[1])]
        high = max((float(np.max(v)) for v in shown), default=0.0)
        if self.kind == "loudness":
            self.x_axis = Axis(-20.0, 8.0, (-18, -12, -6, 0, 6), signed=True)
            top = max(10.0, 10.0 * np.ceil((high + 2.0) / 10.0))
            self.y_axis = Axis(0.0, float(top), tuple(np.linspace(0.0, top, 5)))
            return
        self.x_axis = FREQS
        if self.kind == "tone":
            middle = [float(np.median(v)) for v in shown] or [-30.0]
            top = 6.0 * np.ceil((max(high, max(middle) + 6.0) + 3.0) / 6.0)
            self.y_axis = Axis(top - 42.0, top, tuple(top - 6.0 - 12.0 * n for n in range(4)))
        elif self.kind == "width":
            self.y_axis = Axis(-42.0, 12.0, (-36, -24, -12, 0, 12), signed=True)
        else:
            self.y_axis = Axis(0.0, max(30.0, 6.0 * float(np.ceil((high + 2.0) / 6.0))), (0, 6, 12, 18, 24, 30))

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if not self._comparison.columns:
            self.say(painter, "Nothing compared yet.")
            return
        corridor = self._comparison.corridor
        if self.kind == "tone" and corridor is not None:
            band = [*self.line(corridor.centres, corridor.high), *reversed(self.line(corridor.centres, corridor.low))]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 46))
            painter.drawPolygon(band)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for column in reversed(self._shown()):
            painter.setPen(self.pen(column))
            painter.drawPolyline(self.line(*self.curve(column)))
        if self._marked is not None and self._marked.freq and self.kind == "tone":
            x = self.x_at(self._marked.freq)
            painter.setPen(QPen(c["mid"], 1.2, Qt.PenStyle.DotLine))
            painter.drawLine(round(x), round(area.top()), round(x), round(area.bottom()))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        if self._comparison.columns:
            self.note(painter, area.left(), area.bottom() - 10, UNITS[self.kind])
        if self._marked is not None and self._marked.freq and self.kind == "tone":
            self.note(painter, self.x_at(self._marked.freq), area.top() + 8, self._marked.text.partition(";")[0], "mid")

    def pen(self, column: Column) -> QPen:
        """How a column is drawn: by its kind a colour, and a dash of its own among those of its kind."""
        same = [c.hearable.id for c in self._comparison.columns if c.hearable.group == column.hearable.group]
        if column.hearable.id == RESULT:
            return QPen(self.colour(column), 2.2)
        place = same.index(column.hearable.id) + (0 if column.hearable.group == REFERENCES else 1)
        dash = Qt.PenStyle.SolidLine if column.hearable.group == SONG else DASHES[place % len(DASHES)]
        return QPen(self.colour(column), 1.4, dash)

    @staticmethod
    def colour(column: Column) -> QColor:
        """The colour of a column."""
        group = column.hearable.group
        name = "signal" if column.hearable.id == RESULT else "reference" if group == REFERENCES else "faint"
        return colours()[name if group in (SONG, REFERENCES) else "mid"]

    def write_svg(self, path: str) -> None:
        """Write what is shown as a drawing."""
        generator = QSvgGenerator()
        generator.setFileName(path)
        generator.setSize(QSize(self.width(), self.height()))
        generator.setViewBox(self.rect())
        generator.setTitle(f"Gluvo: {dict(KINDS)[self.kind]}")
        painter = QPainter(generator)
        painter.fillRect(self.rect(), colours()["paper"])
        self._draw_still(painter)
        painter.end()
