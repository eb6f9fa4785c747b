"""Trying something by ear before it is done: a session with it, as loud as the open one, played in its place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from gluvo.advise.hold import held_session
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.opened.tasks import TRYING
from gluvo.progress import Progress
from gluvo.render.song import Rendered
from gluvo.session.records import Session


@dataclass(frozen=True)
class Tried:
    """What was found of a session that is tried."""

    session: Session
    """With its held settings found."""
    gain: float
    """dB by which it is made as loud as the open one."""
    render: Rendered
    """The section."""


class Trying:
    """One thing at a time; the newest takes the place of the one before."""

    def __init__(self, bench: Workbench, found: Callable[[Tried], object]) -> None:
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
                self._bench.listening.hunt(tried.session, tried.gain)
                self._found(tried)

        self._bench.background.run(TRYING, "Trying", work, done)

    def end(self) -> None:
        """Hear the open session again."""
        self._wanted = None
        self._bench.listening.hunt(None)
