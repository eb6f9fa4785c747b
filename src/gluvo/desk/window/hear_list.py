"""All that can be heard as a list to search in; hearing something only while its key is held; alternating."""

from __future__ import annotations

from PySide6.QtCore import QCoreApplication, QElapsedTimer, QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from gluvo.compare.hearables import GROUPS, SONG, Hearable
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import button, figure, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench

HEARABLE_COLUMNS = (("Key", 40), ("", 24), ("What", 0), ("Kind", 90), ("Match", 80))
HELD_MS = 350
"""A key that is held longer than this is let go to come back."""
REPEAT_MS = 30
"""A key that is let go and comes back within this was held all along."""
LOOPS = -1.0
EVERY: tuple[tuple[float, str], ...] = (
    (0.0, "Stay"),
    (LOOPS, "Alternate at each turn of the loop"),
    *((seconds, f"Alternate every {seconds:g} s") for seconds in (2.0, 4.0, 8.0, 15.0)),
)
"""How often what is heard changes over to what was heard before, in seconds."""


class HearList(QDialog):
    """Typing searches; Enter hears the chosen one, Ctrl+P gives it a button and a key."""

    def __init__(self, parent: QWidget, bench: Workbench) -> None:
        super().__init__(parent)
        self._bench = bench
        self.setWindowTitle("All that can be heard")
        self.setMinimumSize(520, 380)
        column = QVBoxLayout(self)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Part of a name")
        self.search.setAccessibleName("Search")
        self.search.setToolTip("Shows only what has this in its name or kind. Arrows move in the list below.")
        column.addWidget(self.search)
        self.table = Table(
            "What can be heard",
            "Enter or a double click hears the chosen one, Ctrl+P pins it: it then has a button and a key from 5 on. The last "
            "column tells by how much it is turned up or down to be as loud as the rest.",
            HEARABLE_COLUMNS,
            26,
        )
        self.table.entered.connect(self._hear)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(label("Enter hears, Ctrl+P pins", "caption"))
        row.addStretch(1)
        self.pin = button("Pin", "Give the chosen one a button and a key, or take it back (Ctrl+P).", self._pin)
        row.addWidget(self.pin)
        row.addWidget(button("Close", "Back to the window.", self.reject))
        column.addLayout(row)
        self._found: list[Hearable] = []
        self.search.textChanged.connect(self._fill)
        Follower(
            self,
            bench,
            self._fill,
            session=lambda s: (s.view.hear, s.view.pins, s.view.level_matched),
            picture=lambda p: (p.gains,),
            besides=lambda: (bench.listening.hearables(),),
        )
        self._fill()
        at = next((n for n, h in enumerate(self._found) if h.id == bench.session.view.hear), 0)
        self.table.setCurrentCell(at, 0)
        self.search.setFocus(Qt.FocusReason.OtherFocusReason)

    def _fill(self, *_: object) -> None:
        wanted, view = self.search.text().strip().lower(), self._bench.session.view
        chosen = self._found[row].id if 0 <= (row := self.table.currentRow()) < len(self._found) else ""
        there = self._bench.listening.hearables()
        self._found = [h for h in there if wanted in f"{h.name} {GROUPS[h.group]}".lower()]
        self.table.setRowCount(len(self._found))
        for n, heard in enumerate(self._found):
            number = there.index(heard) + 1
            gain = self._bench.picture.gains.get(heard.id) if view.level_matched else None
            colour = "signal" if heard.id == view.hear else "ink"
            cells = (
                (str(number) if number < 10 else "", "faint"),
                ("•" if heard.id in view.pins else "", "reference"),
                (f"{'▸ ' if heard.id == view.hear else ''}{heard.name}", colour),
                (GROUPS[heard.group], "faint"),
                ("as it is" if gain is None else f"{figure(gain, 1, signed=True)} dB", "faint"),
            )
            self.table.show_line(n, cells)
        at = next((n for n, h in enumerate(self._found) if h.id == chosen), 0)
        if self._found:
            self.table.setCurrentCell(at, 0)

    @property
    def _chosen(self) -> Hearable | None:
        row = self.table.currentRow()
        return self._found[row] if 0 <= row < len(self._found) else None

    def _hear(self, row: int) -> None:
        if 0 <= row < len(self._found):
            self._bench.listening.hear(self._found[row].id)

    def _pin(self) -> None:
        if self._chosen is not None and self._chosen.group != SONG:
            self._bench.listening.pin(self._chosen.id)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        held = event.modifiers() == Qt.KeyboardModifier.ControlModifier
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._hear(self.table.currentRow())
        elif event.key() == Qt.Key.Key_P and held:
            self._pin()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.table.keyPressEvent(event)
        else:
            super().keyPressEvent(event)


class Momentary(QObject):
    """A key of the Hear row that is held down is heard only as long.

    How long is told by the events' own times: a window that is busy handles press and release together, but a tap stays
    a tap.
    """

    def __init__(self, bench: Workbench, parent: QObject) -> None:
        super().__init__(parent)
        self._bench = bench
        self._key, self._since, self._before = 0, 0, ""
        self._pressed_at = 0
        self._held_for = QElapsedTimer()
        self._let_go = QTimer(self, singleShot=True, interval=REPEAT_MS)
        self._let_go.timeout.connect(self._end)
        self._back = False
        """Whether to go back when the key is known to be let go."""

    def saw(self, event: QKeyEvent) -> None:
        """A key goes down somewhere in the window; if it is one of the Hear row's, `press` follows."""
        self._pressed_at = event.timestamp()

    def press(self, number: int, id: str) -> None:
        """The key of something that can be heard was pressed."""
        key = int(Qt.Key.Key_0) + number
        if self._key == key and self._bench.session.view.hear == id:
            self._let_go.stop()  # it was never let go: some systems repeat a held key as presses and releases
            return
        self._end()
        self._key, self._since, self._back = key, self._pressed_at, False
        self._held_for.start()
        self._before = self._bench.session.view.hear
        self._bench.listening.hear(id)
        self._app.installEventFilter(self)  # no longer than the key is held: every event goes through it

    @property
    def _app(self) -> QCoreApplication:
        app = QCoreApplication.instance()
        assert app is not None
        return app

    def _end(self) -> None:
        """The key was let go for good."""
        self._let_go.stop()
        if self._key:
            self._key = 0
            self._app.removeEventFilter(self)
            if self._back and self._before:
                self._bench.listening.hear(self._before)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.ApplicationDeactivate:  # the key may be let go elsewhere
            if not self._let_go.isActive():
                self._back = self._held_for.elapsed() >= HELD_MS
            self._end()
        elif (
            kind == QEvent.Type.KeyRelease
            and isinstance(event, QKeyEvent)
            and event.key() == self._key
            and not event.isAutoRepeat()
        ):
            self._back = event.timestamp() - self._since >= HELD_MS
            self._let_go.start()
        return False


class Alternating:
    """Changes over between what is heard and what was heard before, by itself."""

    def __init__(self, bench: Workbench) -> None:
        self._bench = bench
        self.every = 0.0
        """Seconds; `LOOPS` for each turn of the loop, 0 for never."""
        self._passed, self._place = 0.0, 0.0

    def set_every(self, seconds: float) -> None:
        self.every, self._passed = seconds, 0.0

    def tick(self, elapsed: float) -> None:
        """Called often, with the seconds since the last time."""
        engine = self._bench.engine
        if not self.every or engine is None or not engine.playing:
            self._passed = 0.0
            return
        before, self._place = self._place, engine.position
        self._passed += elapsed
        turned = self._place < before and self._bench.session.view.loop
        if turned if self.every == LOOPS else self._passed >= self.every:
            self._passed = 0.0
            self._bench.listening.hear_again()
