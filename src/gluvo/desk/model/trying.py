"""Trying something by ear before it is done: a session with it, as loud as the open one, played in its place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from gluvo.advise.hold import held_session
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.render.song import Rendered, Renderer
from gluvo.session.records import Session
from gluvo.workbench.tasks import TRYING, Kind


@dataclass(frozen=True)
class Tried:
    """What was found of a session that is tried."""

    session: Session
    """With its held settings found."""
    gain: float
    """dB by which it is made as loud as the open one."""
    render: Rendered
    """The section."""


class Bench(Protocol):
    """What is asked of the bench."""

    @property
    def session(self) -> Session: ...
    @property
    def renderer(self) -> Renderer | None: ...
    @property
    def span(self) -> Span | None: ...
    def hunt(self, session: Session | None, gain: float | None = None) -> None: ...
    def task(
        self, kind: Kind, title: str, work: Callable[[Progress], Any], done: Callable[[Any], object]
    ) -> object: ...


class Trying:
    """One thing at a time; the newest takes the place of the one before."""

    def __init__(self, bench: Bench, found: Callable[[Tried], object]) -> None:
        """`found` takes what was found, when it begins to be heard."""
        self._bench, self._found = bench, found
        self._wanted: Session | None = None

    def hear(self, session: Session) -> None:
        """Find what is held in a session, measure how loud its section is, and play it."""
        renderer, now = self._bench.renderer, self._bench.session
        self._wanted = session
        if renderer is None:
            return
        span = self._bench.span or Span(0.0, renderer.seconds)

        def work(check: Progress) -> Tried:
            held = held_session(renderer, session, check)
            render = renderer.section(held, span, check)
            before = renderer.joint(renderer.plan(now).result, span, check).loudness(span)
            after = render.result.loudness(span)
            return Tried(held, before - after if min(before, after) > SILENT else 0.0, render)

        def done(tried: Tried) -> None:
            if self._wanted is session:
                self._bench.hunt(tried.session, tried.gain)
                self._found(tried)

        self._bench.task(TRYING, "Trying", work, done)

    def end(self) -> None:
        """Hear the open session again."""
        self._wanted = None
        self._bench.hunt(None)
