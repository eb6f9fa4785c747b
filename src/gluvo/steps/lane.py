"""Lane: a parallel chain, from one point of a chain back to a later one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Self

import msgspec
import numpy as np

from gluvo.dsp.db import FADER_OFF, fader_gain, gain_of
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.steps.base import MAX_BLOCK, N, Processor, Step, Wiring
from gluvo.steps.common import amount
from gluvo.steps.kinds import AnyStep
from gluvo.steps.settings import number, switch
from gluvo.steps.solved import Solved
from gluvo.steps.split import Split

BLEND = "How it comes back"


class Lane(Step, tag="lane", frozen=True, kw_only=True):
    """Steps beside the chain. It comes back where it stands in the chain, under what has come along the chain."""

    title: ClassVar[str] = "Lane"
    summary: ClassVar[str] = "A parallel chain, blended in under what comes along the main one"
    solved_settings: ClassVar[Mapping[str, Solved]] = {"blend": Solved("blend", "hold_loudness")}
    contains_steps: ClassVar[bool] = True
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"name", "since", "steps", "amount", "hold_loudness"}

    name: Annotated[str, msgspec.Meta(max_length=200)] = "Lane"
    since: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of what stands before the point where the lane leaves the chain; empty for the chain's beginning."""
    steps: Annotated[tuple[AnyStep | Split, ...], msgspec.Meta(max_length=64)] = ()

    level: Annotated[
        float,
        number(
            "Level",
            "dB",
            FADER_OFF,
            12.0,
            "How loud the lane comes back under the main chain. At −∞ nothing of it is heard.",
            group=BLEND,
            off_at_low=True,
        ),
    ] = FADER_OFF
    amount: Annotated[float, amount("what the lane's steps do", BLEND)] = 100.0
    mute: Annotated[bool, switch("Mute", "Takes the lane out of the blend.", group=BLEND)] = False
    hold_loudness: Annotated[
        bool,
        switch(
            "Hold loudness",
            "Lowers the blend by what the lane adds, so that the section stays as loud as "
            "without it, and more is not just louder.",
            group=BLEND,
        ),
    ] = False
    blend: Annotated[
        float,
        number(
            "Blend",
            "dB",
            -24.0,
            12.0,
            "Gain of both together. Held, it is found for you.",
            group=BLEND,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0

    def make(self, rate: int) -> LaneProcessor:
        return LaneProcessor(self, rate)

    @property
    def rows(self) -> tuple[tuple[Step, ...], ...]:
        return (self.steps,)

    def with_rows(self, rows: Sequence[Sequence[Step]]) -> Self:
        return msgspec.structs.replace(self, steps=tuple(rows[0]))

    def may_contain(self, item: Step) -> bool:
        return not isinstance(item, Lane)

    def leaving(self, since: str) -> Self:
        return msgspec.structs.replace(self, since=since)

    def wired(self, x: N, wiring: Wiring[N]) -> N:
        left = wiring.at(self.since)
        side, share = wiring.through(self.steps, left), self.amount / 100.0
        if side is not left and share != 1.0:
            side = wiring.sum(f"{self.id}/amount", [(side, share), (left, 1.0 - share)])
        wiring.part(self, 0, x, side)
        return wiring.blend(self, x, side, self.gain)

    @property
    def called(self) -> str:
        return f"Lane “{self.name}”"

    @property
    def short_name(self) -> str:
        return self.name

    @property
    def gain(self) -> float:
        """The factor of the lane's own level."""
        return 0.0 if self.mute else fader_gain(self.level)

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, blend=0.0), gain_of(self.blend)

    def describe(self) -> str:
        if self.mute:
            return "muted"
        words = ["−∞ dB" if self.level <= FADER_OFF else f"{self.level:.1f} dB"]
        words += [f"amount {self.amount:.0f} %"] if self.amount != 100.0 else []
        words += [f"held, would add {abs(self.blend):.1f} dB"] if self.hold_loudness else []
        return " · ".join(words).replace("-", "−")


@kernel
def blended(x: Audio, lane: Floats, level: float, blend: float, out: Audio) -> None:
    """``(x + level · lane) · blend``; bit for bit `x` where the level is 0 and the blend 1."""
    main, side, made = x.reshape(-1), lane.reshape(-1), out.reshape(-1)
    for i in range(main.shape[0]):
        made[i] = (main[i] + level * side[i]) * blend


class LaneProcessor(Processor):
    """Adds the lane's sound, which comes as the key, to the chain's."""

    def __init__(self, settings: Lane, rate: int) -> None:
        super().__init__()
        self._level, self._blend = settings.gain, gain_of(settings.blend)
        self._nothing = np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        lane = self.keys[0] if self.keys else self._nothing[: len(x)]
        blended(x, lane, self._level, self._blend, out)


def first_lane(*rows: Sequence[Step]) -> Lane | None:
    """The first lane that there is in some rows."""
    return next((step for row in rows for step in row if isinstance(step, Lane)), None)
