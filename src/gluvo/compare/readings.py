"""How loud each of what can be heard is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from gluvo.compare.hearables import IN_THE_SONG, nodes_of
from gluvo.compare.match import RESULT, Reading
from gluvo.dsp.filters import Sections, low_cut
from gluvo.measure.loudness import SILENT, integrated
from gluvo.measure.trace import Span, Tracer
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Session

DIFFERENCES = frozenset(hearable.id for hearable in IN_THE_SONG if hearable.is_difference)
ABOVE_HZ = 100.0
PIECE_SECONDS = 10.0


@dataclass(frozen=True)
class Other:
    """A sound beside the song, as it is to be matched."""

    joint: Joint
    span: Span | None
    """What of it is compared, in its own time; None for all."""
    trim: float = 0.0
    """dB by which it is to be louder than the rest."""
    is_difference: bool = False


def hear_readings(
    renderer: Renderer, session: Session, span: Span | None, progress: Progress = no_progress, match: str = "integrated"
) -> dict[str, Reading]:
    """How loud each hearable that lies in the song's graph is in a section (None: the whole song), by a choice of
    `View.match`. What is heard alone does not count."""
    nodes = nodes_of(session, renderer.plan(session), renderer.material.having(session))
    section = span or Span(0.0, renderer.seconds)
    joints = renderer.joints(nodes.values(), section, progress, nodes[RESULT].memory)
    return {
        id: reading_of(joints[node.key], section, match, quiet_by_nature=id in DIFFERENCES, progress=progress)
        for id, node in nodes.items()
    }


def other_readings(others: Mapping[str, Other], match: str, progress: Progress = no_progress) -> dict[str, Reading]:
    """The same for sounds beside the song."""
    return {
        id: reading_of(o.joint, o.span, match, trim=o.trim, quiet_by_nature=o.is_difference, progress=progress)
        for id, o in others.items()
    }


def reading_of(
    joint: Joint,
    span: Span | None,
    match: str,
    *,
    trim: float = 0.0,
    quiet_by_nature: bool = False,
    progress: Progress = no_progress,
) -> Reading:
    """How loud a span of a sound is, by a choice of `View.match`.

    Where only a part is matched (*mid*, *above*) but there is none of it, the whole decides.
    """
    figures = joint.figures(span)
    level = figures.max_short_term if match == "short_term" else figures.integrated
    if match in ("mid", "above") and figures.integrated > SILENT:
        part = joint.once(("level", span, match), lambda: _level_of(joint.heard_in(span), joint.rate, match, progress))
        level = part if part > SILENT else level
    return Reading(level, figures.true_peak, quiet_by_nature, trim)


def _level_of(x: np.ndarray, rate: int, match: str, progress: Progress) -> float:
    """Integrated loudness of the mid, or of what lies above 100 Hz (Butterworth, 24 dB an octave), LUFS."""
    tracer = Tracer(rate, between=False)
    above = Sections(low_cut(ABOVE_HZ, 24, rate))
    size = round(PIECE_SECONDS * rate)
    for start in range(0, len(x), size):
        progress(start / len(x))
        piece = np.array(x[start : start + size], dtype=np.float64)
        if match == "mid":
            piece = np.repeat(piece.mean(axis=1, keepdims=True), 2, axis=1)
        else:
            above.run(piece, piece)
        tracer.push(piece)
    return integrated(tracer.finish())
