"""Listening practice: one screen, keys alone. A hidden change is found by ear; what one hears is kept, by kind, size and
place."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRect, QRectF, Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.advise.practice import EXERCISES, Round, by_frequency
from gluvo.desk.charts.evidence_view import EvidenceView
from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import button, label, line
from gluvo.desk.model.practising import QUESTIONS, Practising
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.evidence import Evidence
from gluvo.steps.settings import hertz

BOX, GAP = 84, 20
NAMES = ("as it is", "1", "2")


class PlacesView(QWidget):
    """The three places, the same whatever is heard at them."""

    def __init__(self, practising: Practising) -> None:
        super().__init__()
        self._practising = practising
        self.setMinimumHeight(BOX + 20)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("What is heard")
        self.setToolTip(
            "0 is the song as it is; one of 1 and 2 has been changed. Enter says that it is the one that is heard."
        )
        practising.changed.connect(self._refresh)

    def _refresh(self) -> None:
        asked = self._practising.question is not None
        self.setAccessibleDescription(f"{NAMES[self._practising.heard]} is heard" if asked else "no question")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter, practising = colours(), QPainter(self), self._practising
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        widths = (BOX + 36, BOX, BOX)
        left = (self.width() - sum(widths) - 2 * GAP) / 2.0
        asked = practising.question is not None
        for place, (name, wide) in enumerate(zip(NAMES, widths, strict=True)):
            box = QRectF(left, 8, wide, BOX)
            left += wide + GAP
            heard = asked and place == practising.heard
            painter.setPen(QPen(c["signal" if heard else "rule"], 2))
            painter.setBrush(c["signal"] if heard else c["sheet"])
            painter.drawRect(box)
            painter.setFont(font(15 if place == 0 else 28, bold=True))
            painter.setPen(c["paper" if heard else "ink" if asked else "faint"])
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)


class PracticeDialog(QDialog):
    """Over the whole window, until one leaves."""

    def __init__(self, parent: QWidget, bench: Workbench, practising: Practising | None = None) -> None:
        super().__init__(parent)
        self._bench = bench
        self.practising = practising = practising or Practising(bench, self)
        self._played = bench.engine.playing if bench.engine is not None else False
        self.setWindowTitle("Listening practice")
        window = parent.window()
        self.setGeometry(QRect(window.mapToGlobal(window.rect().topLeft()), window.size()))
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 14, 20, 10)
        column.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(label("Listening practice", "title"))
        self.words = label("", "caption")
        head.addWidget(self.words, 1)
        head.addWidget(button("Close", "Leave; a round that goes on is kept as far as it came (Esc).", self.reject))
        column.addLayout(head)
        row = QHBoxLayout()
        row.setSpacing(20)
        self.table = Table(
            "Exercises",
            "Choose what is to be practised, and press Enter. The smallest change that you have found more often than not is "
            "told beside it.",
            (("Exercise", 0), ("You hear", 108), ("Best", 96), ("Rounds", 56)),
            30,
        )
        self.table.setRowCount(len(EXERCISES))
        self.table.entered.connect(lambda _: self._begin())
        self.table.currentCellChanged.connect(lambda now, *_: practising.choose(now))
        row.addWidget(self.table, 4)
        row.addWidget(line(vertical=True))
        row.addWidget(self._ear(), 5)
        column.addLayout(row, 1)
        self.keys = label("", "caption")
        column.addWidget(self.keys)
        practising.changed.connect(self.refresh)
        self.table.setCurrentCell(0, 0)
        self.refresh()
        self.table.setFocus()

    def _ear(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        self.asks = label("", "title")
        self.asks.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.state = label("", "caption")
        self.state.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.places = PlacesView(self.practising)
        self.told = Lines(2)
        self.told.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.picture_head = label("", "caption")
        self.picture = EvidenceView()
        self.picture.setFixedHeight(260)
        for widget in (self.asks, self.state, self.places, self.told):
            column.addWidget(widget)
        column.addWidget(self.picture_head)
        column.addWidget(self.picture)
        column.addStretch(1)
        return holder

    # --- keeping up ------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        practising = self.practising
        exercise, stairs = practising.exercise, practising.stairs
        self.words.setText(
            practising.trouble or f"on {self._bench.session.name}, at equal loudness; kept on this machine"
        )
        self.words.setProperty("role", "trouble" if practising.trouble else "caption")
        self.words.style().polish(self.words)
        self.table.setEnabled(not practising.running)
        for n, one in enumerate(EXERCISES):
            rounds = practising.results.of(one.id)
            known = [r.threshold for r in rounds if r.threshold is not None]
            best = (max if one.sizes[0] < one.sizes[-1] else min)(known, default=None)
            cells = (_size(known[-1] if known else None, one.unit), _size(best, one.unit), str(len(rounds) or ""))
            self.table.show_line(n, ((one.name, "ink"), *((text, "faint") for text in cells)))
        self.asks.setText(exercise.asks if not practising.running else "Which of the two has been changed?")
        if stairs is None:
            self.state.setText(f"{QUESTIONS} questions a round; two right answers make it harder, a wrong one easier.")
        elif practising.question is None:
            self.state.setText(f"Question {practising.number} of {QUESTIONS} is being made …")
        else:
            self.state.setText(
                f"Question {practising.number} of {QUESTIONS} · {exercise.name} · {_size(stairs.size, exercise.unit)}"
            )
        last = "" if practising.running else _last(practising.results.of(exercise.id), exercise.unit)
        self.told.setText(" ".join(words for words in (practising.told, last) if words))
        self.keys.setText(
            "0: as it is  ·  1 and 2 listen  ·  Enter: what you hear has been changed  ·  Space plays or stops  ·  Esc ends"
            if practising.running
            else "↑ ↓ choose  ·  Enter begins a round  ·  Esc leaves"
        )
        self._show_picture()

    def _show_picture(self) -> None:
        """The smallest change that is heard by frequency, or how the threshold has gone from round to round."""
        exercise, rounds = self.practising.exercise, self.practising.results.of(self.practising.exercise.id)
        evidence, head = None, ""
        if exercise.freqs and (heard := by_frequency(rounds)):
            shares = {one.freq: 100.0 * one.right / one.asked for one in heard}
            values = np.array([shares.get(freq, 0.0) for freq in exercise.freqs])
            names = tuple(hertz(freq) if freq in shares else "–" for freq in exercise.freqs)
            evidence = Evidence(np.arange(len(values), dtype=np.float64), values, "bars", "% found", names=names)
            head = "Found, by where the change was"
        elif known := [r.threshold for r in rounds if r.threshold is not None][-12:]:
            names = tuple(str(n + 1) for n in range(len(known)))
            evidence = Evidence(
                np.arange(len(known), dtype=np.float64), np.array(known), "bars", exercise.unit, names=names
            )
            head = "The smallest that you heard, from round to round"
        self.picture.show_evidence(evidence)
        self.picture.setVisible(evidence is not None)
        self.picture_head.setText(head)

    # --- keys ------------------------------------------------------------------------------------------------

    def _begin(self) -> None:
        self.practising.begin()
        if self.practising.running:
            self.places.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        practising, key, text = self.practising, event.key(), event.text()
        if key == Qt.Key.Key_Escape:
            if practising.running:
                practising.finish()
                self.table.setEnabled(True)
                self.table.setFocus()
            else:
                self.reject()
        elif practising.running and text in ("0", "1", "2"):
            practising.hear(int(text))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if practising.running and not event.isAutoRepeat():
                practising.answer()
                if not practising.running:
                    self.table.setFocus()
        elif key == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        else:
            super().keyPressEvent(event)

    def done(self, result: int) -> None:
        self.practising.end()
        if self._bench.engine is not None and not self._played:
            self._bench.engine.stop()
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.practising.end()
        super().closeEvent(event)


def _size(size: float | None, unit: str) -> str:
    return "" if size is None else f"{size:.2g} {unit}".strip() if size < 10.0 else f"{size:.0f} {unit}".strip()


def _last(rounds: tuple[Round, ...], unit: str) -> str:
    """What the last round came to."""
    if not rounds:
        return ""
    last = rounds[-1]
    right = sum(a.right for a in last.answers)
    heard = f"; you hear {_size(last.threshold, unit)}" if last.threshold is not None else ""
    return f"Last round: {right} of {len(last.answers)} found{heard}."
