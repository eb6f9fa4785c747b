"""What watch-outs are looked for in, from files: sessions, and plain audio as a session of one stem."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from gluvo.advise.watchouts import Finder, Scene, WatchOut
from gluvo.deliver.encoding import Encoding, decoded_peak
from gluvo.deliver.formats import FORMATS
from gluvo.errors import GluvoError
from gluvo.opened.audio import OpenAudio, analysed, joint_of, read_audio
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Rendered, Renderer
from gluvo.session.create import new_session
from gluvo.session.dismissals import not_dismissed
from gluvo.session.records import Deliverable, Session
from gluvo.session.store import SUFFIX, read_session


def scene_and_audio(session: Session, folder: Path, progress: Progress = no_progress) -> tuple[Scene, OpenAudio]:
    """A session whose files lie in `folder`, read and rendered, and what was read. Raises `GluvoError` where it has no audio that
    can be read."""
    read = read_audio(session, folder, lambda d: progress(0.3 * d), OpenAudio())
    audio = analysed(read, lambda _: None)
    if audio.material is None or not audio.material.sounds:
        raise GluvoError(f"{session.name} has no audio that can be read.")
    renderer = Renderer(audio.material)
    render = renderer.song(session, lambda d: progress(0.3 + 0.7 * d))
    return scene_from(session, audio, renderer, render), audio


def scene_from(session: Session, audio: OpenAudio, renderer: Renderer, render: Rendered) -> Scene:
    """A session whose audio was read, and that was rendered whole."""
    references = [joint_of(sound) for sound in audio.references.values()]
    return Scene(session, render, renderer, audio.flat, row_peak, references=references)


def row_peak(master: np.ndarray, rate: int, row: Deliverable) -> float | None:
    """See `watchouts.base.DecodedPeak`."""
    if not FORMATS[row.format].lossy:
        return None
    return decoded_peak(np.ascontiguousarray(master), rate, Encoding(row.format, int(row.bit_rate)))


def scene_of(session: Session, folder: Path, progress: Progress = no_progress) -> Scene:
    """The same, where nothing else is wanted."""
    return scene_and_audio(session, folder, progress)[0]


def watched(path: Path, finder: Finder, progress: Progress = no_progress) -> tuple[Session, tuple[WatchOut, ...]]:
    """The watch-outs of a session file that are not dismissed there, or of an audio file. Raises `GluvoError`."""
    folder = path.resolve().parent
    session = read_session(path).session if path.suffix == SUFFIX else new_session([path], [], folder, path.stem)
    scene = scene_of(session, folder, lambda d: progress(0.7 * d))
    return session, not_dismissed(session, finder.find(scene, lambda d: progress(0.7 + 0.3 * d)))
