"""The base of all charts: axes as hairlines and figures, and a place to draw."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Protocol, runtime_checkable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import drawn


class Axis:
    """From a value to a place 0–1."""

    def __init__(
        self, low: float, high: float, ticks: Sequence[float], log: bool = False, *, signed: bool = False
    ) -> None:
        """`signed`: whether a plus stands before what is over 0."""
        self.low, self.high, self.ticks, self.log, self.signed = low, high, tuple(ticks), log, signed

    def place(self, value: float) -> float:
        if self.log:
            return math.log(max(value, 1e-9) / self.low) / math.log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)

    def places(self, values: np.ndarray) -> np.ndarray:
        if self.log:
            return np.asarray(np.log(np.maximum(values, 1e-9) / self.low) / math.log(self.high / self.low))
        return np.asarray((values - self.low) / (self.high - self.low))

    def value(self, place: float) -> float:
        if self.log:
            return self.low * (self.high / self.low) ** place
        return self.low + place * (self.high - self.low)

    def text(self, value: float) -> str:
        if value >= 1000.0 and value % 1000 == 0:
            return f"{value / 1000:g}k"
        return (f"{value:+g}" if self.signed and value else f"{value:g}").replace("-", "−")


@runtime_checkable
class ByFrequency(Protocol):
    """A widget over which a range of frequencies can be dragged."""

    def frequency_at(self, place: QPointF) -> float | None:
        """The frequency, Hz, at a place in pixels; None where none go across there."""

    def show_heard(self, heard: tuple[float, float] | None) -> None:
        """Show which range is heard, in Hz from and to; None shows that all is."""


def draw_heard(painter: QPainter, area: QRectF, left: float, right: float) -> None:
    """Paper over all of an area that is not heard: what lies left and right of two places in pixels."""
    c = colours()
    left, right = (min(area.right(), max(area.left(), x)) for x in (left, right))
    for a, b in ((area.left(), left), (right, area.right())):
        painter.fillRect(QRectF(a, area.top(), b - a, area.height()), c.soft("paper", 205))
    painter.setPen(QPen(c["signal"], 1.5))
    for x in (left, right):
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))


class Chart(QWidget):
    """Draws its axes, then calls `draw`. Subclasses set `x_axis`, `y_axis` and keep what they show.

    What is drawn is kept as a picture until `changed` is called; only `draw_live` is called at every paint.
    """

    left, right, top, bottom = 34, 8, 8, 22

    def __init__(self, x: Axis, y: Axis, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.x_axis, self.y_axis = x, y
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self._picture: QPixmap | None = None
        self._heard: tuple[float, float] | None = None
        theme.changed.connect(self.changed)

    def changed(self) -> None:
        """There is something else to show."""
        self._picture = None
        self.setAccessibleDescription(self.sentence() or self.toolTip())
        self.update()

    def sentence(self) -> str:
        """What it shows, for those who cannot see it; what it is for, where it says no more."""
        return str(getattr(self, "words", ""))

    def resizeEvent(self, event: object) -> None:
        self._picture = None

    def sizeHint(self) -> QSize:
        return QSize(420, 210)

    def minimumSizeHint(self) -> QSize:
        return QSize(160, 90)

    @property
    def area(self) -> QRectF:
        return QRectF(
            self.left,
            self.top,
            max(10, self.width() - self.left - self.right),
            max(10, self.height() - self.top - self.bottom),
        )

    def x_at(self, value: float) -> float:
        return self.area.left() + self.x_axis.place(value) * self.area.width()

    def y_at(self, value: float) -> float:
        return self.area.bottom() - self.y_axis.place(value) * self.area.height()

    def line(self, xs: np.ndarray, ys: np.ndarray) -> list[QPointF]:
        """A polyline through points given as values."""
        area = self.area
        px = area.left() + self.x_axis.places(np.asarray(xs)) * area.width()
        py = area.bottom() - self.y_axis.places(np.asarray(ys)) * area.height()
        return [QPointF(x, y) for x, y in zip(px.tolist(), py.tolist(), strict=True)]

    def filled(self, line: list[QPointF], base: float) -> QPainterPath:
        """The area between a polyline and a level."""
        path = QPainterPath()
        if line:
            y = self.y_at(base)
            path.addPolygon(QPolygonF([QPointF(line[0].x(), y), *line, QPointF(line[-1].x(), y)]))
            path.closeSubpath()
        return path

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None:
            self._picture = drawn(self, self._draw_still)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawPixmap(0, 0, self._picture)
        painter.setClipRect(self.area)
        self.draw_live(painter, self.area)
        if self._heard is not None:
            self._draw_heard(painter, self.area)

    def frequency_at(self, place: QPointF) -> float | None:
        """The frequency, Hz, at a place in pixels; None where none go across there."""
        return self.freq_at(place.x()) if self.x_axis.log and self.area.contains(place) else None

    def show_heard(self, heard: tuple[float, float] | None) -> None:
        """Show which range is heard, in Hz from and to, where frequencies go across; None shows that all is."""
        if heard != self._heard:
            self._heard = heard if self.x_axis.log else None
            self.update()

    def freq_at(self, x: float) -> float:
        """The frequency, or whatever goes across, at a place in pixels; inside the axis."""
        return self.x_axis.value(min(1.0, max(0.0, (x - self.area.left()) / self.area.width())))

    def _draw_heard(self, painter: QPainter, area: QRectF) -> None:
        assert self._heard is not None
        low, high = self._heard
        draw_heard(painter, area, self.x_at(low), self.x_at(high))

    def _draw_still(self, painter: QPainter) -> None:
        area = self.area
        self._draw_axes(painter, area)
        painter.save()
        painter.setClipRect(area)
        self.draw(painter, area)
        painter.restore()
        self.draw_over(painter, area)

    def _draw_axes(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        painter.setFont(font(11))
        for value in self.y_axis.ticks:
            y = round(self.y_at(value)) + 0.5
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(c["faint"])
            box = QRectF(0, y - 8, self.left - 6, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.y_axis.text(value))
        for value in self.x_axis.ticks:
            x = round(self.x_at(value)) + 0.5
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            painter.setPen(c["faint"])
            painter.drawText(
                QRectF(x - 30, area.bottom() + 3, 60, 16), Qt.AlignmentFlag.AlignHCenter, self.x_axis.text(value)
            )

    def draw(self, painter: QPainter, area: QRectF) -> None:
        """The content, clipped to the area."""

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        """What may reach past the area."""

    def draw_live(self, painter: QPainter, area: QRectF) -> None:
        """What moves with the music, over the rest."""

    def say(self, painter: QPainter, text: str) -> None:
        """A sentence in the middle, where there is nothing to show."""
        painter.setPen(colours()["faint"])
        painter.setFont(font(13))
        painter.drawText(self.area, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, text)

    def note(
        self, painter: QPainter, x: float, y: float, text: str, colour: str = "faint", right: bool = False
    ) -> None:
        """A small word at a place in pixels; kept inside the area, on a little paper so that lines do not cross it."""
        c = colours()
        painter.setFont(font(11))
        width = painter.fontMetrics().horizontalAdvance(text)
        left = x - width - 4 if right else x + 4
        left = min(max(self.area.left() + 2, left), self.area.right() - width - 2)
        painter.fillRect(QRectF(left - 2, y - 8, width + 4, 15), c.soft("paper", 215))
        painter.setPen(c[colour])
        painter.drawText(QRectF(left, y - 8, width + 2, 16), Qt.AlignmentFlag.AlignVCenter, text)


def time_ticks(begin: float, end: float) -> list[float]:
    """Round times in seconds to be marked between two."""
    step = next(s for s in (1, 2, 5, 10, 20, 30, 60, 120, 300) if (end - begin) / s <= 10 or s == 300)
    return [float(t) for t in np.arange(math.ceil(begin / step) * step, end, step)]
