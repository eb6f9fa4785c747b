"""The process that plays, as the window holds it.

Light to import, so that the process can start while the window is still being loaded.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import queue
import threading
from multiprocessing.connection import Connection

from gluvo.play.requests import Answer, Close, Done, Request, TellDone

CLOSE_SECONDS = 1.0
"""How long the process is given to end by itself."""


def _serve(pipe: Connection) -> None:
    from gluvo.play.server import serve

    serve(pipe)


class Host:
    """The process that plays. Starting it takes a second or two; requests wait for it.

    Nothing here waits for the process: requests go out from a thread of their own, which a process that does not
    take them holds up alone.
    """

    def __init__(self) -> None:
        self._start()

    def _start(self) -> None:
        context = multiprocessing.get_context("spawn")
        self._pipe, theirs = context.Pipe()
        self._process = context.Process(target=_serve, args=(theirs,), name="gluvo-audio", daemon=True)
        self._process.start()
        theirs.close()
        self._answers: list[Answer] = []
        self._requests: queue.SimpleQueue[Request | None] = queue.SimpleQueue()
        threading.Thread(
            target=_send_all, args=(self._requests, self._pipe), name="gluvo-requests", daemon=True
        ).start()

    def send(self, request: Request) -> None:
        """Send a request. Returns at once; where the process has ended, the request is lost."""
        self._requests.put(request)

    @property
    def alive(self) -> bool:
        """Whether the process still runs."""
        return self._process.is_alive()

    def restart(self) -> None:
        """End the process, whatever it is at, and start another."""
        self._end(0.0)
        self._start()

    def answers(self) -> list[Answer]:
        """What the process has told since the last call."""
        self._take(0.0)
        found, self._answers = self._answers, []
        return found

    def wait(self, seconds: float = 10.0) -> bool:
        """Until all that was sent is done; whether it was within so many seconds of silence."""
        self.send(TellDone())
        while self._take(seconds):
            if Done() in self._answers:
                self._answers.remove(Done())
                return True
        return False

    def _take(self, seconds: float) -> bool:
        taken = False
        with contextlib.suppress(EOFError, OSError):  # it has ended; `alive` tells
            while self._pipe.poll(0.0 if taken else seconds):
                self._answers.append(self._pipe.recv())
                taken = True
        return taken

    def close(self) -> None:
        """End the process, in order if it can."""
        self.send(Close())
        self._end(CLOSE_SECONDS)

    def _end(self, seconds: float) -> None:
        self._requests.put(None)
        self._process.join(timeout=seconds)
        if self._process.is_alive():
            self._process.kill()
            self._process.join(timeout=CLOSE_SECONDS)
        self._pipe.close()


def _send_all(requests: queue.SimpleQueue[Request | None], pipe: Connection) -> None:
    with contextlib.suppress(OSError, ValueError, TypeError):  # the last where the pipe is closed during a write
        while (request := requests.get()) is not None:
            pipe.send(request)
