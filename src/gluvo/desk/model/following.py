"""What follows from what: each screen declares which slices of the session and of the picture it shows, and is called only
when one of them is another than it was."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject

from gluvo.desk.model.open_session import OpenSession
from gluvo.opened.picture import Picture
from gluvo.session.records import Session

Slice = Callable[[], tuple[object, ...]]
"""What something depends on, as it now is."""


class Watched:
    """Slices of what is open, and what they were when they were last looked at."""

    def __init__(self, slices: Slice) -> None:
        self._slices = slices
        self._last = slices()

    def is_other(self) -> bool:
        """Whether one of them is another since the last call; arrays and renders are compared by identity."""
        before, self._last = self._last, self._slices()
        return not (len(before) == len(self._last) and all(map(_same, before, self._last)))


def _same(a: object, b: object) -> bool:
    return a is b or (type(a) is type(b) and not isinstance(a, np.ndarray) and bool(a == b))


def nothing(_: object) -> tuple[object, ...]:
    """No slice at all."""
    return ()


def everything(picture: Picture) -> tuple[object, ...]:
    """The whole picture: for what shows most of it."""
    return (picture,)


def all_but_place(session: Session) -> tuple[object, ...]:
    """All of a session but where it plays from: for what shows most of it."""
    return (session.looking(position=0.0),)


class Follower(QObject):
    """Calls something whenever one of the slices that it shows is another, for as long as its owner is there."""

    def __init__(
        self,
        owner: QObject,
        bench: OpenSession,
        then: Callable[[], object],
        *,
        session: Callable[[Session], tuple[object, ...]] = nothing,
        picture: Callable[[Picture], tuple[object, ...]] = nothing,
        besides: Slice = tuple,
    ) -> None:
        """`besides`: what is neither in the session nor in the picture, such as what audio there is."""
        super().__init__(owner)
        self._then = then
        self._watched = Watched(lambda: (*session(bench.session), *picture(bench.picture), *besides()))
        for signal in (bench.session_changed, bench.picture_changed, bench.audio_changed, bench.saved_changed):
            signal.connect(self._look)
        bench.refused.connect(self._again)

    def _again(self) -> None:
        self._then()

    def _look(self, *_: object) -> None:
        if self._watched.is_other():
            self._then()
