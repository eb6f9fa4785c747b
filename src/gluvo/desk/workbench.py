"""Between the model and the screens: the document, the renders behind it, and the engine.

Everything that takes longer than a frame happens on worker threads; their results come back as Qt signals.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from gluvo.compare.match import BAND, CHANGE, DETECTOR, RESULT, STEP_OUT, UNTOUCHED
from gluvo.compare.tones import Frozen
from gluvo.desk.advice import Advice
from gluvo.desk.audio import Audio, analysed, read_audio
from gluvo.desk.measuring import Measuring
from gluvo.desk.picture import Picture
from gluvo.errors import GluvoError, SessionError
from gluvo.measure.loudness import loudest_span
from gluvo.measure.trace import Span
from gluvo.play.engine import Monitoring
from gluvo.play.host import RemoteEngine
from gluvo.play.process import Host
from gluvo.render.chain import Progress
from gluvo.render.song import Renderer
from gluvo.render.worker import Worker
from gluvo.session.document import Document
from gluvo.session.media import outside_folder
from gluvo.session.records import Session
from gluvo.steps import Glue, MidSideEq

AUTOSAVE_MS = 1500
LOUDEST_SECONDS = 12.0
HELD_BY = {
    "threshold": "hold_aim", "makeup": "hold_loudness", "blend": "hold_loudness", "output": "hold_loudness"
}  # fmt: skip
"""Which switch finds a setting."""


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
    progressed = Signal(str, float)
    """What is being done and how far; an empty text when nothing is."""
    told = Signal(str, bool)
    """A sentence for the user, and whether it tells of trouble."""
    reached = Signal(object)
    missing_found = Signal()

    _call = Signal(object)

    def __init__(self, device_choice: str = "", host: Host | None = None, autosaves: bool = True) -> None:
        """`host`: the process that plays, if it has been started already."""
        super().__init__()
        self.document = Document(Session(), Path.cwd() / "Untitled.gluvo", saved=True)
        self.audio = Audio()
        self.picture = Picture()
        self.engine: RemoteEngine | None = None
        self._host = host or Host()
        self.device_choice = device_choice
        self.renderer: Renderer | None = None
        """Renders the open session; None while there is no audio."""
        self._render_worker = Worker("gluvo-render", self._failed)
        self._task_worker = Worker("gluvo-task", self._failed)
        self._call.connect(lambda function: function())
        self._autosave = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._autosave.timeout.connect(self.autosave_now)
        self._autosaves = autosaves
        self._hunted: Session | None = None
        self.frozen: Frozen | None = None
        """The spectrum that is kept to compare with, as long as the window is open."""
        self._generation = 0
        self.advice = Advice(self)

    # --- opening and closing -------------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.document.session

    def open(self, document: Document) -> None:
        """Show a document; its audio is read in the background."""
        self._close_engine()
        self._generation += 1
        self._render_worker.cancel()
        self.document = document
        self.renderer = None
        self.audio, self.picture = Audio(), Picture()
        document.listen(self._session_changed)
        self.session_changed.emit(Session(), document.session)
        self.audio_changed.emit()
        self.picture_changed.emit()
        self.reload_audio()

    def reload_audio(self) -> None:
        """Read the session's audio (again), with progress."""
        session, folder, mine, known = self.session, self.document.folder, self._generation, self.audio

        def job(check: Progress) -> None:
            self._tell("Reading audio", 0.05)
            audio = read_audio(session, folder, self._telling(check, "Reading audio"), known)
            self._on_window(lambda: self._take_audio(audio, mine))
            looked_at = analysed(audio, check)
            self._on_window(lambda: self._take_analysis(looked_at, mine))

        if session.media:
            self._task_worker.submit(job)

    def _take_audio(self, audio: Audio, generation: int) -> None:
        if generation != self._generation:
            return
        playing, position = (self.engine.playing, self.engine.position) if self.engine else (False, None)
        self._close_engine()
        self.audio = audio
        if audio.material is not None:
            session = self.session
            self.renderer = Renderer(audio.material, self.renderer.cache if self.renderer else None)
            self.engine = RemoteEngine(self._host, audio.material, audio.references, session, self.device_choice)
            self.engine.seek(session.view.position if position is None else position)
            self._apply_loop()
            self._apply_monitoring()
            if playing:
                self.engine.play()
        else:
            self.renderer = None
        self.audio_changed.emit()
        self.progressed.emit("", 0.0)
        self.render()
        if audio.missing:
            self.missing_found.emit()
        elif outside := outside_folder(self.session):
            names = ", ".join(path.rsplit("/", 1)[-1] for path in outside[:3])
            more = f" and {len(outside) - 3} more" if len(outside) > 3 else ""
            self.told.emit(
                f"Audio outside the session's folder: {names}{more}. It stays where it is if you move the session.",
                False,
            )

    def _take_analysis(self, audio: Audio, generation: int) -> None:
        if generation == self._generation and audio.material is self.audio.material:
            self.audio = audio
            self.analysis_changed.emit()
            self.render()

    def choose_device(self, name: str) -> None:
        """Play to another device from now on."""
        self.device_choice = name
        if self.engine is not None:
            self.engine.choose_device(name)

    def _close_engine(self) -> None:
        if self.engine is not None:
            self.engine.close()
            self.engine = None

    def close(self) -> None:
        self._generation += 1  # what still comes from the workers is for nobody
        self._autosave.stop()
        self._close_engine()
        self._host.close()
        self._render_worker.close()
        self._task_worker.close()

    def autosave_now(self) -> None:
        try:
            self.document.autosave()
        except GluvoError as error:
            self.told.emit(f"Your work could not be autosaved: {error}", True)

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, action: str, edit: Callable[[Session], Session], together: str | None = None) -> bool:
        """A named change of the session; see `Document.edit`. What cannot be is told, and changes nothing."""
        try:
            self.document.edit(action, edit, together)
        except SessionError as error:
            self.told.emit(str(error), True)
            return False
        return True

    def look(self, **changes: object) -> None:
        """Look or listen elsewhere; nothing to undo. See `View`."""
        self.document.look(**changes)

    def adjust(self, part: str, /, **changes: object) -> None:
        """Change a part of the view that has settings of its own, such as the analyser."""
        self.document.look(**{part: msgspec.structs.replace(getattr(self.session.view, part), **changes)})

    def settle(self) -> None:
        """A gesture has ended: what follows is an action of its own."""
        self.document.settle()

    def set_setting(self, step_id: str, name: str, value: object, label: str) -> None:
        """Change one setting of a step or lane. What the user sets by hand is no longer held."""
        step = self.session.item(step_id)
        if step is None:
            return
        changes: dict[str, object] = {name: value}
        if holder := HELD_BY.get(name):
            if hasattr(step, holder):
                changes[holder] = False
        changed = msgspec.structs.replace(step, **changes)
        self.edit(f"{step.title} {label.lower()}", lambda s: s.with_step(changed), f"{step_id}.{name}")

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
        alone = BAND in (before.view.hear, now.view.hear) and looked & {"band", "hear"}  # made only while it is heard
        if before.strips != now.strips or looked & {"step", "solo"} or alone:
            if self.engine is not None:
                self.engine.change(now)
        if (
            before.strips != now.strips
            or looked & {"step", "section", "strip"}
            or alone
            or before.sections != now.sections
        ):
            self.render()
        if (before.view.section, before.view.loop, before.sections) != (now.view.section, now.view.loop, now.sections):
            self._apply_loop()
        if before.view != now.view:
            self._apply_monitoring()
        if self._autosaves and before.replace(view=now.view) != now:
            self._autosave.start()
        step, hear = now.step(now.view.step), now.view.hear
        gone = isinstance(step, MidSideEq) and step.band(now.view.band) is None
        if (hear == DETECTOR and not isinstance(step, Glue)) or (
            hear == BAND and (not isinstance(step, MidSideEq) or gone)
        ):
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
        """Choose what is heard: a path of the live graph, or a reference's id."""
        self.document.look(hear=path)

    def hear_choices(self) -> list[tuple[str, str]]:
        """What the Hear row offers: path and name, in the order of the keys 1–9."""
        fixed = [(RESULT, "Result"), (UNTOUCHED, "Untouched"), (STEP_OUT, "Step out"), (CHANGE, "Change only")]
        return fixed + [(r.id, r.name) for r in self.session.references if r.id in self.audio.references]

    def _apply_loop(self) -> None:
        if self.engine is None or self.audio.material is None:
            return
        if self.session.view.loop:
            span = self.span or Span(0.0, self.audio.material.seconds)
            self.engine.loop(span.start, span.end)
        else:
            self.engine.no_loop()

    def _apply_monitoring(self) -> None:
        if self.engine is None:
            return
        view = self.session.view
        gains = self.picture.gains if view.level_matched else {}
        path, ceiling = view.hear, 0.0
        if self._hunted is not None:
            path, ceiling = RESULT, min(0.0, self._highest() + gains.get(RESULT, 0.0))
        self.engine.listen(Monitoring(path, gains, view.monitor, view.output_level, view.dim, ceiling))

    def freeze(self, frozen: Frozen | None) -> None:
        """Keep a spectrum to compare with, or let it go."""
        self.frozen = frozen
        self.picture_changed.emit()

    def _highest(self) -> float:
        """The highest sample of the result in the section, dBFS; full scale where it is not known."""
        render = self.picture.best
        return render.result.figures(self.span).sample_peak if render is not None else 0.0

    def hunt(self, session: Session | None) -> None:
        """Play a session in place of the open one, no louder than that gets; None ends it. Nothing of it is kept."""
        begins = (session is None) is not (self._hunted is None)
        self._hunted = session
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
            self.picture, strips=session.strips, section_current=False,
            song_current=self.picture.song_current and not stale,
        )  # fmt: skip
        references = self.audio.reference_figures
        opened = self.picture.song_render is None and self.picture.untouched is None

        def job(check: Progress) -> None:
            def show(**changes: object) -> None:
                check(0.0)
                self._on_window(lambda: self._show(mine, changes))

            def amend(held: Session) -> None:
                self._on_window(lambda: self._amend(mine, session, held))

            self._tell("Measuring", 0.0)
            telling = partial(self._telling, check)
            Measuring(renderer, session, span, references, show, amend, telling).run(check, opened)
            self._tell("", 0.0)

        self._render_worker.submit(job)

    def _show(self, generation: int, changes: dict[str, object]) -> None:
        if generation != self._generation:
            return
        self.picture = replace(self.picture, **changes)  # type: ignore[arg-type]
        if "gains" in changes:
            self._apply_monitoring()
        self.picture_changed.emit()

    def _amend(self, generation: int, session: Session, held: Session) -> None:
        """Put found settings into the session as part of the action that made them necessary."""
        if generation == self._generation and self.session.strips == session.strips:
            self.picture = replace(self.picture, strips=held.strips)
            self.document.amend(lambda s: s.replace(strips=held.strips))

    # --- longer tasks --------------------------------------------------------------------------------------

    def task(self, title: str, work: Callable[[Progress], object], done: Callable[[object], None]) -> None:
        """Run something long with progress and cancel; `done` gets its result, in the window."""

        def job(check: Progress) -> None:
            self._tell(title, 0.0)
            result = work(self._telling(check, title))
            self._on_window(lambda: done(result))
            self._tell("", 0.0)

        self._task_worker.submit(job)

    def cancel_task(self) -> None:
        self._task_worker.cancel()
        self.progressed.emit("", 0.0)

    def loudest(self, seconds: float = LOUDEST_SECONDS) -> float | None:
        """Where the loudest stretch of the result starts."""
        song = self.picture.song_render
        if song is None or song.result.trace.seconds <= seconds:
            return None
        return loudest_span(song.result.trace, seconds)

    # --- threads -------------------------------------------------------------------------------------------

    @property
    def busy(self) -> bool:
        return self._render_worker.busy or self._task_worker.busy

    def _on_window(self, function: Callable[[], None]) -> None:
        self._call.emit(function)

    def _tell(self, what: str, share: float) -> None:
        self.progressed.emit(what, share)

    def _failed(self, error: Exception) -> None:
        text = str(error) if isinstance(error, GluvoError) else f"Something went wrong inside: {error!r}"

        def tell() -> None:
            self.progressed.emit("", 0.0)
            self.told.emit(text, True)

        self._on_window(tell)

    def _telling(self, check: Progress, what: str) -> Progress:
        """A progress that can be stopped and is shown."""

        def tell(done: float) -> None:
            check(done)
            self._tell(what, done)

        return tell
