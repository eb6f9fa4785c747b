"""Work on files that the window waits for without standing still."""

from __future__ import annotations

import concurrent.futures
import contextlib
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QEventLoop
from PySide6.QtWidgets import QApplication

from gluvo.errors import WriteError
from gluvo.session.files import PATIENCE

T = TypeVar("T")
AT_ONCE = 0.25
"""Seconds in which a folder answers that answers at all; for so long nothing else is done."""


class Patience:
    """One piece of work at a time. The window goes on while it lasts; a folder that does not answer is given up after a while:
    on another machine it may hang for ever."""

    def __init__(self) -> None:
        self.waits = False
        """Whether some work is being waited for."""

    def __call__(self, work: Callable[[], T], folder: Path) -> T:
        """What some work on a folder comes to. Raises what it raises, and `WriteError` where the folder does not answer, or
        other work is being waited for."""
        if self.waits:
            raise WriteError("It is being saved already.")
        found: concurrent.futures.Future[T] = concurrent.futures.Future()

        def run() -> None:
            try:
                found.set_result(work())
            except BaseException as error:  # it is the asker's
                found.set_exception(error)

        threading.Thread(target=run, name="gluvo-saving", daemon=True).start()
        self.waits = True
        try:
            end = time.monotonic() + PATIENCE
            with contextlib.suppress(TimeoutError):
                return found.result(AT_ONCE)
            while not found.done() and time.monotonic() < end:
                QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)
                time.sleep(0.005)
            if not found.done():
                raise WriteError(
                    f"{folder} does not answer, so nothing is known to be saved. Your work is still here: save it in another "
                    "folder, or try again."
                )
            return found.result()
        finally:
            self.waits = False
