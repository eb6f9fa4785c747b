"""Unsaved work kept on disk, and what is found after saving saved with it; off the window's thread."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from gluvo.desk.model.background import Background
from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import GluvoError
from gluvo.opened.tasks import AUTOSAVING, RENDERING
from gluvo.progress import Progress

AUTOSAVE_MS = 1500
"""After an edit a copy is kept so much later, however many edits follow in the meantime."""


class Autosaving(QObject):
    """Keeps copies of the open session's unsaved work."""

    def __init__(self, bench: OpenSession, background: Background, autosaves: bool) -> None:
        super().__init__(bench)
        self._bench, self._background, self._autosaves = bench, background, autosaves
        self._timer = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._timer.timeout.connect(self.autosave_now)
        self._saved_at: tuple[int, int] | None = None
        """The place in the history that was saved while held settings were still being found for it."""

    def follow_edits(self) -> None:
        """Something was edited: a copy is kept soon."""
        if self._autosaves and not self._timer.isActive():
            self._timer.start()

    def stop(self) -> None:
        """Keep no copy of what was open until now."""
        self._timer.stop()
        self._saved_at = None

    def autosave_now(self) -> None:
        """Keep a copy of what is unsaved."""
        document = self._bench.document

        def job(_: Progress) -> None:
            try:
                document.autosave()
            except GluvoError as error:
                text = f"Your work could not be autosaved: {error}"
                self._background.on_window(lambda: self._bench.tell(text, True))

        self._background.tasks.submit(AUTOSAVING, "Autosaving a copy", job)

    def saved(self) -> None:
        """The document was saved. What is still being found for it belongs to what was saved, and is saved when it comes."""
        finding = self._background.tasks.busy(RENDERING)
        self._saved_at = self._bench.document.place_in_history if finding else None

    def save_what_came_later(self) -> None:
        """Held settings were found for a state that had been saved: save it again, if they were being found then."""
        document = self._bench.document
        if self._saved_at != document.place_in_history:
            return

        def job(_: Progress) -> None:
            with contextlib.suppress(GluvoError):  # then it is told as not saved, as it is
                done = document.write()
                self._background.on_window(lambda: self._saved_again(done))

        self._background.tasks.submit(AUTOSAVING, "Autosaving a copy", job)

    def _saved_again(self, done: Callable[[], None]) -> None:
        done()
        self._bench.saved_changed.emit()
