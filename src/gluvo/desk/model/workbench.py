"""What the screens work with: the open session and all that is done with it, each in a part of its own.

Everything that takes longer than a frame happens on worker threads; their results come back as Qt signals.
"""

from __future__ import annotations

from collections.abc import Callable

from gluvo.compare.match import ALTERNATIVES, BAND, TAKEN, UP_TO, WET
from gluvo.compare.references import same_words
from gluvo.desk.model.advice import Advice
from gluvo.desk.model.autosaving import Autosaving
from gluvo.desk.model.background import Background
from gluvo.desk.model.following import Watched
from gluvo.desk.model.input_pass import InputPass
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.live_figures import LiveFigures
from gluvo.desk.model.marking import Marking
from gluvo.desk.model.measurement import Measurement
from gluvo.desk.model.open_session import OpenSession
from gluvo.desk.model.opening import Opening
from gluvo.desk.model.outboards import Outboards
from gluvo.desk.model.prints import Prints
from gluvo.desk.model.reduction_shares import ReductionShares
from gluvo.desk.model.side_by_side import SideBySide
from gluvo.desk.model.versions import Versions
from gluvo.desk.model.watching_out import WatchingOut
from gluvo.measure.same_song import SameSong
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.session import scratch
from gluvo.session.document import Document
from gluvo.session.records import Session, View

MADE_WHEN_WANTED = (BAND, TAKEN, UP_TO, WET, *ALTERNATIVES)
"""What can be heard that is made only when it is."""


class Workbench(OpenSession):
    """The open session with its parts. What one part does because another has changed something is declared in
    `_reactions`, and nowhere else."""

    def __init__(self, device_choice: str = "", host: Host | None = None, autosaves: bool = True) -> None:
        """`host`: the process that plays, if it has been started already."""
        super().__init__()
        self.background = Background(self)
        self.tasks = self.background.tasks
        self.autosaving = Autosaving(self, self.background, autosaves)
        self.listening = Listening(self, host, device_choice, lambda id: self.versions.ready(id))
        self.measurement = Measurement(self, self.background, self.listening, self.autosaving)
        self.opening = Opening(self, self.background, self.listening, self.measurement, self.autosaving)
        self.advice = Advice(self, self.background)
        self.reduction_shares = ReductionShares(self, self.background)
        self.live_figures = LiveFigures()
        self.marking = Marking(self)
        self.side_by_side = SideBySide(self)
        self.watching_out = WatchingOut(self, self.background, self.listening)
        self.versions = Versions(self, self.background, self.listening, self.measurement)
        self.opening.read.connect(self.versions.forget)
        self.prints = Prints(self, self.background)
        self.measurement.found_held.connect(self.prints.tell_moved)
        self.input_pass = InputPass(self, self.background, self.listening, self.prints)
        self.outboards = Outboards(self, self.background, self.listening)
        self._told_same: list[tuple[str, SameSong]] = []
        self._watched: list[tuple[Watched, Callable[[], None]]] = []
        self.picture_changed.connect(self._react)  # before any screen

    @property
    def engine(self) -> RemoteEngine | None:
        """What plays the open session; None while there is no audio."""
        return self.listening.engine

    def open(self, document: Document) -> None:
        """Show a document; its audio is read in the background."""
        self.opening.open(document)
        self.advice.forget()
        self.watching_out.forget()
        self.outboards.forget()
        self._told_same.clear()
        document.listen(self._session_changed)
        self._watched = self._reactions()
        self.session_changed.emit(Session(), document.session)
        self.audio_changed.emit()
        self.picture_changed.emit()
        self.marking.tell_gone()
        self.opening.reload()

    def take_over(self) -> None:
        """Become the window that works on the session; what is on disk now is shown."""
        document = Document.open(self.document.path, self.document.lock)
        document.take_over()
        self.open(document)

    def close(self) -> bool:
        """End everything: the tasks first, since they work with the rest. Whether all of them have ended."""
        self.autosaving.stop()
        ended = self.background.close()
        self.listening.end()
        self.opening.close()
        return ended

    def look_after(self) -> None:
        """Called often: tell what has gone wrong with the sound, and with the room for it."""
        if self.engine is not None and (event := self.engine.take_event()):
            self.tell(event, True)
        if trouble := scratch.trouble():
            self.tell(trouble, True)

    # --- what follows from what ----------------------------------------------------------------------------

    def _reactions(self) -> list[tuple[Watched, Callable[[], None]]]:
        """Slices of the session and of the picture, and what is done when one of them is another."""
        listening = self.listening

        def session() -> Session:
            return self.session

        def view() -> View:
            return self.session.view

        def alone() -> tuple[object, ...]:
            """What is made only while it is heard."""
            made = tuple(id for id in (view().hear, *view().at_hand, *view().pins) if id in MADE_WHEN_WANTED)
            return (*made, view().band if BAND in made else 0)

        return [
            (Watched(lambda: _audio_of(session())), self.opening.reload),
            (Watched(lambda: (session().sound,)), self.versions.follow_sound),
            (
                Watched(lambda: (session().sound, view().step, view().solo, view().marks, alone())),
                listening.follow_chain,
            ),
            (Watched(lambda: (*_measured(session()), view().marks, alone())), self.measurement.render),
            (Watched(lambda: (view().section, view().loop, session().sections)), listening.follow_section),
            (Watched(lambda: (listening.partner(view().hear),)), listening.follow_loop),
            (Watched(lambda: (self.picture.partners, self.picture.same)), listening.follow_times),
            (Watched(lambda: (self.picture.same,)), self._tell_same),
            (
                Watched(
                    lambda: (
                        self.picture.song_current,
                        self.picture.song_render,
                        self.audio.flat,
                        session().sections,
                        session().target,
                        session().deliverables,
                        [s.mute for s in session().strips],
                        view().solo if view().page == "deliver" else (),
                    )
                ),
                self.watching_out.look,
            ),
            (
                Watched(lambda: (*_monitored(view()), self.picture.gains, self.picture.level)),
                listening.follow_monitoring,
            ),
            (Watched(lambda: (self.picture.song_current, self.picture.song_render)), self._look_out),
            (Watched(lambda: _edited(session())), self.autosaving.follow_edits),
            (Watched(lambda: (view().hear, self.audio.material)), self.live_figures.forget),
        ]

    def _look_out(self) -> None:
        """What goes out of the computer is looked at once the song is measured."""
        if self.picture.song_current:
            self.outboards.look()

    def _tell_same(self) -> None:
        """Tell of the references that were found to be the same song, each once."""
        for id, same in self.picture.same.items():
            reference = self.session.reference(id)
            if reference is not None and (id, same) not in self._told_same:
                self._told_same.append((id, same))
                self.tell(same_words(reference.name, same), False)

    def _react(self) -> None:
        for watched, react in self._watched:
            if watched.is_other():
                react()

    def _session_changed(self, before: Session, now: Session) -> None:
        self.session_changed.emit(before, now)
        self._react()
        self.listening.hear_what_is_there()


def _audio_of(session: Session) -> tuple[object, ...]:
    """What a session needs to have been read."""
    return (
        session.rate,
        [(s.id, s.media, s.offset) for s in session.stems],
        [(r.id, r.media) for r in session.references],
        [(i.id, i.recording_key) for i in session.all_items if i.recording is not None],
    )


def _measured(session: Session) -> tuple[object, ...]:
    """What all figures on screen depend on."""
    view = session.view
    return session.strips, session.sections, session.references, view.step, view.strip, view.section, view.match


def _monitored(view: View) -> tuple[object, ...]:
    """What is heard, and how."""
    return view.hear, view.level_matched, view.monitor, view.output_level, view.dim, view.road, view.section


def _edited(session: Session) -> tuple[object, ...]:
    """All that can be undone or saved: everything but where one looks."""
    return tuple(getattr(session, name) for name in session.__struct_fields__ if name != "view")
