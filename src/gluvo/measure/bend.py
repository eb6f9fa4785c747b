"""How far music goes into a curve that bends it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.dsp.shaping import Shaper

REACH, BINS = 1.25, 125
"""Linear: levels that are counted lie between minus and plus this; in so many steps."""
BENDS, BENDS_MUCH = 0.1, 1.0
"""dB by which a value is off the straight line at least where the curve bends it, and where it does so much."""


@dataclass(frozen=True, eq=False)
class Bend:
    """What of a stretch a curve bends."""

    levels: Floats
    """How often the wave stands at each of `BINS` levels from −`REACH` to `REACH`, summing to 1; what lies beyond counts for
    the outermost."""
    bends: float
    """Share of the time at which either channel is bent by `BENDS` or more, 0–1."""
    bends_much: float
    """The same for `BENDS_MUCH`."""


class BendMeter:
    """Counts levels that come to a curve, in pieces.

    >>> from gluvo.dsp.shaping import edge
    >>> meter = BendMeter(edge(2.0, 0.0)); meter.push(np.array([[0.4, 0.0], [0.6, 0.0]]))
    >>> meter.finish().bends
    0.5
    """

    def __init__(self, shaper: Shaper) -> None:
        self._shaper = shaper
        self._counts = np.zeros(BINS, dtype=np.int64)
        self._frames = self._bent = self._much = 0

    def push(self, driven: Floats) -> None:
        """Values that come to the curve, (frames, channels)."""
        self._counts += np.histogram(np.clip(driven, -REACH, REACH), BINS, (-REACH, REACH))[0]
        straight = self._shaper.slope * driven
        off = np.abs(self._shaper(driven) - straight)
        for db in (BENDS, BENDS_MUCH):
            count = int((off > (1.0 - 10.0 ** (-db / 20.0)) * np.abs(straight) + 1e-9).any(axis=1).sum())
            if db == BENDS:
                self._bent += count
            else:
                self._much += count
        self._frames += len(driven)

    def finish(self) -> Bend:
        """What has come in so far."""
        frames = max(1, self._frames)
        return Bend(self._counts / max(1, int(self._counts.sum())), self._bent / frames, self._much / frames)
