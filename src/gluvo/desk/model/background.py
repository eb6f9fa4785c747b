"""Long work on threads of its own, and its results taken in on the window's."""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import QObject, Signal

from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import GluvoError
from gluvo.opened.tasks import Kind, Task, Tasks
from gluvo.progress import Progress

T = TypeVar("T")


class Background(QObject):
    """Runs tasks. What they find out is handed over to the window's thread, in order."""

    changed = Signal()
    """What long work goes on, or how far it is."""

    _call = Signal()

    def __init__(self, bench: OpenSession) -> None:
        super().__init__(bench)
        self._bench = bench
        self.tasks = Tasks(self._tell_changed, self._failed, self._displaced)
        self._results: deque[Callable[[], object]] = deque()
        """What workers have found out and the window has not taken in yet."""
        self._closed = False
        self._call.connect(self._take_one)

    def run(
        self,
        kind: Kind,
        title: str,
        work: Callable[[Progress], T],
        done: Callable[[T], object],
        ended: Callable[[], None] | None = None,
    ) -> Task:
        """Do something long with progress and a way to stop it; `done` gets its result, on the window's thread, unless it
        is of a session that is not open any more. `ended` is called in any case."""
        mine = self._bench.generation

        def finish(result: T) -> None:
            if mine == self._bench.generation or not kind.of_session:
                done(result)

        def job(check: Progress) -> None:
            try:
                result = work(check)
                self.on_window(lambda: finish(result))
            finally:
                if ended is not None:
                    self.on_window(ended)

        return self.tasks.submit(kind, title, job)

    def on_window(self, function: Callable[[], object]) -> None:
        """Have something called on the window's thread; from any thread."""
        if not self._closed:
            self._results.append(function)
            with contextlib.suppress(RuntimeError):  # the window has gone meanwhile
                self._call.emit()

    def _tell_changed(self) -> None:
        with contextlib.suppress(RuntimeError):
            self.changed.emit()

    @property
    def busy(self) -> bool:
        """Whether anything is worked on, or was found out and is not taken in yet."""
        return self.tasks.busy() or bool(self._results)

    def close(self) -> bool:
        """End all tasks; whether they have ended. Nothing of theirs is taken in any more."""
        self._closed = True
        self._results.clear()
        return self.tasks.close()

    def _take_one(self) -> None:
        if self._results:
            self._results.popleft()()

    def _failed(self, task: Task, error: Exception) -> None:
        text = str(error) if isinstance(error, GluvoError) else f"{task.title} went wrong inside: {error!r}"
        self.on_window(lambda: self._bench.tell(text, True))

    def _displaced(self, title: str) -> None:
        self.on_window(lambda: self._bench.tell(f"“{title}” was given up for the newer search.", False))
