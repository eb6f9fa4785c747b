"""Versions of the open session: kept, heard, gone back to, taken from."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from gluvo.compare.hearables import PRINTS, VERSIONS, Hearable
from gluvo.compare.match import RESULT
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.measurement import Measurement
from gluvo.desk.model.open_session import OpenSession
from gluvo.measure.figures import FIGURES
from gluvo.measure.trace import Trace
from gluvo.opened.audio import ExtraSound, joint_of
from gluvo.opened.tasks import VERSIONING
from gluvo.progress import Progress
from gluvo.render.song import Renderer
from gluvo.session import prints, versions
from gluvo.session.media import material_with
from gluvo.session.records import Session, Version
from gluvo.session.sounds import Sound

KEPT = ("integrated", "max_short_term", "loudness_range", "plr", "true_peak")
"""The figures of the whole song that a version keeps."""


class Versions:
    """Undo takes back what is done with versions, but never a version that was kept."""

    def __init__(
        self, bench: OpenSession, background: Background, listening: Listening, measurement: Measurement
    ) -> None:
        self._bench, self._background, self._listening, self._measurement = bench, background, listening, measurement

    def version(self, id: str) -> Version | None:
        """A version by its id."""
        return next((v for v in self._bench.session.versions if v.id == id), None)

    def fresh_name(self) -> str:
        """A name that no version has."""
        taken = {v.name for v in self._bench.session.versions}
        return next(name for n in range(len(taken) + 1, 9999) if (name := f"Version {n}") not in taken)

    def keep(self, name: str, note: str = "") -> None:
        """Keep the session as it is now, with what the whole song measures if that is known."""
        picture, session = self._bench.picture, self._bench.session
        figures: dict[str, float] = {}
        if picture.song_render is not None and picture.song_current:
            found = picture.song_render.result.figures()
            figures = {key: round(float(getattr(found, key)), FIGURES[key].decimals + 1) for key in KEPT}
        made = datetime.now().isoformat(timespec="seconds")
        now, _ = versions.kept(session, name, made, figures, note)
        self._bench.keep(lambda s: s.replace(versions=now.versions))

    def describe(self, id: str, **changes: str) -> None:
        """Change a version's name or note."""
        self._bench.keep(lambda s: versions.described(s, id, **changes))

    def remove(self, id: str) -> None:
        """Take a version away for good."""
        now = versions.without(self._bench.session, id)
        self._listening.drop_extra(id)
        self._bench.keep(lambda s: s.replace(versions=now.versions))

    def go_back(self, id: str) -> None:
        """Make the session what a version is; can be undone."""
        if (version := self.version(id)) is not None:
            self._bench.edit(f"Go back to {version.name}", lambda s: versions.state_of(s, id))

    def take(self, id: str, difference: versions.Difference) -> None:
        """Take the step or strip that a difference is about from a version; can be undone."""
        version = self.version(id)
        if version is None:
            return
        other = versions.state_of(self._bench.session, id)

        def taken(session: Session) -> Session:
            if difference.step and other.item(difference.step) is not None:
                return versions.with_step_of(session, other, difference.step)
            if difference.step:
                return session.without_step(difference.step)
            return versions.with_strip_of(session, other, difference.strip)

        self._bench.edit(f"Take {difference.where} from {version.name}", taken)

    # --- to be heard ---------------------------------------------------------------------------------------

    def ready(self, id: str, then: Callable[[], None] | None = None) -> bool:
        """Whether something can be heard at once; a version that cannot is rendered, and then heard, or `then` called."""
        bench, other = self._bench, self._other(id)
        if other is None or id in self._listening.extras:
            return True
        renderer, folder = bench.renderer, bench.document.folder
        if renderer is None:
            return False
        group, name, state = other

        def work(check: Progress) -> tuple[Sound, Trace]:
            with_its_audio = Renderer(material_with(renderer.material, state, folder, check), renderer.cache)
            joint = with_its_audio.joint(with_its_audio.plan(state).result, None, check)
            return Sound(joint.heard_in(None), renderer.rate), joint.trace

        def done(found: tuple[Sound, Trace]) -> None:
            now = self._other(id)
            if now is None or bench.renderer is not renderer or now[2].sound != state.sound:
                return
            heard = Hearable(id, group, name, "", listed=False)
            sound, trace = found
            joint_of(sound, trace)
            self._listening.add_extra(ExtraSound(heard, sound))
            self._measurement.render()
            if then is not None:
                then()
            else:
                self._listening.hear(id)

        self._background.run(VERSIONING, f"Rendering {name}", work, done)
        return False

    def _other(self, id: str) -> tuple[str, str, Session] | None:
        """Another state of the song that can be heard, a version or one with another print: its group, name and session."""
        session = self._bench.session
        if (version := self.version(id)) is not None:
            return VERSIONS, version.name, versions.state_of(session, id)
        if (other := prints.found(session, id)) is not None:
            return PRINTS, other.name, prints.choosing(session, id)
        return None

    def follow_sound(self) -> None:
        """The chains are others: what was rendered of them with another print is of none that there is."""
        for one in self._bench.session.prints:
            self._listening.drop_extra(one.id)

    def forget(self) -> None:
        """The audio has changed: what was rendered of it is of another song."""
        session = self._bench.session
        for id in (*(v.id for v in session.versions), *(p.id for p in session.prints)):
            if session.view.hear == id:
                self._listening.hear(RESULT)
            self._listening.drop_extra(id)
