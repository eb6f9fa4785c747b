"""What the window says in passing: a sentence, and what goes on in the background."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QElapsedTimer, QEvent, QObject, Qt, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QProgressBar, QSizePolicy, QWidget

from gluvo.desk.controls.widgets import button, label, menu_text
from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.tasks import RENDERING, Task

MOST_SHOWN = 3
"""Tasks that are shown side by side."""
READ_MS = 3000
"""A sentence that was shown for so long was read."""
LEAST_ABOVE = 100
"""Pixels from the window's top, under which a notice covers neither the header nor the Hear row."""
REFRESH_MS = 50
"""How far they are is not shown more often than this."""


class Notice(QFrame):
    """A sentence over the lower edge of what stands above the pages, with something to do about it if there is.

    Trouble stays until it is closed or solved. Newer trouble comes before it; what was read and cannot be known to be solved
    gives way to it, so that nothing old comes back behind it. Nothing on the page moves for it.
    """

    def __init__(self, parent: QWidget, pages: QWidget) -> None:
        """`pages`: what it stands above, in `parent`."""
        super().__init__(parent)
        self._parent, self._pages = parent, pages
        self.setProperty("role", "notice")
        row = self._row = QHBoxLayout(self)
        row.setContentsMargins(14, 4, 10, 4)
        self._mark = label("Please note:", "trouble")
        row.addWidget(self._mark)
        self.text = label("")
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self.text, 1)
        self.act = button("", "")
        row.addWidget(self.act)
        self.close_button = button("Close", "Take this message away.", self.dismiss, "plain")
        row.addWidget(self.close_button)
        self._said: list[Said] = []
        self._shown_for = QElapsedTimer()
        self.act.clicked.connect(self._do)
        self._timer = QTimer(self, singleShot=True, interval=6000)
        self._timer.timeout.connect(self.dismiss)
        pages.installEventFilter(self)
        self.hide()

    def tell(self, text: str, trouble: bool, act: str = "", then: Callable[[], object] | None = None) -> None:
        """Show a sentence; see `take`."""
        self.take(Said(text, trouble, act, then))

    def take(self, said: Said) -> None:
        """Show a sentence; what tells of no trouble goes away by itself, or when another comes."""
        if any(s.text == said.text for s in self._said):
            return
        if said.aside and self._said:
            self._said.append(said)
            self._count()
            return
        waiting = [s for s in self._said if s.trouble or s.aside]
        if waiting[:1] == self._said[:1] and waiting and self._shown_for.elapsed() >= READ_MS:
            if waiting[0].aside or (said.trouble and waiting[0].solved is None):  # it was read
                del waiting[0]
        if not said.trouble and any(s.trouble for s in waiting):
            return
        self._said = [said, *waiting]
        self._show()

    def look_again(self) -> None:
        """Take away what is solved by now; to be called when anything has changed."""
        left = [s for s in self._said if s.solved is None or not s.solved()]
        if len(left) != len(self._said):
            self._said = left
            self._show()

    def dismiss(self) -> None:
        """Take away what is shown; the next one that waits is shown then."""
        del self._said[:1]
        self._show()

    def clear(self) -> None:
        """Take everything away: it was of another session."""
        self._said.clear()
        self._show()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.Resize, QEvent.Type.Move) and self._said:
            self._place()
        return False

    def _show(self) -> None:
        if not self._said:
            self.hide()
            return
        said = self._said[0]
        self._mark.setVisible(said.trouble)
        self.text.setText(said.text)
        self.setAccessibleName(said.text)
        self.act.setVisible(bool(said.act))
        self.act.setText(said.act)
        self._count()
        self._shown_for.start()
        self._place()
        self.show()
        self.raise_()
        if said.trouble:
            self._timer.stop()
        else:
            self._timer.start()

    def _count(self) -> None:
        """How many sentences wait behind the one that is shown."""
        more = len(self._said) - 1
        self.close_button.setText(f"Close ({more} more)" if more else "Close")

    def _place(self) -> None:
        """Over the lower edge of what stands above the pages; over their upper edge, if there is too little of that."""
        width = self._parent.width()
        self._row.activate()
        tall = max(self.heightForWidth(width), self.minimumSizeHint().height())
        top = self._pages.y() - tall
        self.setGeometry(0, top if top >= LEAST_ABOVE else self._pages.y(), width, tall)

    def _do(self) -> None:
        then = self._said[0].then if self._said else None
        self.dismiss()
        if then is not None:
            then()


class TaskLine(QWidget):
    """One task: what it is, how far, and a way to stop it."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.task: Task | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 14, 0)
        row.setSpacing(8)
        self.text = label("", "caption")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(110)
        self.bar.setRange(0, 1000)
        self.stop = button("Stop", "Stop this.", self._stop, "plain")
        self.stop.setStyleSheet("padding: 0 4px; font-size: 11px;")
        row.addWidget(self.text)
        row.addWidget(self.bar)
        row.addWidget(self.stop)

    def show_task(self, task: Task | None) -> None:
        self.task = task
        self.setVisible(task is not None)
        if task is not None:
            self.text.setText(task.title if task.running else f"{task.title} (waits)")
            self.bar.setValue(round(1000 * task.share))
            self.stop.setVisible(task.kind is not RENDERING)
            self.stop.setAccessibleName(f"Stop {menu_text(task.title)}")

    def _stop(self) -> None:
        if self.task is not None:
            self._bench.tasks.cancel(self.task)


class WorkLine(QWidget):
    """What goes on in the background, each with a way to stop it. Always there, so that nothing jumps."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.setFixedHeight(20)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 12, 2)
        self.lines = [TaskLine(bench) for _ in range(MOST_SHOWN)]
        for one in self.lines:
            row.addWidget(one)
        self._more = label("", "caption")
        row.addWidget(self._more)
        row.addStretch(1)
        self._told: list[tuple[int, str, bool]] = []
        self._resting = QTimer(self, singleShot=True, interval=REFRESH_MS)
        self._resting.timeout.connect(self.refresh)
        bench.background.changed.connect(self._tasks_changed)
        self.refresh()

    def _tasks_changed(self) -> None:
        """Show at once what goes on; how far it is, soon."""
        if self._told != self._to_tell():
            self.refresh()
        elif not self._resting.isActive():
            self._resting.start()

    def _to_tell(self) -> list[tuple[int, str, bool]]:
        return [(task.number, task.title, task.running) for task in self._bench.tasks.shown()]

    def refresh(self) -> None:
        self._told = self._to_tell()
        tasks = self._bench.tasks.shown()
        tasks.sort(key=lambda task: (task.kind is RENDERING, task.number))  # what can be stopped stands in its place
        for one, task in zip(self.lines, [*tasks[:MOST_SHOWN], *[None] * MOST_SHOWN], strict=False):
            one.show_task(task)
        more = len(tasks) - MOST_SHOWN
        self._more.setText(f"and {more} more" if more > 0 else "")
