"""Between the model and the screens: the document, the renders behind it, and the engine.

Everything that takes longer than a frame happens on worker threads; their results come back as Qt signals.
"""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

import msgspec
from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from gluvo.advise.hold import holds
from gluvo.advise.loudness_target import Reached
from gluvo.compare.hearables import IN_THE_SONG, VERSIONS, Hearable, TimeMap, hearables, in_order
from gluvo.compare.match import BAND, DETECTOR, RESULT, TAKEN
from gluvo.compare.references import time_map
from gluvo.compare.tones import Frozen
from gluvo.desk.model.advice import Advice
from gluvo.desk.model.said import Said
from gluvo.desk.model.versions import Versions
from gluvo.errors import GluvoError, SessionError
from gluvo.measure.loudness import LOUDEST_SECONDS, loudest_span
from gluvo.measure.trace import Span
from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.progress import Progress
from gluvo.render.song import Renderer
from gluvo.session import scratch
from gluvo.session.document import Document
from gluvo.session.media import Changed, outside_folder, place_of, taken
from gluvo.session.presets import held_in
from gluvo.session.records import Section, Session
from gluvo.session.sounds import Sound
from gluvo.steps import ChainItem, Step
from gluvo.workbench.audio import ExtraSound, OpenAudio, analysed, changes_of, read_audio, stamp_of
from gluvo.workbench.measuring import Measuring
from gluvo.workbench.picture import Picture
from gluvo.workbench.tasks import (
    ANALYSING,
    COMPARING,
    KEEPING,
    MEASURING,
    READING,
    RENDERING,
    SEARCHING,
    TRYING,
    VERSIONING,
    WATCHING,
    Kind,
    Task,
    Tasks,
)

AUTOSAVE_MS = 1500
"""After an edit a copy is kept so much later, however many edits follow in the meantime."""
WRITTEN_MS = 600
"""A file that is being written is looked at when nothing has come for so long."""
BEFORE, AFTER = 0.5, 1.0
"""Seconds around a place that is looped."""
T = TypeVar("T")


def _audio_of(session: Session) -> tuple[object, ...]:
    """What a session needs to have been read."""
    return (
        session.rate,
        [(s.id, s.media, s.offset) for s in session.stems],
        [(r.id, r.media) for r in session.references],
    )


class Workbench(QObject):
    """One open session at a time."""

    session_changed = Signal(object, object)
    """Before and now; both are sessions."""
    audio_changed = Signal()
    analysis_changed = Signal()
    picture_changed = Signal()
    tasks_changed = Signal()
    """What long work goes on, or how far it is."""
    told = Signal(object)
    """A sentence for the user, a `Said`."""
    reached = Signal()
    missing_found = Signal()
    changed_found = Signal()
    """Audio files are others than were brought in."""
    spoilt_found = Signal()
    """Audio files that were read are gone or damaged now."""

    _call = Signal()

    def __init__(self, device_choice: str = "", host: Host | None = None, autosaves: bool = True) -> None:
        """`host`: the process that plays, if it has been started already."""
        super().__init__()
        self.document = Document(Session(), Path.cwd() / "Untitled.gluvo", saved=True)
        self.audio = OpenAudio()
        self.picture = Picture()
        self.engine: RemoteEngine | None = None
        self._host = host or Host()
        self.device_choice = device_choice
        self.renderer: Renderer | None = None
        """Renders the open session; None while there is no audio."""
        self.tasks = Tasks(self.tasks_changed.emit, self._failed, self._displaced)
        self._found: deque[Callable[[], None]] = deque()
        """What workers have found out and the window has not taken in yet."""
        self._call.connect(self._take_found)
        self._autosave = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._autosave.timeout.connect(self.autosave_now)
        self._autosaves = autosaves
        self.beside: dict[str, ExtraSound] = {}
        """What can be heard besides the song and its references, by the ids of the Hear row."""
        self.passing: Span | None = None
        """A moment that is looped in place of the section, until another section is chosen."""
        self._looped: Span | None = None
        """What goes round: the chosen section, for as long as what is heard of it lasts."""
        self._to_analyse = False
        """Whether there is audio that has only been read."""
        self._hunted: Session | None = None
        self._hunted_gain: float | None = None
        self._blind = ""
        """What is heard in a blind trial."""
        self._times: dict[str, TimeMap] = {}
        """When the engine plays what of each reference."""
        self._stamps: dict[str, object] = {}
        """How each audio file stood on disk when it was read."""
        self.frozen: Frozen | None = None
        """The spectrum that is kept to compare with, as long as the window is open."""
        self._watcher = QFileSystemWatcher(self)
        self._look = QTimer(self, singleShot=True, interval=WRITTEN_MS)
        self._look.timeout.connect(self.check_files)
        self._watcher.fileChanged.connect(lambda _: self._look.start())
        self._saved_early = False
        """Whether the session was saved while held settings were still being found for it."""
        self._closed = False
        self._outside: list[str] = []
        """What was told to lie outside of the session's folder."""
        self._generation = 0
        self._was_mine = True
        self.reach: tuple[str, Reached] | None = None
        """What was last found for the target, with the key of the sound that it made."""
        self.advice, self.versions = Advice(self), Versions(self)

    # --- opening and closing -------------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.document.session

    def open(self, document: Document) -> None:
        """Show a document; its audio is read in the background."""
        self._close_engine()
        self._generation += 1
        for kind in (RENDERING, READING, ANALYSING, SEARCHING, MEASURING, COMPARING, VERSIONING, TRYING):
            self.tasks.cancel_kind(kind)
        self._autosave.stop()
        if self.document.lock is not document.lock:
            self.document.release()
        self.document, self._was_mine, self.reach = document, not document.read_only, None
        self.renderer, self._to_analyse, self.passing = None, False, None
        self.beside.clear()
        self._outside = []
        self.audio, self.picture = OpenAudio(), Picture()
        document.listen(self._session_changed)
        self.session_changed.emit(Session(), document.session)
        self.audio_changed.emit()
        self.picture_changed.emit()
        self.reload_audio()

    def reload_audio(self) -> None:
        """Read the session's audio (again), with progress."""
        session, folder, mine, known = self.session, self.document.folder, self._generation, self.audio

        def job(check: Progress) -> None:
            audio = read_audio(session, folder, check, known)
            self._on_window(lambda: self._take_audio(audio, mine))

        if session.media:
            self.tasks.submit(READING, "Reading audio", job)

    def _take_audio(self, audio: OpenAudio, generation: int) -> None:
        if generation != self._generation:
            return
        before = self.audio
        self.audio, self._stamps, self._to_analyse = audio, dict(audio.stamps), True
        self._watch()
        if self.engine is not None and audio.material is not None and audio.has_song_of(before):
            self._exchange(before.references, audio.references)
            self.audio_changed.emit()
            self.render()
            self._tell_of(audio)
            return
        playing, position = (self.engine.playing, self.engine.position) if self.engine else (False, None)
        self._close_engine()
        if audio.material is not None:
            session = self.session
            self.renderer = Renderer(audio.material, self.renderer.cache if self.renderer else None)
            self._open_engine(audio, session.view.position if position is None else position, playing)
        else:
            self.renderer = None
            self._analyse()
        self.versions.forget()
        self.audio_changed.emit()
        self.render()
        self._tell_of(audio)

    def _exchange(self, before: Mapping[str, Sound], now: Mapping[str, Sound]) -> None:
        """Give the engine what else can be heard now, and take from it what cannot; it plays on."""
        assert self.engine is not None
        for id in set(before) - set(now):
            self.engine.drop(id)
            self._times.pop(id, None)
        for id, sound in now.items():
            if before.get(id) is not sound:
                self._times.pop(id, None)
        self._apply_times()

    def _tell_of(self, audio: OpenAudio) -> None:
        """Tell what there is to be told of the audio that was read."""
        if audio.changed:
            self.changed_found.emit()
        elif audio.missing:
            self.missing_found.emit()
        elif (outside := outside_folder(self.session)) and outside != self._outside:
            self._outside = outside
            names = ", ".join(path.rsplit("/", 1)[-1] for path in outside[:3])
            more = f" and {len(outside) - 3} more" if len(outside) > 3 else ""
            self.tell(
                f"Audio outside the session's folder: {names}{more}. It stays where it is if you move the session.",
                False,
            )

    def _open_engine(self, audio: OpenAudio, position: float, playing: bool) -> None:
        assert audio.material is not None
        try:
            self.engine = RemoteEngine(self._host, audio.material, audio.references, self.session, self.device_choice)
        except GluvoError as error:
            self.tell(str(error), True)
            return
        for id, made in self.beside.items():
            self.engine.keep(id, made.sound, made.hearable.time)
        self._times.clear()
        self._apply_times()
        self.engine.seek(position)
        self._apply_loop()
        self._apply_monitoring()
        if playing:
            self.engine.play()

    def look_after(self) -> None:
        """Called often: tell what has gone wrong with the sound, the room for it, and the right to write."""
        if self.engine is not None and (event := self.engine.take_event()):
            self.tell(event, True)
        if trouble := scratch.trouble():
            self.tell(trouble, True)

    def check_ownership(self) -> None:
        """Called now and then: tell if another window has taken the session over."""
        mine = not self.document.read_only
        if self._was_mine and not mine:
            self.told.emit(
                Said(
                    "Another window has taken over this session. What you changed here and did not save can be saved as a "
                    "copy.",
                    solved=lambda: not self.document.read_only,
                )
            )
        if mine is not self._was_mine:
            self._was_mine = mine
            self.session_changed.emit(self.session, self.session)

    def take_over(self) -> None:
        """Become the window that works on the session; what is on disk now is shown."""
        document = Document.open(self.document.path, self.document.lock)
        document.take_over()
        self.open(document)

    def check_files(self) -> None:
        """Look whether the audio on disk is still what was brought in; the window calls it when one comes back to it."""
        material, session, folder, mine = self.audio.material, self.session, self.document.folder, self._generation
        if material is None:
            return
        known = dict(self._stamps)

        def job(check: Progress) -> None:  # also to look takes time, where a folder lies on another machine
            stamps = {m.path: stamp_of(m, folder) for m in session.media}
            stale = [m for m in session.media if known.get(m.path) != stamps[m.path]]
            if stale:
                self.tasks.retitle(WATCHING, "Looking at changed files")
                changed, spoilt = changes_of(session, folder, stale, check)
                self._on_window(lambda: self._take_changes(changed, spoilt, stamps, mine))

        self.tasks.submit(WATCHING, "Looking at the files", job)

    def _take_changes(
        self, changed: dict[str, Changed], spoilt: dict[str, str], stamps: dict[str, object], generation: int
    ) -> None:
        if generation != self._generation:
            return
        back = {path for path, stamp in stamps.items() if stamp != self._stamps.get(path)}
        self._stamps |= stamps
        kept = {path: words for path, words in self.audio.spoilt.items() if path not in back}
        was = self.audio
        self.audio = replace(self.audio, changed=changed or was.changed, spoilt=kept | spoilt)
        self._watch()
        if changed:
            self.changed_found.emit()
        if spoilt:
            self.spoilt_found.emit()
        elif was.spoilt != self.audio.spoilt:
            self.audio_changed.emit()  # what was told of them is solved

    def _watch(self) -> None:
        """Be told when a file of the session is written again, cut or taken away."""
        if gone := self._watcher.files():
            self._watcher.removePaths(gone)
        places = [str(place_of(media, self.document.folder)) for media in self.session.media]
        if places:
            self._watcher.addPaths(places)

    def take_changed(self) -> None:
        """Use audio files that have changed as they now are; can be undone as far as the files allow."""
        changed = self.audio.changed
        self.audio = replace(self.audio, changed={})
        self.edit("Take changed audio", lambda s: taken(s, changed))

    def _analyse(self) -> None:
        """Find out what takes longer about audio that was read, once. It waits for the first figures, which it would
        hold up."""
        if not self._to_analyse:
            return
        audio, mine, self._to_analyse = self.audio, self._generation, False

        def job(check: Progress) -> None:
            looked_at = analysed(audio, check)
            self._on_window(lambda: self._take_analysis(audio, looked_at, mine))

        self.tasks.submit(ANALYSING, "Looking for flat tops", job)

    def _take_analysis(self, of: OpenAudio, found: OpenAudio, generation: int) -> None:
        """What was found out about some audio, if it is still what is open: other audio is looked at in its turn."""
        same = of.material is self.audio.material and of.references == self.audio.references
        if generation == self._generation and same:
            self.audio = replace(found, changed=self.audio.changed)
            self.analysis_changed.emit()

    def choose_device(self, name: str) -> None:
        """Play to another device from now on."""
        self.device_choice = name
        if self.engine is not None:
            self.engine.choose_device(name)

    def _close_engine(self) -> None:
        if self.engine is not None:
            self.engine.close()
            self.engine = None

    def close(self) -> bool:
        """End everything: the tasks first, since they work with the rest. Whether all of them have ended."""
        self._generation += 1  # what still comes from the tasks is not taken in
        self._closed = True
        self._found.clear()
        self._autosave.stop()
        self._look.stop()
        ended = self.tasks.close()
        self._close_engine()
        self._host.close()
        self.document.release()
        self.renderer, self.audio, self.picture = None, OpenAudio(), Picture()  # they are not shown any more
        self.beside.clear()
        return ended

    def autosave_now(self) -> None:
        """Keep a copy of what is unsaved, off the window's thread."""
        document = self.document

        def job(_: Progress) -> None:
            try:
                document.autosave()
            except GluvoError as error:
                text = f"Your work could not be autosaved: {error}"
                self._on_window(lambda: self.tell(text, True))

        self.tasks.submit(KEEPING, "Keeping a copy", job)

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, action: str, edit: Callable[[Session], Session], together: str | None = None) -> bool:
        """A named change of the session; see `Document.edit`. What cannot be is told, and changes nothing."""
        try:
            self._saved_early = False
            self.document.edit(action, edit, together)
        except SessionError as error:
            self.refuse(str(error))
            return False
        return True

    def saved(self) -> None:
        """The document was saved. What is still being found for it belongs to what was saved, and is saved when it comes."""
        self._saved_early = self.tasks.busy(RENDERING)

    def _save_again(self) -> None:
        """Save what was found for a state that was saved, off the window's thread."""
        document = self.document

        def job(_: Progress) -> None:
            with contextlib.suppress(GluvoError):  # then it is told as not saved, as it is
                done = document.write()
                self._on_window(lambda: self._saved_again(done))

        self.tasks.submit(KEEPING, "Keeping a copy", job)

    def _saved_again(self, done: Callable[[], None]) -> None:
        done()
        self.session_changed.emit(self.session, self.session)

    def keep(self, edit: Callable[[Session], Session]) -> bool:
        """A change that undo does not take back; see `Document.keep`. What cannot be is told, and changes nothing."""
        try:
            self.document.keep(edit)
        except SessionError as error:
            self.refuse(str(error))
            return False
        return True

    def tell(self, text: str, trouble: bool) -> None:
        """A sentence for the user, and whether it tells of trouble."""
        self.told.emit(Said(text, trouble))

    def refuse(self, text: str, act: str = "", then: Callable[[], object] | None = None) -> None:
        """Tell why something that was asked for cannot be, and what can be done about it; once the session is another one,
        nobody needs to know any more. What is found for held settings does not make it another one."""
        mine, asked = self._generation, self.document.place_in_history

        def solved() -> bool:
            return mine != self._generation or self.document.place_in_history != asked

        self.told.emit(Said(text, True, act, then, solved))

    def tell_reached(self) -> None:
        """The target has been looked for."""
        self.reached.emit()

    def look(self, **changes: object) -> None:
        """Look or listen elsewhere; nothing to undo. See `View`."""
        self.document.look(**changes)

    def adjust(self, part: str, /, **changes: object) -> None:
        """Change a part of the view that has settings of its own, such as the analyser."""
        self.document.look(**{part: msgspec.structs.replace(getattr(self.session.view, part), **changes)})

    def settle(self) -> None:
        """A gesture has ended: what follows is an action of its own."""
        self.document.settle()

    def put_in(self, step: ChainItem, strip: str, after: str = "", inside: str = "") -> str:
        """Put a step or container into a chain, see `Session.with_new_step`; its id, or nothing where it cannot be. What it
        holds is found in the chosen section."""
        known = {item.id for item in self.session.items}
        made = held_in(step, self.session.view.section)
        self.edit(f"Add {step.title}", lambda s: s.with_new_step(made, strip, after, inside))
        return next((item.id for item in self.session.items if item.id not in known), "")

    def set_setting(self, step_id: str, name: str, value: object, label: str) -> None:
        """Change one setting of a step or lane. What the user sets by hand is no longer held."""
        step = self.session.item(step_id)
        if step is None:
            return
        changes: dict[str, object] = {name: value, **step.by_hand.get(name, {})}
        if solved := step.solved_settings.get(name):
            changes[solved.switch] = False
        said = ""
        if value and (held := step.switches().get(name)):
            if not holds(step):
                changes["held_in"] = self.session.view.section
            step, said = step.readied(held)
        changed = msgspec.structs.replace(step, **changes)
        if self.edit(f"{step.title} {label.lower()}", lambda s: s.with_step(changed), f"{step_id}.{name}") and said:
            self.tell(said, False)

    def hold_here(self, step_id: str) -> None:
        """Find the held settings of a step in the chosen section from now on."""
        step, section = self.session.item(step_id), self.session.view.section
        if step is not None:
            changed = msgspec.structs.replace(step, held_in=section)
            self.edit(f"Hold {step.title} in {self.span_name}", lambda s: s.with_step(changed))

    def held_name(self, step: Step) -> str:
        """The name of what the held settings of a step are found in."""
        section = self.session.section(step.held_in)
        return section.name if section is not None else "whole song"

    def set_strip(self, strip_id: str, name: str, value: object, label: str) -> None:
        """Change a fader, pan, switch or name of a strip."""
        strip = self.session.strip(strip_id)
        if strip is not None:
            changed = msgspec.structs.replace(strip, **{name: value})
            self.edit(f"{strip.name} {label.lower()}", lambda s: s.with_strip(changed), f"{strip_id}.{name}")

    def choose_strip(self, strip_id: str) -> None:
        """Look at a strip's chain, at its first step."""
        strip = self.session.strip(strip_id)
        if strip is not None and strip_id != self.session.view.strip:
            self.document.look(strip=strip_id, step=strip.chain[0].id if strip.chain else "")

    def solo(self, id: str) -> None:
        """Hear a strip or a lane alone, or no longer."""
        now = self.session.view.solo
        self.document.look(solo=tuple(i for i in now if i != id) if id in now else (*now, id))

    def _session_changed(self, before: Session, now: Session) -> None:
        self.session_changed.emit(before, now)
        if _audio_of(before) != _audio_of(now):
            self.reload_audio()
        looked = {
            n
            for n in ("step", "strip", "section", "solo", "band", "hear")
            if getattr(before.view, n) != getattr(now.view, n)
        }
        # these are made only while they are heard
        alone = bool({BAND, TAKEN} & {before.view.hear, now.view.hear}) and looked & {"band", "hear"}
        if before.strips != now.strips or looked & {"step", "solo"} or alone:
            if self.engine is not None:
                self.engine.change(now)
        if (
            before.strips != now.strips
            or looked & {"step", "section", "strip"}
            or alone
            or before.sections != now.sections
            or before.references != now.references
            or before.view.match != now.view.match
        ):
            self.render()
        if (before.view.section, before.view.loop, before.sections) != (now.view.section, now.view.loop, now.sections):
            self.passing = None
            self._apply_times()
            self._apply_loop()
        elif self.partner(before.view.hear) != self.partner(now.view.hear):
            self._apply_loop()
        if before.view != now.view:
            self._apply_monitoring()
        if self._autosaves and before.replace(view=now.view) != now and not self._autosave.isActive():
            self._autosave.start()
        step, hear = now.item(now.view.step), now.view.hear
        there = {h.id for h in IN_THE_SONG} | {r.id for r in now.references} | {v.id for v in now.versions}
        there |= {id for id, made in self.beside.items() if made.hearable.group != VERSIONS}
        if hear not in there:  # what was heard is gone
            self.document.look(hear=RESULT)
        has_ear = step is not None and step.has_ear
        has_part = step is not None and now.view.band in step.parts
        takes = step is not None and step.reduces
        if (hear == DETECTOR and not has_ear) or (hear == BAND and not has_part) or (hear == TAKEN and not takes):
            self.document.look(hear=RESULT)

    # --- the section and the ear ---------------------------------------------------------------------------

    @property
    def span(self) -> Span | None:
        """The chosen section's span; None for the whole song."""
        section = self.session.section(self.session.view.section)
        return Span(section.start, section.end) if section else None

    @property
    def span_name(self) -> str:
        section = self.session.section(self.session.view.section)
        return section.name if section else "whole song"

    def hear(self, path: str) -> None:
        """Choose what is heard, by the id of a hearable."""
        now = self.session.view.hear
        if path != now and self.versions.ready(path):
            self.document.look(hear=path, heard=now)

    def hear_again(self) -> None:
        """Hear what was heard before, if it is there yet; again for what is heard now."""
        before = self.session.view.heard
        self.hear(before if any(h.id == before for h in self.hearables()) else RESULT)

    def hear_next(self, by: int) -> None:
        """Hear the next in the Hear row, or one before; round and round."""
        ids = [h.id for h in self.hearables()]
        now = self.session.view.hear
        self.hear(ids[(ids.index(now) + by) % len(ids)] if now in ids else ids[0])

    def pin(self, id: str) -> None:
        """Give something that can be heard a place of its own in the Hear row, or take it back."""
        pins = self.session.view.pins
        self.look(pins=tuple(p for p in pins if p != id) if id in pins else (*pins, id))

    def hear_choices(self) -> list[tuple[str, str]]:
        """What the Hear row offers: path and name, in the order of the keys 1–9."""
        return [(h.id, h.name) for h in self.hearables()]

    def hearables(self) -> list[Hearable]:
        """What the Hear row offers, in the order of the keys 1–9."""
        found = [*hearables(self.session, self.audio.references), *(made.hearable for made in self.beside.values())]
        return in_order((h for h in found if h.listed), self.session.view.pins)

    def keep_beside(self, made: ExtraSound) -> None:
        """Have a sound in the Hear row; one of the same id is replaced. It plays on."""
        id = made.hearable.id
        self.beside[id] = made
        if self.engine is not None:
            try:
                self.engine.keep(id, made.sound, made.hearable.time)
            except GluvoError as error:
                self.tell(str(error), True)
        self.audio_changed.emit()

    def drop_beside(self, id: str) -> None:
        """Take a sound from the Hear row."""
        if self.beside.pop(id, None) is None:
            return
        if self.session.view.hear == id:
            self.document.look(hear=RESULT)
        if self.engine is not None:
            self.engine.drop(id)
        self.audio_changed.emit()

    def _apply_times(self) -> None:
        """Let the engine know what of each reference is heard in which section."""
        if self.engine is None:
            return
        session = self.session
        for id, sound in self.audio.references.items():
            time = time_map(session.sections, self.picture.partners.get(id, {}), session.view.section)
            if self._times.get(id) == time:
                continue
            try:
                self.engine.keep(id, sound, time)
            except GluvoError as error:
                self.tell(str(error), True)
            self._times[id] = time

    def partner(self, id: str) -> Section | None:
        """The section of a reference that is heard against the chosen one; None for all of it."""
        return self.picture.partners.get(id, {}).get(self.session.view.section)

    def loop_span(self, span: Span | None) -> None:
        """Loop a moment in place of the section, and play it; None goes on without."""
        self.passing = span
        self._apply_loop()
        if span is not None and self.engine is not None:
            self.seek(span.start)
            self.engine.play()

    def loop_place(self, seconds: float) -> None:
        """Play a moment around a place again and again; the same place once more goes on from there."""
        span = Span(max(0.0, seconds - BEFORE), seconds + AFTER)
        self.loop_span(None if self.passing == span else span)

    def _apply_loop(self) -> None:
        if self.engine is None or self.audio.material is None:
            return
        if self.passing is not None:
            self._looped = None
            self.engine.loop(self.passing.start, self.passing.end)
        elif self.session.view.loop:
            span = self.span or Span(0.0, self.audio.material.seconds)
            part = self.partner(self.session.view.hear)  # a reference goes round with its own length
            before, self._looped = (
                self._looped,
                Span(span.start, span.end if part is None else span.start + part.end - part.start),
            )
            self.engine.loop(self._looped.start, self._looped.end)
            at = self.engine.position
            if before is not None and before.start == span.start and self._looped.end <= at < before.end:
                self.engine.seek(span.start + (at - span.start) % self._looped.seconds)  # it was inside, and stays so
        else:
            self._looped = None
            self.engine.no_loop()

    def _apply_monitoring(self) -> None:
        if self.engine is None:
            return
        view = self.session.view
        gains = self.picture.gains if view.level_matched else {}
        path, ceiling = self._blind or view.hear, 0.0
        if self._blind:
            gains = self.picture.gains
        if self._hunted is not None:
            path = RESULT
            if self._hunted_gain is None:
                ceiling = min(0.0, self._highest() + gains.get(RESULT, 0.0))
            else:
                gains = {**gains, RESULT: gains.get(RESULT, 0.0) + self._hunted_gain}
        self.engine.listen(
            Monitoring(path, gains, view.monitor, view.output_level, view.dim, view.road, self.picture.level, ceiling)
        )

    def hear_blind(self, id: str) -> None:
        """Hear something, level-matched, without anything on screen telling what; empty to hear openly again."""
        self._blind = id
        self._apply_monitoring()

    def freeze(self, frozen: Frozen | None) -> None:
        """Keep a spectrum to compare with, or let it go."""
        self.frozen = frozen
        self.picture_changed.emit()

    def _highest(self) -> float:
        """The highest sample of the result in the section, dBFS; full scale where it is not known."""
        render = self.picture.best
        return render.result.figures(self.span).sample_peak if render is not None else 0.0

    def hunt(self, session: Session | None, gain: float | None = None) -> None:
        """Play a session in place of the open one, no louder than that gets, or with a gain in dB that makes them equal;
        None ends it. Nothing of it is kept."""
        begins = (session is None) is not (self._hunted is None) or gain != self._hunted_gain
        self._hunted, self._hunted_gain = session, gain
        if self.engine is not None:
            self.engine.change(self.session if session is None else session)
        if begins:
            self._apply_monitoring()

    def toggle_play(self) -> None:
        if self.engine is not None:
            if self.engine.playing:
                self.engine.stop()
            else:
                self.engine.play()

    def seek(self, seconds: float) -> None:
        if self.engine is not None:
            self.engine.seek(seconds)
        self.document.look(position=max(0.0, seconds))

    # --- renders -------------------------------------------------------------------------------------------

    def render(self) -> None:
        """Bring all figures up to date, the section's first. Newer calls replace older ones."""
        renderer, session, span, mine = self.renderer, self.session, self.span, self._generation
        if renderer is None:
            return
        stale = session.strips != self.picture.strips
        self.picture = replace(
            self.picture,
            strips=session.strips,
            section_current=False,
            song_current=self.picture.song_current and not stale,
        )
        references, beside = dict(self.audio.references), dict(self.beside)
        opened = self.picture.song_render is None and self.picture.untouched is None

        def job(check: Progress) -> None:
            def show(**changes: object) -> None:
                check(0.0)
                self._on_window(lambda: self._show(mine, changes))

            def amend(held: Session) -> None:
                self._on_window(lambda: self._amend(mine, session, held))

            def telling(title: str) -> Progress:
                self.tasks.retitle(RENDERING, title)
                return check

            try:
                Measuring(renderer, session, span, references, beside, show, amend, telling).run(check, opened)
            finally:
                self._on_window(self._analyse)

        self.tasks.submit(RENDERING, "Measuring", job)

    def _show(self, generation: int, changes: dict[str, object]) -> None:
        if generation != self._generation:
            return
        self.picture = replace(self.picture, **changes)  # type: ignore[arg-type]
        if "partners" in changes:
            self._apply_times()
        if "gains" in changes:
            self._apply_monitoring()
        if "section_current" in changes:
            self._analyse()
        self.picture_changed.emit()

    def _amend(self, generation: int, session: Session, held: Session) -> None:
        """Put found settings into the session as part of the action that made them necessary."""
        if generation == self._generation and self.session.strips == session.strips:
            self.picture = replace(self.picture, strips=held.strips)
            was_saved = not self.document.changed
            self.document.amend(lambda s: s.replace(strips=held.strips))
            if was_saved and self._saved_early and self.document.changed:
                self._save_again()

    # --- longer tasks --------------------------------------------------------------------------------------

    def task(
        self,
        kind: Kind,
        title: str,
        work: Callable[[Progress], T],
        done: Callable[[T], object],
        ended: Callable[[], None] | None = None,
    ) -> Task:
        """Run something long with progress and a way to stop it; `done` gets its result, in the window, unless another
        session has been opened by then and it was a search in the one before. `ended` is called in any case."""
        mine = self._generation

        def finish(result: T) -> None:
            if mine == self._generation or kind not in (SEARCHING, COMPARING, VERSIONING, TRYING):
                done(result)

        def job(check: Progress) -> None:
            try:
                result = work(check)
                self._on_window(lambda: finish(result))
            finally:
                if ended is not None:
                    self._on_window(ended)

        return self.tasks.submit(kind, title, job)

    def _displaced(self, title: str) -> None:
        self._on_window(lambda: self.tell(f"“{title}” was given up for the newer search.", False))

    def loudest(self, seconds: float = LOUDEST_SECONDS) -> float | None:
        """Where the loudest stretch of the result starts."""
        song = self.picture.song_render
        if song is None or song.result.trace.seconds <= seconds:
            return None
        return loudest_span(song.result.trace, seconds)

    # --- threads -------------------------------------------------------------------------------------------

    @property
    def busy(self) -> bool:
        """Whether anything is worked on, or was found out and is not taken in yet."""
        return self.tasks.busy() or bool(self._found)

    def _on_window(self, function: Callable[[], None]) -> None:
        if not self._closed:
            self._found.append(function)
            self._call.emit()

    def _take_found(self) -> None:
        if self._found:
            self._found.popleft()()

    def _failed(self, task: Task, error: Exception) -> None:
        text = str(error) if isinstance(error, GluvoError) else f"{task.title} went wrong inside: {error!r}"
        self._on_window(lambda: self.tell(text, True))
