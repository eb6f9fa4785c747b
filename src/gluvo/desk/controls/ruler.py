"""The one control for a number: its name, its value with the unit, and a ticked rule with a pointer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QEvent, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QSizePolicy, QWidget

from gluvo.desk.controls.keys import CONTROL, TYPES, claimed
from gluvo.desk.controls.theme import colours, font
from gluvo.desk.controls.widgets import say_beside, type_over
from gluvo.steps.settings import Setting

FINE = 0.1
"""How much slower a drag with Shift is."""
NOTCH = 120
"""What Qt tells of a notch of a wheel: eighths of a degree."""
STEPS = {
    Qt.Key.Key_Right: 1,
    Qt.Key.Key_Up: 1,
    Qt.Key.Key_Left: -1,
    Qt.Key.Key_Down: -1,
    Qt.Key.Key_PageUp: 10,
    Qt.Key.Key_PageDown: -10,
}
DEFAULTS = (Qt.Key.Key_Delete, Qt.Key.Key_Backspace)
BEGINS = "0123456789-+.,−"
"""Characters that begin a value."""
OWN_KEYS = (*STEPS, *DEFAULTS, *TYPES, Qt.Key.Key_Home, Qt.Key.Key_End)


class Ruler(QWidget):
    """Drag along it, Shift for fine, double-click for the default; with the focus a wheel or arrow keys step it and digits
    type a value. A wheel that turns over it without the focus scrolls the page, unless Ctrl is held.

    `moved` tells each new value; `settled` that a gesture has ended.
    """

    moved = Signal(float)
    settled = Signal()

    def __init__(self, setting: Setting, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setting = setting
        self._value = float(setting.default)
        self._note = ""
        self._second: float | None = None
        self._live: float | None = None
        self.try_values: Callable[[], object] | None = None
        """Tries values of it beside each other, where that can be."""
        self._dragging: float | None = None
        self._drag_position = 0.0
        self._turned = 0
        """What the wheel has turned and was not yet a notch."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(setting.label)
        unit = f" {setting.unit}" if setting.unit else ""
        self.setToolTip(
            f"<b>{setting.label}</b><br>{setting.tip}<br><span style='font-size:11px'>"
            f"{setting.show(setting.low)} to {setting.show(setting.high)}{unit} · default {setting.show(setting.default)}"
            f"{unit}<br>Drag; Shift is fine; double-click for the default. Click the value or type one. Ctrl and the wheel step "
            "it.</span>"
        )
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self._tell()

    @property
    def value(self) -> float:
        return self._value

    def set_value(self, value: float) -> None:
        """Show a value; nothing is told."""
        if value != self._value:
            self._value = value
            self._tell()
            self.update()

    def _tell(self) -> None:
        """Value and unit for those who hear them, and what is said beside them."""
        words = (self.setting.show(self._value), self.setting.unit, self._note)
        self.setAccessibleDescription(" ".join(word for word in words if word))

    def set_unit(self, unit: str) -> None:
        """Another unit from now on, where it depends on something else."""
        if unit != self.setting.unit:
            self.setting = replace(self.setting, unit=unit)
            self._tell()
            self.update()

    def set_note(self, note: str) -> None:
        """A word in place of the unit's end, such as “held”."""
        if note != self._note:
            self._note = note
            self._tell()
            self.update()

    def set_live(self, value: float | None) -> None:
        """Show where something stands now, such as the level that a threshold is for; None shows nothing."""
        if value is not None:
            value = self.setting.clamp(value)
        if value != self._live:
            self._live = value
            self.update()

    @property
    def live(self) -> float | None:
        return self._live

    def set_second(self, value: float | None) -> None:
        """Show another value as a hollow pointer besides; None shows none."""
        if value != self._second:
            self._second = value
            self.update()

    @property
    def second(self) -> float | None:
        return self._second

    def sizeHint(self) -> QSize:
        return QSize(196, 40)

    def minimumSizeHint(self) -> QSize:
        return QSize(96, 40)

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        line = self._line()
        on = self.isEnabled()
        painter.setFont(font(13))
        painter.setPen(c["ink" if self.hasFocus() else "faint"])
        text = QRectF(0, 0, self.width(), 20)
        painter.drawText(text, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.setting.label)
        shown = self.setting.show(self._value)
        unit = " ".join(part for part in (self.setting.unit, self._note) if part)
        metrics, bold = QFontMetrics(font(13)), QFontMetrics(font(13, bold=True))
        wide = metrics.horizontalAdvance(f"{self.setting.label} {unit} ") + bold.horizontalAdvance(shown)
        if wide > self.width():  # the tooltip tells the unit
            unit = self._note
        painter.setPen(c["faint"])
        painter.drawText(text, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, unit)
        taken = painter.fontMetrics().horizontalAdvance(unit) + (5 if unit else 0)
        painter.setFont(font(13, bold=True))
        painter.setPen(c["ink" if on else "faint"])
        painter.drawText(
            text.adjusted(0, 0, -taken, 0),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            shown,
        )
        painter.setPen(QPen(c["rule"], 1))
        for k in range(9):
            x = round(line.left() + line.width() * k / 8) + 0.5
            painter.drawLine(QPointF(x, line.top() - (6 if k % 4 == 0 else 4)), QPointF(x, line.top()))
        painter.drawLine(line.topLeft(), line.topRight())
        x = line.left() + line.width() * self.setting.to_position(self._value)
        zero = line.left() + line.width() * self._anchor()
        painter.setPen(QPen(c["signal" if on else "rule"], 2.5 if self.hasFocus() else 2))
        painter.drawLine(QPointF(zero, line.top()), QPointF(x, line.top()))
        if self._live is not None:
            now = line.left() + line.width() * self.setting.to_position(self._live)
            painter.fillRect(QRectF(now - 1, line.top() - 7, 2, 13), c["reduction"])
        if self._second is not None and self._second != self._value:
            painter.setPen(QPen(c["faint"], 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolygon(
                _pointer(line.left() + line.width() * self.setting.to_position(self._second), line.top())
            )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["signal" if self.hasFocus() else "ink" if on else "faint"])
        painter.drawPolygon(_pointer(x, line.top()))
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _line(self) -> QRectF:
        return QRectF(5, 30.5, self.width() - 10, 0)

    def _anchor(self) -> float:
        """Where the drawn length begins: at 0 for values to both sides of it, else at the low end."""
        s = self.setting
        return s.to_position(0.0) if s.low < 0.0 < s.high and s.scale == "linear" else 0.0

    # --- the mouse -----------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if event.position().y() < 20 and event.position().x() > self.width() * 0.45:
            self.type_value()
            return
        self._dragging = event.position().x()
        self._drag_position = self.setting.to_position(self._value)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging is None:
            return
        fine = FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        step = (event.position().x() - self._dragging) / max(1.0, self._line().width()) * fine
        self._dragging = event.position().x()
        self._drag_position = min(1.0, max(0.0, self._drag_position + step))
        self._move(self._rounded(self.setting.to_value(self._drag_position)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._dragging is not None:
            self._dragging = None
            self.settled.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._dragging = None
        self._set_default()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if not self.hasFocus() and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            event.ignore()  # a page that scrolls under the pointer changes no sound
            return
        self._turned += event.angleDelta().y() or event.angleDelta().x()  # some systems turn it aside with Shift
        steps = int(self._turned / NOTCH)  # a smooth wheel tells of less than a notch at a time
        self._turned -= steps * NOTCH
        if steps:
            self.step(steps, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Type a value").triggered.connect(lambda *_: self.type_value())
        menu.addAction("Default").triggered.connect(lambda *_: self._set_default())
        if self.try_values is not None:
            menu.addAction("Try values…\tV").triggered.connect(self.try_values)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def _set_default(self) -> None:
        self._move(float(self.setting.default))
        self.settled.emit()

    # --- the keyboard --------------------------------------------------------------------------------------

    def event(self, event: QEvent) -> bool:
        return claimed(event, OWN_KEYS, BEGINS) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, fine = Qt.Key(event.key()), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if event.modifiers() & CONTROL:
            super().keyPressEvent(event)
        elif key in STEPS:
            self.step(STEPS[key], fine)
        elif key == Qt.Key.Key_Home:
            self._finish(self.setting.low)
        elif key == Qt.Key.Key_End:
            self._finish(self.setting.high)
        elif key in DEFAULTS:
            self._finish(float(self.setting.default))
        elif key in TYPES:
            self.type_value()
        elif event.text() and event.text() in BEGINS:
            self.type_value(event.text())
        else:
            super().keyPressEvent(event)

    def step(self, steps: float, fine: bool = False) -> None:
        """Move by about a hundredth of the rule for each step, in round numbers; by the last shown digit if `fine`."""
        if fine:
            self._finish(self._rounded(self._value + steps * self._fine()))
        else:
            self._finish(self._rounded(self.setting.stepped(self._value, steps)))

    def _fine(self) -> float:
        if self.setting.scale == "log" and self._value > 0.0:
            return float(10.0 ** -len(self.setting.show(self._value).partition(".")[2]))
        return self.setting.fine

    def type_value(self, text: str | None = None) -> None:
        """Open a field to type a value; Enter takes it, Escape does not."""

        def take(typed: str) -> None:
            value = self.setting.read(typed)
            if value is not None:
                self._finish(value)
                if beyond := self.setting.beyond(typed):
                    say_beside(self, beyond)

        place = QRect(self.width() // 2, 0, self.width() - self.width() // 2, 22)
        field = type_over(self, self.setting.show(self._value), place, take)
        field.setFont(font(13, bold=True))
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        if text is not None:
            field.setText(text)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._turned = 0
        self.update()

    # --- values --------------------------------------------------------------------------------------------

    def _rounded(self, value: float) -> float:
        """To the digits that are shown, so that what stands there is what is set."""
        shown = self.setting.read(self.setting.show(self.setting.clamp(value)))
        return self.setting.clamp(value) if shown is None else shown

    def _move(self, value: float) -> None:
        value = self.setting.clamp(value)
        if value != self._value:
            self.set_value(value)
            self.moved.emit(value)

    def _finish(self, value: float) -> None:
        self._move(value)
        self.settled.emit()


def _pointer(x: float, top: float) -> QPolygonF:
    return QPolygonF([QPointF(x, top - 4), QPointF(x - 4.5, top + 6), QPointF(x + 4.5, top + 6)])
