"""A window of meters, for a second screen: what is heard as a written line, as tone, as an image, and what each step takes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QByteArray, QPointF, QRectF, QSettings, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QCloseEvent,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QShortcut,
)
from PySide6.QtWidgets import QVBoxLayout, QWidget

from gluvo.desk.charts.chart import draw_heard
from gluvo.desk.controls.theme import colours, font, theme
from gluvo.desk.controls.widgets import drawn, figure
from gluvo.desk.model.live_figures import HOP, LiveFigures, Point
from gluvo.desk.model.workbench import Workbench
from gluvo.dsp.db import db_of
from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Tone, tone_of
from gluvo.measure.stereo import bands_of_tone
from gluvo.session import chains

MINUTES = 2.0
"""Of lines that are shown."""
POINTS = round(60.0 * MINUTES / HOP)
EVERY_MS, WRITTEN_EVERY = 300, 3
"""Between two paintings; and every which of them writes the lines along time anew."""
LIVE_FRAMES, DOTS = 16_384, 500
CENTRES = 1000.0 * 2.0 ** (np.arange(-33, 25) / 6.0)
"""Hz of the tone and the image, every sixth of an octave."""
BANDS = ((20.0, 120.0), (120.0, 500.0), (500.0, 2000.0), (2000.0, 8000.0), (8000.0, 20_000.0))
BAND_NAMES = ("to 120", "to 500", "to 2k", "to 8k", "above")
CALM = 0.35
"""The part of a new tone that is shown at once; the rest comes in after it, so that the line can be read."""
SETTLED_DB = 24.0
"""dB of the tone's range to both sides of its middle."""
MOST_TAKEN = 12.0
"""dB down to which a step's line reaches."""


@dataclass(frozen=True, eq=False)
class _Image:
    """The tone and the image of the last moments."""

    levels: Floats
    """dB at `CENTRES`, tilted by 4.5 dB an octave, against their middle."""
    side: Floats
    """The side's part of mid and side at `CENTRES`, 0–1."""
    correlations: tuple[float, ...]
    dots: np.ndarray


def _levelled(tone: Tone) -> Floats:
    tilted = tone.smoothed("stereo", 6.0, CENTRES) + 4.5 * np.log2(CENTRES / 1000.0)
    return np.asarray(tilted - np.median(tilted[(CENTRES > 100.0) & (CENTRES < 8000.0)]))


class MetersView(QWidget):
    """All of it in one picture, painted three times a second while something plays: calm to read, and cheap."""

    def __init__(self, bench: Workbench, live: LiveFigures) -> None:
        super().__init__()
        self._bench, self._live = bench, live
        self._image: _Image | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Meters")
        self.setToolTip(
            "What is heard, before the level match and the output level. Click, or Enter, starts peaks and the loudness so far "
            "over. F11 is the full screen; F9 closes."
        )
        self._timer = QTimer(self, interval=EVERY_MS)
        self._timer.timeout.connect(self._look)
        self._playing = False
        self._written: QPixmap | None = None
        self._painted = self._written_at = 0
        self._left = 0.0
        """The height of all but the ends, as it was last painted."""
        self._heard: tuple[float, float] | None = None
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(1280, 800)

    def showEvent(self, event: object) -> None:
        self._timer.start()

    def hideEvent(self, event: object) -> None:
        self._timer.stop()

    def _look(self) -> None:
        """Take the last moments, and paint."""
        engine = self._bench.engine
        playing = engine is not None and engine.playing
        if playing and engine is not None:
            heard = engine.heard(LIVE_FRAMES)
            if heard is not None:
                self._image = self._next(heard, engine.rate)
        if playing or self._playing:
            self.update()
        self._playing = playing

    def _next(self, heard: np.ndarray, rate: int) -> _Image:
        tone = tone_of(heard, rate)
        levels, mid, side = _levelled(tone), *(10.0 ** (tone.smoothed(p, 6.0, CENTRES) / 10.0) for p in ("mid", "side"))
        share = side / np.maximum(mid + side, 1e-20)
        if (before := self._image) is not None:
            levels = before.levels + CALM * (levels - before.levels)
            share = before.side + CALM * (share - before.side)
        correlations = tuple(band.correlation for band in bands_of_tone(tone, BANDS))
        return _Image(levels, np.asarray(share), correlations, heard[:: max(1, len(heard) // DOTS)])

    # --- what is told --------------------------------------------------------------------------------------

    def figures(self) -> list[tuple[str, str, str]]:
        """The big figures: name, figure, unit."""
        live = self._live
        correlation, peak = live.correlation, max(live.levels)
        crest = peak - live.rms if live.rms > -100.0 and peak > -100.0 else -200.0
        return [
            ("Short-term", figure(live.loudness(3.0)), "LUFS"),
            ("Momentary", figure(live.loudness(0.4)), "LUFS"),
            ("So far", figure(live.integrated), "LUFS"),
            ("RMS 3 s", figure(live.rms if live.rms > -100.0 else -200.0), "dBFS"),
            ("True peak", figure(db_of(live.true_peak), 2), "dBTP"),
            ("Correlation", "–" if correlation is None else figure(correlation, 2, signed=True), ""),
            ("Crest", figure(crest), "dB"),
        ]

    def steps(self) -> list[tuple[str, str]]:
        """Id and name of each step of the chosen strip's chain that takes level away."""
        chain = chains.flat_on(self._bench.session.chain)
        named = [(step.id, step.called) for step in chain if step.reduces]
        names = [name for _, name in named]
        return [
            (id, f"{name} {names[: n + 1].count(name)}" if names.count(name) > 1 else name)
            for n, (id, name) in enumerate(named)
        ]

    def describe(self) -> str:
        """All figures in a sentence."""
        return ", ".join(f"{name} {value} {unit}".strip() for name, value, unit in self.figures())

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), c["paper"])
        wide, high = self.width(), self.height()
        history = list(self._live.history)[-POINTS:]
        steps = self.steps()
        taken = min(max(1, len(steps)) * 34.0, 0.3 * high) + 34.0
        self._draw_figures(painter, QRectF(20, 10, wide - 40, 66))
        left = self._left = high - 84.0 - taken
        if (
            self._written is None
            or self._written.size() != self.size()
            or self._written_at + WRITTEN_EVERY <= self._painted
        ):
            self._written, self._written_at = (
                drawn(self, partial(self._write, left, taken, history, steps)),
                self._painted,
            )
        painter.drawPixmap(0, 0, self._written)
        self._painted += 1
        tone, image, dots = self._rooms(left)
        self._draw_tone(painter, tone)
        self._draw_image(painter, image)
        self._draw_dots(painter, dots)
        if self._heard is not None:
            area = _area(tone)
            draw_heard(painter, area, *(_freq_across(area, freq) for freq in self._heard))
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(2, 2, -3, -3))

    def frequency_at(self, place: QPointF) -> float | None:
        """See `ByFrequency`."""
        area = _area(self._rooms(self._left)[0])
        share = (place.x() - area.left()) / area.width()
        return float(CENTRES[0] * (CENTRES[-1] / CENTRES[0]) ** share) if area.contains(place) else None

    def show_heard(self, heard: tuple[float, float] | None) -> None:
        """See `ByFrequency`."""
        if heard != self._heard:
            self._heard = heard
            self.update()

    def _rooms(self, left: float) -> tuple[QRectF, QRectF, QRectF]:
        """The rooms of tone, image and left against right under their heads; `left` is the height of all but the ends."""
        row = QRectF(20, 84 + 0.46 * left, self.width() - 40, 0.54 * left)
        half = row.width() * 0.5
        return (
            QRectF(row.left(), row.top(), half - 20, row.height()),
            QRectF(row.left() + half, row.top(), row.width() * 0.27, row.height()),
            QRectF(row.left() + row.width() * 0.8, row.top(), row.width() * 0.2, row.height()),
        )

    def _write(
        self, left: float, taken: float, history: Sequence[Point], steps: Sequence[tuple[str, str]], painter: QPainter
    ) -> None:
        """What is written along time, and what stands still: seldom is enough for that."""
        wide, high = self.width(), self.height()
        tone, image, dots = self._rooms(left)
        self._write_tone(painter, tone)
        self._head(painter, image, "Side's part, and correlation by range")
        self._draw_freqs(painter, _image_area(image))
        self._head(painter, dots, "Left against right")
        self._draw_loudness(painter, QRectF(20, 84, wide - 40, 0.46 * left), history)
        self._draw_steps(painter, QRectF(20, high - taken, wide - 40, taken - 6), history, steps)

    def _head(self, painter: QPainter, box: QRectF, text: str) -> QRectF:
        """A line over a part, and its name; the room that is left under it."""
        c = colours()
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(box.topLeft(), box.topRight())
        painter.setFont(font(13, bold=True))
        painter.setPen(c["ink"])
        painter.drawText(box.adjusted(0, 6, 0, 0), Qt.AlignmentFlag.AlignTop, text)
        return _area(box)

    def _draw_figures(self, painter: QPainter, box: QRectF) -> None:
        c, told = colours(), self.figures()
        width = box.width() / len(told)
        for n, (name, value, unit) in enumerate(told):
            x = box.left() + n * width
            painter.setFont(font(13))
            painter.setPen(c["faint"])
            painter.drawText(QRectF(x, box.top(), width, 18), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setFont(font(30 if n == 0 else 24, bold=True))
            painter.setPen(c["over" if name == "True peak" and self._live.true_peak > 1.0 else "ink"])
            place = QRectF(x, box.top() + 20, width, 40)
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, value)
            after = painter.fontMetrics().horizontalAdvance(value) + 6
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            painter.drawText(place.adjusted(after, 8, 0, 0), Qt.AlignmentFlag.AlignVCenter, unit)

    def _across(self, area: QRectF, count: int) -> np.ndarray:
        """Where the last moments lie, the newest at the right."""
        return np.asarray(area.right() - area.width() * np.arange(count - 1, -1, -1) / (POINTS - 1))

    def _draw_loudness(self, painter: QPainter, box: QRectF, history: Sequence[Point]) -> None:
        c, target = colours(), self._bench.session.target
        area = self._head(painter, box, "Loudness, the last two minutes (LUFS); RMS and crest under it (dB)")
        area = area.adjusted(0, 0, 0, 14)
        middle = target.loudness if target.measure in ("integrated", "short_term") else -16.0
        low, high = middle - 15.0, middle + 9.0

        def y_at(values: np.ndarray) -> np.ndarray:
            return np.asarray(area.bottom() - np.clip((values - low) / (high - low), 0.0, 1.0) * area.height())

        painter.setFont(font(11))
        for level in range(6 * math.ceil(low / 6.0), int(high) + 1, 6):
            y = float(y_at(np.array([float(level)]))[0])
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(c["faint"])
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(box.left(), y - 8, 30, 16), right, f"{level}".replace("-", "−"))
        y = float(y_at(np.array([middle]))[0])
        painter.setPen(QPen(c["ink"], 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        painter.setPen(c["faint"])
        painter.drawText(QPointF(area.left() + 4, y - 4), f"target {figure(target.loudness)}")
        if len(history) < 2:
            return
        xs = self._across(area, len(history))
        lines: tuple[tuple[str, str, float], ...] = (
            ("rms", "faint", 1.0),
            ("momentary", "rule", 1.0),
            ("short_term", "signal", 2.0),
        )
        for name, colour, width in lines:
            values = np.array([getattr(point, name) for point in history])
            painter.setPen(QPen(c[colour], width))
            for run in _runs(values > -100.0):
                painter.drawPolyline(_line(xs[run], y_at(values[run])))
        crest = np.array([p.peak - p.rms for p in history])
        heard = np.array([p.rms > -100.0 and p.peak > -100.0 for p in history])
        painter.setPen(QPen(c["mid"], 1.2))
        for run in _runs(heard):
            painter.drawPolyline(_line(xs[run], area.bottom() - np.clip(crest[run] / 48.0, 0.0, 1.0) * area.height()))
        if heard[-1]:
            painter.setPen(c["mid"])
            painter.drawText(QPointF(area.left() + 4, area.bottom() - 4), f"crest {figure(float(crest[-1]))} dB")

    def _write_tone(self, painter: QPainter, box: QRectF) -> None:
        """The corridor of the references, which stands still."""
        c, references = colours(), [r.thirds for r in self._bench.picture.references]
        self._head(painter, box, "Tone now, against the references" if references else "Tone now")
        area = _area(box)
        self._draw_freqs(painter, area)
        if not references:
            return
        tilted = np.stack([np.interp(CENTRES, s.freqs, s.levels + 4.5 * np.log2(s.freqs / 1000.0)) for s in references])
        tilted -= np.median(tilted[:, (CENTRES > 100.0) & (CENTRES < 8000.0)], axis=1, keepdims=True)
        mean, spread = tilted.mean(axis=0), np.maximum(tilted.std(axis=0), 1.5)
        xs, edges = _freqs_across(area), (_tone_heights(area, mean + spread), _tone_heights(area, mean - spread)[::-1])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.soft("reference", 56))
        painter.drawPolygon(_line(np.r_[xs, xs[::-1]], np.concatenate(edges)))

    def _draw_tone(self, painter: QPainter, box: QRectF) -> None:
        if self._image is not None:
            area = _area(box)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colours()["signal"], 1.6))
            painter.drawPolyline(_line(_freqs_across(area), _tone_heights(area, self._image.levels)))

    def _draw_freqs(self, painter: QPainter, area: QRectF) -> None:
        c = colours()
        painter.setFont(font(11))
        for freq, name in ((50, "50"), (200, "200"), (1000, "1k"), (5000, "5k"), (15_000, "15k")):
            x = _freq_across(area, freq)
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            painter.setPen(c["faint"])
            painter.drawText(QRectF(x - 24, area.bottom() + 2, 48, 16), Qt.AlignmentFlag.AlignHCenter, name)

    def _draw_image(self, painter: QPainter, box: QRectF) -> None:
        c = colours()
        area = _image_area(box)
        middle = area.center().y()
        painter.setPen(QPen(c["mid"], 1.2))
        painter.drawLine(QPointF(area.left(), middle), QPointF(area.right(), middle))
        if self._image is None:
            return
        xs = _freqs_across(area)
        out = np.sqrt(np.clip(self._image.side, 0.0, 1.0)) * area.height() / 2.0
        shape = _line(np.r_[xs, xs[::-1]], np.r_[middle - out, (middle + out)[::-1]])
        painter.setPen(QPen(c["side"], 1.2))
        painter.setBrush(c.soft("side", 60))
        painter.drawPolygon(shape)
        width, y = area.width() / len(BANDS), area.bottom() + 20
        for n, value in enumerate(self._image.correlations):
            x = area.left() + n * width
            zero = x + (width - 8) / 2.0
            painter.fillRect(QRectF(x, y, width - 8, 5), c["hair"])
            length = (width - 8) / 2.0 * max(-1.0, min(1.0, value))
            painter.fillRect(QRectF(min(zero, zero + length), y, abs(length), 5), c["over" if value < 0.0 else "side"])
            painter.setPen(c["faint"])
            painter.drawText(QRectF(x, y + 6, width, 14), Qt.AlignmentFlag.AlignLeft, BAND_NAMES[n])
            painter.setPen(c["ink"])
            painter.drawText(QRectF(x, y + 19, width, 14), Qt.AlignmentFlag.AlignLeft, figure(value, 2, signed=True))

    def _draw_dots(self, painter: QPainter, box: QRectF) -> None:
        c = colours()
        area = _area(box).adjusted(-30, 4, 0, 14)
        size = min(area.width(), area.height())
        square = QRectF(area.left(), area.top(), size, size)
        middle, half = square.center(), size / 2.0
        painter.setPen(QPen(c["hair"], 1))
        painter.drawLine(square.topLeft(), square.bottomRight())
        painter.drawLine(square.topRight(), square.bottomLeft())
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        painter.drawText(QPointF(square.left(), square.top() + 10), "L")
        painter.drawText(QPointF(square.right() - 8, square.top() + 10), "R")
        if self._image is None:
            return
        dots = self._image.dots
        scale = half / max(0.2, 2.0 * float(np.abs(dots).max(initial=0.0)))
        xs = middle.x() + (dots[:, 1] - dots[:, 0]) * scale
        ys = middle.y() - (dots[:, 0] + dots[:, 1]) * scale
        painter.setPen(QPen(c.soft("signal", 120), 2))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.drawPoints(_line(xs, ys))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _draw_steps(
        self, painter: QPainter, box: QRectF, history: Sequence[Point], steps: Sequence[tuple[str, str]]
    ) -> None:
        c = colours()
        strip = self._bench.session.strip(self._bench.session.view.strip)
        area = self._head(
            painter, box, f"What each step of {strip.name if strip is not None else 'the chain'} takes, dB"
        )
        area = QRectF(box.left() + 36, box.top() + 28, box.width() - 40, box.height() - 28)
        if not steps:
            painter.setFont(font(13))
            painter.setPen(c["faint"])
            painter.drawText(area, Qt.AlignmentFlag.AlignTop, "No step of this chain takes level away.")
            return
        row = area.height() / len(steps)
        lines = QRectF(area.left() + 110, area.top(), area.width() - 180, area.height())
        xs = self._across(lines, len(history))
        most = max([MOST_TAKEN, *(max(point.reductions.values(), default=0.0) for point in history)])
        for n, (id, name) in enumerate(steps):
            top = area.top() + n * row
            painter.setFont(font(13))
            painter.setPen(c["ink"])
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, 130)
            painter.drawText(QRectF(box.left(), top, 140, 20), Qt.AlignmentFlag.AlignVCenter, shown)
            right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            now = self._live.reductions.get(id, 0.0)
            painter.drawText(QRectF(area.right() - 66, top, 66, 20), right, f"{figure(now)} dB")
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(lines.left(), top + 3), QPointF(lines.right(), top + 3))
            if len(history) < 2:
                continue
            taken = np.array([point.reductions.get(id, 0.0) for point in history])
            hung = _line(xs, top + 3 + np.clip(taken / most, 0.0, 1.0) * (row - 6))
            painter.setPen(QPen(c["reduction"], 1.4))
            painter.drawPolyline(hung)

    # --- hands ---------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._live.reset()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._live.reset()
            self.update()
        elif event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        else:
            super().keyPressEvent(event)


def _area(box: QRectF) -> QRectF:
    """What is left of a room under its head."""
    return box.adjusted(36, 28, -4, -20)


def _image_area(box: QRectF) -> QRectF:
    return _area(box).adjusted(-30, 0, 0, -36)


def _freq_across(area: QRectF, freq: float) -> float:
    return area.left() + math.log(freq / CENTRES[0]) / math.log(CENTRES[-1] / CENTRES[0]) * area.width()


def _freqs_across(area: QRectF) -> np.ndarray:
    return np.asarray(area.left() + np.log(CENTRES / CENTRES[0]) / math.log(CENTRES[-1] / CENTRES[0]) * area.width())


def _tone_heights(area: QRectF, levels: np.ndarray) -> np.ndarray:
    return np.asarray(area.center().y() - np.clip(levels / SETTLED_DB, -1.0, 1.0) * area.height() / 2.0)


def _line(xs: np.ndarray, ys: np.ndarray) -> QPolygonF:
    return QPolygonF([QPointF(x, y) for x, y in zip(xs.tolist(), ys.tolist(), strict=True)])


def _runs(there: np.ndarray) -> list[slice]:
    """The runs of at least two that are there."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], there.astype(np.int8), [0]])))
    return [slice(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a > 1]


class MetersWindow(QWidget):
    """The meters in a window of their own; where it stood is remembered."""

    closed = Signal()

    def __init__(
        self, bench: Workbench, live: LiveFigures, settings: QSettings, hear_range: Callable[[], object]
    ) -> None:
        """`hear_range` is called as long as the key is held with which a range is heard."""
        super().__init__()
        self._settings = settings
        self.setWindowTitle("Meters – Gluvo")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.view = MetersView(bench, live)
        column.addWidget(self.view)
        self.resize(1280, 800)
        self.setMinimumSize(700, 480)
        kept: Any = settings.value("meters/geometry")
        if isinstance(kept, QByteArray):
            self.restoreGeometry(kept)
        keys = {
            "Q": hear_range,
            "F11": lambda: full_screen(self),
            "Esc": self._leave,
            "F9": self.close,
            "Ctrl+W": self.close,
        }
        for key, act in keys.items():
            QShortcut(QKeySequence(key), self, act)

    def _leave(self) -> None:
        """Out of the full screen, if it is on."""
        if self.isFullScreen():
            self.showNormal()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._settings.setValue("meters/geometry", self.saveGeometry())
        super().closeEvent(event)
        self.closed.emit()


def full_screen(window: QWidget) -> None:
    """The full screen for a window, or its own place again."""
    if window.isFullScreen():
        window.showNormal()
    else:
        window.showFullScreen()
