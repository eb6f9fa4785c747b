"""Outboard: sends the sound out of the computer at its place in the chain, and takes back what came of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar

import msgspec
import numpy as np

from gluvo.dsp.db import gain_of
from gluvo.dsp.kernel import Audio, kernel
from gluvo.steps.base import MAX_BLOCK, Processor, Step
from gluvo.steps.common import mix
from gluvo.steps.recorded import Return, Sent
from gluvo.steps.settings import number, switch

RETURN = "What comes back"


class Outboard(Step, tag="outboard", frozen=True, kw_only=True):
    """Plays a recording of what a unit outside made of the sound, in its place; without one the sound passes."""

    title: ClassVar[str] = "Outboard"
    summary: ClassVar[str] = "Sends the sound out at this point, and takes it back, by file or in real time"
    leading: ClassVar[tuple[str, ...]] = ("mix", "gain")
    of_recording: ClassVar[frozenset[str]] = frozenset({"sent", "returned", "gain", "invert", "shift"})
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"name", "sent", "returned"}

    name: Annotated[str, msgspec.Meta(max_length=200)] = ""
    """What is outside; empty: it is called by its title."""
    mix: Annotated[
        float,
        mix(
            "How much of what came back is in the result; the rest is the sound as it was sent, in step with it.",
            RETURN,
        ),
    ] = 100.0
    gain: Annotated[
        float,
        number(
            "Level",
            "dB",
            -24.0,
            24.0,
            "Makes what came back louder or softer; it is set so that its pings are as loud as they were sent.",
            group=RETURN,
            decimals=2,
            fine=0.1,
        ),
    ] = 0.0
    shift: Annotated[
        float,
        number(
            "Shift",
            "ms",
            -20.0,
            20.0,
            "Moves what came back against what was sent, by whole samples; it is in step already.",
            group=RETURN,
            decimals=2,
            fine=0.02,
        ),
    ] = 0.0
    invert: Annotated[
        bool,
        switch("Polarity", "Turns what came back over; it is set if it came back turned.", group=RETURN),
    ] = False
    sent: Sent | None = None
    """What went out last."""
    returned: Return | None = None
    """What came back, and is heard."""

    def make(self, rate: int) -> OutboardProcessor:
        return OutboardProcessor(self)

    @property
    def back(self) -> Return | None:
        return self.returned

    @property
    def recording_shift(self) -> float:
        return self.shift / 1000.0

    @property
    def is_transparent(self) -> bool:
        return self.returned is None or self.mix == 0.0

    @property
    def called(self) -> str:
        return self.name or self.title

    @property
    def short_name(self) -> str:
        return self.name or self.title

    @property
    def in_words(self) -> Mapping[str, str]:
        if self.returned is None:
            return {"return": "none"}
        return {
            "return": f"{self.returned.media.path.rsplit('/', 1)[-1]} of {self.returned.made.replace('T', ' ')[:16]}"
        }

    def describe(self) -> str:
        if self.returned is None:
            return "sent, not back yet" if self.sent is not None else "nothing sent yet"
        words = [self.returned.media.path.rsplit("/", 1)[-1]]
        words += [f"mix {self.mix:.0f} %"] if self.mix != 100.0 else []
        words += [f"{self.gain:+.1f} dB".replace("-", "−")] if self.gain else []
        words += ["polarity"] if self.invert else []
        return " · ".join(words)


@kernel
def laid_over(x: Audio, back: Audio, share: float, gain: float, out: Audio) -> None:
    """``x + share · (gain · back − x)``; bit for bit `x` where the share is 0."""
    main, came, made = x.reshape(-1), back.reshape(-1), out.reshape(-1)
    for i in range(main.shape[0]):
        made[i] = (1.0 - share) * main[i] + share * gain * came[i]


class OutboardProcessor(Processor):
    """Blends the recording, which comes as the key, with what flows in; without one, or where only a part of the song comes
    in, what flows in passes."""

    def __init__(self, settings: Outboard) -> None:
        super().__init__()
        self._share = settings.mix / 100.0
        self._gain = -gain_of(settings.gain) if settings.invert else gain_of(settings.gain)
        self._nothing = np.zeros((MAX_BLOCK, 2))

    def process(self, x: Audio, out: Audio) -> None:
        if self.keys and self._share > 0.0:
            laid_over(x, self.keys[0], self._share, self._gain, out)
        else:
            laid_over(x, self._nothing[: len(x)], 0.0, 1.0, out)

    def adopt(self, other: Processor) -> bool:
        return isinstance(other, OutboardProcessor)


def as_outboard(step: Step | None) -> Outboard | None:
    """A step as an Outboard; None for another step."""
    return step if isinstance(step, Outboard) else None
