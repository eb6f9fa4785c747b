"""The row of an aim: how much, of what, the search for the setting that gives it, whether that is held; and what it came to."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.widgets import button


class AimRow(QWidget):
    """The controls in a row, and under them what it came to: all of that is told, however little room there is."""

    def __init__(
        self, controls: tuple[QWidget, QWidget, QWidget], find: Callable[[], object], named: str, tip: str
    ) -> None:
        """`controls`: how much, of what, and whether it is held. `find` has it looked for; `named` is what stands on that
        button, `tip` what it does."""
        super().__init__()
        aim, by, hold = controls
        column, row = QVBoxLayout(self), QHBoxLayout()
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        row.setSpacing(10)
        aim.setFixedWidth(150)
        self.find_button = button(named, tip, find, "main")
        for widget in (aim, by, self.find_button, hold):
            row.addWidget(widget)
        row.addStretch(1)
        self.words = Elided("", "caption", 400)
        column.addLayout(row)
        column.addWidget(self.words)
