"""What limiter and clipper share: gain before a ceiling that nothing passes, and gain after all of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, ClassVar, Literal, Self

import msgspec

from gluvo.dsp.db import gain_of
from gluvo.measure.overview import ReducedBy
from gluvo.steps import solved
from gluvo.steps.base import Step
from gluvo.steps.settings import choice, number, switch

LOUDER, HOLDS = "How loud", "How it holds"
Oversampling = Literal[1, 2, 4, 8, 16]


def drive(more: str) -> msgspec.Meta:
    """The gain before a ceiling, dB; `more` says what more of it does."""
    return number(
        "Drive", "dB", 0.0, 24.0, f"Gain before the ceiling: louder, and {more}.", group=LOUDER, decimals=2, fine=0.1
    )


def ceiling(low: float, tip: str) -> msgspec.Meta:
    """The level that nothing passes, dBTP, from `low` up."""
    return number("Ceiling", "dBTP", low, 0.0, tip, group=LOUDER, decimals=2, fine=0.1)


def aim(tip: str) -> msgspec.Meta:
    """The dB that are to be taken off, for which the drive is sought."""
    return number("Reduce by", "dB", 0.1, 24.0, tip, group="Aim")


def hold_aim() -> msgspec.Meta:
    """Whether the drive is sought again."""
    return switch("Hold drive", "Finds the drive again whenever something else changes.", group="Aim")


def oversampling(what: str, group: str) -> msgspec.Meta:
    """How finely the wave is bent; `what` begins the sentence."""
    return choice(
        "Oversampling",
        (("1", "1 ×"), ("2", "2 ×"), ("4", "4 ×"), ("8", "8 ×"), ("16", "16 ×")),
        f"{what}. More keeps harmonics that would fold back out of the sound, and costs time.",
        group=group,
    )


class CeilingStep(Step, frozen=True, kw_only=True):
    """A step that drives the sound against a ceiling. Kinds declare the settings, so that each tells what its own do."""

    if TYPE_CHECKING:  # each kind declares them, in the order in which they are shown
        drive: float
        ceiling: float
        aim: float
        aim_by: ReducedBy
        hold_aim: bool
        output: float
        hold_loudness: bool

    reduces: ClassVar[bool] = True
    has_ceiling: ClassVar[bool] = True
    solved_settings: ClassVar[Mapping[str, solved.Solved]] = {
        "drive": solved.Solved("drive", "hold_aim", "aim", aim_by="aim_by"),
        **solved.OUTPUT,
    }
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"aim", "aim_by", "hold_aim", "hold_loudness"}
    reaches_target: ClassVar[bool] = False
    """Whether it is what a song is brought to its target's loudness by, where the mix bus ends with it."""
    cuts_tops: ClassVar[bool] = False
    """Whether it works on single samples, so that their share tells how much it does."""

    @property
    def is_transparent(self) -> bool:
        """It holds its ceiling whatever comes."""
        return False

    @property
    def holds_true_peak(self) -> bool:
        """Whether it also holds the peaks between samples."""
        return True

    @property
    def plain_gain(self) -> float:
        return gain_of(self.drive + self.output)

    @property
    def ceiling_out(self) -> float | None:
        return self.ceiling + self.output if self.holds_true_peak else None

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.output)


def with_ceiling(step: Step | None) -> CeilingStep | None:
    """A step as one that works against a ceiling; None where it does not."""
    return step if isinstance(step, CeilingStep) else None


def last_limiter(chain: Sequence[Step], *, off: bool = False) -> CeilingStep | None:
    """The last step of a chain that a song is brought to its target by, and that is on; or (`off`) whether it is on or
    not."""
    found = (with_ceiling(step) for step in reversed(chain) if off or step.on)
    return next((step for step in found if step is not None and step.reaches_target), None)
