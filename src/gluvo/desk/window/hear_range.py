"""One range of what plays, heard alone while a key is held: dragged over any spectrum, or moved with the arrow keys."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QApplication, QWidget
from shiboken6 import isValid

from gluvo.desk.charts.chart import ByFrequency
from gluvo.desk.editors.eq.hunt import REPEAT_MS
from gluvo.desk.model.workbench import Workbench
from gluvo.steps.settings import hertz

KEY = Qt.Key.Key_Q
LOWEST, HIGHEST = 20.0, 20_000.0
THIRD, NARROWEST = 2.0 ** (1.0 / 3.0), 2.0 ** (1.0 / 6.0)
"""Factors: of an arrow key, and of the narrowest range that can be dragged."""
FIRST = (500.0, 2000.0)
"""Hz from and to of the range that the arrow keys begin with."""


class HearRange(QObject):
    """Begins where its key is pressed, and ends where that is let go; nothing is kept but the last range for the arrow keys."""

    def __init__(self, bench: Workbench, shown: Callable[[str], object], parent: QObject) -> None:
        """`shown` is told in words what is heard; with nothing, that all is."""
        super().__init__(parent)
        self._bench, self._shown = bench, shown
        self.held = False
        self._last = FIRST
        self._over: QWidget | None = None
        """What is dragged over."""
        self._from = 0.0
        """Hz at which the drag began."""
        self._let_go = QTimer(self, singleShot=True, interval=REPEAT_MS)
        self._let_go.timeout.connect(self.end)

    def press(self) -> None:
        """The key was pressed, or repeats."""
        self._let_go.stop()
        if not self.held:
            self.held = True
            self._app.installEventFilter(self)  # no longer than the key is held: every event goes through it
            self._shown("drag over a spectrum, or press an arrow key")

    @property
    def _app(self) -> QCoreApplication:
        app = QCoreApplication.instance()
        assert app is not None
        return app

    def end(self) -> None:
        """Hear all of it again."""
        self._let_go.stop()
        if self.held:
            self.held, self._over = False, None
            self._app.removeEventFilter(self)
            self._hear(None)

    def _hear(self, heard: tuple[float, float] | None) -> None:
        self._bench.listening.hear_range(heard)
        if heard is not None:
            self._last = heard
        self._shown(f"only {hertz(heard[0])} – {hertz(heard[1])}" if heard is not None else "")
        for window in QApplication.topLevelWidgets():
            for widget in window.findChildren(QWidget):
                if isinstance(widget, ByFrequency) and (heard is None or widget.isVisible()):
                    widget.show_heard(heard)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.ApplicationDeactivate:  # the key may be let go elsewhere
            self.end()
        elif isinstance(event, QMouseEvent):
            return self._moused(watched, event)
        elif isinstance(event, QKeyEvent):
            return self._keyed(event)
        return False

    def _moused(self, watched: QObject, event: QMouseEvent) -> bool:
        """Whether what the mouse does is done here."""
        kind, place = event.type(), event.position()
        if kind in (QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonDblClick):
            if isinstance(watched, QWidget) and isinstance(watched, ByFrequency):
                freq = watched.frequency_at(place) if event.button() == Qt.MouseButton.LeftButton else None
                if freq is not None:
                    self._over, self._from = watched, freq
                return freq is not None
        elif self._over is not None and watched is self._over and isinstance(watched, ByFrequency):
            to = watched.frequency_at(place) if isValid(watched) else None
            if kind == QEvent.Type.MouseMove and to is not None:
                low, high = sorted((self._from, to))
                wide = max(1.0, (NARROWEST / (high / low)) ** 0.5)
                self._hear((max(LOWEST, low / wide), min(HIGHEST, high * wide)))
            elif kind == QEvent.Type.MouseButtonRelease:
                self._over = None
            return True
        return False

    def _keyed(self, event: QKeyEvent) -> bool:
        """Whether what the keyboard does is done here."""
        kind, key, keys = event.type(), event.key(), Qt.Key
        if key == KEY:
            if kind == QEvent.Type.KeyRelease and not event.isAutoRepeat():
                self._let_go.start()
            elif kind == QEvent.Type.ShortcutOverride:
                self._let_go.stop()
                event.accept()
            return True
        if key not in (keys.Key_Left, keys.Key_Right, keys.Key_Up, keys.Key_Down, keys.Key_Escape):
            return False
        if kind == QEvent.Type.ShortcutOverride:
            event.accept()
        elif kind == QEvent.Type.KeyPress and key == keys.Key_Escape:
            self.end()
        elif kind == QEvent.Type.KeyPress:
            self._by_key(Qt.Key(key))
        return True

    def _by_key(self, key: Qt.Key) -> None:
        """Left and Right move the range by a third of an octave, Up widens it, Down makes it narrower."""
        low, high = self._last
        if self._bench.listening.range is not None:  # the first press only begins
            keys = Qt.Key
            down, up = {
                keys.Key_Left: (1.0 / THIRD, 1.0 / THIRD),
                keys.Key_Right: (THIRD, THIRD),
                keys.Key_Up: (1.0 / THIRD, THIRD),
                keys.Key_Down: (THIRD, 1.0 / THIRD),
            }[key]
            moved = low * down, high * up
            if moved[0] >= LOWEST and moved[1] <= HIGHEST and moved[1] / moved[0] >= NARROWEST:
                low, high = moved
            elif key == keys.Key_Up:
                low, high = max(LOWEST, moved[0]), min(HIGHEST, moved[1])
        self._hear((low, high))
