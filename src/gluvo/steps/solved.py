"""Settings that are solved for rather than set: how, by which switch, for how much; and the output of steps."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import msgspec

from gluvo.measure.overview import REDUCED_BY
from gluvo.steps.settings import choice, number, switch

By = Literal["reduction", "drive", "lift", "loudness", "makeup", "blend"]
"""What a setting is solved for: so many dB taken away by its threshold or its drive, or lifted by its threshold; the same
loudness after the step as before it, by a gain after all of it or before its mix, or by the level of what a lane makes."""


@dataclass(frozen=True)
class Solved:
    """How a setting is solved for. `advise` has a way for each `by`; a step says which of its settings take it."""

    by: By
    switch: str
    """The setting that has it solved anew whenever something changes."""
    aim: str = ""
    """The setting that says how many dB are wanted, where any number can be."""
    aim_by: str = ""
    """The setting that says what the aim is of (`ReducedBy`); without one, the mean."""
    while_working: bool = False
    """Whether the reduction that is wanted is the mean while it works, and not over all that is heard; for what works at
    moments only."""


def aim_by(group: str, what: str = "reduction") -> msgspec.Meta:
    """What an aim is of, where `what` has three figures."""
    return choice(
        "Aim at",
        tuple(REDUCED_BY.items()),
        f"What is to be that much, as it arrives after Mix: the {what} when hits come, which is passed 5 % of the time where "
        "there is signal; the largest of all; or the mean where there is signal.",
        group=group,
    )


OUTPUT: Mapping[str, Solved] = {"output": Solved("loudness", "hold_loudness")}


def output(group: str, low: float = -24.0) -> msgspec.Meta:
    """The gain after all of a step, dB."""
    return number(
        "Output", "dB", low, 24.0, "Gain after all of it. Held, it is found for you.", group=group, decimals=2, fine=0.1
    )


def hold(group: str, why: str) -> msgspec.Meta:
    """Whether the output is found; `why` ends the sentence."""
    tip = f"Sets the output so that the section is as loud after the step as before: {why}"
    return switch("Hold loudness", tip, group=group)
