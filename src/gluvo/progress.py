"""Work that tells how far it is, and that can be stopped."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable

from gluvo.errors import Cancelled

CORES = os.cpu_count() or 1
"""How many threads may work at a time."""

Progress = Callable[[float], None]
"""Is told how much is done, 0–1. It may raise `Cancelled`."""


def no_progress(_done: float) -> None:
    """Progress that is not shown."""


class Stopper:
    """Lets one thread stop another's work: hand its `check` to the work as progress."""

    def __init__(self, then: Progress = no_progress) -> None:
        self.stopped = False
        self._then = then

    def stop(self) -> None:
        self.stopped = True

    def check(self, done: float) -> None:
        if self.stopped:
            raise Cancelled("stopped")
        self._then(done)


def step_back() -> None:
    """Let the window and the sound go before the calling thread where both want a core."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)  # on Linux, of the thread alone
