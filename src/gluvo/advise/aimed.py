"""What can be looked for in a step: its thresholds and drives, each for an aim of its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import msgspec

from gluvo.advise.aim import Found, aim_by_of, find_drive, find_lift, find_threshold
from gluvo.advise.band_aim import find_band_threshold
from gluvo.measure.overview import ReducedBy
from gluvo.measure.trace import Span
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.steps import MidSideEq, Step
from gluvo.steps.mid_side_eq import equaliser
from gluvo.steps.solved import By


@dataclass(frozen=True)
class Aimed:
    """A setting that can be looked for: of a step, or of one of its parts."""

    aim: float
    """dB that are asked for."""
    by: ReducedBy
    """What that is of."""
    problem: str
    """Why it cannot be looked for as things are, in a sentence; empty if it can."""
    find: Callable[[Joint, Span | None, Progress, Sequence[Joint]], Found]
    """Looks for it, given what feeds the step and its keys."""
    put: Callable[[Step, float, str], Step]
    """The step as it has become by then with what was found, held in a section."""


def aimed(step: Step | None, part: int = 0, setting: str = "") -> Aimed | None:
    """What can be looked for in a step, a part of which may be chosen; None if it has nothing of the kind. `setting`: which of
    its settings; if not said, the first."""
    if step is None:
        return None
    setting = setting or first_aimed(step)
    solved = step.solved_settings.get(setting)
    if solved is not None and solved.aim:
        search = SEARCHES[solved.by]
        return Aimed(
            getattr(step, solved.aim),
            aim_by_of(step, setting),
            step.not_solvable(setting),
            lambda before, span, check, keys: search(step, before, span, check, keys, setting),
            _putting(setting),
        )
    eq = equaliser(step)
    return _band(eq, part) if eq is not None and setting == "threshold" else None


def first_aimed(step: Step) -> str:
    """The first of its settings that has an aim; of an equaliser, that of a band."""
    return next((name for name, solved in step.solved_settings.items() if solved.aim), "threshold")


def _putting(setting: str) -> Callable[[Step, float, str], Step]:
    def put(now: Step, value: float, held_in: str) -> Step:
        kept = now.found_for.get(setting)
        asked = {kept: getattr(now, now.solved_settings[setting].aim)} if kept is not None else {}
        return msgspec.structs.replace(now, **{setting: value}, **asked, held_in=held_in)

    return put


def _band(eq: MidSideEq, part: int) -> Aimed:
    found = eq.band(part)
    if found is None or not found.moving:
        problem = "No band that moves is chosen. Choose one, or switch Dynamic on and raise its ratio."
        return Aimed(0.0, "mean", problem, lambda *_: Found(0.0, 0.0, met=False), lambda now, *_: now)
    band = found

    def put(now: Step, value: float, _held_in: str) -> Step:
        present = equaliser(now)
        return now if present is None else present.with_edit(band.id, threshold=value)

    return Aimed(
        band.aim,
        band.aim_by,
        "",
        lambda before, span, check, keys: find_band_threshold(eq, band, before, span, check, keys),
        put,
    )


SEARCHES: Mapping[By, Callable[..., Found]] = {
    "reduction": find_threshold,
    "drive": find_drive,
    "lift": find_lift,
}
"""How a setting is looked for, by what it is solved for."""
