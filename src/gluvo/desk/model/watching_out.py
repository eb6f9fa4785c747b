"""The watch-outs of the open session: looked for once the song is measured, heard, mended and dismissed."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from gluvo.advise.watchouts import KINDS, Finder, Listened, Scene, WatchOut, ears
from gluvo.compare.match import RESULT
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.open_session import OpenSession
from gluvo.opened.audio import joint_of
from gluvo.opened.tasks import WATCHING_OUT
from gluvo.opened.watching import row_peak
from gluvo.progress import Progress
from gluvo.session.dismissals import brought_back, is_dismissed, not_dismissed, with_dismissed, with_kind_dismissed
from gluvo.session.records import MIX

FIRST = 5
"""That are shown at first."""


class WatchingOut(QObject):
    """Found in the background, only where something has changed; nothing waits for it."""

    changed = Signal()
    """Others were found, or it is looked for them."""

    def __init__(self, bench: OpenSession, background: Background, listening: Listening) -> None:
        super().__init__(bench)
        self._bench, self._background, self._listening = bench, background, listening
        self._finder = Finder(KINDS)
        self.found: tuple[WatchOut, ...] = ()
        self._listened: Listened | None = None
        self._stale: tuple[str, ...] = ()
        self.stale_rows: Callable[[], tuple[str, ...]] = tuple
        """The names of rows whose files are older than the song."""
        self.current = False
        """Whether what was found is of the song as it now is."""

    @property
    def told(self) -> tuple[WatchOut, ...]:
        """Those that are not dismissed, those first of which most can be heard."""
        return not_dismissed(self._bench.session, self.found)

    @property
    def dismissed(self) -> tuple[WatchOut, ...]:
        return tuple(w for w in self.found if is_dismissed(self._bench.session, w))

    @property
    def kinds_without(self) -> int:
        """How many kinds have found nothing."""
        return len(KINDS) - len({w.kind for w in self.found})

    def strips(self) -> set[str]:
        """The ids of the strips that have one."""
        return {w.strip for w in self.told}

    def forget(self) -> None:
        """Another session is opened."""
        self._finder = Finder(KINDS)
        self.found, self.current = (), False
        self.changed.emit()

    def look_if_stale(self) -> None:
        """Look again where other files are older than the song."""
        stale = self.stale_rows()
        if stale != self._stale:
            self.look()

    def listen(self, minutes: float, level: float | None) -> None:
        """So long, and so loud, has one listened; it is looked again as often as that may be told anew."""
        before, self._listened = self._listened, Listened(minutes, level)
        if minutes >= ears.LIMIT and (before is None or int(before.minutes / ears.STEP) != int(minutes / ears.STEP)):
            self.look()

    def look(self) -> None:
        """Look for them, once all of the song as it now is has been measured."""
        bench, picture = self._bench, self._bench.picture
        renderer, render = bench.renderer, picture.song_render
        if renderer is None or render is None or not picture.song_current:
            self.current = False
            return
        session, finder, flat, listened = bench.session, self._finder, dict(bench.audio.flat), self._listened

        self._stale = self.stale_rows()
        sounds, stale = list(bench.audio.references.values()), self._stale

        def work(check: Progress) -> tuple[WatchOut, ...]:
            references = [joint_of(sound) for sound in sounds]
            scene = Scene(session, render, renderer, flat, row_peak, listened, references, stale)
            return finder.find(scene, check)

        def done(found: tuple[WatchOut, ...]) -> None:
            self.found, self.current = found, True
            self.changed.emit()

        self._background.run(WATCHING_OUT, "Looking for watch-outs", work, done)

    # --- what the user does ----------------------------------------------------------------------------------

    def go(self, one: WatchOut) -> None:
        """Choose where it is, and loop the place where it is heard."""
        self._bench.look(strip=one.strip, step=one.step)
        self._listening.loop_span(one.span)

    def hear(self, one: WatchOut) -> None:
        """Hear what it is about: of a step what it changes or goes by, of a stem that alone; again for the result."""
        bench, view = self._bench, self._bench.session.view
        if one.hear:
            on = view.hear == one.hear and view.step == one.step
            bench.look(strip=one.strip, step=one.step)
            self._listening.hear(RESULT if on else one.hear)
        elif one.strip != MIX:
            bench.look(solo=() if view.solo == (one.strip,) else (one.strip,))
        if self._listening.passing != one.span:
            self._listening.loop_span(one.span)

    def is_heard(self, one: WatchOut) -> bool:
        """Whether what it is about is what is heard now."""
        view = self._bench.session.view
        return bool(one.hear and view.hear == one.hear and view.step == one.step) or view.solo == (one.strip,)

    def make(self, one: WatchOut) -> bool:
        """Make the edit that is offered, as one undoable step; whether there is one."""
        if one.offer is None:
            self._bench.refuse("No edit is offered here.")
            return False
        return self._bench.edit(one.offer.words, one.offer.edit)

    def dismiss(self, one: WatchOut) -> None:
        """Tell it no more, unless it grows by a third."""
        self._bench.edit("Dismiss a watch-out", lambda s: with_dismissed(s, one))
        self.changed.emit()

    def dismiss_kind(self, one: WatchOut) -> None:
        """Tell none of its kind any more, unless one grows by a third."""
        self._bench.edit("Dismiss a kind of watch-out", lambda s: with_kind_dismissed(s, one.kind, self.found))
        self.changed.emit()

    def bring_back(self, one: WatchOut) -> None:
        """Tell it again."""
        self._bench.edit("Bring a watch-out back", lambda s: brought_back(s, one))
        self.changed.emit()
