"""A field for several lines of plain text with a greatest length."""

from __future__ import annotations

import re

from PySide6.QtCore import QMimeData, Qt
from PySide6.QtGui import QInputMethodEvent, QKeyEvent
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from gluvo.desk.controls.widgets import say_beside
from gluvo.steps.settings import CONTROLS

UNREADABLE = re.compile(f"[{CONTROLS}]")


class LongText(QPlainTextEdit):
    """What would pass the greatest length is not taken, and the field says so: what stands in it can always be kept."""

    def __init__(self, most: int, text: str = "", parent: QWidget | None = None) -> None:
        """`most`: characters."""
        super().__init__(text, parent)
        self.most = most
        self.setTabChangesFocus(True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        types = not event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if types and (event.text().isprintable() or event.text() == "\r") and not self._takes(event.text()):
            return
        super().keyPressEvent(event)

    def inputMethodEvent(self, event: QInputMethodEvent) -> None:
        if self._takes(event.commitString()):
            super().inputMethodEvent(event)

    def insertFromMimeData(self, source: QMimeData) -> None:
        """What is pasted or dropped, without control characters."""
        if source.hasText():
            text = UNREADABLE.sub("", source.text().replace("\r\n", "\n").replace("\r", "\n"))
            if self._takes(text):
                self.insertPlainText(text)

    def _takes(self, text: str) -> bool:
        """Whether there is room for some text in place of what is selected; it is told where there is not."""
        length = len(self.toPlainText()) - len(self.textCursor().selectedText()) + len(text)
        if not text or length <= self.most:
            return True
        say_beside(
            self,
            f"There is room for {self.most:,} characters, and with this it would be {length:,}: it is not taken.",
        )
        return False
