"""All figures on screen: the renders behind them, made in the background and brought up to date after each edit."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from gluvo.compare.tones import Frozen
from gluvo.desk.model.autosaving import Autosaving
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.open_session import OpenSession
from gluvo.measure.loudness import LOUDEST_SECONDS, loudest_span
from gluvo.opened.measuring import Measuring, PictureEdit
from gluvo.opened.tasks import RENDERING
from gluvo.progress import Progress
from gluvo.session.records import Session


class Measurement(QObject):
    """Measures the open session whenever something is to be known anew, and puts what was found into its picture."""

    first_figures = Signal()
    """The section's figures are there, or measuring has ended: what else there is to find out holds up nothing now."""

    found_held = Signal(object, object)
    """Held settings were found anew: the session before, and with them."""

    def __init__(
        self, bench: OpenSession, background: Background, listening: Listening, autosaving: Autosaving
    ) -> None:
        super().__init__(bench)
        self._bench, self._background, self._listening, self._autosaving = bench, background, listening, autosaving
        self._amending = False
        self.frozen: Frozen | None = None
        """The spectrum that is kept to compare with, as long as the window is open."""

    def render(self) -> None:
        """Bring all figures up to date, the section's first. Newer calls replace older ones."""
        if self._amending:
            return  # what runs goes on with what it has found
        bench, on_window = self._bench, self._background.on_window
        renderer, session, span, mine = bench.renderer, bench.session, bench.span, bench.generation
        if renderer is None:
            return
        stale = session.sound != bench.picture.sound
        bench.picture = replace(
            bench.picture,
            sound=session.sound,
            section_current=False,
            song_current=bench.picture.song_current and not stale,
        )
        if renderer.material.other(session):
            return  # it is being read, and measured then
        references, beside = dict(bench.audio.references), dict(self._listening.extras)
        same = {id: known for id, known in bench.picture.same.items() if id in references}
        opened = bench.picture.song_render is None and bench.picture.untouched is None

        def job(check: Progress) -> None:
            def show(edit: PictureEdit) -> None:
                check(0.0)
                on_window(lambda: self._show(mine, edit))

            def amend(held: Session) -> None:
                on_window(lambda: self._amend(mine, session, held))

            def telling(title: str) -> Progress:
                self._background.tasks.retitle(RENDERING, title)
                return check

            try:
                Measuring(renderer, session, span, references, beside, show, amend, telling, same).run(check, opened)
            finally:
                on_window(self.first_figures.emit)

        self._background.tasks.submit(RENDERING, "Measuring", job)

    def freeze(self, frozen: Frozen | None) -> None:
        """Keep a spectrum to compare with, or let it go."""
        self.frozen = frozen
        self._bench.picture_changed.emit()

    def loudest(self, seconds: float = LOUDEST_SECONDS) -> float | None:
        """Where the loudest stretch of the result starts."""
        song = self._bench.picture.song_render
        if song is None or song.result.trace.seconds <= seconds:
            return None
        return loudest_span(song.result.trace, seconds)

    def _show(self, generation: int, edit: PictureEdit) -> None:
        bench = self._bench
        if generation != bench.generation:
            return
        before = bench.picture
        bench.show_picture(edit(before))
        if bench.picture.section_current and not before.section_current:
            self.first_figures.emit()

    def _amend(self, generation: int, session: Session, held: Session) -> None:
        """Put found settings into the session as part of the action that made them necessary."""
        bench = self._bench
        if generation == bench.generation and bench.session.sound == session.sound:
            bench.picture = replace(bench.picture, sound=held.sound)
            was_saved = not bench.document.changed
            self._amending = True
            try:
                bench.document.amend(lambda s: s.replace(strips=held.strips))
            finally:
                self._amending = False
            self.found_held.emit(session, held)
            if was_saved and bench.document.changed:
                self._autosaving.save_what_came_later()
