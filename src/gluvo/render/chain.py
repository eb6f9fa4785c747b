"""A chain of steps, run block by block: the same for live sound and for renders."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

import numpy as np

from gluvo.dsp.kernel import Audio
from gluvo.progress import Progress, no_progress
from gluvo.render.scaled import Sounding
from gluvo.steps import MAX_BLOCK, Processor, Step


class Chain:
    """The processors of the steps that are on, one after the other.

    >>> from gluvo.steps import Trim
    >>> chain = Chain([Trim(gain=-6.0, id="a")], 48000)
    >>> block = np.ones((4, 2)); chain.process(block, block)
    >>> round(float(block[0, 0]), 3)
    0.501
    """

    def __init__(self, steps: Sequence[Step], rate: int) -> None:
        self.rate = rate
        self.steps = tuple(step for step in steps if step.on)
        self.processors: tuple[Processor, ...] = tuple(step.make(rate) for step in self.steps)
        self.latency = sum(p.latency for p in self.processors)

    def begin(self, place: int) -> None:
        """See `Processor.begin`."""
        for processor in self.processors:
            processor.begin(place)
            place -= processor.latency

    def process(self, x: Audio, out: Audio) -> None:
        """Process up to `MAX_BLOCK` frames into `out`, which may be `x`. Whatever comes in, what goes on is finite."""
        np.copyto(out, x)
        for processor in self.processors:
            processor.run(out, out)

    def run(self, x: Audio, out: Audio) -> None:
        """As `process`; see `Unit`."""
        self.process(x, out)


class Unit(Protocol):
    """Anything that makes blocks of blocks: a processor, or a chain of them."""

    latency: int

    def begin(self, place: int) -> None: ...

    def run(self, x: Audio, out: Audio) -> None: ...


def stream(
    unit: Unit, x: Sounding, progress: Progress = no_progress, keys: Sequence[Sounding] = (), place: int = 0
) -> Iterator[tuple[int, slice, Audio]]:
    """Run `x` (frames, 2) through a unit: where each block begins in `x`, its place in the unit's last block (for
    what it reports), and the block itself, aligned with `x`. `keys` go along with `x`, to a processor. `x` begins at frame
    `place` of the song.

    The latency is made good: silence is fed after the end, and what comes before the beginning dropped.
    The yielded block is used again for the next one.
    """
    total, late = len(x), unit.latency
    unit.begin(place)
    block, out, *others = (np.zeros((MAX_BLOCK, 2)) for _ in range(2 + len(keys)))
    for start in range(0, total + late, MAX_BLOCK):
        n = min(MAX_BLOCK, total + late - start)
        given = max(0, min(n, total - start))
        block[:given] = x[start : start + given]
        block[given:n] = 0.0
        for key, other in zip(keys, others, strict=True):
            other[:given] = key[start : start + given]
            other[given:n] = 0.0
        if keys:
            assert isinstance(unit, Processor)
            unit.goes_with([other[:n] for other in others])
        unit.run(block[:n], out[:n])
        skip = max(0, late - start)
        if skip < n:
            yield start + skip - late, slice(skip, n), out[skip:n]
        progress((start + n) / (total + late))


def run_through(unit: Unit, x: np.ndarray, progress: Progress = no_progress) -> Audio:
    """The whole of `x` (frames, 2) through a unit, float64, aligned with `x`."""
    result = np.zeros((len(x), 2))
    for start, _, block in stream(unit, x, progress):
        result[start : start + len(block)] = block
    return result


def run_chain(steps: Sequence[Step], x: np.ndarray, rate: int, progress: Progress = no_progress) -> Audio:
    """The whole of `x` through the steps, float64, aligned with `x`."""
    return run_through(Chain(steps, rate), x, progress)
