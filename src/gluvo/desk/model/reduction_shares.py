"""Whose the reduction of the chosen step is: looked for in the background, once somebody looks at it."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QObject, Signal

from gluvo.advise.reduction_shares import Share, contributors, looked_at, shares_of
from gluvo.desk.model.background import Background
from gluvo.desk.model.open_session import OpenSession
from gluvo.measure.trace import Span
from gluvo.opened.tasks import SHARING
from gluvo.progress import Progress
from gluvo.session import tree

MOST_TOLD = 5
"""Stems whose shares are told."""
TOLD_FROM = 0.02
"""The least share that is."""


class ReductionShares(QObject):
    """The shares of one step in one stretch at a time; the newest wish takes the place of the one before."""

    changed = Signal()

    def __init__(self, bench: OpenSession, background: Background) -> None:
        super().__init__(bench)
        self._bench, self._background = bench, background
        self._of: tuple[str, str, Span] | None = None
        """The step, what makes its sound, and the stretch that shares are known of, or looked for."""
        self._found: tuple[Share, ...] | None = None

    def want(self, step: str) -> None:
        """Look for the shares of a step in the chosen stretch, if they are not known; later, if figures are still missing."""
        bench = self._bench
        renderer, render, session = bench.renderer, bench.picture.best, bench.session
        if renderer is None or render is None or not bench.picture.section_current or not contributors(session, step):
            return
        plan = renderer.plan(session)
        joint = render.joint(step)
        if joint is None or step not in plan.after:
            return
        span = looked_at(joint, bench.span or Span(0.0, renderer.seconds))
        of = step, plan.after[step].key, span
        if of == self._of:
            return
        self._of, self._found = of, None

        def work(check: Progress) -> tuple[Share, ...]:
            return shares_of(renderer, session, step, span, check)

        self._background.run(SHARING, "Whose reduction it is", work, partial(self._take, of))

    def _take(self, of: tuple[str, str, Span], found: tuple[Share, ...]) -> None:
        if of == self._of:
            self._found = found
            self.changed.emit()

    def words(self, step: str) -> str:
        """The shares of a step in words; nothing while they are not known."""
        session = self._bench.session
        if self._of is None or self._of[0] != step or not self._found:
            return ""
        names = tree.names(session)
        told = [s for s in self._found if s.share >= TOLD_FROM and s.stem in names][:MOST_TOLD]
        if not told:
            return "no stem alone drives it"
        part = "" if self._of[2] == (self._bench.span or self._of[2]) else f" (loudest {self._of[2].seconds:.0f} s)"
        return "driven by " + ", ".join(f"{names[s.stem]} {100 * s.share:.0f} %" for s in told) + part
