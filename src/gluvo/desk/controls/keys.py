"""Keys that a control uses itself, and which are therefore no keys of the window while it has the focus."""

from __future__ import annotations

from collections.abc import Collection

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent

ENTERS = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
TYPES = (*ENTERS, Qt.Key.Key_F2)
"""What opens a field to type into."""
CONTROL = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier


def is_plain(event: QKeyEvent) -> bool:
    """Whether neither Ctrl nor Alt is held: those make a key the window's."""
    return not event.modifiers() & CONTROL


def claimed(event: QEvent, keys: Collection[Qt.Key], text: str = "") -> bool:
    """Take a key from the window's shortcuts if a control uses it: one of `keys`, or one that types a character of
    `text`, pressed without Ctrl and Alt. To be asked by the `event` of the control; whether it was taken."""
    if event.type() != QEvent.Type.ShortcutOverride or not isinstance(event, QKeyEvent) or not is_plain(event):
        return False
    if event.key() in keys or (event.text() and event.text() in text):
        event.accept()
        return True
    return False
