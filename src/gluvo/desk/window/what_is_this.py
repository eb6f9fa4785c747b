"""What is this?: a control is pointed at, and told: what it does, when it is of use and when not, drawn with this song's
data."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, QPoint, Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QApplication, QDialog, QHBoxLayout, QVBoxLayout, QWidget

from gluvo.advise.usefulness import words_of
from gluvo.desk.charts.evidence_view import EvidenceView
from gluvo.desk.controls.keys import ENTERS
from gluvo.desk.controls.widgets import button, label
from gluvo.desk.editors.base import StepEditor
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.opened.explaining import PICTURES, Asked, Picture
from gluvo.opened.tasks import DRAWING
from gluvo.progress import Progress
from gluvo.session.presets import kind_of
from gluvo.steps import settings_of

WIDE = 460
"""Pixels of the card."""


class Card(QDialog):
    """What is told of one control, beside it."""

    def __init__(self, window: QWidget, bench: Workbench, about: QWidget) -> None:
        super().__init__(window)
        self._bench = bench
        self.setWindowTitle("What is this?")
        self.setFixedWidth(WIDE)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 14, 18, 12)
        column.setSpacing(8)
        self.texts: list[str] = []
        self.picture: EvidenceView | None = None
        self.shown: Picture | None = None
        self._over = False
        editor, name = setting_of(about)
        if editor is not None and name:
            self._of_setting(column, editor, name)
        else:
            self._write(column, about.accessibleName() or _title(about), "title")
            self._write(column, _tip(about) or "Nothing is said of this.")
        row = QHBoxLayout()
        row.addStretch(1)
        self.close_button = button("Close", "Back to work (Esc).", self.reject)
        row.addWidget(self.close_button)
        column.addLayout(row)
        self.adjustSize()
        self._stand_beside(about)

    def _write(self, column: QVBoxLayout, text: str, role: str = "") -> None:
        made = label(text, role)
        made.setWordWrap(True)
        self.texts.append(text)
        column.addWidget(made)

    def _of_setting(self, column: QVBoxLayout, editor: StepEditor[object], name: str) -> None:  # type: ignore[type-var]
        setting = settings_of(editor.kind)[name]
        step = self._bench.session.item(editor.step_id)
        kind = kind_of(step) if step is not None else ""
        self._write(column, f"{setting.label} · {editor.kind.title}", "title")
        self._write(column, setting.tip)
        words = words_of(kind, name)
        if words is not None:
            self._write(column, f"When: {words.when}")
            self._write(column, f"When not: {words.when_not}")
        draw, renderer = PICTURES.get((kind, name)), self._bench.renderer
        if draw is None or renderer is None or step is None:
            return
        self.picture = EvidenceView()
        self.picture.setFixedHeight(190)
        told = label("being drawn with this song …", "caption")
        told.setWordWrap(True)
        told.setMinimumHeight(34)
        column.addWidget(self.picture)
        column.addWidget(told)
        session, span = self._bench.session, self._bench.span

        def work(check: Progress) -> Picture | None:
            try:
                return draw(Asked(renderer, session, step, span, check))
            except GluvoError:
                return None

        def done(found: Picture | None) -> None:
            if self.picture is None or self._over:
                return
            self.shown = found
            self.picture.show_evidence(found.evidence if found is not None else None)
            self.picture.setVisible(found is not None)
            told.setText(found.words if found is not None else "There is too little in this section to draw it with.")
            self.adjustSize()

        self._bench.background.run(DRAWING, "Drawing what a setting does", work, done)

    def done(self, result: int) -> None:
        self._over = True
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._over = True
        super().closeEvent(event)

    def _stand_beside(self, about: QWidget) -> None:
        """Where it covers neither the control nor the window's edge."""
        window = about.window()
        place = about.mapToGlobal(QPoint(about.width() + 12, 0))
        room = window.frameGeometry()
        if place.x() + self.width() > room.right():
            place = about.mapToGlobal(QPoint(-self.width() - 12, 0))
        place.setX(min(max(place.x(), room.left()), room.right() - self.width()))
        place.setY(min(max(place.y(), room.top() + 40), max(room.top() + 40, room.bottom() - self.height() - 20)))
        self.move(place)


class WhatIsThis(QObject):
    """Waits for a control to be pointed at: a click, or Enter on the one that has the focus; Escape leaves."""

    def __init__(self, window: QWidget, bench: Workbench, tell: Callable[[str], object]) -> None:
        super().__init__(window)
        self._window, self._bench, self._tell = window, bench, tell
        self.waiting = False
        self.card: Card | None = None

    def start(self) -> None:
        """Begin to wait; once more tells of what has the focus."""
        if self.waiting:
            self._explain(self._window.focusWidget())
            return
        self.waiting = True
        QApplication.setOverrideCursor(Qt.CursorShape.WhatsThisCursor)
        QApplication.instance().installEventFilter(self)  # type: ignore[union-attr]
        self._tell("Click any control to be told what it does, or go there with Tab and press Enter. Esc leaves.")

    def _stop(self) -> None:
        if self.waiting:
            self.waiting = False
            QApplication.restoreOverrideCursor()
            QApplication.instance().removeEventFilter(self)  # type: ignore[union-attr]

    def _explain(self, about: QWidget | None) -> None:
        self._stop()
        if about is None or about.window() is not self._window:
            return
        if self.card is not None:
            self.card.close()
        self.card = card = Card(self._window, self._bench, about)
        card.finished.connect(lambda _: self._gone(card))
        card.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        card.show()

    def _gone(self, card: Card) -> None:
        if self.card is card:
            self.card = None

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            isinstance(event, QMouseEvent)
            and event.type() == QEvent.Type.MouseButtonPress
            and isinstance(watched, QWidget)
        ):
            self._explain(QApplication.widgetAt(event.globalPosition().toPoint()) or watched)
            return True
        if isinstance(event, QKeyEvent) and event.type() in (QEvent.Type.KeyPress, QEvent.Type.ShortcutOverride):
            if event.key() == Qt.Key.Key_Escape:
                if event.type() == QEvent.Type.KeyPress:
                    self._stop()
                event.accept()
                return True
            if event.key() in ENTERS:
                if event.type() == QEvent.Type.KeyPress:
                    self._explain(self._window.focusWidget())
                event.accept()
                return True
        return False


def setting_of(about: QWidget) -> tuple[StepEditor[object] | None, str]:  # type: ignore[type-var]
    """The editor and the setting that a control is for; none where it is for none."""
    chain, at = [about], about.parentWidget()
    while at is not None and not isinstance(at, StepEditor):
        chain.append(at)
        at = at.parentWidget()
    if at is None:
        return None, ""
    return at, next((name for name, control in at.controls.items() if control in chain), "")


def _title(about: QWidget) -> str:
    at: QWidget | None = about
    while at is not None:
        words = getattr(at, "text", None)
        found = at.accessibleName() or (str(words()) if callable(words) else "")
        if found:
            return found.replace("&", "")
        at = at.parentWidget()
    return "What is this?"


def _tip(about: QWidget) -> str:
    """Its tooltip, or that of what it is in."""
    at: QWidget | None = about
    while at is not None:
        if at.toolTip():
            return at.toolTip()
        at = at.parentWidget()
    return ""
