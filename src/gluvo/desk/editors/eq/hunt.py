"""Hunting: a boosted bell follows the pointer, to be heard only; letting go leaves a cut, or a boost."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QCursor, QHideEvent, QKeyEvent, QMouseEvent, QShowEvent
from PySide6.QtWidgets import QApplication, QHBoxLayout, QLineEdit, QWidget

from gluvo.advise.tone import cut_found, hunting
from gluvo.desk.controls.widgets import label
from gluvo.desk.editors.eq.lane import SEMITONE, EqLane
from gluvo.desk.editors.view_rulers import ViewRulers
from gluvo.desk.model.workbench import Workbench
from gluvo.session.records import HuntSettings
from gluvo.steps import MidSideEq
from gluvo.steps.mid_side_eq import MOST_BANDS, equaliser

KEY = Qt.Key.Key_H
STEP = 0.5
"""Semitones that an arrow key moves the bell by."""
REPEAT_MS = 60
"""A key that is let go and comes back within this was held all along: some systems repeat keys that way."""
LEAST_MOVE = 4
"""Pixels that a pointer moves by when a hand means it."""
ARROWS = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}


class Hunt:
    """One at a time, in one equaliser. Nothing of it is stored or rendered until it leaves its cut."""

    def __init__(self, bench: Workbench, step_id: str) -> None:
        self._bench, self._step_id = bench, step_id
        self.place: tuple[str, float] | None = None
        """The target and the frequency that are being boosted."""

    @property
    def _step(self) -> MidSideEq | None:
        return equaliser(self._bench.session.step(self._step_id))

    def to(self, target: str, freq: float) -> None:
        """Boost there, from now on."""
        step, settings = self._step, self._bench.session.view.hunting
        if step is None or self.place == (target, freq):
            return
        self.place = target, freq
        boosted = hunting(step, target, freq, settings.gain, settings.q)
        self._bench.listening.hunt(self._bench.session.with_step(boosted))

    def leave(self) -> None:
        """End it without a trace."""
        if self.place is not None:
            self.place = None
            self._bench.listening.hunt(None)

    def cut(self) -> None:
        """End it, and cut there."""
        place, step, settings = self.place, self._step, self._bench.session.view.hunting
        self.leave()
        if place is None or step is None or settings.cut == 0.0:
            return
        if len(step.bands) >= MOST_BANDS:
            self._bench.refuse(f"All {MOST_BANDS} bands are in use. Take one out first.")
            return
        changed, made = step.with_new_band(cut_found(*place, settings.cut, settings.q))
        what = "Cut" if settings.cut > 0.0 else "Boost"
        self._bench.edit(f"{what} where the hunt ended", lambda s: s.with_step(changed))
        self._bench.look(band=made.id)


class HuntKeys(QObject):
    """H hunts as long as it is held: the pointer leads, or the arrow keys. Escape leaves; so does letting go without
    having moved, since a tap is no hunt.

    Watches the whole application while the lanes are in sight, since H belongs to another step's menu otherwise.
    """

    left = Signal()
    """Escape was pressed."""

    def __init__(self, hunt: Hunt, lanes: Sequence[EqLane], start: Callable[[], tuple[str, float]]) -> None:
        """`start`: the target and the frequency to begin with where the pointer is on no lane."""
        super().__init__()
        self._hunt, self._lanes, self._start = hunt, lanes, start
        self.held = False
        self._moved = False
        """Whether the bell was led anywhere since the key was pressed."""
        self._pressed_at = QPoint()
        """Where the pointer was then, on screen."""
        self._let_go = QTimer(self, singleShot=True, interval=REPEAT_MS)
        self._let_go.timeout.connect(self._cut)

    def watch(self, on: bool) -> None:
        app = QApplication.instance()
        assert app is not None
        if on:
            app.installEventFilter(self)
        else:
            app.removeEventFilter(self)
            self._let_go.stop()
            self.held = False

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.ApplicationDeactivate and self.held:  # the key may be let go elsewhere
            self.held = False
            self._hunt.leave()
        elif kind == QEvent.Type.MouseMove and self.held and isinstance(watched, EqLane):
            assert isinstance(event, QMouseEvent)
            away = event.globalPosition().toPoint() - self._pressed_at
            self._moved |= away.manhattanLength() >= LEAST_MOVE
            self._follow(watched)
        elif isinstance(event, QKeyEvent) and self._mine(event):
            if kind == QEvent.Type.ShortcutOverride:
                event.accept()
            elif kind == QEvent.Type.KeyPress:
                self._press(Qt.Key(event.key()))
            elif kind == QEvent.Type.KeyRelease and event.key() == KEY and not event.isAutoRepeat() and self.held:
                self._let_go.start()
            return True
        return False

    def _mine(self, event: QKeyEvent) -> bool:
        if QApplication.activeModalWidget() is not None or QApplication.activePopupWidget() is not None:
            return False
        if isinstance(QApplication.focusWidget(), QLineEdit) or event.modifiers() != Qt.KeyboardModifier.NoModifier:
            return False
        hunts = self.held or any(lane.hunting for lane in self._lanes)
        arrow = Qt.Key(event.key()) in ARROWS and self.held
        return event.key() == KEY or arrow or (event.key() == Qt.Key.Key_Escape and hunts)

    def _cut(self) -> None:
        self.held = False
        if self._moved:
            self._hunt.cut()
        else:
            self._hunt.leave()

    def _press(self, key: Qt.Key) -> None:
        self._let_go.stop()
        if key == Qt.Key.Key_Escape:
            self.held = False
            self._hunt.leave()
            self.left.emit()
        elif key == KEY and not self.held:
            self.held, self._moved, self._pressed_at = True, False, QCursor.pos()
            lane = next((lane for lane in self._lanes if lane.isVisible() and lane.area.contains(_pointer(lane))), None)
            if lane is not None:
                self._follow(lane)
            else:
                self._hunt.to(*self._start())
        elif key in ARROWS and self._hunt.place is not None:
            target, freq = self._hunt.place
            self._moved = True
            self._hunt.to(target, min(20_000.0, max(20.0, freq * SEMITONE ** (ARROWS[key] * STEP))))

    def _follow(self, lane: EqLane) -> None:
        self._hunt.to(lane.target, lane.freq_at(_pointer(lane).x()))


def _pointer(lane: EqLane) -> QPointF:
    """Where the pointer is, seen from a lane."""
    return lane.mapFromGlobal(QPointF(QCursor.pos()))


class HuntRow(QWidget):
    """How the hunting bell is, and how deep the cut that it leaves; shown while the lanes hunt."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 2)
        row.setSpacing(14)
        self.rulers = ViewRulers(bench, "hunting", HuntSettings, 130)
        for ruler in self.rulers.all.values():
            row.addWidget(ruler)
        row.addWidget(label("Press on a lane and sweep; let go to cut there, half as narrow. Esc leaves.", "caption"))
        row.addStretch(1)

    def refresh(self) -> None:
        self.rulers.refresh()


class Watching(QWidget):
    """The place of the lanes: while it is in sight, the hunt's key is heard."""

    def __init__(self) -> None:
        super().__init__()
        self.keys: HuntKeys | None = None

    def showEvent(self, event: QShowEvent) -> None:
        if self.keys is not None:
            self.keys.watch(True)

    def hideEvent(self, event: QHideEvent) -> None:
        if self.keys is not None:
            self.keys.watch(False)
