"""Small widgets that several screens use."""

from __future__ import annotations

import html
from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QBoxLayout,
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QToolTip,
    QWidget,
)

from gluvo.desk.controls.theme import colours, font
from gluvo.steps.settings import MOST_NAME, Setting


def label(text: str, role: str = "") -> QLabel:
    """A label of plain text, whatever that looks like; with a role it is a caption, a title."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    return made


def set_role(made: QLabel, role: str) -> None:
    """Let a label be something else from now on."""
    if made.property("role") != role:
        made.setProperty("role", role)
        made.style().unpolish(made)
        made.style().polish(made)


def line(vertical: bool = False) -> QFrame:
    """A hairline between parts."""
    made = QFrame()
    made.setProperty("role", "line")
    if vertical:
        made.setFixedWidth(1)
    else:
        made.setFixedHeight(1)
    return made


def drawn(widget: QWidget, draw: Callable[[QPainter], None]) -> QPixmap:
    """A picture as large as a widget, drawn once to be painted many times; see-through where nothing is drawn."""
    scale = widget.devicePixelRatioF()
    picture = QPixmap(round(widget.width() * scale), round(widget.height() * scale))
    picture.setDevicePixelRatio(scale)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    draw(painter)
    painter.end()
    return picture


class Button(QPushButton):
    """Enter presses it; Space is for play, wherever the focus is."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)


def button(
    text: str, tip: str, then: Callable[[], object] | None = None, kind: str = "", checkable: bool = False
) -> QPushButton:
    """A button with its tooltip; `kind` main, plain, tab, hear or reference."""
    made = Button(text)
    made.setToolTip(tip)
    made.setCheckable(checkable)
    if kind:
        made.setProperty("kind", kind)
    if then is not None:
        made.clicked.connect(lambda *_: then())
    return made


class Segments(QWidget):
    """One of a few words, all in view; where there is too little room, a list to choose one from."""

    chosen = Signal(str)

    def __init__(self, options: Sequence[tuple[str, str]], tip: str = "", kind: str = "") -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(2)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QPushButton] = {}
        for key, text in options:
            made = button(text, tip, kind=kind, checkable=True)
            self._buttons[key] = made
            self._group.addButton(made)
            row.addWidget(made)
            made.clicked.connect(lambda _=False, key=key: self._pick(key))
        self._box = ChoiceBox()
        self._box.setToolTip(tip)
        self._box.setAccessibleName(tip or "View")
        for key, text in options:
            self._box.addItem(text, key)
        self._box.activated.connect(lambda n: self._pick(self._box.itemData(n)))
        self._box.hide()
        row.addWidget(self._box)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def _pick(self, key: str) -> None:
        self.set_chosen(key)
        self.chosen.emit(key)

    def set_chosen(self, key: str) -> None:
        self._buttons[key].setChecked(True)
        self._box.setCurrentIndex(self._box.findData(key))

    def set_compact(self, compact: bool) -> None:
        """A list in place of the words, or the words again."""
        if compact is self._box.isHidden():
            for made in self._buttons.values():
                made.setVisible(not compact)
            self._box.setVisible(compact)
            self.updateGeometry()

    def button(self, key: str) -> QPushButton:
        return self._buttons[key]

    @property
    def chosen_key(self) -> str:
        """The key of the one that is chosen; empty where none is."""
        return next((key for key, made in self._buttons.items() if made.isChecked()), "")


class Toggle(QAbstractButton):
    """On or off, with its name. `toggled` tells what the user has done, not what was set."""

    def __init__(self, text: str, tip: str) -> None:
        super().__init__()
        self.setText(text)
        self.setCheckable(True)
        self.setToolTip(tip)
        self.setAccessibleName(text)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    @property
    def on(self) -> bool:
        """Whether it is on."""
        return self.isChecked()

    def set_on(self, on: bool) -> None:
        """Show it on or off; nothing is told."""
        if on != self.isChecked():
            told = self.blockSignals(True)
            self.setChecked(on)
            self.blockSignals(told)
            self.update()

    def checkStateSet(self) -> None:
        """Say to those who listen instead of look how it stands."""
        self.setAccessibleDescription("on" if self.isChecked() else "off")

    def sizeHint(self) -> QSize:
        return QSize(32 + self.fontMetrics().horizontalAdvance(self.text()), 24)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter, on = colours(), QPainter(self), self.isChecked()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        track = QRectF(2.5, self.height() / 2 - 5.5, 22, 11)
        painter.setPen(QPen(c["signal" if on else "faint"], 1))
        painter.setBrush(c["signal"] if on else c["paper"])
        painter.drawRect(track)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(c["paper" if on else "faint"])
        painter.drawRect(QRectF(track.right() - 9 if on else track.left() + 2, track.top() + 2, 7, 7))
        painter.setPen(c["ink" if on else "faint"])
        painter.setFont(font(13))
        painter.drawText(QRectF(31, 0, self.width() - 31, self.height()), Qt.AlignmentFlag.AlignVCenter, self.text())
        if self.hasFocus():
            painter.setPen(QPen(c["signal"], 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter turns it over; Space is for play, wherever the focus is."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            event.ignore()


class ChoiceBox(QComboBox):
    """A list to choose from. A wheel that turns over it without its having the focus scrolls the page; a word that is too long
    ends in dots."""

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, option = QStylePainter(self), QStyleOptionComboBox()
        self.initStyleOption(option)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        field = QStyle.SubControl.SC_ComboBoxEditField
        room = self.style().subControlRect(QStyle.ComplexControl.CC_ComboBox, option, field, self).width() - 4
        option.currentText = self.fontMetrics().elidedText(option.currentText, Qt.TextElideMode.ElideRight, room)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus() or event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().wheelEvent(event)
        else:
            event.ignore()


AROUND = 68
"""Pixels about the words of a choice: its frame, its arrow, and what keeps it off its name."""
NAME_WIDTH, BOX_WIDTH = 50, 58
"""Pixels that the name and the word of a choice keep, however little room there is."""


class ChoiceRow(QWidget):
    """A setting that is one of several words."""

    chosen = Signal(object)

    def __init__(self, setting: Setting, *, named: bool = True, roomy: bool = False) -> None:
        """`named`: whether the setting's name stands beside it; its tooltip tells it anyway. `roomy`: whether there is room
        for the whole of its words."""
        super().__init__()
        self.setting = setting
        row = self._row = QHBoxLayout(self)
        row.setContentsMargins(0, 6 if named else 0, 0, 6 if named else 0)
        self._named = named
        name = self._name = label(setting.label)
        name.setMinimumWidth(min(name.sizeHint().width(), NAME_WIDTH))
        self._box = ChoiceBox()
        self._box.setMinimumWidth(BOX_WIDTH)  # where there is little room, the word gives way before the name
        self._box.setAccessibleName(setting.label)
        self._box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        longest = max((len(text) for _, text in setting.options), default=4)
        self._box.setMinimumContentsLength(min(longest, 11) if roomy else 4)
        for _, text in setting.options:
            self._box.addItem(text)
        for widget in (self, self._box):
            widget.setToolTip(f"<b>{setting.label}</b><br>{setting.tip}")
        self._box.activated.connect(self._activated)
        words = max((self.fontMetrics().horizontalAdvance(text) for _, text in setting.options), default=0)
        self._beside = name.sizeHint().width() + words + AROUND
        """Pixels that name and words take beside each other."""
        if named:
            row.addWidget(name)
            row.addStretch(1)
        row.addWidget(self._box)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is too little room beside it, the name stands over the words."""
        super().resizeEvent(event)
        over = self._named and self.width() < self._beside
        way = QBoxLayout.Direction.TopToBottom if over else QBoxLayout.Direction.LeftToRight
        if way != self._row.direction():
            self._row.setDirection(way)
            self._row.setSpacing(0 if over else 6)
            self._row.setContentsMargins(0, 0 if over else 6, 0, 0 if over else 6)

    def set_value(self, value: object) -> None:
        keys = [key for key, _ in self.setting.options]
        self._box.setCurrentIndex(keys.index(str(value)))

    def _activated(self, index: int) -> None:
        key = self.setting.options[index][0]
        self.chosen.emit(type(self.setting.default)(key))


class Rows(QWidget):
    """Names and figures, one pair a line, ruled off."""

    def __init__(self, names: Sequence[tuple[str, str]]) -> None:
        """`names`: each line's name and its tooltip."""
        super().__init__()
        self._names = [name for name, _ in names]
        self._values = ["–"] * len(names)
        self._colours = ["ink"] * len(names)
        self.setFixedHeight(25 * len(names))
        self.setToolTip("<br>".join(f"<b>{n}</b>: {t}" for n, t in names))

    def set_values(self, values: Sequence[str], colour_names: Sequence[str] | None = None) -> None:
        self._values = list(values)
        self._colours = list(colour_names or ["ink"] * len(values))
        self.update()

    @property
    def values(self) -> list[str]:
        return self._values

    def paintEvent(self, event: QPaintEvent) -> None:
        c, painter = colours(), QPainter(self)
        for n, (name, value, colour) in enumerate(zip(self._names, self._values, self._colours, strict=True)):
            box = QRectF(0, 25 * n, self.width(), 25)
            painter.setPen(QPen(c["hair"], 1))
            painter.drawLine(box.topLeft(), box.topRight())
            painter.setFont(font(13))
            painter.setPen(c["ink"])
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name)
            painter.setFont(font(13, bold=True))
            painter.setPen(c[colour])
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, value)


class Field(QLineEdit):
    """A field for one value, over what it belongs to. Enter or leaving it takes what was typed, Escape does not.

    The keys that end it are its own: neither what lies under it nor a shortcut of the window hears of them.
    """

    ended = Signal(bool)
    """Whether what was typed is to be taken."""

    ENDS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and event.key() in self.ENDS:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in self.ENDS:
            event.accept()
            self.ended.emit(event.key() != Qt.Key.Key_Escape)
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if event.reason() != Qt.FocusReason.PopupFocusReason:
            self.ended.emit(True)


def type_over(owner: QWidget, text: str, place: QRect, done: Callable[[str], object]) -> Field:
    """Open a field over a part of `owner`, which gets the focus back when it ends; `done` gets what was typed. All of
    `text` is chosen, so that typing replaces it."""
    field = Field(text, owner)
    field.setGeometry(place)
    field.setMaxLength(MOST_NAME)  # which chooses nothing any more
    field.selectAll()
    closed: list[bool] = []

    def finish(take: bool) -> None:
        if not closed:
            closed.append(True)
            typed, had_focus = field.text().strip(), field.window().focusWidget() is field
            field.hide()
            field.deleteLater()
            if had_focus:
                owner.setFocus()
            if take:
                done(typed)

    field.ended.connect(finish)
    field.show()
    field.setFocus()
    return field


def edit_in_place(parent: QWidget, text: str, place: QRect, done: Callable[[str], object]) -> Field:
    """A field over a name; `done` gets another one, if one was typed."""
    return type_over(parent, text, place, lambda typed: done(typed) if typed and typed != text else None)


def say_beside(widget: QWidget, text: str) -> None:
    """A word under a control, for as long as a tooltip stays."""
    QToolTip.showText(widget.mapToGlobal(widget.rect().bottomLeft()), plain(text), widget)


def plain(text: str) -> str:
    """A name from a file or a session, for a tooltip: shown as it is written, whatever it looks like."""
    return f"<span style='white-space:pre-wrap'>{html.escape(text)}</span>"


def menu_text(text: str) -> str:
    """A name for a menu or a button, where & would mark a key."""
    return text.replace("&", "&&").replace("\n", " ").replace("\t", " ")


def figure(value: float, decimals: int = 1, unit: str = "", *, signed: bool = False) -> str:
    """A figure with a true minus sign, `signed` with a plus as well; a dash where there is none."""
    if value <= -199.0:
        return "–"
    text = f"{value:.{decimals}f}"
    if float(text) == 0.0:
        text = text.lstrip("-")
    elif signed and value > 0.0:
        text = f"+{text}"
    return text.replace("-", "−") + (f" {unit}" if unit else "")


def clock(seconds: float, tenths: bool = True) -> str:
    """Time as m:ss.t"""
    minutes, rest = divmod(max(0.0, seconds), 60.0)
    if tenths:
        return f"{int(minutes)}:{int(rest):02d}.{int(rest * 10) % 10}"
    return f"{int(minutes)}:{int(rest):02d}"
