"""The still part of the timeline's picture: sections, waveforms, flat tops, reduction."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import clock
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.loudness import LOUDEST_SECONDS
from gluvo.measure.overview import OUTLINE_HOP
from gluvo.measure.trace import Span
from gluvo.render.joint import Joint
from gluvo.session import by_section
from gluvo.session.records import Section
from gluvo.session.sections import same_span

MARGIN = 12
RIBBON = (6, 17)
"""Top and height of the sections' row, in pixels."""
BLOCK = (7, 15)
"""Top and height of a section's block there, where nothing is lifted."""
RAISED_A_DB, MOST_RAISED = 0.5, 5.0
"""Pixels by which a block stands higher for each dB that it is lifted by, and at most."""
CAPTION = 15
"""Height of the words under the waveform, where nothing crosses them."""
NOTE = 7
"""Half the width and the height of a note's mark, in pixels."""
REDUCTION_DEPTH = 9.0
"""dB that fill the reduction's row."""


@dataclass(frozen=True)
class TimelineDrawing:
    """Draws a stretch of the song into a picture of some size in pixels."""

    bench: Workbench
    view: Span
    width: int
    height: int
    reduction: np.ndarray | None
    """What the chosen strip's chain takes away, dB, every 10 ms."""
    step_reduction: np.ndarray | None
    """What the chosen step takes away."""

    waves_zoom: float = 1.0
    """How much larger than its row the waveform is drawn."""

    @property
    def waves(self) -> tuple[int, int]:
        """Top and height of the waveform's row, in pixels."""
        top = RIBBON[0] + RIBBON[1] + 2
        return top, self.height - top - CAPTION - self.reduction_row[1] - 4

    @property
    def reduction_row(self) -> tuple[int, int]:
        """Top and height of the reduction's row, in pixels."""
        tall = max(14, round(0.17 * self.height))
        return self.height - CAPTION - tall - 1, tall

    @property
    def inner(self) -> float:
        """The width between the margins."""
        return max(1.0, self.width - 2.0 * MARGIN)

    @property
    def song_seconds(self) -> float:
        material = self.bench.audio.material
        return material.seconds if material else 1.0

    def x(self, seconds: float) -> float:
        """Where a time is, in pixels."""
        return MARGIN + (seconds - self.view.start) / self.view.seconds * self.inner

    def draw(self, painter: QPainter) -> None:
        """All but the playhead."""
        c, bench = colours(), self.bench
        chosen = bench.session.section(bench.session.view.section)
        painter.save()
        painter.setClipRect(QRectF(MARGIN, 0, self.inner, self.height))
        if chosen is not None:
            left, right = self.x(chosen.start), self.x(chosen.end)
            top = self.waves[0]
            painter.fillRect(QRectF(left, top, right - left, self.height - top - CAPTION), c["wash"])
        self._draw_ribbon(painter, chosen)
        song = bench.audio.material
        if song is None:
            painter.restore()
            painter.setPen(c["faint"])
            painter.setFont(font(13))
            text = "Reading audio…"
            painter.drawText(QRectF(0, 0, self.width, self.height), Qt.AlignmentFlag.AlignCenter, text)
            return
        painter.setPen(QPen(c["rule"], 1))
        middle = self._y(0.0)
        painter.drawLine(QPointF(MARGIN, middle), QPointF(self.width - MARGIN, middle))
        if self.view.seconds * song.rate < 2.0 * self.inner:
            self._draw_samples(painter)
        else:
            self._draw_outlines(painter, fine=self.view.seconds * song.rate < self.inner * OUTLINE_HOP)
        self._draw_flat_tops(painter)
        painter.restore()
        painter.save()
        painter.setClipRect(QRectF(MARGIN, 0, self.inner, self.height))
        self._draw_reduction(painter)
        self._draw_loudest(painter, words=False)
        self._draw_notes(painter)
        painter.restore()

    def draw_words(self, painter: QPainter) -> None:
        """What is written over waveform and playhead, each on ground of its own."""
        if self.bench.audio.material is None:
            return
        self._draw_loudest(painter, words=True)
        self._write_reduction(painter)
        self._draw_scale(painter)

    def _draw_ribbon(self, painter: QPainter, chosen: Section | None) -> None:
        c = colours()
        painter.setFont(font(11))
        session = self.bench.session
        strip, step = session.strip(session.view.strip), session.item(session.view.step)
        for section in session.sections:
            left, right = self.x(section.start), self.x(section.end)
            gain = by_section.gain_of(strip, section.id) if strip is not None else 0.0
            raised = math.copysign(min(MOST_RAISED, 1.0 + abs(gain) * RAISED_A_DB), gain) if gain else 0.0
            box = QRectF(left + 0.5, BLOCK[0] - raised, max(2.0, right - left - 1.5), BLOCK[1])
            is_chosen = chosen is not None and section.id == chosen.id
            painter.fillRect(box, c["ink" if is_chosen else "hair"])
            painter.setPen(c["paper" if is_chosen else "ink"])
            inside = box.intersected(QRectF(MARGIN, 0, self.inner, 100)).adjusted(6, 0, -4, 0)
            told = f"{gain:+.1f}{' dB' if inside.width() > 100 else ''}".replace("-", "−") if gain else ""
            room = painter.fontMetrics().horizontalAdvance(told) + 8 if told else 0
            if told and inside.width() >= room:
                painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, told)
                inside.setRight(inside.right() - room)
            name = painter.fontMetrics().elidedText(
                section.name, Qt.TextElideMode.ElideRight, int(max(0, inside.width()))
            )
            painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter, name)
            if step is not None and section.id in step.sections:
                painter.fillRect(QRectF(box.left(), RIBBON[0] + RIBBON[1] - 1, box.width(), 3), c["signal"])

    def _draw_outlines(self, painter: QPainter, fine: bool) -> None:
        """The louder one behind, so that both can be seen. `fine`: from the samples, where an outline is too coarse."""
        picture, c = self.bench.picture, colours()
        if picture.song_render is not None:
            source, result = picture.song_render.untouched, picture.song_render.result
            pairs = [(result, "signal", 150), (source, "ink", 175)]
            if float(source.outline.high.max(initial=0)) > float(result.outline.high.max(initial=0)) * 1.02:
                pairs = [(source, "ink", 80), (result, "signal", 190)]
        elif picture.untouched is not None:
            pairs = [(picture.untouched, "ink", 80)]
        else:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        for joint, name, alpha in pairs:
            painter.setBrush(c.soft(name, alpha))
            painter.drawPolygon(self._shape_of(joint, fine))

    def _shape_of(self, joint: Joint, fine: bool) -> QPolygonF:
        """The smallest and largest values of each column of pixels, as an area."""
        if fine:
            frames = Span(self.view.start - 0.01, self.view.end + 0.01).frames(joint.rate, len(joint.audio))
            part, first, per_second = np.asarray(joint.audio[frames]), frames.start, float(joint.rate)
            low, high = part.min(axis=1), part.max(axis=1)
        else:
            low, high, first, per_second = joint.outline.low, joint.outline.high, 0, joint.rate / OUTLINE_HOP
        columns = int(self.inner)
        edges = (self.view.start + np.arange(columns + 1) / columns * self.view.seconds) * per_second - first
        last = len(high) - 1
        stops = np.empty(2 * columns, dtype=int)
        stops[0::2] = np.clip(edges[:-1].astype(int), 0, last)
        stops[1::2] = np.clip(np.ceil(edges[1:]).astype(int) + 1, 0, last)
        tops = np.maximum.reduceat(high, stops)[::2]
        bottoms = np.minimum.reduceat(low, stops)[::2]
        xs = MARGIN + np.arange(columns) + 0.5
        across = np.concatenate([xs, xs[::-1]])
        top, tall = self.waves
        values = np.concatenate([tops, bottoms[::-1]]) * self.waves_zoom
        down = top + tall / 2 * (1.0 - np.clip(values, -1.0, 1.0))
        return QPolygonF([QPointF(x, y) for x, y in zip(across.tolist(), down.tolist(), strict=True)])

    def _draw_samples(self, painter: QPainter) -> None:
        """Close up: the samples themselves, both channels; dots where they are far enough apart."""
        render = self.bench.picture.song_render
        song = self.bench.audio.material
        assert song is not None
        if render is None:
            return
        layers = [(render.result.audio, "signal"), (render.untouched.audio, "ink")]
        c, rate = colours(), song.rate
        first = max(0, math.floor(self.view.start * rate))
        last = min(song.frames, math.ceil(self.view.end * rate) + 1)
        apart = self.inner / max(1, last - first)
        for samples, name in layers:
            seen = samples[first:last]
            for channel, style in ((0, Qt.PenStyle.SolidLine), (1, Qt.PenStyle.DotLine)):
                values = seen[:, channel]
                points = [QPointF(self.x((first + n) / rate), self._y(float(v))) for n, v in enumerate(values)]
                painter.setPen(QPen(c.soft(name, 230), 1.2, style))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(QPolygonF(points))
                if apart > 5 and channel == 0:
                    painter.setBrush(c[name])
                    for point in points:
                        painter.drawEllipse(point, 1.8, 1.8)

    def _draw_flat_tops(self, painter: QPainter) -> None:
        c, drawn = colours(), -10.0
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["over"])
        for start, length in self.bench.audio.flat_places(self.bench.session):
            if start + length < self.view.start or start > self.view.end:
                continue
            left, right = self.x(start), self.x(start + length)
            if right - drawn > 3.0:
                painter.drawRect(QRectF(left, self.waves[0], max(2.0, right - left), 3))
                drawn = right

    def _draw_notes(self, painter: QPainter) -> None:
        """A mark at each note's place: filled for oneself, hollow from or for the client, faint once it is done."""
        c, top = colours(), float(self.waves[0])
        for note in self.bench.session.notes:
            if note.at is None or not self.view.start <= note.at <= self.view.end:
                continue
            x, colour = self.x(note.at), c["faint" if note.done else "ink"]
            mark = QPolygonF([QPointF(x - NOTE + 2, top), QPointF(x + NOTE - 2, top), QPointF(x, top + NOTE)])
            painter.setPen(QPen(colour, 1.2))
            painter.setBrush(c["sheet"] if note.client else colour)
            painter.drawPolygon(mark)

    def _draw_reduction(self, painter: QPainter) -> None:
        c, top = colours(), self.reduction_row[0]
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(MARGIN, top), QPointF(self.width - MARGIN, top))
        if self.reduction is not None and self.reduction.max(initial=0.0) > 0.05:
            self._draw_taken(painter, self.reduction, 110)
        if self.step_reduction is not None and self.step_reduction.max(initial=0.0) > 0.05:
            self._draw_taken(painter, self.step_reduction, 230)

    def _write_reduction(self, painter: QPainter) -> None:
        c = colours()
        strip = self.bench.session.strip(self.bench.session.view.strip)
        name = strip.name if strip is not None else ""
        text, colour = f"reduction, {name}: none", "faint"
        if self.reduction is not None and self.reduction.max(initial=0.0) > 0.05:
            text, colour = f"reduction, {name}: {float(self.reduction.max()):.1f} dB at most", "reduction"
        if self.step_reduction is not None and self.step_reduction.max(initial=0.0) > 0.05:
            step = self.bench.session.item(self.bench.session.view.step)
            more = f"{step.title if step else ''} {float(self.step_reduction.max()):.1f}"
            text, colour = f"{text}, {more}" if colour == "reduction" else f"reduction: {more} dB at most", "reduction"
        painter.setFont(font(11))
        painter.setPen(c[colour])
        box = QRectF(MARGIN, self.height - CAPTION, self.inner - 150, CAPTION)
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)

    def _draw_taken(self, painter: QPainter, taken: np.ndarray, alpha: int) -> None:
        """What is taken away, hanging from its line: the most of each column."""
        (top, tall), columns = self.reduction_row, int(self.inner)
        edges = (self.view.start + np.arange(columns + 1) / columns * self.view.seconds) * 100.0
        stops = np.clip(edges.astype(int), 0, len(taken) - 1)
        depth = np.minimum(np.maximum.reduceat(taken, stops[:-1]) / REDUCTION_DEPTH, 1.0) * tall
        points = [QPointF(MARGIN, top)]
        points += [QPointF(MARGIN + n + 0.5, top + d) for n, d in enumerate(depth.tolist())]
        points.append(QPointF(self.width - MARGIN, top))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours().soft("reduction", alpha))
        painter.drawPolygon(QPolygonF(points))

    def _draw_loudest(self, painter: QPainter, words: bool) -> None:
        start = self.bench.measurement.loudest()
        sections = self.bench.session.sections
        if start is not None and any(same_span(s, start, start + LOUDEST_SECONDS) for s in sections):
            return  # a section stands there, and marks it
        if start is None or not self.view.start <= start + LOUDEST_SECONDS / 2 <= self.view.end:
            return
        c = colours()
        left, right = self.x(start), self.x(start + LOUDEST_SECONDS)
        y = self.waves[0] + 1.5
        painter.setPen(QPen(c["mid"], 2))
        if not words:
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            painter.drawLine(QPointF(left, y), QPointF(left, y + 5))
            painter.drawLine(QPointF(right, y), QPointF(right, y + 5))
            return
        painter.setFont(font(11))
        text = f"loudest {LOUDEST_SECONDS:.0f} s"
        width = painter.fontMetrics().horizontalAdvance(text)
        if right - left > width + 12:
            box = QRectF(max(MARGIN, left) + 4, y + 2, width + 6, 14)
            painter.fillRect(box, c["paper"])
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _draw_scale(self, painter: QPainter) -> None:
        """How much is in view, once it is not all."""
        whole = self.view.seconds >= self.song_seconds * 0.999
        text = "" if whole else f"{clock(self.view.start)} – {clock(self.view.end)}"
        if self.view.seconds < 1.0:
            text = f"{self.view.start:.4f} – {self.view.end:.4f} s"
        if self.waves_zoom != 1.0:
            text = f"waves × {self.waves_zoom:.2g}   {text}"
        painter.setFont(font(11))
        box = QRectF(self.width - MARGIN - 240, self.height - CAPTION, 240, CAPTION)
        painter.setPen(colours()["faint"])
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

    def _y(self, value: float) -> float:
        top, tall = self.waves
        return top + tall / 2 * (1.0 - max(-1.0, min(1.0, value * self.waves_zoom)))
