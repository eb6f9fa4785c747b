"""A blind trial at work: keys only, over the whole window, so that nothing tells what is heard."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QRect, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QDialog, QWidget

from gluvo.compare.hearables import Hearable
from gluvo.compare.trial import NO_DIFFERENCE, Running
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.model.workbench import Workbench

BOX, GAP = 96, 26


class TrialDialog(QDialog):
    """Digits listen, Enter answers with what is heard, N is for no difference, Escape stops."""

    def __init__(
        self,
        parent: QWidget,
        bench: Workbench,
        candidates: Sequence[Hearable],
        running: Running,
        said: str = "",
        hear: Callable[[str], object] | None = None,
    ) -> None:
        """`said`: a sentence over the question. It begins once all that takes part is measured. `hear` lets a candidate be heard
        that is none of the Hear row, and is measured already."""
        super().__init__(parent)
        self._hear = hear
        self._said, self._began = said, False
        self._bench, self._candidates, self.running = bench, candidates, running
        self.place = 0
        """Which place is heard, from 0."""
        self._listened: set[int] = set()
        self._told = ""
        self.setWindowTitle("Blind trial")
        window = parent.window()
        self.setGeometry(QRect(window.mapToGlobal(window.rect().topLeft()), window.size()))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._before = bench.engine.playing if bench.engine is not None else False
        bench.picture_changed.connect(self._begin)
        self._begin()

    def _begin(self) -> None:
        """Play, once nothing can be told apart by being louder."""
        bench = self._bench
        measured = self._hear is not None or all(c.id in bench.picture.gains for c in self._candidates)
        if self._began or bench.engine is None or not measured:
            return
        self._began = True
        self._listen(0)
        if not bench.engine.playing:
            bench.engine.play()

    def _listen(self, place: int) -> None:
        if self._began and 0 <= place < self.running.places and not self.running.done:
            self.place, self._told = place, ""
            self._listened.add(place)
            (self._hear or self._bench.listening.hear_blind)(self._candidates[self.running.at(place)].id)
            self.update()

    def _answer(self, place: int) -> None:
        if not self._began:
            return
        least = 3 if self.running.kind == "abx" else 2
        if len(self._listened) < min(least, self.running.places) and not (self.running.kind == "rank" and self._ranked):
            self._told = "Listen to each of them first."
        elif place != NO_DIFFERENCE and not self.running.open(place):
            self._told = (
                "X is what is asked for: go to 1 or 2." if self.running.kind == "abx" else "That one has a place."
            )
        else:
            self.running.answer(place)
            if self.running.done:
                self.accept()
                return
            if self.running.kind != "rank":
                self._listened.clear()
                self._listen(0)
        self.update()

    @property
    def _ranked(self) -> int:
        return len(self.running.answers) if self.running.kind == "rank" else 0

    def done(self, result: int) -> None:
        self._bench.picture_changed.disconnect(self._begin)
        if self._hear is None:
            self._bench.listening.hear_blind("")
        if self._bench.engine is not None and not self._before:
            self._bench.engine.stop()
        super().done(result)

    # --- keys ----------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        text, key = event.text(), event.key()
        if text.isdigit() and 1 <= int(text) <= self.running.places:
            self._listen(int(text) - 1)
        elif text.lower() == "x" and self.running.kind == "abx":
            self._listen(2)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._listen((self.place + (1 if key == Qt.Key.Key_Right else -1)) % self.running.places)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if not event.isAutoRepeat():
                self._answer(self.place)
        elif text.lower() == "n" and self.running.kind == "ab":
            self._answer(NO_DIFFERENCE)
        elif key == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        elif key == Qt.Key.Key_Escape:
            self.reject()

    # --- what is seen: the same, whatever is heard ---------------------------------------------------------

    @property
    def question(self) -> str:
        """What is asked."""
        return {
            "ab": "Which is better?",
            "abx": "Is X the first or the second?",
            "rank": f"Which is the best{' of those that are left' if self._ranked else ''}?",
        }[self.running.kind]

    @property
    def keys(self) -> str:
        """What can be pressed."""
        digits = {
            "ab": "1 and 2 listen",
            "abx": "1, 2 and X listen",
            "rank": f"1 {'and' if self.running.count == 2 else 'to'} {self.running.count} listen",
        }
        answers = {
            "ab": "Enter: what you hear is better · N: no difference",
            "abx": "Enter: X is what you hear now",
            "rank": "Enter: what you hear is the best",
        }
        kind = self.running.kind
        return f"{digits[kind]} · {answers[kind]} · Space plays or stops · Escape stops the trial"

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), c["paper"])
        middle = self.height() / 2.0

        def write(y: float, text: str, size: int, colour: str, bold: bool = False) -> None:
            painter.setFont(font(size, bold=bold))
            painter.setPen(c[colour])
            painter.drawText(QRectF(20, y, self.width() - 40, size * 2.2), Qt.AlignmentFlag.AlignHCenter, text)

        running = self.running
        write(middle - 230, self._said, 13, "faint")
        write(middle - 190, self.question, 24, "ink", bold=True)
        if running.kind == "rank":
            count = f"{self._ranked} of {running.count} ranked"
        else:
            count = f"Try {running.number} of {running.tries}" if running.tries > 1 else ""
        if not self._began:
            count = "Measuring, so that all are equally loud…"
        write(middle - 140, count, 13, "faint")
        total = running.places * BOX + (running.places - 1) * GAP
        left = (self.width() - total) / 2.0
        for place in range(running.places):
            box = QRectF(left + place * (BOX + GAP), middle - BOX / 2, BOX, BOX)
            heard = place == self.place
            taken = running.kind == "rank" and running.at(place) in running.answers
            painter.setPen(QPen(c["signal" if heard else "rule"], 2))
            painter.setBrush(c["signal"] if heard else c["sheet"])
            painter.drawRect(box)
            painter.setFont(font(30, bold=True))
            painter.setPen(c["paper" if heard else "faint" if taken else "ink"])
            name = "X" if running.kind == "abx" and place == 2 else str(place + 1)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
            if taken:
                rank = running.answers.index(running.at(place)) + 1
                painter.setFont(font(13))
                painter.setPen(c["faint"])
                painter.drawText(box.translated(0, BOX - 18), Qt.AlignmentFlag.AlignCenter, f"rank {rank}")
        write(middle + 110, self.keys, 13, "faint")
        if self._told:
            write(middle + 150, self._told, 13, "over")
