"""Sum of moves: a strip's chain from In to Out, a column a stage; where loudness, crest, tone, width and peak go."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from gluvo.advise.moves import Stage, most_moved
from gluvo.advise.try_values import THIRDS
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import button, figure, label
from gluvo.desk.model.summing import Summing
from gluvo.desk.model.workbench import Workbench

NAMES, HEAD, RIBBON, ROW = 132, 30, 210, 42
"""Pixels: names at the left, a stage's name, its ribbon of tone at least, a row of figures."""
NARROWEST = 86
"""Pixels that a stage needs."""
LEAST_DB = 3.0
"""dB that a ribbon reaches to either side, at least."""

ROWS: tuple[tuple[str, str, int, Callable[[Stage], float | None]], ...] = (
    ("Loudness", "LUFS", 1, lambda s: s.figures.integrated),
    ("True peak", "dBTP", 1, lambda s: s.figures.true_peak),
    ("Crest", "dB", 1, lambda s: s.figures.crest),
    ("Width", "dB, side to mid", 1, lambda s: s.figures.width),
    ("Late", "ms, live", 1, lambda s: s.late),
    ("Turned", "° at most", 0, lambda s: s.most_turned),
)
"""What is told of each stage: name, unit, decimals, and how it is read."""


class MovesChart(QWidget):
    """A column a stage: arrows choose, H hears, Enter goes to the step; so do click and double click."""

    entered = Signal()

    def __init__(self, summing: Summing) -> None:
        super().__init__()
        self._summing = summing
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stages")
        self.setToolTip(
            "From what comes in to what comes out. The ribbon is tone at equal loudness, lows at the bottom: to the right more "
            "than came in, to the left less; the darker line is what this step itself has moved. Under it figures, with what it "
            "changed. Click to hear as far as there, double-click to go to the step."
        )
        summing.changed.connect(self.refresh)

    def refresh(self) -> None:
        stages = self._summing.stages
        told = [self._said(n) for n in range(len(stages))]
        self.setAccessibleDescription("; ".join(told))
        self.setMinimumSize(NAMES + NARROWEST * max(1, len(stages)), HEAD + RIBBON + ROW * len(ROWS) + 8)
        self.update()

    def _said(self, n: int) -> str:
        stage = self._summing.stages[n]
        values = [(name, read(stage), decimals, unit) for name, unit, decimals, read in ROWS]
        return f"{stage.name}: " + ", ".join(
            f"{name} {figure(v, decimals)} {unit}" for name, v, decimals, unit in values if v is not None
        )

    def sizeHint(self) -> QSize:
        return QSize(900, HEAD + RIBBON + ROW * len(ROWS) + 8)

    @property
    def _wide(self) -> float:
        return min(170.0, (self.width() - NAMES) / max(1, len(self._summing.stages)))

    @property
    def _tall(self) -> float:
        """Of the ribbons, which take what room there is."""
        return max(float(RIBBON), self.height() - HEAD - ROW * len(ROWS) - 8.0)

    def _box(self, n: int, top: float, height: float) -> QRectF:
        return QRectF(NAMES + n * self._wide, top, self._wide, height)

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter, summing = colours(), QPainter(self), self._summing
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not summing.stages:
            painter.setPen(c["faint"])
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "being measured …")
            return
        painter.fillRect(self._box(summing.chosen, 0, self.height()), c["wash"])
        self._draw_names(painter)
        reach = max(LEAST_DB, max(float(np.abs(s.tone).max()) for s in summing.stages))
        for n, stage in enumerate(summing.stages):
            heard = summing.heard and n == summing.chosen
            painter.setFont(font(13, bold=True))
            painter.setPen(c["signal" if heard else "ink"])
            box = self._box(n, 0, HEAD).adjusted(8, 0, -4, 0)
            name = painter.fontMetrics().elidedText(stage.name, Qt.TextElideMode.ElideRight, int(box.width()))
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, name)
            self._draw_ribbon(painter, self._box(n, HEAD, self._tall).adjusted(8, 4, -8, -6), stage, reach, n)
            self._draw_figures(painter, n)
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self._box(summing.chosen, 1, self.height() - 2).adjusted(1, 0, -1, 0))

    def _draw_names(self, painter: QPainter) -> None:
        c = colours()
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        for freq in (50, 200, 1000, 5000):
            y = self._y(HEAD + 4, self._tall - 10, freq)
            text = f"{freq // 1000}k" if freq >= 1000 else str(freq)
            painter.drawText(
                QRectF(0, y - 9, NAMES - 10, 18), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text
            )
        painter.drawText(
            QRectF(4, HEAD + 2, NAMES - 44, 34), Qt.AlignmentFlag.AlignLeft, "Tone against In\nat equal loudness"
        )
        for k, (name, unit, _, _) in enumerate(ROWS):
            top = HEAD + self._tall + k * ROW
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(0, top + 0.5), QPointF(self.width(), top + 0.5))
            painter.setFont(font(13, bold=True))
            painter.setPen(c["ink"])
            painter.drawText(QRectF(4, top + 3, NAMES - 8, 20), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            painter.drawText(QRectF(4, top + 21, NAMES - 8, 16), Qt.AlignmentFlag.AlignVCenter, unit)

    @staticmethod
    def _y(top: float, height: float, freq: float) -> float:
        share = np.log(freq / THIRDS[0]) / np.log(THIRDS[-1] / THIRDS[0])
        return float(top + (1.0 - share) * height)

    def _draw_ribbon(self, painter: QPainter, box: QRectF, stage: Stage, reach: float, n: int) -> None:
        c = colours()
        middle = box.center().x()
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(middle, box.top()), QPointF(middle, box.bottom()))
        if n == 0:
            return
        ys = [self._y(box.top(), box.height(), freq) for freq in THIRDS]

        def xs(values: np.ndarray) -> list[float]:
            return (middle + np.clip(values / reach, -1.0, 1.0) * box.width() / 2.0).tolist()

        edge = [QPointF(x, y) for x, y in zip(xs(stage.tone), ys, strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.soft("signal", 60))
        painter.drawPolygon(QPolygonF([QPointF(middle, ys[0]), *edge, QPointF(middle, ys[-1])]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(c["ink"], 1.4))
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(xs(stage.moved), ys, strict=True)]))
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        painter.drawText(box, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight, f"±{reach:.0f}")

    def _draw_figures(self, painter: QPainter, n: int) -> None:
        c, stages = colours(), self._summing.stages
        for k, (_, _, decimals, read) in enumerate(ROWS):
            value, before = read(stages[n]), read(stages[n - 1]) if n else None
            box = self._box(n, HEAD + self._tall + k * ROW, ROW).adjusted(8, 3, -8, 0)
            painter.setFont(font(14, bold=n == self._summing.chosen))
            painter.setPen(c["ink"])
            painter.drawText(box, Qt.AlignmentFlag.AlignTop, "–" if value is None else figure(value, decimals))
            if value is None or before is None or round(value - before, decimals) == 0.0:
                continue
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            painter.drawText(
                box.adjusted(0, 18, 0, 0), Qt.AlignmentFlag.AlignTop, figure(value - before, decimals, signed=True)
            )

    # --- hands ---------------------------------------------------------------------------------------------

    def _at(self, x: float) -> int | None:
        n = int((x - NAMES) // self._wide)
        return n if x >= NAMES and n < len(self._summing.stages) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if (n := self._at(event.position().x())) is not None:
            self._summing.choose(n)
            self._summing.hear(True)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._at(event.position().x()) is not None:
            self.entered.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, summing, key = Qt.Key, self._summing, event.key()
        if key in (keys.Key_Left, keys.Key_Right):
            summing.choose(summing.chosen + (1 if key == keys.Key_Right else -1))
        elif key in (keys.Key_Home, keys.Key_End):
            summing.choose(0 if key == keys.Key_Home else len(summing.stages) - 1)
        elif key in (keys.Key_Return, keys.Key_Enter):
            if not event.isAutoRepeat():
                self.entered.emit()
        else:
            super().keyPressEvent(event)


class MovesDialog(QDialog):
    """Over the window, until one goes to a step or leaves."""

    def __init__(self, parent: QWidget, bench: Workbench, strip: str) -> None:
        super().__init__(parent)
        self._bench = bench
        self.summing = summing = Summing(bench, strip, self)
        self.setWindowTitle(f"Sum of moves of {summing.name}")
        window = parent.window()
        self.resize(max(900, window.width() - 100), max(600, window.height() - 120))
        column = QVBoxLayout(self)
        head = QHBoxLayout()
        head.addWidget(label("Sum of moves", "title"))
        self.words = label("", "caption")
        head.addWidget(self.words, 1)
        self.hear_button = button(
            "Hear up to here",
            "Hear the song with this chain as far as the chosen stage, at equal loudness (H).",
            self._hear,
            checkable=True,
        )
        self.hear_button.setAutoDefault(False)
        head.addWidget(self.hear_button)
        column.addLayout(head)
        self.chart = MovesChart(summing)
        self.chart.entered.connect(self._go)
        scroll = QScrollArea()
        scroll.setWidget(self.chart)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        column.addWidget(scroll, 1)
        column.addWidget(
            label(
                "← → choose  ·  H hears up to here at equal loudness  ·  Enter goes to the step  ·  Esc leaves",
                "caption",
            )
        )
        summing.changed.connect(self._refresh)
        summing.measure()
        self.chart.setFocus()

    def _refresh(self) -> None:
        summing, bench = self.summing, self._bench
        most = most_moved(summing.stages)
        moved = f" · most of the tone is moved by {most.name}, {most.character:.1f} dB" if most is not None else ""
        self.words.setText(f"{summing.name} · {bench.span_name}{moved}")
        self.hear_button.setChecked(summing.heard)
        self.hear_button.setEnabled(bool(summing.stages))

    def _hear(self) -> None:
        self.summing.hear(not self.summing.heard)

    def _go(self) -> None:
        """Work on the chosen step."""
        if self.summing.stages:
            stage = self.summing.stages[self.summing.chosen]
            self.accept()
            self._bench.look(page="shape", strip=self.summing.strip, step=stage.id)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.text().lower() == "h" and not event.isAutoRepeat():
            self._hear()
        elif event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()
        else:
            super().keyPressEvent(event)

    def done(self, result: int) -> None:
        self.summing.end()
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.summing.end()
        super().closeEvent(event)
