"""The row of an aim: how much, the search for its threshold, whether it is held, and what it came to."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.widgets import button


def aim_row(
    aim: QWidget, hold: QWidget, find: Callable[[], object], tip: str, words_tip: str, by: QWidget | None = None
) -> tuple[QHBoxLayout, QPushButton, Elided]:
    """The row, the button that has the threshold looked for by `find`, and the words at its end. `by`: what the aim is of."""
    row = QHBoxLayout()
    row.setSpacing(10)
    aim.setFixedWidth(150)
    row.addWidget(aim)
    if by is not None:
        row.addWidget(by)
    search = button("Find threshold", tip, find, "main")
    row.addWidget(search)
    row.addWidget(hold)
    words = Elided("", "caption", 400)
    words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    words.setToolTip(words_tip)
    row.addWidget(words, 1)
    return row, search, words
