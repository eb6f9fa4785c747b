"""The stereo image by frequency, drawn: how wide, how related, what mono loses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QImage, QMouseEvent, QPainter, QPen

from gluvo.desk.charts.chart import Axis, Chart
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import figure
from gluvo.desk.editors.spectrum_view import OCTAVE_TICKS, frequency_axis
from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Tone
from gluvo.measure.stereo import ImageCurve, Scatter, bands_of_tone, image_by_frequency
from gluvo.steps import Width

NARROWEST, WIDEST = -36.0, 6.0
"""dB of side to mid from the centre line to the edge."""
LOW_END = 140.0
"""Hz under which the low end is told apart."""
HEARD = 55.0
"""dB under the loudest place at which an image is still drawn."""
LEAST_APART = 13.0
"""Pixels between two marks of the scale."""
GRAB = 6.0
"""Pixels to either side of a crossover within which it is taken."""


@dataclass(frozen=True, eq=False)
class Measured:
    """The section's image before and after the step."""

    tones: tuple[Tone, Tone]
    before: ImageCurve
    after: ImageCurve

    @staticmethod
    def of(tones: tuple[Tone, Tone], rate: int) -> Measured:
        return Measured(tones, *(image_by_frequency(tone, rate) for tone in tones))


def spread(width: Floats) -> Floats:
    """Side to mid in dB as a distance from the centre line, 0–1."""
    return np.asarray(np.clip((width - NARROWEST) / (WIDEST - NARROWEST), 0.0, 1.0))


class ImageView(Chart):
    """A band about a centre line: as far as it reaches to both sides, so wide is the sound there.

    Drag a crossover to move it; drag inside a band, up and down, for its width.
    """

    changed_setting = Signal(str, float)
    settled = Signal()

    def __init__(self) -> None:
        super().__init__(frequency_axis(), Axis(-1.0, 1.0, ()))
        self.bottom = 22
        self._step = Width()
        self._measured: Measured | None = None
        self._grabbed = ""
        self._at = QPointF()
        self._value = 0.0
        self.setMouseTracking(True)
        self.setAccessibleName("Stereo image")
        self.setToolTip(
            "How wide each frequency is: side to mid, from nothing on the centre line to +6 dB at the edges; the thin lines "
            "are where side and mid are equal. Grey: before, green: after. Above each band, what a mono sum loses there. Drag a "
            "dashed line to move where bands meet, or up and down inside a band for its width."
        )

    def show_step(self, step: Width, measured: Measured | None) -> None:
        """`measured`: of the section; None while nothing is known."""
        if step != self._step or measured is not self._measured:
            self._step, self._measured = step, measured
            self.changed()

    # --- drawing -------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, step = colours(), self._step
        low = self.x_at(LOW_END)
        painter.fillRect(QRectF(area.left(), area.top(), low - area.left(), area.height()), c.soft("mid", 22))
        if step.mono_below > 20.0:
            x = self.x_at(step.mono_below)
            painter.fillRect(
                QRectF(area.left(), area.top(), x - area.left(), area.height()),
                QBrush(c["rule"], Qt.BrushStyle.BDiagPattern),
            )
        if self._measured is None:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        self._draw_band(painter, self._measured.before, c.soft("faint", 60), None)
        self._draw_band(painter, self._measured.after, c.soft("side", 70), c["side"])
        painter.setPen(QPen(c["ink"], 1))
        painter.drawLine(QPointF(area.left(), self.y_at(0.0)), QPointF(area.right(), self.y_at(0.0)))
        equal = float(spread(np.array([0.0]))[0])
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DotLine))
        for y in (equal, -equal):
            painter.drawLine(QPointF(area.left(), self.y_at(y)), QPointF(area.right(), self.y_at(y)))
        painter.setPen(QPen(c["ink"], 1, Qt.PenStyle.DashLine))
        for freq in step.crossovers:
            x = self.x_at(freq)
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))

    def _draw_band(self, painter: QPainter, image: ImageCurve, fill: QColor, edge: QColor | None) -> None:
        heard = image.level > image.level.max() - HEARD
        reach = np.where(heard, spread(image.width), 0.0)
        upper, lower = self.line(image.freqs, reach), self.line(image.freqs, -reach)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawPolygon([*upper, *reversed(lower)])
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if edge is not None:
            painter.setPen(QPen(edge, 1.6))
            painter.drawPolyline(upper)
            painter.drawPolyline(lower)

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        equal = float(spread(np.array([0.0]))[0])  # side as loud as mid
        apart = abs(self.y_at(equal) - self.y_at(1.0)) >= LEAST_APART
        for y, text in ((1.0, "+6" if apart else ""), (equal, "0"), (0.0, "mono")):
            box = QRectF(0, self.y_at(y) - 8, self.left - 4, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        if self._measured is None:
            return
        edges = self._step.edges
        widths = self._step.widths
        for (low, high), band, width in zip(edges, bands_of_tone(self._measured.tones[1], edges), widths, strict=True):
            if high > low:
                x = 0.5 * (self.x_at(low) + self.x_at(high))
                text = f"{width:.0f} % · mono loses {figure(band.mono_loss)} dB"
                short = f"{width:.0f} % · −{band.mono_loss:.1f}"
                room = self.x_at(high) - self.x_at(low)
                text = text if painter.fontMetrics().horizontalAdvance(text) < room - 8 else short
                half = painter.fontMetrics().horizontalAdvance(text) / 2
                self.note(painter, x - half - 4, area.top() + 9, text, "over" if band.mono_loss > 3.0 else "ink")
        self.note(painter, area.left(), area.bottom() - 9, self._low_words(), "mid")

    def _low_words(self) -> str:
        assert self._measured is not None
        before, after = (bands_of_tone(tone, ((20.0, LOW_END),))[0] for tone in self._measured.tones)
        words = f"under {LOW_END:.0f} Hz: correlation {figure(after.correlation, 2)}"
        return words + (
            f", was {figure(before.correlation, 2)}" if abs(before.correlation - after.correlation) > 0.005 else ""
        )

    # --- the mouse -----------------------------------------------------------------------------------------

    def _under(self, place: QPointF) -> tuple[str, float]:
        """The setting that a drag from there changes, and its value."""
        step = self._step
        for name in ("crossover_1", "crossover_2", "crossover_3")[: int(step.bands) - 1]:
            if abs(self.x_at(getattr(step, name)) - place.x()) <= GRAB:
                return name, getattr(step, name)
        freq = self.x_axis.value((place.x() - self.area.left()) / self.area.width())
        band = next((n for n, (_, high) in enumerate(step.edges) if freq < high), int(step.bands) - 1)
        return f"width_{band + 1}", step.widths[band]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.area.contains(event.position()):
            self._grabbed, self._value = self._under(event.position())
            self._at = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        if not self._grabbed:
            across = self._under(place)[0].startswith("crossover")
            self.setCursor(Qt.CursorShape.SizeHorCursor if across else Qt.CursorShape.SizeVerCursor)
            return
        slow = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        if self._grabbed.startswith("crossover"):
            share = (place.x() - self._at.x()) / self.area.width() * slow
            self._value = self.x_axis.value(self.x_axis.place(self._value) + share)
            value = round(min(16_000.0, max(30.0, self._value)))
        else:  # away from the centre line is wider
            way = 1.0 if self._at.y() < self.y_at(0.0) else -1.0
            self._value += way * (self._at.y() - place.y()) / self.area.height() * 300.0 * slow
            value = round(min(200.0, max(0.0, self._value)))
        self._at = place
        self.changed_setting.emit(self._grabbed, float(value))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grabbed:
            self._grabbed = ""
            self.settled.emit()


class CorrelationView(Chart):
    """How left and right are related at each frequency."""

    def __init__(self) -> None:
        super().__init__(Axis(20.0, 20_000.0, OCTAVE_TICKS, log=True), Axis(-1.05, 1.05, (-1.0, 0.0, 1.0), signed=True))
        self.setFixedHeight(96)
        self.bottom = 6
        self._measured: Measured | None = None
        self.setToolTip(
            "Correlation of left and right by frequency: 1 is mono, 0 is wide, under 0 (red) is lost in mono. Grey: before."
        )

    def show_measured(self, measured: Measured | None) -> None:
        if measured is not self._measured:
            self._measured = measured
            self.changed()

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        if self._measured is None:
            return
        before, after = self._measured.before, self._measured.after
        for image, colour, width in ((before, c["faint"], 1.0), (after, c["side"], 2.0)):
            heard = image.level > image.level.max() - HEARD
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(self.line(image.freqs[heard], image.correlation[heard]))
        heard = after.level > after.level.max() - HEARD
        under = np.minimum(after.correlation, 0.0)[heard]
        painter.fillPath(self.filled(self.line(after.freqs[heard], under), 0.0), c.soft("over", 90))

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.right(), area.top() + 9, "correlation", right=True)


class ScatterView(Chart):
    """Left against right, turned so that mono stands upright: an XY view. Live while playing, else the section."""

    def __init__(self) -> None:
        super().__init__(Axis(-1.0, 1.0, ()), Axis(-1.0, 1.0, ()))
        self.left, self.bottom = 8, 8
        self._scatter: Scatter | None = None
        self._live: np.ndarray | None = None
        self.setToolTip(
            "Each moment as a point: mid upright, side across. Upright is mono, a round cloud is wide, lying flat cancels in "
            "mono. Grey: the section. Dots: what is playing."
        )

    def show_scatter(self, scatter: Scatter | None) -> None:
        """Of the section's sound after the step."""
        if scatter is not self._scatter:
            self._scatter = scatter
            self.changed()

    def show_live(self, audio: np.ndarray | None) -> None:
        """The last moments after the step."""
        self._live = audio
        self.update()

    def _square(self, area: QRectF) -> QRectF:
        size = min(area.width(), area.height())
        return QRectF(area.center().x() - size / 2, area.center().y() - size / 2, size, size)

    def draw(self, painter: QPainter, area: QRectF) -> None:
        c, box = colours(), self._square(area)
        if self._scatter is None:
            self.say(painter, "Nothing measured here yet: the step is off, or still being rendered.")
            return
        shade = (255.0 * np.minimum(1.0, 1.6 * self._scatter.density)).astype(np.uint32)
        ink = c["side"]
        red, green, blue = (part * shade // 255 for part in (ink.red(), ink.green(), ink.blue()))
        pixels = (shade << 24) | (red << 16) | (green << 8) | blue
        picture = np.ascontiguousarray(pixels[::-1].astype(np.uint32))
        bins = len(picture)
        image = QImage(picture.data, bins, bins, 4 * bins, QImage.Format.Format_ARGB32_Premultiplied)
        painter.drawImage(box, image.copy())
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(box.center().x(), box.top()), QPointF(box.center().x(), box.bottom()))
        painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DotLine))
        painter.drawLine(box.topLeft(), box.bottomRight())
        painter.drawLine(box.topRight(), box.bottomLeft())

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        box = self._square(area)
        for x, y, text in (
            (box.left(), box.top() + 9, "left"),
            (box.right() - 36, box.top() + 9, "right"),
            (box.center().x(), box.top() + 9, "mono"),
            (box.right() - 34, box.center().y(), "side"),
        ):
            self.note(painter, x, y, text)

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        if self._live is None or self._scatter is None:
            return
        box, scale = self._square(area), self._scatter.scale
        mid = (self._live[:, 0] + self._live[:, 1]) / 2.0 / scale
        side = (self._live[:, 1] - self._live[:, 0]) / 2.0 / scale
        xs, ys = box.center().x() + side * box.width() / 2, box.center().y() - mid * box.height() / 2
        painter.setPen(QPen(colours()["ink"], 1.4))
        painter.drawPoints([QPointF(x, y) for x, y in zip(xs.tolist(), ys.tolist(), strict=True)])
