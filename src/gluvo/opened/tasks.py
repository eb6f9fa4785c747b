"""Long work, off the window's thread: named tasks, each with its progress and a way to stop it.

What displaces what is said once, here: renders replace older renders, a newer search replaces the one before it and
says so, and nothing ever displaces the writing or the bringing in of files.
"""

from __future__ import annotations

import itertools
import logging
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from gluvo.errors import Cancelled, GluvoError
from gluvo.progress import Progress, Stopper, step_back

Job = Callable[[Progress], None]
"""Does some work; calls what it is given often, which raises `Cancelled` when the work is no longer wanted."""

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Kind:
    """A kind of work. Work of one kind is done one after the other, work of several kinds side by side."""

    name: str
    newest_wins: bool = False
    """Whether newer work takes the place of older work, running or waiting."""
    told: bool = False
    """Whether that is told, since the user asked for the older work."""
    shown: bool = True
    """Whether its progress is shown, with a way to stop it."""
    of_session: bool = False
    """Whether it is of no use once another session is open: it is stopped then, and what it found is not taken in."""


RENDERING = Kind("rendering", newest_wins=True, of_session=True)
READING = Kind("reading", newest_wins=True, of_session=True)
"""The audio of the session that is open."""
ANALYSING = Kind("analysing", newest_wins=True, of_session=True)
"""What takes longer to find out about audio that was read."""
BRINGING_IN = Kind("bringing in")
"""Files for a session that is begun with them."""
ADDING = Kind("adding", of_session=True)
"""Further files for the session that is open."""
SEARCHING = Kind("searching", newest_wins=True, told=True, of_session=True)
"""Settings from what they should achieve."""
MEASURING = Kind("measuring", newest_wins=True, of_session=True)
"""Things beside the session, such as a reference to freeze."""
WATCHING = Kind("watching", newest_wins=True)
"""Whether files on disk are still what was brought in."""
COMPARING = Kind("comparing", newest_wins=True, of_session=True)
"""What is told of all that is compared."""
COMPARING_PRINTS = Kind("comparing prints", newest_wins=True, of_session=True)
"""What a print has otherwise than another."""
VERSIONING = Kind("versioning", newest_wins=True, of_session=True)
"""Versions that are to be heard."""
TRYING = Kind("trying", newest_wins=True, of_session=True)
"""What is heard before it is taken."""
SHARING = Kind("sharing", newest_wins=True, of_session=True)
"""Whose a reduction is."""
DRAFTING = Kind("drafting", newest_wins=True, of_session=True)
"""A start for a chain."""
WATCHING_OUT = Kind("watching out", newest_wins=True, shown=False, of_session=True)
"""What there is to be warned of."""
DRAWING = Kind("drawing", newest_wins=True, shown=False)
"""What is drawn and takes longer than a frame to reckon."""
PREPARING = Kind("preparing", shown=False)
"""What is loaded before the user has asked for anything."""
LOOKING = Kind("looking", newest_wins=True, shown=False, of_session=True)
"""Whether what was delivered is there, by its size."""
VERIFYING = Kind("verifying", newest_wins=True, of_session=True)
"""Whether what was delivered is still what was written."""
WRITING = Kind("writing")
LOOKING_OUT = Kind("looking out", newest_wins=True, shown=False, of_session=True)
"""Whether what went out of the computer is still what flows there."""
PASSING = Kind("passing", of_session=True)
"""Sound that goes out of the computer and comes back."""
ALBUM_MEASURING = Kind("measuring songs", newest_wins=True)
"""Songs of an album."""
ALBUM_HEARING = Kind("making joins", newest_wins=True)
"""What of an album is to be heard."""
AUTOSAVING = Kind("autosaving", newest_wins=True, shown=False)
"""Copies of unsaved work."""


@dataclass(eq=False)
class Task:
    """A piece of work that was asked for."""

    number: int
    kind: Kind
    title: str
    job: Job
    stopper: Stopper = field(default_factory=Stopper)
    share: float = 0.0
    running: bool = False


class Tasks:
    """Runs tasks, a thread for each kind of work that has been asked for."""

    def __init__(
        self, changed: Callable[[], None], failed: Callable[[Task, Exception], None], displaced: Callable[[str], None]
    ) -> None:
        """All three are called from any thread: when what runs or how far it is has changed, when a task has failed,
        and with the title of a task that a newer one has displaced and whose asker should know."""
        self._changed, self._failed, self._displaced = changed, failed, displaced
        self._wake = threading.Condition()
        self._waiting: dict[Kind, deque[Task]] = {}
        self._running: dict[Kind, Task] = {}
        self._threads: dict[Kind, threading.Thread] = {}
        self._numbers = itertools.count()
        self._closing = False

    def submit(self, kind: Kind, title: str, job: Job) -> Task:
        """Have something done. Its job is given what it tells its progress to, and is stopped by."""
        displaced = []
        with self._wake:
            task = Task(next(self._numbers), kind, title, job)
            waiting = self._waiting.setdefault(kind, deque())
            if kind.newest_wins:
                there = [*waiting, *([self._running[kind]] if kind in self._running else [])]
                displaced = [older for older in there if not older.stopper.stopped]
                waiting.clear()
                for older in displaced:
                    older.stopper.stop()
            waiting.append(task)
            if kind not in self._threads and not self._closing:
                thread = threading.Thread(target=self._run, args=(kind,), name=f"gluvo-{kind.name}", daemon=True)
                self._threads[kind] = thread
                thread.start()
            self._wake.notify_all()
        if kind.told:
            for older in displaced:
                self._displaced(older.title)
        self._changed()
        return task

    def cancel(self, task: Task | None = None) -> None:
        """Stop a task; the one of those that are shown that was asked for last, if none is named."""
        with self._wake:
            task = task or max(self.shown(), key=lambda t: t.number, default=None)
            if task is not None:
                task.stopper.stop()
                waiting = self._waiting.get(task.kind, deque())
                if task in waiting:
                    waiting.remove(task)
        self._changed()

    def retitle(self, kind: Kind, title: str) -> None:
        """Say otherwise what the running work of a kind is at."""
        with self._wake:
            if kind in self._running:
                self._running[kind].title, self._running[kind].share = title, 0.0
        self._changed()

    def cancel_kind(self, kind: Kind) -> None:
        """Stop all work of a kind."""
        with self._wake:
            self._waiting.get(kind, deque()).clear()
            if kind in self._running:
                self._running[kind].stopper.stop()
        self._changed()

    def cancel_of_session(self) -> None:
        """Stop all that is of no use to another session."""
        with self._wake:
            kinds = [kind for kind in (*self._waiting, *self._running) if kind.of_session]
        for kind in kinds:
            self.cancel_kind(kind)

    def shown(self) -> list[Task]:
        """The tasks whose progress is shown, those that run before those that wait."""
        with self._wake:
            waiting = [task for tasks in self._waiting.values() for task in tasks]
            return [task for task in (*self._running.values(), *waiting) if task.kind.shown]

    def busy(self, *kinds: Kind) -> bool:
        """Whether anything runs or waits (of these kinds, if any are named)."""
        with self._wake:
            there = [*self._running, *(kind for kind, tasks in self._waiting.items() if tasks)]
            return any(kind in kinds or not kinds for kind in there)

    def close(self, seconds: float = 10.0) -> bool:
        """Stop everything, and wait until it has ended, for so long at most; whether it has. Nothing is told any more."""
        with self._wake:
            self._closing = True
            for tasks in self._waiting.values():
                tasks.clear()
            for task in self._running.values():
                task.stopper.stop()
            self._wake.notify_all()
            threads = list(self._threads.values())
        end = time.monotonic() + seconds
        for thread in threads:
            thread.join(timeout=max(0.0, end - time.monotonic()))
        return not any(thread.is_alive() for thread in threads)

    def _tell(self) -> None:
        if not self._closing:
            self._changed()

    def _run(self, kind: Kind) -> None:
        step_back()
        while True:
            with self._wake:
                while not self._waiting[kind] and not self._closing:
                    self._wake.wait()
                if self._closing:
                    return
                task = self._waiting[kind].popleft()
                task.running = True
                self._running[kind] = task

            try:
                self._do(task)
            finally:
                with self._wake:
                    del self._running[kind]
                    task.running = False
            del task  # its job holds on to what it worked with
            self._tell()

    def _do(self, task: Task) -> None:
        def check(done: float) -> None:
            task.stopper.check(done)
            if abs(done - task.share) >= 0.005:
                task.share = done
                self._tell()

        try:
            self._tell()
            check(0.0)
            task.job(check)
        except Cancelled:
            pass
        except Exception as error:  # a task's failure must reach the user, and must not end the thread
            if not isinstance(error, GluvoError):
                log.exception("%s failed", task.title)
            if not self._closing:
                self._failed(task, error)
