"""A pass through what stands outside, in real time: through which channels, how loud, of what."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QDialog, QFormLayout, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Lines
from gluvo.desk.controls.widgets import ChoiceBox, button, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.tasks import PASSING
from gluvo.play.duplex import Way, ways
from gluvo.steps import Outboard
from gluvo.steps.outboard import as_outboard

KEPT = "outboard/way"
"""The setting that keeps which way was chosen."""


class PassDialog(QDialog):
    """Stays open beside the window: a level check first, then the song, or the chosen section punched in. Esc stops a pass."""

    def __init__(self, parent: QWidget, bench: Workbench, step: str) -> None:
        super().__init__(parent)
        self._bench, self._step = bench, step
        self._began_at: QWidget | None = None
        """What had the focus when a pass began, and gets it back."""
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle("A pass outside")
        self.setMinimumWidth(520)
        column = QVBoxLayout(self)
        self.head = label("", "title")
        column.addWidget(self.head)
        form = QFormLayout()
        self.way = ChoiceBox()
        self.way.setAccessibleName("Out and in")
        self.way.setToolTip(
            "The channels that it goes out by and comes back in by; the simulated unit needs no device."
        )
        self._ways = ways()
        for way in self._ways:
            self.way.addItem(way.title, way.key)
        kept = str(QSettings("gluvo", "gluvo").value(KEPT, ""))
        self.way.setCurrentIndex(max(0, self.way.findData(kept)))
        self.way.activated.connect(lambda _n: QSettings("gluvo", "gluvo").setValue(KEPT, self.way.currentData()))
        form.addRow(label("Out and in", "caption"), self.way)
        self.of = ChoiceBox()
        self.of.setAccessibleName("What goes out")
        self.of.setToolTip("The whole song; or the chosen section, which is punched into what came back before.")
        form.addRow(label("Of", "caption"), self.of)
        column.addLayout(form)
        self.words = Lines(3, "caption")
        column.addWidget(self.words)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("How far the pass is")
        column.addWidget(self.bar)
        row = QHBoxLayout()
        self.check = button(
            "Check level",
            "A tone goes out between two pings, some seconds in all: how loud it comes back, and how late.",
            self._check,
        )
        self.take = button("Take", "Send it out and take back what comes, as long as it lasts.", self._take, "main")
        self.halt = button("Stop", "Stop the pass; nothing of it is kept.", self._stop)
        row.addWidget(self.check)
        row.addStretch(1)
        row.addWidget(self.halt)
        row.addWidget(self.take)
        row.addWidget(button("Close", "What was taken stays; undo takes it back.", self.reject))
        column.addLayout(row)
        bench.background.changed.connect(self._show_work)
        bench.outboards.changed.connect(self.refresh)
        Follower(self, bench, self.refresh, session=lambda s: (s.view.section, s.sections, s.item(step)))
        self.refresh()

    @property
    def _item(self) -> Outboard | None:
        return as_outboard(self._bench.session.item(self._step))

    @property
    def chosen(self) -> Way:
        return self._ways[max(0, self.way.currentIndex())]

    def reject(self) -> None:
        if self._passing:  # Escape stops first
            self._stop()
        else:
            super().reject()

    @property
    def _passing(self) -> bool:
        return any(task.kind is PASSING for task in self._bench.tasks.shown())

    def _check(self) -> None:
        self._bench.outboards.check(self.chosen)

    def _take(self) -> None:
        section = self.of.currentIndex() == 1
        self._bench.outboards.run(self._step, self.chosen, self._bench.span if section else None)

    def _stop(self) -> None:
        self._bench.tasks.cancel_kind(PASSING)

    def refresh(self) -> None:
        bench, item = self._bench, self._item
        if item is None:
            self.head.setText("This Outboard is gone")
        else:
            self.head.setText(f"{item.called}: a pass in real time")
        was = self.of.currentIndex()
        self.of.clear()
        self.of.addItem("the whole song")
        if bench.span is not None and item is not None and item.returned is not None:
            self.of.addItem(f"{bench.span_name}, punched in")
        self.of.setCurrentIndex(was if 0 <= was < self.of.count() else 0)
        checked = bench.outboards.checked
        self.words.setText(
            checked.words()
            if checked is not None
            else "Connect an output and an input of the device with what stands outside, and check the level first."
        )
        self._show_work()

    def _show_work(self) -> None:
        task = next((t for t in self._bench.tasks.shown() if t.kind is PASSING), None)
        self.bar.setValue(round(1000 * task.share) if task is not None else 0)
        ready = task is None and self._item is not None and self._bench.renderer is not None
        begins, ends = task is not None and not self.halt.isEnabled(), task is None and self.focusWidget() is self.halt
        if begins:
            self._began_at = self.focusWidget()
        for made in (self.check, self.take, self.way, self.of):
            made.setEnabled(ready)
        self.halt.setEnabled(task is not None)
        if begins:  # what has the focus takes no key now
            self.halt.setFocus()
        elif ends and self._began_at is not None:
            self._began_at.setFocus()
