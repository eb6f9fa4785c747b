"""What the window says in passing: a sentence, and what goes on in the background."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QWidget

from gluvo.desk.parts import button, label
from gluvo.desk.theme import colours
from gluvo.desk.workbench import Workbench


class Notice(QWidget):
    """A sentence under the timeline, with something to do about it if there is."""

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 5, 10, 5)
        self.text = label("")
        self.text.setWordWrap(True)
        row.addWidget(self.text, 1)
        self.act = button("", "")
        row.addWidget(self.act)
        row.addWidget(button("Close", "Take this message away.", self.hide, "plain"))
        self._then: Callable[[], None] | None = None
        self.act.clicked.connect(lambda: self._then() if self._then else None)
        self._timer = QTimer(self, singleShot=True, interval=6000)
        self._timer.timeout.connect(self.hide)
        self.hide()

    def tell(self, text: str, trouble: bool, act: str = "", then: Callable[[], None] | None = None) -> None:
        """Show a sentence; good news goes away by itself."""
        c = colours()
        self.text.setText(f"<b style='color:{c.over}'>Please note:</b> {text}" if trouble else text)
        self.setAccessibleName(text)
        self.act.setVisible(bool(act))
        self.act.setText(act)
        self._then = then
        self.show()
        if trouble:
            self._timer.stop()
        else:
            self._timer.start()


class WorkLine(QWidget):
    """What goes on in the background, and a way to stop it. Always there, so that nothing jumps."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.setFixedHeight(20)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 12, 2)
        self.text = label("", "caption")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(160)
        self.bar.setRange(0, 1000)
        self.stop = button("Stop", "Stop this (Esc).", bench.cancel_task, "plain")
        self.stop.setStyleSheet("padding: 0 4px; font-size: 11px;")
        row.addWidget(self.text)
        row.addWidget(self.bar)
        row.addWidget(self.stop)
        row.addStretch(1)
        bench.progressed.connect(self.show_progress)
        self.show_progress("", 0.0)

    def show_progress(self, what: str, share: float) -> None:
        self.text.setText(what)
        self.bar.setValue(round(1000 * share))
        self.bar.setVisible(bool(what))
        self.stop.setVisible(bool(what) and not what.startswith("Measuring"))
