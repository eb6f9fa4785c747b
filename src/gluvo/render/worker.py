"""Work off the window's thread: one piece at a time, the newest one wins."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable

from gluvo.errors import Cancelled
from gluvo.render.chain import Progress, Stopper, step_back

Job = Callable[[Progress], None]
"""Does some work; calls what it is given often, which raises `Cancelled` when the work is no longer wanted."""

log = logging.getLogger(__name__)


class Worker:
    """A thread that runs jobs. A new job stops the one that runs and replaces the one that waits."""

    def __init__(self, name: str, on_error: Callable[[Exception], None]) -> None:
        self._on_error = on_error
        self._wake = threading.Condition()
        self._job: Job | None = None
        self._running: Stopper | None = None
        self._closing = False
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    def submit(self, job: Job) -> None:
        with self._wake:
            self._job = job
            if self._running is not None:
                self._running.stop()
            self._wake.notify()

    def cancel(self) -> None:
        """Stop what runs and forget what waits."""
        with self._wake:
            self._job = None
            if self._running is not None:
                self._running.stop()

    @property
    def busy(self) -> bool:
        with self._wake:
            return self._job is not None or self._running is not None

    def close(self) -> None:
        self.cancel()
        with self._wake:
            self._closing = True
            self._wake.notify()
        self._thread.join(timeout=5.0)

    def _run(self) -> None:
        step_back()
        while True:
            with self._wake:
                while self._job is None and not self._closing:
                    self._wake.wait()
                if self._closing:
                    return
                job, self._job = self._job, None
                stopper = self._running = Stopper()
            assert job is not None
            try:
                job(stopper.check)
            except Cancelled:
                pass
            except Exception as error:  # a job's failure must reach the user, and must not end the thread
                log.exception("background work failed")
                self._on_error(error)
            finally:
                with self._wake:
                    self._running = None
