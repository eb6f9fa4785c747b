"""The protocol that all steps meet.

A step is a frozen struct of settings, kept in the session, with a `make` that builds its processor. Processors
hold state, are cheap to make and know nothing of sessions; the live engine and the offline render run the same
ones.
"""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

import msgspec
import numpy as np

from gluvo.dsp.delay import clean, ordinary
from gluvo.dsp.kernel import Audio, Floats

MAX_BLOCK = 4096
"""The most frames that a processor is given at a time."""


class Step(msgspec.Struct, frozen=True, kw_only=True, tag_field="step"):
    """What every step has: a name of its own within the session, and whether it is on."""

    id: Annotated[str, msgspec.Meta(max_length=100)] = ""
    on: bool = True
    held_in: Annotated[str, msgspec.Meta(max_length=100)] = ""
    """The id of the section that its held settings are found in; the whole song if it is empty or gone."""

    title: ClassVar[str] = ""
    summary: ClassVar[str] = ""
    reduces: ClassVar[bool] = False
    """Whether the step takes level away and tells how much."""

    has_ear: ClassVar[bool] = False
    """Whether what its detector listens to can be heard; see `ear`."""

    silent: ClassVar[frozenset[str]] = frozenset({"id", "on", "held_in"})
    """Settings that do not change the sound, so that renders stay valid when they change."""

    def make(self, rate: int) -> Processor:
        """A processor with these settings."""
        raise NotImplementedError

    @property
    def memory(self) -> float:
        """Seconds after which what came in no longer tells in what comes out; steps with slow releases say so."""
        return 0.0

    def apart(self) -> tuple[Self, float]:
        """The step without the gain that comes after all of it, and that gain as a factor."""
        return self, 1.0

    def sound_key(self) -> bytes:
        """What the step's sound depends on, as bytes."""
        plain = msgspec.to_builtins(self)
        return msgspec.json.encode({k: v for k, v in plain.items() if k not in self.silent}, order="sorted")

    def describe(self) -> str:
        """Its settings in a few words, for the ledger."""
        return ""


class Processor:
    """Runs a step. Subclasses prepare all memory in ``__init__`` and allocate nothing in `process`."""

    latency: int = 0
    """Frames by which the output is late."""

    def __init__(self) -> None:
        self.reduction: Floats = np.zeros(MAX_BLOCK)
        """Reduction of the last block in dB, ≥ 0, of the more reduced channel; stays 0 for steps that take none."""
        self.level = np.full(1, -200.0)
        """The largest level in dBFS that the step's detector read in the last block, if it has one."""
        self.key: Audio | None = None
        """A second signal that goes with the next block, for steps that take one: a detector's key, or a lane."""

    def process(self, x: Audio, out: Audio) -> None:
        """Process up to `MAX_BLOCK` frames of finite samples into `out`, which may be `x`."""
        raise NotImplementedError

    def run(self, x: Audio, out: Audio) -> None:
        """As `process`, whatever comes: the one place where what is not finite is taken out, for live sound, renders and
        files alike. `out` may be `x`."""
        if ordinary(x):
            self.process(x, out)
            return
        clean(x, out)
        self.process(out, out)

    def adopt(self, other: Processor) -> None:
        """Take over the state of a processor of the same kind with other settings, so that sound goes on."""
