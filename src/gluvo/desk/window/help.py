"""Help that needs no network: the guide to read and search, and what a report of a problem needs."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import (
    QDesktopServices,
    QGuiApplication,
    QImage,
    QKeyEvent,
    QTextBlockFormat,
    QTextCursor,
    QTextDocument,
)
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QTextBrowser,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)

import gluvo
from gluvo.desk.controls.theme import colours
from gluvo.desk.controls.widgets import button, label
from gluvo.logs import LOG, log_folder, problem_report

GUIDE = "guide.md"
MARGIN = 18
"""Pixels about the text."""
LEAST_WORD = 2
"""Letters from which on what is typed is looked for."""


def docs_folder() -> Path:
    """Where the guide and its pictures lie: in the package, or beside it in a source tree."""
    inside = Path(gluvo.__file__).parent / "docs"
    return inside if (inside / GUIDE).exists() else Path(gluvo.__file__).parents[2] / "docs"


def headings() -> list[str]:
    """What stands over the parts of the guide."""
    try:
        lines = (docs_folder() / GUIDE).read_text(encoding="utf-8").splitlines()
    except OSError:
        return []
    return [line.lstrip("#").strip() for line in lines if line.startswith("#")]


class Pages(QTextBrowser):
    """Markdown whose pictures are no wider than it is."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder
        self.setSearchPaths([str(folder)])
        self.setOpenLinks(False)
        self.anchorClicked.connect(self._follow)

    def read(self, name: str) -> None:
        try:
            text = (self._folder / name).read_text(encoding="utf-8")
        except OSError:
            text = f"{name} is missing: this installation has no guide."
        document = self.document()
        document.setMarkdown(text, QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
        document.setDocumentMargin(MARGIN)
        block = document.begin()
        while block.isValid():  # Markdown comes without room between its parts
            format, level = block.blockFormat(), block.blockFormat().headingLevel()
            format.setTopMargin(float(4 * MARGIN // (level + 1)) if level else 0.0)
            format.setBottomMargin(0.5 * MARGIN)
            format.setLineHeight(120.0, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
            QTextCursor(block).setBlockFormat(format)
            block = block.next()

    def go_to(self, heading: str) -> None:
        """Show what stands under a heading."""
        block = self.document().begin()
        while heading and block.isValid():
            if block.blockFormat().headingLevel() and block.text() == heading:
                self.setTextCursor(QTextCursor(block))
                bar = self.verticalScrollBar()
                bar.setValue(bar.value() + self.cursorRect().top())
                return
            block = block.next()

    def _follow(self, url: QUrl) -> None:
        if url.scheme() in ("http", "https"):
            QDesktopServices.openUrl(url)
        elif url.path().endswith(".md"):
            self.read(url.path())
        elif url.hasFragment():
            self.scrollToAnchor(url.fragment())

    def loadResource(self, kind: int, name: QUrl | str) -> Any:
        if kind == QTextDocument.ResourceType.ImageResource.value:
            image = QImage(str(self._folder / QUrl(name).path()))
            room = self.viewport().width() - 3 * MARGIN
            wide = image.width() > room > 0
            return image.scaledToWidth(room, Qt.TransformationMode.SmoothTransformation) if wide else image
        return super().loadResource(kind, name)


class GuideDialog(QDialog):
    """The guide. What is typed is looked for; Enter goes on to the next place, Shift+Enter back."""

    def __init__(self, parent: QWidget, search: str = "", at: str = "") -> None:
        """`search`: what is looked for at once; `at`: the heading that it opens at."""
        super().__init__(parent)
        self.setWindowTitle("Guide")
        self.resize(900, 700)
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        self.field = QLineEdit(search)
        self.field.setPlaceholderText("Look for a word")
        self.field.setAccessibleName("Look for a word in the guide")
        self.field.setToolTip("Enter goes to the next place, Shift+Enter back.")
        self.words = label("", "caption")
        row.addWidget(self.field, 1)
        row.addWidget(self.words)
        column.addLayout(row)
        self.pages = Pages(docs_folder())
        column.addWidget(self.pages, 1)
        self.field.textChanged.connect(self.look_for)
        self._places: list[QTextCursor] = []
        self._at = 0
        self._heading = at
        self.field.setFocus()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        if self.pages.document().isEmpty():  # once it is known how wide pictures may be
            self.pages.read(GUIDE)
            self.look_for(self.field.text())
            self.pages.go_to(self._heading)

    def look_for(self, text: str) -> None:
        """Mark all places with a text, and go to the first."""
        self._places, self._at = [], 0
        document, place = self.pages.document(), QTextCursor(self.pages.document())
        while len(text) >= LEAST_WORD and not (place := document.find(text, place)).isNull():
            self._places.append(QTextCursor(place))
        marks = []
        for found in self._places:
            mark = QTextEdit.ExtraSelection()
            mark.cursor = found
            mark.format.setBackground(colours().soft("signal", 90))
            marks.append(mark)
        self.pages.setExtraSelections(marks)
        self._show()

    def step(self, by: int) -> None:
        """Go to the next place, or back."""
        if self._places:
            self._at = (self._at + by) % len(self._places)
            self._show()

    def _show(self) -> None:
        if self._places:
            self.pages.setTextCursor(self._places[self._at])
            self.words.setText(f"{self._at + 1} of {len(self._places)}")
        else:
            self.words.setText("not found" if len(self.field.text()) >= LEAST_WORD else "")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.step(-1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        else:
            super().keyPressEvent(event)


def open_guide(parent: QWidget, at: str = "") -> None:
    """Show the guide beside the window, where it is read while one works; the one that is open already, if there is one.
    `at`: the heading that it shows."""
    dialog = parent.findChild(GuideDialog)
    if dialog is None:
        dialog = GuideDialog(parent, at=at)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    else:
        dialog.pages.go_to(at)
    dialog.show()
    dialog.raise_()
    dialog.activateWindow()


class ProblemDialog(QDialog):
    """What a report of a problem needs, to be copied. Nothing is sent anywhere."""

    def __init__(self, parent: QWidget, further: dict[str, str]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Report a problem")
        self.resize(720, 480)
        column = QVBoxLayout(self)
        words = label(
            "Copy this into your report, and say what you did, what you expected and what came instead. Nothing is sent by "
            "itself. Names of your files may stand in it: look through it first."
        )
        words.setWordWrap(True)
        column.addWidget(words)
        self.text = QPlainTextEdit(problem_report(further))
        self.text.setReadOnly(True)
        self.text.setAccessibleName("What a report needs")
        column.addWidget(self.text, 1)
        row = QHBoxLayout()
        self.place = label(f"Log: {log_folder() / LOG}", "caption")
        self.place.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self.place, 1)
        row.addWidget(button("Open its folder", "Show the log in the file manager.", self._open))
        self.copy = button("Copy", "Copy all of it to the clipboard.", self._copy, "main")
        row.addWidget(self.copy)
        row.addWidget(button("Close", "Close this (Esc).", self.accept))
        column.addLayout(row)

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.text.toPlainText())
        self.copy.setText("Copied")

    def _open(self) -> None:
        log_folder().mkdir(parents=True, exist_ok=True)
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(log_folder())))
