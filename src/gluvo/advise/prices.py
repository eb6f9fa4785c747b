"""What louder costs: the song at several loudnesses, each with what it takes; and the work of two in a row, divided."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated

import msgspec
import numpy as np

from gluvo.advise.loudness_target import NO_LIMITER, Reached, driven, hits_of_joints, level_of, reach_target
from gluvo.errors import GluvoError
from gluvo.measure.figures import Figures
from gluvo.measure.harmonics import new_spectrum
from gluvo.measure.trace import Span, Trace
from gluvo.progress import Progress, no_progress
from gluvo.render.song import Renderer
from gluvo.session.records import Session
from gluvo.steps.ceiling import CeilingStep, with_ceiling
from gluvo.steps.settings import number, settings_of

STEPS = (-3.0, -2.0, -1.0, 0.0, 1.0)
"""LU against the target that are priced."""


@dataclass(frozen=True, eq=False)
class Price:
    """The song at a loudness, and what that takes."""

    wanted: float | None
    """By the target's measure; None for the song as it now is."""
    level: float
    """By the target's measure."""
    session: Session
    """As it would be kept."""
    reached: Reached | None
    """How it was brought there; None for the song as it now is."""
    figures: Figures
    largest: float
    """dB of reduction by what works against the ceiling."""
    mean: float
    plr_lost: float
    """dB, against what comes to it."""
    punch_kept: float | None
    new_sound: float
    """Power of what no filter could have made of what comes to it, dB against that."""
    audio: np.ndarray
    trace: Trace

    @property
    def met(self) -> bool:
        return self.reached is None or self.reached.met

    @property
    def why_not(self) -> str:
        return self.reached.why_not if self.reached is not None else ""


def prices(
    renderer: Renderer, session: Session, span: Span | None = None, progress: Progress = no_progress
) -> tuple[Price, ...]:
    """The song as it is, and brought to each of `STEPS` against its target. Raises `GluvoError` as `reach_target` does."""
    found = [_priced(renderer, session, span, None, None)]
    for n, step in enumerate(STEPS):
        wanted = session.target.loudness + step
        if not -40.0 <= wanted <= 0.0:
            continue
        aim = session.replace(target=msgspec.structs.replace(session.target, loudness=wanted))
        reached = reach_target(
            renderer,
            aim,
            span,
            lambda d, n=n: progress((n + 0.8 * d) / len(STEPS)),  # type: ignore[misc]
        )
        kept = driven(session, reached.step, reached.drive, reached.ceiling)
        found.append(_priced(renderer, kept, span, wanted, reached))
        progress((n + 1) / len(STEPS))
    return tuple(found)


def _priced(
    renderer: Renderer, session: Session, span: Span | None, wanted: float | None, reached: Reached | None
) -> Price:
    plan = renderer.plan(session)
    working = [item.id for item in session.mix.chain if item.on and item.has_ceiling]
    if not working:
        raise GluvoError(NO_LIMITER)
    result = renderer.joint(plan.result)
    first, last = plan.before[working[0]], plan.after[working[-1]]
    joints = renderer.joints((first, *(plan.after[id] for id in working)), None, no_progress)
    came, went = joints[first.key], joints[last.key]
    each = [joints[plan.after[id].key] for id in working]
    hits = hits_of_joints(came, went, span) if went.reduction is not None else None
    stretch = span or Span(0.0, min(renderer.seconds, 30.0))
    gain = math.prod(
        item.plain_gain for item in session.mix.chain if item.id in working
    )  # what is only louder is not new
    new = new_spectrum(came.heard_in(stretch) * gain, went.heard_in(stretch), renderer.rate).share
    return Price(
        wanted,
        level_of(result, session.target),
        session,
        reached,
        result.figures(),
        sum(joint.largest_reduction() for joint in each),
        sum(joint.mean_reduction() for joint in each),
        came.figures().plr - went.figures().plr,
        hits.punch_kept if hits is not None else None,
        10.0 * float(np.log10(max(new, 1e-15))),
        np.asarray(result.audio),
        result.trace,
    )


class Division(msgspec.Struct, frozen=True):
    """How the work of two in a row is divided."""

    tops: Annotated[
        float,
        number(
            "Tops to the first",
            "dB",
            0.0,
            12.0,
            "How much the first of the two takes off the highest peak; the rest is left to the last, which is driven so that "
            "the song stays as loud.",
            decimals=1,
            fine=0.1,
        ),
    ] = 0.0


def last_two(session: Session) -> tuple[CeilingStep, CeilingStep] | None:
    """The two steps that the mix bus ends with, if both work against a ceiling."""
    last_on = [item for item in session.mix.chain if item.on][-2:]
    found = [step for item in last_on if (step := with_ceiling(item)) is not None]
    return (found[0], found[1]) if len(found) == 2 else None


def divided(renderer: Renderer, session: Session, tops: float, progress: Progress = no_progress) -> Session:
    """The first of the last two takes `tops` dB off the highest peak, and the last is driven so that the whole song stays
    as loud. Raises `GluvoError` if the mix bus does not end with two, or the song is silent."""
    two = last_two(session)
    if two is None:
        raise GluvoError("The mix bus does not end with two steps that work against a ceiling.")
    first, last = two
    plan = renderer.plan(session)
    loudness = renderer.joint(plan.result, None, lambda d: progress(0.2 * d)).loudness()
    peak = renderer.joint(plan.before[first.id]).figures().true_peak + first.drive
    settings = settings_of(type(first))
    ceiling = settings["ceiling"].clamp(peak - tops)
    drive = settings["drive"].clamp(first.drive + (ceiling - (peak - tops)))  # where the ceiling's own range ends
    changed = msgspec.structs.replace(first, ceiling=round(ceiling, 3), drive=round(drive, 3), hold_aim=False)
    aim = msgspec.structs.replace(
        session.target, measure="integrated", loudness=max(-40.0, min(0.0, loudness)), true_peak=last.ceiling
    )
    reached = reach_target(
        renderer, session.with_step(changed).replace(target=aim), None, lambda d: progress(0.2 + 0.8 * d), last.id
    )
    return driven(session.with_step(changed), last.id, reached.drive, last.ceiling)
