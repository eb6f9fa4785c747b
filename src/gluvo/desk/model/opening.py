"""Opening a session: its audio read and looked at in the background, and watched on disk for as long as it is open."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from gluvo.desk.model.autosaving import Autosaving
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.measurement import Measurement
from gluvo.desk.model.open_session import OpenSession
from gluvo.desk.model.said import Said
from gluvo.opened.audio import OpenAudio, analysed, changes_of, read_audio, stamp_of
from gluvo.opened.picture import Picture
from gluvo.opened.tasks import ANALYSING, READING, WATCHING
from gluvo.progress import Progress
from gluvo.render.song import Renderer
from gluvo.session.document import Document
from gluvo.session.media import Changed, outside_folder, place_of, taken
from gluvo.session.records import Session

WRITTEN_MS = 600
"""A file that is being written is looked at when nothing has come for so long."""


class Opening(QObject):
    """Opens one session at a time, and sees to its audio and to whose it is."""

    read = Signal()
    """Audio has been read, other than that which was there."""
    analysis_changed = Signal()
    missing_found = Signal()
    changed_found = Signal()
    """Audio files are others than were brought in."""
    spoilt_found = Signal()
    """Audio files that were read are gone or damaged now."""

    def __init__(
        self,
        bench: OpenSession,
        background: Background,
        listening: Listening,
        measurement: Measurement,
        autosaving: Autosaving,
    ) -> None:
        super().__init__(bench)
        self._bench, self._background, self._autosaving = bench, background, autosaving
        self._listening, self._measurement = listening, measurement
        self._to_analyse = False
        """Whether there is audio that has only been read."""
        self._stamps: dict[str, object] = {}
        """How each audio file stood on disk when it was read."""
        self._outside: list[str] = []
        """What was told to lie outside of the session's folder."""
        self._was_mine = True
        self._watcher = QFileSystemWatcher(self)
        self._look = QTimer(self, singleShot=True, interval=WRITTEN_MS)
        self._look.timeout.connect(self.check_files)
        self._watcher.fileChanged.connect(lambda _: self._look.start())
        measurement.first_figures.connect(self._analyse)

    # --- the session ---------------------------------------------------------------------------------------

    def open(self, document: Document) -> None:
        """Show a document; its audio is read in the background."""
        bench = self._bench
        self._listening.forget()
        bench.generation += 1
        self._background.tasks.cancel_of_session()
        self._autosaving.stop()
        if bench.document.lock is not document.lock:
            bench.document.release()
        bench.document, self._was_mine = document, not document.read_only
        bench.renderer, self._to_analyse = None, False
        self._outside = []
        bench.audio, bench.picture = OpenAudio(), Picture()

    def close(self) -> None:
        """Look after nothing any more, and let go of what was open."""
        bench = self._bench
        bench.generation += 1  # what still comes from the tasks is not taken in
        self._look.stop()
        bench.document.release()
        bench.renderer, bench.audio, bench.picture = None, OpenAudio(), Picture()  # they are not shown any more

    def check_ownership(self) -> None:
        """Called now and then: tell if another window has taken the session over."""
        bench = self._bench
        mine = not bench.document.read_only
        if self._was_mine and not mine:
            bench.told.emit(
                Said(
                    "Another window has taken over this session. What you changed here and did not save can be saved as a "
                    "copy.",
                    solved=lambda: not bench.document.read_only,
                )
            )
        if mine is not self._was_mine:
            self._was_mine = mine
            bench.saved_changed.emit()

    # --- its audio -----------------------------------------------------------------------------------------

    def reload(self) -> None:
        """Read the session's audio (again), with progress."""
        bench, tasks = self._bench, self._background.tasks
        session, folder, mine, known = bench.session, bench.document.folder, bench.generation, bench.audio

        def job(check: Progress) -> None:
            audio = read_audio(session, folder, check, known)
            self._background.on_window(lambda: self._take_audio(audio, mine))

        if session.media:
            tasks.submit(READING, "Reading audio", job)

    def _take_audio(self, audio: OpenAudio, generation: int) -> None:
        bench, listening = self._bench, self._listening
        if generation != bench.generation:
            return
        before, engine = bench.audio, listening.engine
        bench.audio, self._stamps, self._to_analyse = audio, dict(audio.stamps), True
        self._watch()
        if engine is not None and audio.material is not None and audio.has_song_of(before):
            listening.exchange(before.references, audio.references)
        else:
            position = bench.session.view.position if engine is None else engine.position
            playing = engine is not None and engine.playing
            listening.close()
            if audio.material is not None:
                bench.renderer = Renderer(audio.material, bench.renderer.cache if bench.renderer else None)
                listening.open(audio, position, playing)
            else:
                bench.renderer = None
                self._analyse()
            self.read.emit()
        bench.audio_changed.emit()
        self._measurement.render()
        self._tell_of(audio)

    def _tell_of(self, audio: OpenAudio) -> None:
        """Tell what there is to be told of the audio that was read."""
        if audio.changed:
            self.changed_found.emit()
        elif audio.missing:
            self.missing_found.emit()
        elif (outside := outside_folder(self._bench.session)) and outside != self._outside:
            self._outside = outside
            names = ", ".join(path.rsplit("/", 1)[-1] for path in outside[:3])
            more = f" and {len(outside) - 3} more" if len(outside) > 3 else ""
            words = f"Audio outside the session's folder: {names}{more}. It stays where it is if you move the session."
            self._bench.told.emit(Said(words, trouble=False, aside=True))

    def _analyse(self) -> None:
        """Find out what takes longer about audio that was read, once. It waits for the first figures, which it would
        hold up."""
        if not self._to_analyse:
            return
        audio, mine, self._to_analyse = self._bench.audio, self._bench.generation, False

        def job(check: Progress) -> None:
            looked_at = analysed(audio, check)
            self._background.on_window(lambda: self._take_analysis(audio, looked_at, mine))

        self._background.tasks.submit(ANALYSING, "Looking for flat tops", job)

    def _take_analysis(self, of: OpenAudio, found: OpenAudio, generation: int) -> None:
        """What was found out about some audio, if it is still what is open: other audio is looked at in its turn."""
        now = self._bench.audio
        same = of.material is now.material and of.references == now.references
        if generation == self._bench.generation and same:
            self._bench.audio = replace(found, changed=now.changed)
            self.analysis_changed.emit()
            self._bench.audio_changed.emit()  # what is told of it elsewhere, such as flat tops on the Deliver page

    # --- its files on disk ---------------------------------------------------------------------------------

    def check_files(self) -> None:
        """Look whether the audio on disk is still what was brought in; the window calls it when one comes back to it."""
        bench = self._bench
        session, folder, mine = bench.session, bench.document.folder, bench.generation
        if bench.audio.material is None:
            return
        known = dict(self._stamps)

        def job(check: Progress) -> None:  # also to look takes time, where a folder lies on another machine
            stamps = {m.path: stamp_of(m, folder) for m in session.media}
            stale = [m for m in session.media if known.get(m.path) != stamps[m.path]]
            if stale:
                self._background.tasks.retitle(WATCHING, "Looking at changed files")
                changed, spoilt = changes_of(session, folder, stale, check)
                self._background.on_window(lambda: self._take_changes(changed, spoilt, stamps, mine))

        self._background.tasks.submit(WATCHING, "Looking at the files", job)

    def _take_changes(
        self, changed: dict[str, Changed], spoilt: dict[str, str], stamps: dict[str, object], generation: int
    ) -> None:
        bench = self._bench
        if generation != bench.generation:
            return
        back = {path for path, stamp in stamps.items() if stamp != self._stamps.get(path)}
        self._stamps |= stamps
        was = bench.audio
        still = {path: words for path, words in was.spoilt.items() if path not in back}
        bench.audio = replace(was, changed=changed or was.changed, spoilt=still | spoilt)
        self._watch()
        if changed:
            self.changed_found.emit()
        if spoilt:
            self.spoilt_found.emit()
        elif was.spoilt != bench.audio.spoilt:
            bench.audio_changed.emit()  # what was told of them is solved

    def _watch(self) -> None:
        """Be told when a file of the session is written again, cut or taken away."""
        session, folder = self._bench.session, self._bench.document.folder
        if gone := self._watcher.files():
            self._watcher.removePaths(gone)
        if places := [str(place_of(media, folder)) for media in session.media]:
            self._watcher.addPaths(places)

    def take_changed(self) -> None:
        """Use audio files that have changed as they now are; can be undone as far as the files allow."""
        bench, changed = self._bench, self._bench.audio.changed
        bench.audio = replace(bench.audio, changed={})

        def take(session: Session) -> Session:
            return taken(session, changed)

        bench.edit("Take changed audio", take)
