"""The process that plays, as the window holds it.

Light to import, so that the process can start while the window is still being loaded.
"""

from __future__ import annotations

import contextlib
import multiprocessing
from multiprocessing.connection import Connection


def _serve(pipe: Connection) -> None:
    from gluvo.play.host import serve

    serve(pipe)


class Host:
    """The process that plays. Starting it takes a second or two; requests wait for it in the pipe."""

    def __init__(self) -> None:
        context = multiprocessing.get_context("spawn")
        self._pipe, theirs = context.Pipe()
        self._process = context.Process(target=_serve, args=(theirs,), name="gluvo-audio", daemon=True)
        self._process.start()
        theirs.close()
        self._answers: list[tuple[str, str]] = []

    def send(self, name: str, *args: object) -> None:
        with contextlib.suppress(OSError):  # it has ended; `answers` tells
            self._pipe.send((name, args))

    def answers(self) -> list[tuple[str, str]]:
        """The device's name and what failed, if that has changed."""
        self._take(0.0)
        found, self._answers = self._answers, []
        return found

    def wait(self, seconds: float = 10.0) -> None:
        """Until all that was sent is done."""
        self.send("done")
        while self._take(seconds):
            if self._answers and self._answers[-1] == ("", "done"):
                self._answers.pop()
                return

    def _take(self, seconds: float) -> bool:
        try:
            taken = False
            while self._pipe.poll(0.0 if taken else seconds):
                self._answers.append(self._pipe.recv())
                taken = True
            return taken
        except (EOFError, OSError):
            self._answers.append(("no device", "The audio process has ended. Restart Gluvo to hear sound."))
            return False

    def close(self) -> None:
        self.send("close")
        self._process.join(timeout=5.0)
        if self._process.is_alive():
            self._process.kill()
        self._pipe.close()
