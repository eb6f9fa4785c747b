"""What CONTRIBUTING asks of whoever adds a step: one file. It is read by `test_new_step`, and is no part of the program."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar

import msgspec
import numpy as np

from gluvo.dsp.compression import Curve
from gluvo.dsp.kernel import Audio
from gluvo.steps.base import Processor, Step
from gluvo.steps.settings import number, switch
from gluvo.steps.solved import Solved


class Press(Step, tag="press", frozen=True, kw_only=True):
    """Takes away half of what is over a threshold, at once."""

    title: ClassVar[str] = "Press"
    summary: ClassVar[str] = "Halves what is over a threshold"
    reduces: ClassVar[bool] = True
    solved_settings: ClassVar[Mapping[str, Solved]] = {"threshold": Solved("reduction", "hold_aim", "aim")}
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"aim", "hold_aim"}

    threshold: Annotated[float, number("Threshold", "dBFS", -60.0, 0.0, "Where it begins.", group="Press")] = 0.0
    aim: Annotated[float, number("Reduce by", "dB", 0.1, 12.0, "How much it takes on average.", group="Press")] = 2.0
    hold_aim: Annotated[bool, switch("Hold", "Keeps the threshold where it takes that much.", group="Press")] = False

    @property
    def curve(self) -> Curve:
        return Curve(self.threshold, 0.5, 0.0, 60.0)

    @property
    def feeds_back(self) -> bool:
        return True  # every try runs all of it

    def make(self, rate: int) -> PressProcessor:
        return PressProcessor(self)

    def describe(self) -> str:
        return f"over {self.threshold:.1f} dBFS".replace("-", "−")


class PressProcessor(Processor):
    def __init__(self, settings: Press) -> None:
        super().__init__()
        self._threshold = settings.threshold

    def process(self, x: Audio, out: Audio) -> None:
        level = 20.0 * np.log10(np.maximum(np.abs(x).max(axis=1), 1e-9))
        taken = 0.5 * np.maximum(level - self._threshold, 0.0)
        self.reduction[: len(x)] = taken
        np.multiply(x, 10.0 ** (-taken / 20.0)[:, None], out=out)


assert issubclass(Press, msgspec.Struct)
