"""The demo session: made once, then kept and never overwritten."""

from __future__ import annotations

import concurrent.futures
import multiprocessing
from pathlib import Path

import platformdirs
import soundfile

from gluvo.demo.instruments import RATE
from gluvo.demo.score import FERRY_HOURS
from gluvo.demo.song import FERRY_BEAT, cold_rope, ferry_hours, pier_lights
from gluvo.dsp.kernel import Audio
from gluvo.errors import WriteError
from gluvo.render.chain import Progress, no_progress
from gluvo.session.media import media_of
from gluvo.session.records import Deliverable, Reference, Section, Session, View
from gluvo.session.store import replacing, write_session
from gluvo.steps import Glue, Limiter, Trim

NAME = "Ferry Hours"
EDITION = 1
"""Changes when the audio does, so that an older demo is made anew in a folder of its own."""


def demo_folder() -> Path:
    """Where the demo is kept if nobody says otherwise."""
    return Path(platformdirs.user_data_dir("gluvo", appauthor=False)) / f"demo-{EDITION}"


def demo_session(folder: Path | None = None, progress: Progress = no_progress) -> Path:
    """The demo session's path; audio and session are made if they are not there. Raises `WriteError`.

    A session that is there is left alone, with all that was done to it.
    """
    folder = folder or demo_folder()
    path = folder / f"{NAME}.gluvo"
    if path.exists():
        return path
    try:
        (folder / "stems").mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"{folder} cannot be made ({error.strerror}).") from None
    context = multiprocessing.get_context("spawn")
    with (
        concurrent.futures.ProcessPoolExecutor(1, mp_context=context) as other_core,
        concurrent.futures.ThreadPoolExecutor(2) as writer,
    ):
        references = other_core.submit(_write_references, folder)
        stems, mix = ferry_hours(lambda done: progress(0.8 * done))
        written = [writer.submit(_write, folder / "stems" / f"{name}.wav", x) for name, x in stems.items()]
        _write(folder / f"{NAME} (rough print).wav", mix)
        for n, future in enumerate([*written, references]):
            future.result()
            progress(0.8 + 0.2 * n / len(written))
    write_session(path, _session(folder))
    progress(1.0)
    return path


def _session(folder: Path) -> Session:
    sections, at = [], 0.0
    for n, part in enumerate(FERRY_HOURS, start=1):
        end = at + len(part.chords.split()) * 3 * FERRY_BEAT
        sections.append(Section(id=f"section-{n}", name=part.name, start=round(at, 4), end=round(end, 4)))
        at = end
    last_chorus = next(s for s in sections if s.name == "Last chorus")
    return Session(
        name=NAME,
        sources=(media_of(folder / f"{NAME} (rough print).wav", folder),),
        references=tuple(
            Reference(id=f"reference-{n}", name=name, media=media_of(folder / f"{name}.wav", folder))
            for n, name in enumerate(("Pier Lights", "Cold Rope"), start=1)
        ),
        sections=tuple(sections),
        chain=(
            Trim(id="trim-1", gain=-6.0),
            Glue(
                id="glue-1", ratio=2.0, threshold=GLUE_THRESHOLD, knee=6.0, attack=30.0, release=110.0,
                auto_release=40.0, low_cut=95.0, tilt=1.5, aim=2.0,
            ),
            Limiter(id="limiter-1", drive=6.0, ceiling=-1.0),
        ),
        deliverables=(
            Deliverable(id="deliverable-1", name="Streaming", format="wav", bits="24"),
            Deliverable(id="deliverable-2", name="Disc", format="flac", bits="16", rate=44100, dither="tpdf"),
        ),
        view=View(step="glue-1", section=last_chorus.id, loop=True, position=last_chorus.start),
    )  # fmt: skip


GLUE_THRESHOLD = -19.43
"""Found by aim: 2 dB of mean reduction in the last chorus."""


def _write_references(folder: Path) -> None:
    _write(folder / "Pier Lights.wav", pier_lights())
    _write(folder / "Cold Rope.wav", cold_rope())


def _write(path: Path, x: Audio) -> None:
    with replacing(path) as file:
        soundfile.write(file, x, RATE, "PCM_24", format="WAV")
