"""The still part of the tree's picture: flow lines, names, switches and figures."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.workbench import Workbench
from gluvo.render.reduction import mean_along
from gluvo.session import chains, tree
from gluvo.session.records import MIX, AnyStrip, Bus, Stem
from gluvo.steps import settings_of

HEAD = 28
"""Height of the column heads, in pixels."""
FIRST = 30
"""Where the mix bus stands."""
INDENTS = (40, 27)
"""How far each level stands to the right of the one it flows into, in a wide and in a narrow page."""
NARROW = 780
"""Pixels under which a page is narrow."""
FIGURES = ((52.0, 44.0, 52.0, 58.0, 84.0), (46.0, 34.0, 44.0, 46.0, 56.0))
"""How wide fader, pan, loudness, room and reduction are, in a wide and in a narrow page."""
GAP = 8.0
SWITCHES = (("mute", "M"), ("solo", "S"), ("invert", "ø"))


class Columns:
    """Where things stand across a width: figures at the right, the flow at the left, the meters between."""

    def __init__(self, width: int, row: int) -> None:
        self.width, self.row = width, row
        narrow = width < NARROW
        self.indent = INDENTS[narrow]
        self.switches = 210.0 if narrow else 296.0
        sizes = FIGURES[narrow]
        lefts = [width - 8.0 - sum(sizes[n:]) - GAP * (len(sizes) - 1 - n) for n in range(len(sizes))]
        self.fader, self.pan, self.loudness, self.headroom, self.reduction = zip(lefts, sizes, strict=True)
        left = self.switches + 24.0 * len(SWITCHES) + 10.0
        self.meter = (left, max(30.0, self.fader[0] - 14.0 - left))

    def x_of(self, depth: int) -> float:
        """Where strips of a depth stand."""
        return FIRST + self.indent * depth

    def cell(self, name: str, top: float) -> QRectF:
        left, width = getattr(self, name)
        return QRectF(left, top, width, self.row)

    def switch(self, n: int, top: float) -> QRectF:
        return QRectF(self.switches + 24 * n, top + self.row / 2 - 10, 22, 20)


WARNED = "▲"
"""Stands after the name of a strip that has a watch-out."""


@dataclass(frozen=True)
class TreeDrawing:
    """Draws the strips of a session, row by row."""

    bench: Workbench
    columns: Columns
    chosen: str
    """The id of the chosen strip."""

    def draw(self, painter: QPainter) -> None:
        """All that does not move with the music."""
        c, columns = colours(), self.columns
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        middle, right = Qt.AlignmentFlag.AlignVCenter, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(FIRST + 34, 0, 120, HEAD), middle, "Flow")
        room = columns.fader[0] - columns.meter[0] - 10
        text = f"Level · figures of {self.bench.span_name}"
        text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, round(room))
        painter.drawText(QRectF(columns.meter[0], 0, room, HEAD), middle, text)
        for name, text in (
            ("fader", "Fader dB"),
            ("pan", "Pan"),
            ("loudness", "LUFS"),
            ("headroom", "Headroom"),
            ("reduction", "Reduction"),
        ):
            left, width = getattr(columns, name)
            painter.drawText(QRectF(left - 8, 0, width + 8, HEAD), right, text)
        rows = tree.rows(self.bench.session)
        marks = self.bench.marking.ids
        for n, (strip, _) in enumerate(rows):
            self._draw_ground(painter, strip, n, marks)
        self._draw_flow(painter, rows)
        for n, (strip, depth) in enumerate(rows):
            self._draw_row(painter, columns, strip, depth, HEAD + n * self.columns.row)
        if len(self.bench.session.stems) <= 1:
            painter.setFont(font(13))
            painter.setPen(colours()["faint"])
            below = QRectF(FIRST, HEAD + self.columns.row * (len(rows) + 0.5), self.columns.width - 2 * FIRST, 40)
            text = "Drop further stems here, or a folder of stems anywhere, and group them into buses."
            painter.drawText(below, Qt.AlignmentFlag.AlignVCenter, text)

    def _draw_ground(self, painter: QPainter, strip: AnyStrip, n: int, marks: Collection[str]) -> None:
        c, box = colours(), QRectF(0, HEAD + n * self.columns.row, self.columns.width, self.columns.row)
        if strip.id == self.chosen:
            painter.fillRect(box, c["wash"])
            painter.fillRect(QRectF(0, box.top(), 3, self.columns.row), c["signal"])
        if strip.id in marks or any(id in marks for id in chains.listed(strip.chain)):  # hollow: some of its rows only
            painter.setPen(QPen(c["ink"], 1.2))
            painter.setBrush(c["ink"] if strip.id in marks else Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(6, box.center().y() - 3, 6, 6))
        painter.setPen(QPen(c["hair"], 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())

    def _draw_flow(self, painter: QPainter, rows: list[tuple[AnyStrip, int]]) -> None:
        """A line from each strip to where it flows, as thick as it is loud; broken where it is muted."""
        c, heard = colours(), tree.heard(self.bench.session, self.bench.session.view.solo)
        tops = {s.id: HEAD + n * self.columns.row for n, (s, _) in enumerate(rows)}
        for strip, depth in rows:
            if strip.id == MIX:
                continue
            start = QPointF(self.columns.x_of(depth) - 7, tops[strip.id] + self.columns.row / 2)
            end = QPointF(self.columns.x_of(depth - 1), tops[strip.into] + self.columns.row / 2 - 8)
            path = QPainterPath(start)
            bend = min(self.columns.row * 0.9, end.y() - start.y())
            path.cubicTo(
                QPointF(end.x() + 8, start.y()), QPointF(end.x(), start.y() + 4), QPointF(end.x(), start.y() + bend)
            )
            path.lineTo(end)
            flows = not strip.mute and strip.id in heard
            pen = QPen(c.soft("signal" if flows else "faint", 130), self._thickness(strip) if flows else 1.2)
            if not flows:
                pen.setStyle(Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(path)

    def _thickness(self, strip: AnyStrip) -> float:
        figures = self._figures(strip)
        loudness = figures[0] if figures is not None else -40.0
        return 1.2 + 5.3 * min(1.0, max(0.0, (loudness + 42.0) / 30.0))

    def _figures(self, strip: AnyStrip) -> tuple[float, float, float] | None:
        """Loudness, true peak and reduction of what a strip sends on, over the section."""
        bench = self.bench
        render = bench.picture.best
        sent = render.sent(strip.id, bench.span) if render is not None else None
        if render is None or sent is None:
            return None
        return sent.integrated, sent.true_peak, mean_along(render, strip.id, bench.span)

    def _draw_row(self, painter: QPainter, columns: Columns, strip: AnyStrip, depth: int, top: float) -> None:
        c, bench = colours(), self.bench
        material = bench.audio.material
        missing = isinstance(strip, Stem) and material is not None and strip.id in material.missing
        on = not strip.mute and not missing and strip.id in tree.heard(bench.session, bench.session.view.solo)
        x, y = self.columns.x_of(depth), top + self.columns.row / 2
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["over" if missing else "signal" if on else "faint"])
        if isinstance(strip, Bus):
            painter.drawRect(QRectF(x - 5, y - 5, 10, 10))
        else:
            painter.drawEllipse(QPointF(x, y), 4.5, 4.5)
        painter.setFont(font(13, bold=isinstance(strip, Bus)))
        painter.setPen(c["ink" if on else "faint"])
        middle = Qt.AlignmentFlag.AlignVCenter
        name = QRectF(x + 14, top, columns.switches - x - 20, self.columns.row)
        text = f"{strip.name} · file missing" if missing else strip.name
        warned = strip.id in bench.watching_out.strips()
        told = painter.fontMetrics().elidedText(
            text, Qt.TextElideMode.ElideRight, int(name.width()) - (14 if warned else 0)
        )
        painter.drawText(name, middle, told)
        if warned:
            painter.setPen(c["mid"])
            after = name.adjusted(painter.fontMetrics().horizontalAdvance(told) + 6, 0, 0, 0)
            painter.drawText(after, middle, WARNED)
        self._draw_switches(painter, columns, strip, top)
        right = middle | Qt.AlignmentFlag.AlignRight
        settings = settings_of(type(strip))
        painter.setFont(font(13))
        painter.setPen(c["ink"])
        painter.drawText(columns.cell("fader", top), right, settings["fader"].show(strip.fader))
        pan = "C" if strip.pan == 0 else f"{abs(strip.pan):.0f} {'L' if strip.pan < 0 else 'R'}"
        painter.setPen(c["faint" if strip.pan == 0 else "ink"])
        painter.drawText(columns.cell("pan", top), right, pan)
        figures = self._figures(strip)
        current = bench.picture.section_current or bench.picture.song_current
        painter.setPen(c["ink" if current and on else "faint"])
        painter.drawText(columns.cell("loudness", top), right, figure(figures[0]) if figures else "…")
        over = figures is not None and figures[1] > 0.0
        painter.setFont(font(13, bold=over))
        if over:
            painter.setPen(c["over"])
        room = "…" if figures is None else f"{figure(-figures[1])}{' !' if over else ''}" if figures[1] > -199 else "–"
        painter.drawText(columns.cell("headroom", top), right, room)
        if figures is not None and figures[2] > 0.05:
            cell = columns.cell("reduction", top)
            length = min(1.0, figures[2] / 6.0) * (cell.width() - 44.0 if cell.width() > 60.0 else 20.0)
            painter.fillRect(QRectF(cell.right() - 34 - length, y - 5, length, 10), c["reduction"])
            painter.setFont(font(13))
            painter.setPen(c["ink"])
            painter.drawText(cell, right, figure(figures[2]))

    def _draw_switches(self, painter: QPainter, columns: Columns, strip: AnyStrip, top: float) -> None:
        c = colours()
        painter.setFont(font(11, bold=True))
        for n, (key, letter) in enumerate(SWITCHES):
            if strip.id == MIX and key == "solo":
                continue
            on = strip.id in self.bench.session.view.solo if key == "solo" else getattr(strip, key)
            cell = columns.switch(n, top)
            if on:
                painter.fillRect(cell, c["mid" if key == "solo" else "ink"])
            painter.setPen(c["paper" if on else "faint"])
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, letter)
