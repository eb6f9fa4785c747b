"""Songs one after the other on one axis of time: the loudness of each as it will stand; and a song's tone as a small line."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from gluvo.desk.controls.theme import colours, font, theme

LOW, HIGH = -40.0, -4.0
"""LUFS that are drawn."""
LEFT, FOOT, HEAD = 44.0, 24.0, 8.0


@dataclass(frozen=True)
class DrawnSong:
    """A song as it is drawn; all in seconds of the record and LUFS as it will stand."""

    id: str
    name: str
    start: float
    seconds: float
    curve: tuple[float, ...]
    loudness: float


class RecordView(QWidget):
    """Click chooses a song, a double click opens it."""

    chosen = Signal(str)
    opened = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._songs: Sequence[DrawnSong] = ()
        self._now, self._target, self._total = "", -14.0, 1.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(150)
        self.setAccessibleName("Loudness of the record")
        self.setToolTip(
            "Short-term loudness of every song as it will stand on the record, one after the other: its integrated loudness as a "
            "line, the target dashed. Click chooses a song, a double click opens it."
        )
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(1000, 240)

    def show_songs(self, songs: Sequence[DrawnSong], now: str, target: float, total: float) -> None:
        """The songs, the id of the chosen one, the target in LUFS, and how long the record is."""
        self._songs, self._now, self._target, self._total = songs, now, target, max(total, 1.0)
        self.update()

    def _x(self, seconds: float) -> float:
        return LEFT + seconds / self._total * (self.width() - LEFT - 12.0)

    def _y(self, level: float) -> float:
        share = (HIGH - min(HIGH, max(LOW, level))) / (HIGH - LOW)
        return HEAD + share * (self.height() - HEAD - FOOT)

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(11))
        bottom = self.height() - FOOT
        for level in (-12, -18, -24, -30):
            y = self._y(level)
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - 12.0, y))
            painter.setPen(c["faint"])
            place = QRectF(0, y - 8, LEFT - 8, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"−{-level}")
        if not self._songs:
            painter.setPen(c["faint"])
            painter.setFont(font(13))
            words = "Add songs: sessions, or finished files. They stand here as one record."
            painter.drawText(QRectF(0, 0, self.width(), self.height()), Qt.AlignmentFlag.AlignCenter, words)
            return
        for n, song in enumerate(self._songs, start=1):
            self._draw(painter, n, song, bottom)
        painter.setPen(QPen(c["ink"], 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(LEFT, self._y(self._target)), QPointF(self.width() - 12.0, self._y(self._target)))

    def _draw(self, painter: QPainter, n: int, song: DrawnSong, bottom: float) -> None:
        c = colours()
        left, right = self._x(song.start), self._x(song.start + song.seconds)
        if song.id == self._now:
            painter.fillRect(QRectF(left, 0, right - left, self.height()), c["wash"])
        if song.curve:
            xs = np.linspace(left, right, len(song.curve))
            points = [QPointF(float(x), self._y(v)) for x, v in zip(xs, song.curve, strict=True)]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("signal", 46))
            painter.drawPolygon(QPolygonF([QPointF(left, bottom), *points, QPointF(right, bottom)]))
            painter.setPen(QPen(c["signal"], 1.6))
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(QPen(c["ink"], 1.6))
            painter.drawLine(QPointF(left, self._y(song.loudness)), QPointF(right, self._y(song.loudness)))
        painter.setPen(c["ink"])
        painter.setFont(font(11))
        words = painter.fontMetrics().elidedText(
            f"{n}  {song.name}", Qt.TextElideMode.ElideRight, int(right - left - 6)
        )
        painter.drawText(QRectF(left + 4, bottom + 2, right - left - 6, FOOT - 4), Qt.AlignmentFlag.AlignVCenter, words)

    def _at(self, x: float) -> str:
        return next((s.id for s in self._songs if self._x(s.start) <= x <= self._x(s.start + s.seconds)), "")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if id := self._at(event.position().x()):
            self.chosen.emit(id)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if id := self._at(event.position().x()):
            self.opened.emit(id)


class ToneLine(QWidget):
    """dB in thirds of an octave over what the other songs have, about a middle line."""

    REACH = 6.0

    def __init__(self) -> None:
        super().__init__()
        self._values: tuple[float, ...] = ()
        self._low = self._high = np.zeros(0)
        self._chosen = False
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        theme.changed.connect(self.update)

    def show_tone(self, values: Sequence[float], low: Sequence[float], high: Sequence[float], chosen: bool) -> None:
        """A song's line, and how far those of all songs reach under and over the middle."""
        self._values, self._chosen = tuple(values), chosen
        self._low, self._high = np.asarray(low), np.asarray(high)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide, tall = self.width() - 16.0, self.height() - 6.0

        def points(values: Sequence[float] | np.ndarray) -> list[QPointF]:
            reach = np.clip(np.asarray(values, dtype=float) / self.REACH, -1.0, 1.0)
            xs = 8.0 + np.linspace(0.0, wide, len(reach))
            return [QPointF(x, y) for x, y in zip(xs.tolist(), (3.0 + tall / 2 * (1.0 - reach)).tolist(), strict=True)]

        if len(self._low) > 1:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c.soft("reference", 36))
            painter.drawPolygon(QPolygonF([*points(self._high), *points(self._low)[::-1]]))
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(8.0, self.height() / 2), QPointF(8.0 + wide, self.height() / 2))
        if len(self._values) > 1:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(c["signal" if self._chosen else "reference"], 1.6))
            painter.drawPolyline(QPolygonF(points(self._values)))


class JoinView(QWidget):
    """The end of a song and the beginning of the next as waves, with a line where the next one begins."""

    def __init__(self) -> None:
        super().__init__()
        self._high = self._low = np.zeros(0)
        self._line = self._place = 0.0
        self.setMinimumHeight(54)
        self.setAccessibleName("The join")
        self.setToolTip(
            "What was heard last of a join: the end of one song, the beginning of the next. The line is where that begins."
        )
        theme.changed.connect(self.update)

    def show_join(self, sound: np.ndarray | None, begins: int) -> None:
        """A join (frames, 2) and the frame where the next song begins; None for none."""
        if sound is None or not len(sound):
            self._high = self._low = np.zeros(0)
        else:
            edges = np.linspace(0, len(sound), 601).astype(int)[:-1]
            self._high = np.maximum.reduceat(sound.max(axis=1), edges)
            self._low = np.minimum.reduceat(sound.min(axis=1), edges)
            self._line = begins / len(sound)
        self.update()

    def show_place(self, share: float) -> None:
        """How far it has played, 0–1."""
        if share != self._place:
            self._place = share
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        middle, tall, wide = self.height() / 2, self.height() / 2 - 4.0, self.width() - 24.0
        painter.setPen(QPen(c["hair"], 1))
        painter.drawLine(QPointF(12.0, middle), QPointF(12.0 + wide, middle))
        if not len(self._high):
            return
        xs = 12.0 + np.arange(len(self._high)) / len(self._high) * wide
        top = [QPointF(float(x), middle - tall * float(v)) for x, v in zip(xs, self._high, strict=True)]
        foot = [QPointF(float(x), middle - tall * float(v)) for x, v in zip(xs, self._low, strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.soft("signal", 150))
        painter.drawPolygon(QPolygonF([*top, *foot[::-1]]))
        x = 12.0 + self._line * wide
        painter.setPen(QPen(c["reduction"], 1.4))
        painter.drawLine(QPointF(x, 2.0), QPointF(x, self.height() - 2.0))
        if self._place > 0.0:
            x = 12.0 + min(1.0, self._place) * wide
            painter.setPen(QPen(c["ink"], 1.4))
            painter.drawLine(QPointF(x, 2.0), QPointF(x, self.height() - 2.0))
