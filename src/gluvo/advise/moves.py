"""The sum of moves: what a strip's chain does to its sound, step by step from In to Out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from gluvo.advise.try_values import THIRDS
from gluvo.dsp.kernel import Floats
from gluvo.measure.figures import Figures
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.measure.turned import turned_phase
from gluvo.progress import Progress, no_progress
from gluvo.render.joint import Joint
from gluvo.render.plan import StripPlan
from gluvo.render.song import Renderer
from gluvo.session.records import Session

IN = ""
"""The id of the stage before any step."""
LONGEST = 30.0
"""Seconds that phase is measured over."""


@dataclass(frozen=True, eq=False)
class Stage:
    """A place along a chain."""

    id: str
    """The item after which it is; `IN` before any."""
    name: str
    figures: Figures
    tone: Floats
    """dB by which each third of an octave (`THIRDS`) lies over what came in, at equal loudness."""
    moved: Floats
    """The same over the stage before."""
    late: float
    """ms by which it comes later than In when it is played; renders and files are in time."""
    turned: Floats
    """Degrees by which each third is turned against In; NaN where that cannot be told."""

    @property
    def most_turned(self) -> float | None:
        """The most of them, without its sign; None where none can be told."""
        known = self.turned[~np.isnan(self.turned)]
        return float(np.abs(known).max()) if len(known) else None

    @property
    def character(self) -> float:
        """How much of the tone the stage itself has moved, dB RMS over the thirds."""
        return float(np.sqrt(np.mean(self.moved**2)))


def moves_of(
    renderer: Renderer, session: Session, strip: str, span: Span | None, progress: Progress = no_progress
) -> tuple[Stage, ...]:
    """The stages of a strip's chain over a section, the first of them what comes in; what is off is left out."""
    plan = renderer.plan(session)
    place: StripPlan | None = plan.strips.get(strip)
    if place is None:
        return ()
    stretch = span or Span(0.0, renderer.seconds)
    items = [item for id in place.along if (item := plan.item(id)) is not None]
    nodes = [place.start, *(plan.after[item.id] for item in items)]
    found = renderer.joints(nodes, stretch, lambda d: progress(0.6 * d), plan.result.memory)
    joints = [found[node.key] for node in nodes]
    late, lates = 0.0, [0.0]
    for item in items:
        at_work = plan.at_work.get(item.id)
        if at_work is not None:
            late += 1000.0 * at_work.step.make(renderer.rate).latency / renderer.rate
        lates.append(late)
    names = ["In", *(item.called for item in items)]
    ids = [IN, *(item.id for item in items)]
    tones = [_tone(joint, stretch) for joint in joints]
    stages: list[Stage] = []
    for n, joint in enumerate(joints):
        progress(0.6 + 0.4 * n / len(joints))
        turned = _turned(joints[0], joint, stretch) if n else np.zeros(len(THIRDS))
        before = tones[max(0, n - 1)]
        stages.append(
            Stage(ids[n], names[n], joint.figures(stretch), tones[n] - tones[0], tones[n] - before, lates[n], turned)
        )
    return tuple(stages)


def up_to(session: Session, strip: str, stage: str) -> Session:
    """The session in which nothing of a strip's chain works after a stage."""
    found = session.strip(strip)
    if found is None:
        return session
    ids = [item.id for item in found.chain]
    kept = ids.index(stage) + 1 if stage in ids else 0
    chain = [item if n < kept else replace(item, on=False) for n, item in enumerate(found.chain)]
    return session.with_chain(strip, chain)


def _tone(joint: Joint, span: Span) -> Floats:
    """Thirds at equal loudness; of silence nothing."""
    loudness = joint.loudness(span)
    if loudness <= SILENT:
        return np.zeros(len(THIRDS))
    return np.asarray(joint.tone(span).smoothed("stereo", 3.0, THIRDS) - loudness)


def _turned(first: Joint, joint: Joint, span: Span) -> Floats:
    part = Span(span.start, min(span.end, span.start + LONGEST))
    before, after = first.heard_in(part), joint.heard_in(part)
    count = min(len(before), len(after))
    return turned_phase(before[:count], after[:count], joint.rate, THIRDS)


def most_moved(stages: Sequence[Stage]) -> Stage | None:
    """Where most of the tone was moved; None where nothing was."""
    most = max(stages[1:], key=lambda stage: stage.character, default=None)
    return most if most is not None and most.character > 0.05 else None
