"""What can be looked for in a step: its thresholds, each for an aim of its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import msgspec

from gluvo.advise.aim import Found, find_lift, find_threshold
from gluvo.advise.band_aim import find_band_threshold
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.steps import DeEsser, Glue, MidSideEq, Step
from gluvo.steps.mid_side_eq import equaliser


@dataclass(frozen=True)
class Aimed:
    """A threshold that can be looked for: of a step, or of one of its parts."""

    aim: float
    """dB that are asked for."""
    problem: str
    """Why it cannot be looked for as things are, in a sentence; empty if it can."""
    find: Callable[[Joint, Span | None, Progress, Sequence[Joint]], Found]
    """Looks for it, given what feeds the step and its keys."""
    put: Callable[[Step, float, str], Step]
    """The step as it has become by then with the threshold, held in a section."""


def aimed(step: Step | None, part: int = 0, setting: str = "threshold") -> Aimed | None:
    """What can be looked for in a step, a part of which may be chosen; None if it has no such threshold."""
    make = AIMS.get((type(step), setting)) if step is not None else None
    return None if make is None else make(step, part)


def _putting(setting: str) -> Callable[[Step, float, str], Step]:
    def put(now: Step, value: float, held_in: str) -> Step:
        return msgspec.structs.replace(now, **{setting: value}, held_in=held_in)

    return put


def _glue(glue: Glue, _part: int) -> Aimed:
    problem = "At a ratio of 1 nothing is reduced. Raise the ratio first." if glue.slope == 0.0 else ""
    return Aimed(
        glue.aim,
        problem,
        lambda before, span, check, keys: find_threshold(glue, before, span, check, keys),
        _putting("threshold"),
    )


def _lift(glue: Glue, _part: int) -> Aimed:
    problem = "At a lift ratio of 1 nothing is lifted. Raise it first." if not glue.lifts else ""
    return Aimed(
        glue.lift_aim,
        problem,
        lambda before, span, check, keys: find_lift(glue, before, span, check, keys),
        _putting("lift_threshold"),
    )


def _de_esser(step: DeEsser, _part: int) -> Aimed:
    problem = "At most 0 dB are taken. Raise that first." if step.range == 0.0 else ""
    return Aimed(
        step.aim,
        problem,
        lambda before, span, check, keys: find_threshold(step, before, span, check, keys),
        _putting("threshold"),
    )


def _band(eq: MidSideEq, part: int) -> Aimed:
    found = eq.band(part)
    if found is None or not found.moving:
        problem = "No band that moves is chosen. Choose one, or switch Dynamic on and raise its ratio."
        return Aimed(0.0, problem, lambda *_: Found(0.0, 0.0, met=False), lambda now, *_: now)
    band = found

    def put(now: Step, value: float, _held_in: str) -> Step:
        present = equaliser(now)
        return now if present is None else present.with_edit(band.id, threshold=value)

    return Aimed(
        band.aim, "", lambda before, span, check, keys: find_band_threshold(eq, band, before, span, check, keys), put
    )


AIMS: Mapping[tuple[type[Step], str], Callable[..., Aimed]] = {
    (Glue, "threshold"): _glue,
    (Glue, "lift_threshold"): _lift,
    (DeEsser, "threshold"): _de_esser,
    (MidSideEq, "threshold"): _band,
}
"""Steps that have thresholds to be found."""
