"""The live meters that stay beside every editor: across over the target, or upright where an editor takes its place."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from gluvo.desk.controls.keys import ENTERS
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.live_figures import LiveFigures
from gluvo.desk.model.workbench import Workbench
from gluvo.dsp.db import db_of

FLOOR, CEILING = -48.0, 3.0
"""dBFS along a bar."""
WIDE, ROW, BAR = 84, 34, 13
"""Pixels: an upright strip, a figure in it, a bar."""


class MeterStrip(QWidget):
    """Peaks with what is held, loudness now and so far, RMS, correlation, and what the chosen step takes. Click resets."""

    def __init__(self, bench: Workbench, live: LiveFigures, upright: bool) -> None:
        super().__init__()
        self._bench, self._live, self._upright = bench, live, upright
        self._shown: tuple[object, ...] = ()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Meters")
        if upright:
            self.setFixedWidth(WIDE)
            self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        else:
            self.setFixedHeight(82)
        self.setToolTip(
            "What is heard, before the level match and the output level: peaks with the highest held (the red line is the "
            "target's), loudness of the last 400 ms (M) and 3 s (S), of all so far (I), RMS and correlation of the last 3 s, "
            "and what the chosen step takes now, as it arrives after Mix. Click, or Enter, starts over."
        )

    def sizeHint(self) -> QSize:
        return QSize(WIDE, 400) if self._upright else QSize(220, 82)

    # --- what is told --------------------------------------------------------------------------------------

    def figures(self) -> list[tuple[str, str, str]]:
        """Name, figure and unit of each."""
        live = self._live
        correlation = live.correlation
        told = [
            ("M", figure(live.loudness(0.4)), "LUFS"),
            ("S", figure(live.loudness(3.0)), "LUFS"),
            ("I", figure(live.integrated), "LUFS"),
            ("RMS", figure(live.rms if live.rms > -100.0 else -200.0), "dBFS"),
            ("Corr.", "–" if correlation is None else figure(correlation, 2, signed=True), ""),
            ("Held", figure(db_of(live.true_peak)), "dBTP"),
        ]
        step = self._bench.session.item(self._bench.session.view.step)
        if step is not None and step.reduces:
            told.append((step.title, figure(-live.reductions.get(step.id, 0.0)), "dB"))
        return told

    def tick(self) -> None:
        """Thirty times a second."""
        if not self.isVisible():
            return
        shown = (*self.figures(), *self._live.levels, *self._live.held)
        if shown != self._shown:
            self._shown = shown
            self.update()

    def describe(self) -> str:
        """All of it in a sentence."""
        return ", ".join(f"{name} {value} {unit}".strip() for name, value, unit in self.figures())

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._upright:
            self._draw_upright(painter)
        else:
            self._draw_across(painter)
        if self.hasFocus():
            painter.setPen(QPen(colours()["signal"], 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    @staticmethod
    def _share(level: float) -> float:
        return max(0.0, min(1.0, (level - FLOOR) / (CEILING - FLOOR)))

    def _draw_across(self, painter: QPainter) -> None:
        c, wide = colours(), self.width()
        for n in range(2):
            y = 4 + n * BAR
            painter.fillRect(0, y, wide, 9, c["hair"])
            colour = c["over" if self._live.held[n] > 0.0 else "signal"]
            painter.fillRect(0, y, round(wide * self._share(self._live.levels[n])), 9, colour)
            painter.fillRect(round(wide * self._share(self._live.held[n])) - 1, y, 2, 9, c["ink"])
        limit = self._bench.session.target.true_peak
        painter.fillRect(round(wide * self._share(limit)), 2, 2, 26, c["over"])
        told = self.figures()
        lines = (told[:3], told[3:6], told[6:])
        painter.setFont(font(11))
        y = 32
        for figures, unit in zip(lines, ("LUFS", "", ""), strict=True):
            x, width = 0.0, wide / 3.4
            for name, value, _ in figures:
                painter.setPen(c["faint"])
                painter.drawText(QRectF(x, y, wide, 16), Qt.AlignmentFlag.AlignVCenter, name)
                taken = painter.fontMetrics().horizontalAdvance(name) + 4
                painter.setPen(c["ink"])
                painter.drawText(QRectF(x + taken, y, wide, 16), Qt.AlignmentFlag.AlignVCenter, value)
                x += width
            if unit:
                painter.setPen(c["faint"])
                right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
                painter.drawText(QRectF(0, y, wide, 16), right, unit)
            y += 16
        if lines[2]:
            self._draw_reduction(painter, QRectF(wide * 0.5, y - 11, wide * 0.5, 6), upright=False)

    def _draw_reduction(self, painter: QPainter, box: QRectF, upright: bool) -> None:
        """What the chosen step takes, as a bar from 0 to 12 dB."""
        c = colours()
        share = min(1.0, self._live.reductions.get(self._bench.session.view.step, 0.0) / 12.0)
        painter.fillRect(box, c["hair"])
        length = (box.height() if upright else box.width()) * share
        taken = (
            QRectF(box.left(), box.top(), box.width(), length)
            if upright
            else QRectF(box.right() - length, box.top(), length, box.height())
        )
        painter.fillRect(taken, c["reduction"])

    def _draw_upright(self, painter: QPainter) -> None:
        c, told = colours(), self.figures()
        reduces = len(told) > 6
        top, bottom = 12.0, max(60.0, self.height() - ROW * len(told) - 14.0)
        high = bottom - top
        bars = 3 if reduces else 2
        left = (self.width() - bars * (BAR + 5) + 5) / 2.0
        for n in range(2):
            x = left + n * (BAR + 5)
            painter.fillRect(QRectF(x, top, BAR, high), c["hair"])
            level = high * self._share(self._live.levels[n])
            painter.fillRect(QRectF(x, bottom - level, BAR, level), c["over" if self._live.held[n] > 0.0 else "signal"])
            held = bottom - high * self._share(self._live.held[n])
            painter.fillRect(QRectF(x, held - 1, BAR, 2), c["ink"])
        limit = bottom - high * self._share(self._bench.session.target.true_peak)
        painter.fillRect(QRectF(left - 3, limit, 2 * BAR + 11, 2), c["over"])
        if reduces:
            self._draw_reduction(painter, QRectF(left + 2 * (BAR + 5), top, BAR, high), upright=True)
        y = bottom + 8.0
        for name, value, unit in told:
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            name = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, self.width() - 40)
            painter.drawText(QRectF(8, y, self.width() - 12, 14), Qt.AlignmentFlag.AlignVCenter, f"{name}")
            right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            painter.drawText(QRectF(8, y, self.width() - 16, 14), right, unit)
            painter.setFont(font(13, bold=True))
            painter.setPen(c["ink"])
            painter.drawText(QRectF(8, y + 13, self.width() - 16, 17), Qt.AlignmentFlag.AlignVCenter, value)
            y += ROW

    # --- hands ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._live.reset()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in ENTERS:
            self._live.reset()
            self.update()
        else:
            super().keyPressEvent(event)
