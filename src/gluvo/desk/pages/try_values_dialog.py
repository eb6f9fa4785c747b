"""Try values: a setting's values side by side, over the whole window; what each does in pictures and figures, and by ear."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from gluvo.advise.try_values import THIRDS, Row, SettingPlace, TriedValue, rows
from gluvo.compare.hearables import SIDE_BY_SIDE, Hearable
from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import Toggle, button, label
from gluvo.desk.model.trying_values import TryingValues
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.measure.hits import calm
from gluvo.steps.base import Transfer

NAMES, HEAD, PICTURE, ROW = 176, 34, 190, 44
"""Pixels: the names at the left, the value over a picture, a picture, a row of figures."""
MOST_DB, SHOWN_DB = 12.0, 30.0
"""dB of change to both sides, and of a hit under its top, that pictures show."""


class ValuesTable(QWidget):
    """A column a value: arrows choose, H hears, Enter takes; so do click and double click."""

    taken = Signal()

    def __init__(self, trying: TryingValues) -> None:
        super().__init__()
        self._trying = trying
        self.rows: list[Row] = []
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Values")
        self.setToolTip(
            "Each value over the section. At the top the curve, where the setting makes one; the mean hit, before (grey) "
            "and after (blue), with the reduction over it; or, where there are none, what the step changes by frequency at equal "
            "loudness. What is the same for all is left "
            "out."
        )
        trying.changed.connect(self.refresh)

    def refresh(self) -> None:
        trying = self._trying
        self.rows = rows([trying.tried[n] for n in range(len(trying.values))]) if trying.done else []
        told = [
            f"{trying.words_of(trying.chosen)} is chosen",
            *(f"{r.name} {r.texts[trying.chosen]} {r.unit}" for r in self.rows),
        ]
        self.setAccessibleDescription(", ".join(told))
        self.setMinimumHeight(HEAD + PICTURE + ROW * len(self.rows) + 8)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(900, HEAD + PICTURE + ROW * 8)

    @property
    def _wide(self) -> float:
        return (self.width() - NAMES) / max(1, len(self._trying.values))

    def _box(self, n: int, top: float, height: float) -> QRectF:
        return QRectF(NAMES + n * self._wide, top, self._wide, height)

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter, trying = colours(), QPainter(self), self._trying
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self._box(trying.chosen, 0, self.height()), c["wash"])
        for n, value in enumerate(trying.values):
            head = self._box(n, 0, HEAD).adjusted(10, 0, -6, 0)
            painter.setFont(font(15, bold=True))
            painter.setPen(c["signal" if n == trying.chosen and trying.sounding else "ink"])
            words = trying.words_of(n)
            painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, words)
            said = "heard" if n == trying.chosen and trying.sounding else ""
            said = said or (trying.place.present if value == trying.now else "")
            if (one := trying.tried.get(n)) is not None and one.note:
                said = " · ".join(word for word in (said, one.note) if word)
            left = painter.fontMetrics().horizontalAdvance(words) + 10
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            painter.drawText(head.adjusted(left, 2, 0, 0), Qt.AlignmentFlag.AlignVCenter, said)
            self._draw_picture(painter, self._box(n, HEAD, PICTURE).adjusted(10, 2, -14, -12), trying.tried.get(n))
        for k, row in enumerate(self.rows):
            top = HEAD + PICTURE + k * ROW
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(QPointF(0, top + 0.5), QPointF(self.width(), top + 0.5))
            painter.setFont(font(13, bold=True))
            painter.setPen(c["ink"])
            painter.drawText(QRectF(4, top + 3, NAMES - 8, 20), Qt.AlignmentFlag.AlignVCenter, row.name)
            painter.setFont(font(11))
            painter.setPen(c["faint"])
            painter.drawText(QRectF(4, top + 21, NAMES - 8, 16), Qt.AlignmentFlag.AlignVCenter, row.unit)
            for n, text in enumerate(row.texts):
                box = self._box(n, top, ROW).adjusted(10, 0, -14, 0)
                painter.setFont(font(14, bold=n == trying.chosen))
                painter.setPen(c["ink"])
                painter.drawText(box.adjusted(0, 4, 0, -18), Qt.AlignmentFlag.AlignVCenter, text)
                if row.bars:
                    colour = "reduction" if row.name == "Pumping" else "signal"
                    painter.fillRect(QRectF(box.left(), top + 29, box.width() * max(0.0, row.bars[n]), 5), c[colour])
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self._box(trying.chosen, 1, self.height() - 2).adjusted(1, 0, -1, 0))

    def _draw_picture(self, painter: QPainter, box: QRectF, one: TriedValue | None) -> None:
        c = colours()
        if one is None:
            painter.setFont(font(13))
            painter.setPen(c["faint"])
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "…" if not self._trying.trouble else "")
        elif one.transfer is not None:
            self._draw_curve(painter, box, one.transfer)
        elif one.hits is not None:
            self._draw_hit(painter, box, one)
        else:
            self._draw_tone(painter, box, one)

    def _draw_hit(self, painter: QPainter, box: QRectF, one: TriedValue) -> None:
        c, hits = colours(), one.hits
        assert hits is not None
        times, most = hits.times, max(6.0, self._most_reduction)
        xs = box.left() + (times - times[0]) / (times[-1] - times[0]) * box.width()
        over = 0.3 * box.height()
        curves = calm(hits.before), calm(hits.after) - one.louder
        top = float(curves[0].max())

        def line(values: np.ndarray, y: np.ndarray) -> QPolygonF:
            return QPolygonF([QPointF(a, b) for a, b in zip(values.tolist(), y.tolist(), strict=True)])

        def level(curve: np.ndarray) -> np.ndarray:
            down = np.clip((top - curve) / SHOWN_DB, -0.2, 1.0)
            return np.asarray(box.top() + over + 6 + down * (box.height() - over - 6))

        before, after = (level(curve) for curve in curves)
        ground = line(xs, before)
        ground.append(QPointF(float(xs[-1]), box.bottom()))
        ground.append(QPointF(float(xs[0]), box.bottom()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.soft("faint", 60))
        painter.drawPolygon(ground)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(c["signal"], 1.8))
        painter.drawPolyline(line(xs, after))
        reduction = box.top() + np.clip(hits.reduction / most, 0.0, 1.0) * over
        hung = line(xs, reduction)
        painter.setPen(QPen(c["reduction"], 1.8))
        painter.drawPolyline(hung)
        hung.append(QPointF(float(xs[-1]), box.top()))
        hung.append(QPointF(float(xs[0]), box.top()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c.soft("reduction", 36))
        painter.drawPolygon(hung)
        zero = float(np.interp(0.0, times, xs))
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(zero, box.top()), QPointF(zero, box.bottom()))

    @staticmethod
    def _draw_curve(painter: QPainter, box: QRectF, curve: Transfer) -> None:
        c, side = colours(), min(box.width(), box.height())
        room = QRectF(box.left(), box.top() + (box.height() - side) / 2.0, side, side)
        low, high = float(curve.came[0]), float(curve.came[-1])

        def line(values: np.ndarray) -> QPolygonF:
            xs = room.left() + (curve.came - low) / (high - low) * side
            ys = room.bottom() - np.clip((values - low) / (high - low), 0.0, 1.0) * side
            return QPolygonF([QPointF(a, b) for a, b in zip(xs.tolist(), ys.tolist(), strict=True)])

        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(c["hair"], 1))
        painter.drawRect(room)
        painter.setPen(QPen(c["rule"], 1, Qt.PenStyle.DashLine))
        painter.drawPolyline(line(curve.came))
        painter.setPen(QPen(c["signal"], 1.8))
        painter.drawPolyline(line(curve.gives))
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        told = f"{low:.0f} to {high:.0f} {curve.unit}".replace("-", "−").strip()
        painter.drawText(room.adjusted(5, 2, -5, -2), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, told)

    @property
    def _most_reduction(self) -> float:
        """The same scale for all."""
        found = [one.hits.reduction.max(initial=0.0) for one in self._trying.tried.values() if one.hits is not None]
        return float(max(found, default=0.0))

    def _draw_tone(self, painter: QPainter, box: QRectF, one: TriedValue) -> None:
        c = colours()
        most = max(3.0, min(MOST_DB, max(float(np.abs(t.thirds).max()) for t in self._trying.tried.values())))
        below, box = box, box.adjusted(0, 14, 0, -18)
        middle = box.center().y()
        painter.setPen(QPen(c["rule"], 1))
        painter.drawLine(QPointF(box.left(), middle), QPointF(box.right(), middle))
        share = np.log(THIRDS / THIRDS[0]) / np.log(THIRDS[-1] / THIRDS[0])
        ys = middle - np.clip(one.thirds / most, -1.0, 1.0) * box.height() / 2.0
        points = [QPointF(box.left() + s * box.width(), y) for s, y in zip(share.tolist(), ys.tolist(), strict=True)]
        painter.setPen(QPen(c["signal"], 1.8))
        painter.drawPolyline(QPolygonF(points))
        painter.setFont(font(11))
        painter.setPen(c["faint"])
        painter.drawText(below, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, f"to ±{most:.0f} dB")
        painter.drawText(below, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, "31 Hz")
        painter.drawText(below, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignRight, "16 k")

    # --- hands ---------------------------------------------------------------------------------------------

    def _at(self, x: float) -> int | None:
        n = int((x - NAMES) // self._wide)
        return n if x >= NAMES and n < len(self._trying.values) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if (n := self._at(event.position().x())) is not None:
            self._trying.choose(n)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._at(event.position().x()) is not None:
            self.taken.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys, trying = Qt.Key, self._trying
        key = event.key()
        if key in (keys.Key_Left, keys.Key_Right):
            trying.choose(trying.chosen + (1 if key == keys.Key_Right else -1))
        elif key in (keys.Key_Home, keys.Key_End):
            trying.choose(0 if key == keys.Key_Home else len(trying.values) - 1)
        elif key in (keys.Key_Return, keys.Key_Enter):
            if not event.isAutoRepeat():
                self.taken.emit()
        else:
            super().keyPressEvent(event)


class TryValuesDialog(QDialog):
    """Over the window, until a value is taken or left."""

    def __init__(self, parent: QWidget, bench: Workbench, place: SettingPlace) -> None:
        super().__init__(parent)
        self._bench = bench
        self.trying = trying = TryingValues(bench, place, self)
        self.setWindowTitle(f"Try values of {trying.title}")
        window = parent.window()
        self.resize(max(900, window.width() - 60), max(560, window.height() - 80))
        column = QVBoxLayout(self)
        head = QHBoxLayout()
        head.addWidget(label("Try values", "title"))
        self.words = Elided("", "caption", 600)
        head.addWidget(self.words, 1)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("values, such as 1 3 10")
        self.typed.setToolTip("Type two to nine values with spaces between them, and press Enter.")
        self.typed.setAccessibleName("Values")
        self.typed.setFixedWidth(170)
        self.typed.returnPressed.connect(self._typed)
        self.typed.setEnabled(trying.setting.kind == "number")
        head.addWidget(self.typed)
        self.even = button("Even scale", "The present value and those around it, even on its ruler.", trying.use_even)
        head.addWidget(self.even)
        self.blind = button("Blind…", "Rank them without knowing which is which, at equal loudness.", self._rank)
        head.addWidget(self.blind)
        for made in (self.even, self.blind):
            made.setAutoDefault(False)
        column.addLayout(head)
        self.table = ValuesTable(trying)
        self.table.taken.connect(self._take)
        scroll = QScrollArea()
        scroll.setWidget(self.table)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        column.addWidget(scroll, 1)
        foot = QHBoxLayout()
        foot.addWidget(
            label("← → choose  ·  H hears at equal loudness  ·  Enter takes  ·  Esc leaves it as it was", "caption")
        )
        foot.addStretch(1)
        self.keeps = Toggle(
            "Same reduction",
            "Solves the threshold or drive for each value, so that as much is taken as now: one sees what the setting does, and "
            "not what more or less of it does. What was found is taken along.",
        )
        self.keeps.set_on(trying.keeps)
        self.keeps.setVisible(trying.kept is not None)
        self.keeps.toggled.connect(trying.keep_reduction)
        foot.addWidget(self.keeps)
        self.state = label("", "caption")
        foot.addWidget(self.state)
        column.addLayout(foot)
        trying.changed.connect(self._refresh)
        trying.make()
        self.table.setFocus()

    def _refresh(self) -> None:
        trying, bench = self.trying, self._bench
        kept = (
            f"each with {trying.kept.words} as it takes now"
            if trying.keeps and trying.kept is not None
            else "all else as it is"
        )
        self.words.setText(trying.trouble or f"{trying.title} · {bench.span_name} · {kept}")
        self.words.setProperty("role", "trouble" if trying.trouble else "caption")
        self.words.style().polish(self.words)
        count = f"{len(trying.tried)} of {len(trying.values)}"
        made = f"{len(trying.values)} in {trying.seconds:.1f} s" if trying.done else f"{count} …"
        self.state.setText(made)
        self.blind.setEnabled(not trying.why_not_blind())
        self.blind.setToolTip(trying.why_not_blind() or "Rank them without knowing which is which, at equal loudness.")

    def _typed(self) -> None:
        self.trying.type_values(self.typed.text())
        if not self.trying.trouble:
            self.table.setFocus()

    def _take(self) -> None:
        if self.trying.take():
            self.accept()

    def _rank(self) -> None:
        trying = self.trying
        names = trying.names()
        candidates = [Hearable(str(n), SIDE_BY_SIDE, name, "") for n, name in enumerate(names)]
        running = trying.running()
        trial = TrialDialog(self, self._bench, candidates, running, hear=lambda id: trying.hear_one(int(id)))
        trial.finished.connect(lambda _: trying.ranked(running))
        self.table.setFocus()  # where one comes back to, so that Enter takes what was found best
        trial.open()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.text().lower() == "h" and not event.isAutoRepeat():
            self.trying.hear(not self.trying.heard)
        elif event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()  # taken by the table alone, so that Enter in the field takes no value
        else:
            super().keyPressEvent(event)

    def done(self, result: int) -> None:
        self.trying.end()
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.trying.end()
        super().closeEvent(event)
