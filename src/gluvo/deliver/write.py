"""Render a session's chain into a file, and measure what was written."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from gluvo.deliver.formats import FORMATS, format_of
from gluvo.dsp.dither import Tpdf, to_whole
from gluvo.dsp.kernel import Audio
from gluvo.errors import AudioFileError
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.trace import trace_of
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.session.media import Material
from gluvo.session.records import Deliverable, Session
from gluvo.session.sounds import read_sound, resampled
from gluvo.session.store import replacing
from gluvo.steps.limiter import last_limiter


@dataclass(frozen=True)
class Written:
    """A file that was written, as measured by reading it again."""

    path: Path
    figures: Figures
    rate: int
    mended: float
    """dB by which the ceiling was passed after rate conversion, and brought back; 0 if it was not."""


def file_name(deliverable: Deliverable, session_name: str) -> str:
    """The file's name: the session's and the deliverable's, without anything a file system minds."""
    plain = "".join("-" if c in '/\\:*?"<>|' or ord(c) < 32 else c for c in f"{session_name} - {deliverable.name}")
    return f"{plain.strip(' .')}{FORMATS[deliverable.format].suffix}"


def write_deliverable(
    material: Material,
    session: Session,
    deliverable: Deliverable,
    path: Path,
    progress: Progress = no_progress,
) -> Written:
    """Play the song through all chains in full precision, convert, hold the ceiling, dither, write, measure the file.

    Raises `WriteError` if it cannot be written, `AudioFileError` if a stem is missing, or what `progress` raises;
    then no file is left, and one that was there before is as it was.
    """
    format = format_of(deliverable)
    for missing in material.missing.values():
        raise AudioFileError(f"Nothing was written, since a part of the song is not there. {missing}")
    x = play_through(Plan(session).result, material, lambda d: progress(0.6 * d))
    rate = deliverable.rate or material.rate
    mended = 0.0
    if rate != material.rate:
        x = resampled(x, material.rate, rate)
        progress(0.7)
        x, mended = _held(x, rate, session, lambda d: progress(0.7 + 0.1 * d))
    content = format.encode(_quantised(x, deliverable), rate, deliverable.bits)
    progress(0.9)
    with replacing(path) as file:
        file.write(content)
        progress(0.92)
    back = read_sound(path)
    figures = figures_of(trace_of(back.samples, back.rate))
    progress(1.0)
    return Written(path, figures, rate, mended)


def _held(x: Audio, rate: int, session: Session, progress: Progress) -> tuple[Audio, float]:
    """Bring back what rate conversion has lifted over the ceiling, where the song ends with a limiter."""
    limiter = last_limiter(session.mix.chain)
    on = [item for item in session.mix.chain if item.on]
    if limiter is None or on[-1] is not limiter or max(map(abs, session.mix.gains)) > 1.0:
        return x, 0.0
    limiter = msgspec.structs.replace(limiter, output=0.0, ceiling=min(0.0, limiter.ceiling + limiter.output))
    trace = trace_of(x, rate)
    peak = float((trace.true_peak if limiter.true_peak else trace.sample_peak).max(initial=0.0))
    over = 20.0 * np.log10(max(peak, 1e-12)) - limiter.ceiling
    if over <= 0.0:
        return x, 0.0
    return run_chain([msgspec.structs.replace(limiter, drive=0.0, knee=0.0)], x, rate, progress), float(over)


def _quantised(x: Audio, deliverable: Deliverable) -> np.ndarray:
    """As it goes into the file; whole numbers are made here, so that the writing library rounds nothing."""
    if deliverable.bits == "32f":
        return x.astype(np.float32)
    bits = int(deliverable.bits)
    return to_whole(Tpdf(bits).add(x) if deliverable.dither == "tpdf" else x, bits)
