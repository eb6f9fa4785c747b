"""How to begin: what an empty window shows."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from gluvo.desk.controls.widgets import button, label, line, menu_text, plain
from gluvo.desk.window.documents import Documents, Recent

WIDTH = 680


class Ways(Protocol):
    """What leads into a session."""

    documents: Documents

    def ask(self, what: str) -> None: ...
    def open_demo(self) -> None: ...
    def open_path(self, path: Path) -> None: ...


class Beginning(QWidget):
    """Bring in a mix, a folder of stems, the demo, or what was open lately; each by click, key and drop."""

    def __init__(self, window: Ways) -> None:
        super().__init__()
        self._window = window
        outer = QHBoxLayout(self)
        outer.addStretch(1)
        middle = QWidget()
        middle.setMaximumWidth(WIDTH)
        middle.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        outer.addWidget(middle, 20)
        outer.addStretch(1)
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 20, 0, 20)
        column.setSpacing(6)
        column.addStretch(2)
        head = label("Begin with a song")
        head.setStyleSheet("font-size: 26px; font-weight: 600;")
        column.addWidget(head)
        drop = label("Drop a stereo mix, a folder of stems or a session anywhere on this window, or:", "caption")
        drop.setStyleSheet("font-size: 13px;")
        column.addWidget(drop)
        column.addSpacing(10)
        ways = QGridLayout()
        ways.setHorizontalSpacing(18)
        ways.setVerticalSpacing(8)
        ways.setColumnStretch(1, 1)
        self.ways: dict[str, QPushButton] = {}
        for row, (key, text, then, words, shortcut) in enumerate(
            (
                (
                    "mix",
                    "Bring in a mix…",
                    lambda: window.ask("mix"),
                    "WAV, AIFF, FLAC, Ogg or MP3, mono or stereo, 44.1 to 192 kHz",
                    "Ctrl+N",
                ),
                (
                    "stems",
                    "Bring in stems…",
                    lambda: window.ask("stems"),
                    "a folder; folders inside it become buses",
                    "Ctrl+Shift+N",
                ),
                ("open", "Open a session…", lambda: window.ask("session"), "what was saved before", "Ctrl+O"),
                (
                    "demo",
                    "Open the demo song",
                    window.open_demo,
                    "Ferry Hours, made by Gluvo itself, with faults to find",
                    "Ctrl+Shift+D",
                ),
            )
        ):
            made = button(text, f"{text.rstrip('…')} ({shortcut}).", then, "main" if row == 0 else "")
            made.setMinimumWidth(180)
            self.ways[key] = made
            ways.addWidget(made, row, 0)
            ways.addWidget(label(words), row, 1)
            ways.addWidget(label(shortcut, "caption"), row, 2)
        column.addLayout(ways)
        column.addSpacing(18)
        self._recent_title = label("Open lately", "title")
        column.addWidget(self._recent_title)
        self._recent_line = line()
        column.addWidget(self._recent_line)
        self.recent = QVBoxLayout()
        self.recent.setSpacing(0)
        column.addLayout(self.recent)
        column.addStretch(3)

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """List anew what was open lately."""
        while (item := self.recent.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        found = self._window.documents.recent()
        self._recent_title.setVisible(bool(found))
        self._recent_line.setVisible(bool(found))
        for recent in found:
            self.recent.addWidget(self._row(recent))

    def _row(self, recent: Recent) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 1, 0, 1)
        row.setSpacing(12)
        can_open = recent.there or recent.unsaved
        made = button(
            menu_text(recent.path.stem),
            plain(str(recent.path)),
            lambda: self._window.open_path(recent.path),
            "plain",
        )
        made.setStyleSheet("font-size: 14px; text-align: left;")
        made.setMaximumWidth(260)
        made.setEnabled(can_open)
        row.addWidget(made)
        place = label("", "caption")
        place.setText(place.fontMetrics().elidedText(str(recent.path.parent), Qt.TextElideMode.ElideMiddle, 260))
        row.addWidget(place)
        row.addStretch(1)
        row.addWidget(self._state(recent))
        if not can_open:
            row.addWidget(
                button("Take off the list", "It is not there any more.", lambda: self._forget(recent), "plain")
            )
        return holder

    def _forget(self, recent: Recent) -> None:
        self._window.documents.forget(recent.path)
        self.refresh()

    @staticmethod
    def _state(recent: Recent) -> QLabel:
        if recent.unsaved:
            return label("unsaved work was found" if recent.there else "never saved, work was found", "warning")
        return label("" if recent.there else "not found", "warning")
