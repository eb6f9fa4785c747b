"""What a draft is made from, from files: a session with its references, and the chain of another session."""

from __future__ import annotations

from pathlib import Path

from gluvo.advise.drafts import Draft, Model, draft_as_in, draft_start, drafted, strip_like
from gluvo.advise.watchouts import KINDS, Finder
from gluvo.errors import GluvoError
from gluvo.opened.audio import OpenAudio, joint_of
from gluvo.opened.watching import scene_and_audio, scene_of
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.session import chains
from gluvo.session.records import AnyStrip, Session
from gluvo.session.store import read_session


def reference_joints(audio: OpenAudio) -> list[Joint]:
    """The references, whole."""
    return [joint_of(sound) for sound in audio.references.values()]


def model_of(path: Path, strip: AnyStrip, progress: Progress = no_progress) -> Model:
    """The strip of another session that is the same as one here, with what its steps take there; without that where its audio
    cannot be read. Raises `GluvoError` where it has no such strip, or cannot be read."""
    session = read_session(path).session
    found = strip_like(session, strip)
    try:
        render = scene_of(session, path.resolve().parent, progress).render
    except GluvoError:
        return Model(session, found, {})
    taken = {item.id: render.joint(item.id) for item in chains.flat(found.chain)}
    reduced = {id: joint.reduced() for id, joint in taken.items() if joint is not None}
    return Model(session, found, {id: one for id, one in reduced.items() if one is not None})


def draft_of_file(
    path: Path, strip_name: str, as_in: Path | None, strength: float, progress: Progress = no_progress
) -> tuple[Session, Draft]:
    """A session file with a draft for one of its strips (the mix bus, without a name) at a strength in %; and the draft. Raises
    `GluvoError`."""
    session = read_session(path).session
    strip = next((s for s in session.strips if s.name == strip_name), None) if strip_name else session.mix
    if strip is None:
        raise GluvoError(f"{session.name} has no strip that is called {strip_name}.")
    scene, audio = scene_and_audio(session, path.resolve().parent, lambda d: progress(0.3 * d))
    if as_in is not None:
        draft = draft_as_in(session, strip, model_of(as_in, strip, lambda d: progress(0.3 + 0.4 * d)))
    else:
        references = reference_joints(audio)
        draft = draft_start(scene, strip.id, Finder(KINDS), references, lambda d: progress(0.3 + 0.4 * d))
    every = range(len(draft.parts))
    made = drafted(scene.renderer, session, draft, every, strength, lambda d: progress(0.7 + 0.3 * d))
    return made, draft
