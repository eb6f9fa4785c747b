"""Questions to the user, in plain text."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget

ROLES = {
    "do": QMessageBox.ButtonRole.AcceptRole,
    "other": QMessageBox.ButtonRole.ActionRole,
    "lose": QMessageBox.ButtonRole.DestructiveRole,
    "stay": QMessageBox.ButtonRole.RejectRole,
}


def ask(parent: QWidget, title: str, text: str, choices: Sequence[tuple[str, str, str]]) -> str:
    """Ask, and wait for the answer: the key of the choice that was taken.

    `choices`: key, words on the button, and what it does: "do", "other", "lose" or "stay". The first is the one that
    Enter takes; Escape takes the one that stays.
    """
    box = QMessageBox(parent)
    box.setWindowTitle(title)
    box.setTextFormat(Qt.TextFormat.PlainText)  # names in it are names, whatever they look like
    box.setText(text)
    buttons = {}
    for n, (key, words, role) in enumerate(choices):
        button = box.addButton(words, ROLES[role])
        buttons[key] = button
        if n == 0:
            box.setDefaultButton(button)
        if role == "stay":
            box.setEscapeButton(button)
    box.exec()
    stay = next(key for key, _, role in choices if role == "stay")
    return next((key for key, button in buttons.items() if button is box.clickedButton()), stay)
