"""Where the bands meet: a thin ruler of frequency under the spectrum, with the crossovers as marks that are dragged."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from gluvo.desk.controls.keys import TYPES, claimed
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import say_beside, type_over
from gluvo.desk.editors.spectrum_view import SpectrumView
from gluvo.steps.settings import hertz
from gluvo.steps.split import CROSSOVER

NEAR = 9
"""Pixels from a mark within which it is taken."""
KEY_STEP, FINE_STEP = 1.01, 1.001
"""Factors of a press of an arrow key."""


class Crossings(SpectrumView):
    """The spectrum before and after, and the crossovers over it.

    Drag a mark, or choose it with Up and Down and move it with Left and Right (Shift is fine); Enter types it. The wheel
    moves the one under the pointer.
    """

    moved = Signal(int, float)
    """A crossover by its place, and where it is wanted, Hz."""
    settled = Signal()

    top, bottom, right = 22, 20, 16

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._freqs: tuple[float, ...] = ()
        self._chosen, self._held = 0, False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Crossovers")
        self.setToolTip(
            "Grey: what comes in. Line: what goes out. The marks are where the bands meet: drag one, or press Up and Down to "
            "choose it, Left and Right to move it (Shift is fine), Enter to type a frequency or a note."
        )

    def show_crossovers(self, freqs: Sequence[float]) -> None:
        if tuple(freqs) != self._freqs:
            self._freqs = tuple(freqs)
            self._chosen = min(self._chosen, len(self._freqs) - 1)
            self._say()
            self.changed()

    def _say(self) -> None:
        here = hertz(self._freqs[self._chosen]) if self._freqs else ""
        self.setAccessibleDescription(f"crossover {self._chosen + 1} of {len(self._freqs)} at {here}")

    # --- drawing -------------------------------------------------------------------------------------------

    def draw_over(self, painter: QPainter, area: QRectF) -> None:
        self.note(painter, area.left(), area.bottom() - 9, self._words())
        c = colours()
        for n, freq in enumerate(self._freqs):
            x, mine = self.x_at(freq), n == self._chosen and self.hasFocus()
            painter.setPen(QPen(c["signal" if mine else "ink"], 1.5 if mine else 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, area.top() - 8), QPointF(x, self.height()))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(c["signal" if mine else "ink"])
            y = area.bottom()
            painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 6, y - 9), QPointF(x + 6, y - 9)]))
            painter.setFont(font(12, bold=mine))
            painter.setPen(c["signal" if mine else "ink"])
            painter.drawText(self._name_at(n), Qt.AlignmentFlag.AlignVCenter, hertz(freq))
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _name_at(self, n: int) -> QRectF:
        """Where the frequency of a crossover is written: right of its mark, left where there is no room."""
        x = self.x_at(self._freqs[n])
        after = self.x_at(self._freqs[n + 1]) if n + 1 < len(self._freqs) else self.area.right() + 8
        left = x + 5 if after - x > 58 else x - 55
        return QRectF(left, 0, 58, 20)

    # --- the mouse -----------------------------------------------------------------------------------------

    def _under(self, place: QPointF) -> int | None:
        near = [(abs(self.x_at(freq) - place.x()), n) for n, freq in enumerate(self._freqs)]
        distance, n = min(near, default=(NEAR, 0))
        return n if distance < NEAR else None

    def _choose(self, n: int) -> None:
        self._chosen = n
        self._say()
        self.changed()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        named = next((n for n in range(len(self._freqs)) if self._name_at(n).contains(place)), None)
        found = named if named is not None else self._under(place)
        if event.button() == Qt.MouseButton.LeftButton and found is not None:
            self._choose(found)
            self._held = named is None
            if named is not None:
                self._type()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held:
            across = (event.position().x() - self.area.left()) / self.area.width()
            self.moved.emit(self._chosen, self.x_axis.value(min(1.0, max(0.0, across))))
            return
        on_mark = self._under(event.position()) is not None
        self.setCursor(Qt.CursorShape.SizeHorCursor if on_mark else Qt.CursorShape.ArrowCursor)
        super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held = False
            self.settled.emit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        found = self._under(event.position())
        wanted = self.hasFocus() or bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if found is None or not wanted:
            event.ignore()
            return
        self._choose(found)
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._by((FINE_STEP if fine else KEY_STEP) ** (event.angleDelta().y() / 120.0))
        event.accept()

    # --- the keyboard --------------------------------------------------------------------------------------

    def event(self, event: QEvent) -> bool:
        return claimed(event, TYPES) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, keys = event.key(), Qt.Key
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = FINE_STEP if fine else KEY_STEP
        if key in (keys.Key_Right, keys.Key_Left):
            self._by(step if key == keys.Key_Right else 1.0 / step)
        elif key in (keys.Key_Up, keys.Key_Down):
            self._choose((self._chosen + (1 if key == keys.Key_Up else -1)) % len(self._freqs))
        elif key in (keys.Key_PageUp, keys.Key_PageDown):
            self._by(step**10 if key == keys.Key_PageUp else step**-10)
        elif key in TYPES:
            self._type()
        else:
            super().keyPressEvent(event)

    def _by(self, factor: float) -> None:
        self.moved.emit(self._chosen, self._freqs[self._chosen] * factor)
        self.settled.emit()

    def _type(self) -> None:
        """Open a field for a frequency or the name of a note."""
        n = self._chosen

        def take(typed: str) -> None:
            value = CROSSOVER.read(typed)
            if value is not None:
                self.moved.emit(n, value)
                self.settled.emit()
                if beyond := CROSSOVER.beyond(typed):
                    say_beside(self, beyond)

        type_over(self, CROSSOVER.show(self._freqs[n]), self._name_at(n).toRect().adjusted(0, 0, 14, 2), take)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.changed()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.changed()
