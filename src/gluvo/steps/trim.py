"""Trim: exact gain, polarity, channel swap, DC removal."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar, Self

import msgspec
import numpy as np

from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import NOTHING, Sections, low_cut
from gluvo.dsp.kernel import Audio
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.settings import number, settings_of, switch


class Trim(Step, tag="trim", frozen=True, kw_only=True):
    """Sets the level that the next steps get."""

    title: ClassVar[str] = "Trim"
    summary: ClassVar[str] = "Exact gain, polarity, swapped channels, DC removal"
    leading: ClassVar[tuple[str, ...]] = ("gain",)
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"by_reach"}
    by_hand: ClassVar[Mapping[str, Mapping[str, object]]] = {"gain": {"by_reach": 0.0}}

    gain: Annotated[
        float,
        number(
            "Gain",
            "dB",
            -48.0,
            24.0,
            "Makes everything louder or softer before the next step.",
            group="Level",
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    by_reach: Annotated[float, msgspec.Meta(ge=-96.0, le=96.0)] = 0.0
    """How much of the gain brings the song to its target's loudness; taken back when that is looked for anew."""
    invert_left: Annotated[bool, switch("Invert left", "Turns the left channel's polarity over.", group="Channels")] = (
        False
    )
    invert_right: Annotated[
        bool, switch("Invert right", "Turns the right channel's polarity over.", group="Channels")
    ] = False
    swap: Annotated[bool, switch("Swap", "Exchanges left and right.", group="Channels")] = False
    remove_dc: Annotated[
        bool,
        switch("Remove DC", "Cuts below 1 Hz: takes away a constant offset that costs headroom.", group="Channels"),
    ] = False

    def make(self, rate: int) -> TrimProcessor:
        return TrimProcessor(self, rate)

    @property
    def is_level(self) -> bool:
        return not (self.invert_left or self.invert_right or self.swap or self.remove_dc)

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, gain=0.0), gain_of(self.gain)

    def describe(self) -> str:
        words = [f"{self.gain:+.1f} dB".replace("-", "−")] if self.gain else []
        words += ["polarity"] if self.invert_left or self.invert_right else []
        words += ["swapped"] if self.swap else []
        words += ["no DC"] if self.remove_dc else []
        return " · ".join(words) or "neutral"


class TrimProcessor(Processor):
    def __init__(self, settings: Trim, rate: int) -> None:
        super().__init__()
        gain = gain_of(settings.gain)
        self._gains = np.array([-gain if settings.invert_left else gain, -gain if settings.invert_right else gain])
        self._from = (1, 0) if settings.swap else (0, 1)
        self._dc = Sections(low_cut(1.0, 12, rate) if settings.remove_dc else NOTHING)
        self._work = np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        work = self._work[: len(x)]
        self._dc.run(x, work)
        for c in range(2):
            np.multiply(work[:, self._from[c]], self._gains[c], out=out[:, c])

    def adopt(self, other: Processor) -> bool:
        return isinstance(other, TrimProcessor) and self._dc.adopt(other._dc)


def with_reach(step: Trim, gain: float) -> Trim | None:
    """A Trim with so many dB for the sake of a target's loudness, in place of what it had for that; None where its range
    does not reach as far."""
    wanted, range_ = round(step.gain - step.by_reach + gain, 3), settings_of(Trim)["gain"]
    within = range_.low <= wanted <= range_.high
    return msgspec.structs.replace(step, gain=wanted, by_reach=gain) if within else None


def as_trim(step: Step | None) -> Trim | None:
    """A step as a Trim; None for another step."""
    return step if isinstance(step, Trim) else None


def gain_at_work(step: Step | None) -> float:
    """dB that a Trim makes the sound louder by; 0 where it is off, and for another step."""
    return step.gain if isinstance(step, Trim) and step.on else 0.0


def with_gain(step: Step | None, gain: float) -> Trim | None:
    """A Trim with another gain, as near as its range allows; None for another step."""
    trim = as_trim(step)
    return None if trim is None else msgspec.structs.replace(trim, gain=settings_of(Trim)["gain"].clamp(gain))
