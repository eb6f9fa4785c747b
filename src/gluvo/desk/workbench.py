"""Between the model and the screens: the document, the renders behind it, and the engine.

Everything that takes longer than a frame happens on worker threads; their results come back as Qt signals.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from gluvo.advise.aim import Found, find_threshold
from gluvo.advise.hold import held_chain
from gluvo.advise.loudness_target import Reached, hits_of_joints, reach_target
from gluvo.compare.match import CHANGE, RESULT, STEP_OUT, UNTOUCHED, Reading, matched_gains
from gluvo.compare.readings import hear_readings
from gluvo.desk.audio import Audio, analysed, read_audio
from gluvo.errors import GluvoError
from gluvo.measure.hits import Hits
from gluvo.measure.loudness import loudest_span
from gluvo.measure.spectrum import Spectrum, spectrum
from gluvo.measure.trace import Span
from gluvo.play.engine import Monitoring
from gluvo.play.host import RemoteEngine
from gluvo.play.process import Host
from gluvo.render.chain import Progress
from gluvo.render.song import Rendered, Renderer, source_key
from gluvo.render.worker import Worker
from gluvo.session.document import Document
from gluvo.session.media import outside_folder
from gluvo.session.records import Session
from gluvo.steps import AnyStep, Glue

AUTOSAVE_MS = 1500
LOUDEST_SECONDS = 12.0


@dataclass(frozen=True, eq=False)
class Picture:
    """What is known of the sound right now. Parts that are still being worked on are of the state before."""

    chain: tuple[AnyStep, ...] = ()
    section_render: Rendered | None = None
    song_render: Rendered | None = None
    section_current: bool = False
    song_current: bool = False
    hits: Hits | None = None
    hits_step: str = ""
    gains: dict[str, float] = field(default_factory=dict)
    tone: Spectrum | None = None

    @property
    def best(self) -> Rendered | None:
        """The render that tells most of the section as it now is."""
        if self.song_current or not self.section_current:
            return self.song_render or self.section_render
        return self.section_render


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

    def __init__(self, device_choice: str = "", host: Host | None = None) -> None:
        """`host`: the process that plays, if it has been started already."""
        super().__init__()
        self.document = Document(Session(), Path.cwd() / "Untitled.gluvo", saved=True)
        self.audio = Audio()
        self.picture = Picture()
        self.engine: RemoteEngine | None = None
        self._host = host or Host()
        self.device_choice = device_choice
        self._renderer: Renderer | None = None
        self._render_worker = Worker("gluvo-render", self._failed)
        self._task_worker = Worker("gluvo-task", self._failed)
        self._call.connect(lambda function: function())
        self._autosave = QTimer(self, singleShot=True, interval=AUTOSAVE_MS)
        self._autosave.timeout.connect(self.autosave_now)
        self._generation = 0

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
        self._renderer = None
        self.audio, self.picture = Audio(), Picture()
        document.listen(self._session_changed)
        self.session_changed.emit(Session(), document.session)
        self.audio_changed.emit()
        self.picture_changed.emit()
        self.reload_audio()

    def reload_audio(self) -> None:
        """Read the session's audio (again), with progress."""
        session, folder, mine = self.session, self.document.folder, self._generation

        def job(check: Progress) -> None:
            self._tell("Reading audio", 0.05)
            audio = read_audio(session, folder, self._telling(check, "Reading audio"))
            self._on_window(lambda: self._take_audio(audio, mine))
            looked_at = analysed(audio, check)
            self._on_window(lambda: self._take_analysis(looked_at, mine))

        if session.sources or session.references:
            self._task_worker.submit(job)

    def _take_audio(self, audio: Audio, generation: int) -> None:
        if generation != self._generation:
            return
        self._close_engine()
        self.audio = audio
        if audio.song is not None:
            session = self.session
            self._renderer = Renderer(audio.song, source_key(session.sources))
            self.engine = RemoteEngine(
                self._host, audio.song, audio.references, session.chain, session.view.step, self.device_choice
            )
            self.engine.seek(session.view.position)
            self._apply_loop()
            self._apply_monitoring()
        self.audio_changed.emit()
        self.progressed.emit("", 0.0)
        self.render()
        if audio.missing:
            self.missing_found.emit()
        elif outside := outside_folder(self.session):
            names = ", ".join(path.rsplit("/", 1)[-1] for path in outside)
            self.told.emit(
                f"Audio outside the session's folder: {names}. It stays where it is if you move the session.", False
            )

    def _take_analysis(self, audio: Audio, generation: int) -> None:
        if generation == self._generation:
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

    def edit(self, action: str, edit: Callable[[Session], Session], together: str | None = None) -> None:
        """A named change of the session; see `Document.edit`."""
        self.document.edit(action, edit, together)

    def set_setting(self, step_id: str, name: str, value: object, label: str) -> None:
        """Change one setting of a step. What the user sets by hand is no longer held."""
        step = self.session.step(step_id)
        if step is None:
            return
        changes: dict[str, object] = {name: value}
        if isinstance(step, Glue):
            if name == "threshold":
                changes["hold_aim"] = False
            if name == "makeup":
                changes["hold_loudness"] = False
        changed = msgspec.structs.replace(step, **changes)
        self.edit(f"{step.title} {label.lower()}", lambda s: s.with_step(changed), f"{step_id}.{name}")

    def _session_changed(self, before: Session, now: Session) -> None:
        self.session_changed.emit(before, now)
        if before.sources != now.sources or before.references != now.references:
            self.reload_audio()
        if before.chain != now.chain or before.view.step != now.view.step:
            if self.engine is not None:
                self.engine.change(now.chain, now.view.step)
        if (
            before.chain != now.chain
            or any(getattr(before.view, name) != getattr(now.view, name) for name in ("step", "section"))
            or before.sections != now.sections
        ):
            self.render()
        if (before.view.section, before.view.loop, before.sections) != (now.view.section, now.view.loop, now.sections):
            self._apply_loop()
        if before.view != now.view:
            self._apply_monitoring()
        if before.replace(view=now.view) != now:
            self._autosave.start()

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
        if self.engine is None or self.audio.song is None:
            return
        if self.session.view.loop:
            span = self.span or Span(0.0, self.audio.song.seconds)
            self.engine.loop(span.start, span.end)
        else:
            self.engine.no_loop()

    def _apply_monitoring(self) -> None:
        if self.engine is None:
            return
        view = self.session.view
        gains = self.picture.gains if view.level_matched else {}
        self.engine.listen(Monitoring(view.hear, gains, view.monitor, view.output_level, view.dim))

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
        renderer, session, span, mine = self._renderer, self.session, self.span, self._generation
        if renderer is None:
            return
        stale = session.chain != self.picture.chain
        self.picture = replace(
            self.picture, chain=session.chain, section_current=False,
            song_current=self.picture.song_current and not stale,
        )  # fmt: skip
        references = self.audio.reference_figures

        def job(check: Progress) -> None:
            def show(**changes: object) -> None:
                check(0.0)
                self._on_window(lambda: self._show(mine, session, changes))

            self._tell("Measuring", 0.0)
            chain = held_chain(renderer, session.chain, span, check)
            if chain != session.chain:
                self._on_window(lambda: self._amend(mine, session, chain))
            if span is not None and not renderer.known(chain):
                show(section_render=renderer.section(chain, span, check), section_current=True)
            song = renderer.song(chain, self._telling(check, "Measuring the song"))
            show(song_render=song, song_current=True)
            chosen = session.view.step
            before, after = song.before(chosen), song.joint(chosen)
            hits = None
            if before and after and after.reduction is not None:
                hits = hits_of_joints(before, after, span)
            show(hits=hits, hits_step=chosen)
            readings = hear_readings(renderer, chain, chosen, span, song, check)
            for key, f in references.items():
                readings[key] = Reading(f.integrated, f.true_peak)
            show(gains=matched_gains(readings))
            inner = song.result.within(span) or Span(0.0, song.result.trace.seconds)
            audio = song.result.audio[inner.frames(renderer.rate, len(song.result.audio))]
            show(tone=spectrum(audio, renderer.rate, "mid", 3))
            self._tell("", 0.0)

        self._render_worker.submit(job)

    def _show(self, generation: int, session: Session, changes: dict[str, object]) -> None:
        if generation != self._generation:
            return
        self.picture = replace(self.picture, **changes)  # type: ignore[arg-type]
        if "gains" in changes:
            self._apply_monitoring()
        self.picture_changed.emit()

    def _amend(self, generation: int, session: Session, chain: tuple[AnyStep, ...]) -> None:
        """Put found settings into the session as part of the action that made them necessary."""
        if generation == self._generation and self.session.chain == session.chain:
            self.picture = replace(self.picture, chain=chain)
            self.document.amend(lambda s: s.replace(chain=chain))

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

    def find_threshold(self, step_id: str) -> None:
        """Set a Glue's threshold so that it reduces by its aim over the section."""
        renderer, session, span = self._renderer, self.session, self.span
        step = session.step(step_id)
        if renderer is None or not isinstance(step, Glue):
            return
        if step.slope == 0.0:
            self.told.emit("At a ratio of 1 nothing is reduced. Raise the ratio first.", True)
            return
        index = [s.id for s in session.chain].index(step_id)

        def work(check: Progress) -> object:
            whole = Span(0.0, renderer.sound.seconds)
            before = renderer.section(session.chain[:index], span or whole, check).result
            return find_threshold(step, before, span, check)

        def done(found: object) -> None:
            assert isinstance(found, Found)
            now = self.session.step(step_id)
            if now is None:
                return
            changed = msgspec.structs.replace(now, threshold=round(found.value, 3))
            self.edit("Find threshold", lambda s: s.with_step(changed))
            if not found.met:
                self.told.emit(
                    f"{step.aim:.1f} dB cannot be reached here; this is as near as it goes: {found.reached:.1f} dB.",
                    True,
                )

        self.task("Finding the threshold", work, done)

    def reach_target(self) -> None:
        """Drive the last limiter to the target's loudness over the whole song."""
        renderer, session, span = self._renderer, self.session, self.span
        if renderer is None:
            return

        def done(result: object) -> None:
            assert isinstance(result, Reached)
            step = self.session.step(result.step)
            if step is not None:
                changed = msgspec.structs.replace(step, drive=round(result.drive, 3), ceiling=result.ceiling)
                self.edit(f"Reach {session.target.loudness:.1f} LUFS", lambda s: s.with_step(changed))
            self.reached.emit(result)

        self.task(
            f"Reaching {session.target.loudness:.1f} LUFS".replace("-", "−"),
            lambda check: reach_target(renderer, session.chain, session.target, span, check), done,
        )  # fmt: skip

    def loudest(self) -> float | None:
        """Where the loudest stretch of the result starts."""
        song = self.picture.song_render
        if song is None or song.result.trace.seconds <= LOUDEST_SECONDS:
            return None
        return loudest_span(song.result.trace, LOUDEST_SECONDS)

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
