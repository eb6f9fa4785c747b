"""How long one has listened, and how loud, since the ears last had a break."""

from __future__ import annotations

from collections.abc import Callable
from time import time

import numpy as np

from gluvo.measure.loudness import OFFSET

BREAK_SECONDS = 600.0
"""So long without sound is a break."""
FRESH_SECONDS = 3600.0
"""After so long a break the ears are fresh."""


class ListeningTime:
    """Counts what was played, by the clock on the wall, so that sleep and closed windows are breaks, too."""

    def __init__(self, last: float = 0.0, now: Callable[[], float] = time) -> None:
        """`last`: when something was last heard, in seconds since 1970; 0 where that is not known."""
        self._now, self.last = now, last
        self.seconds = 0.0
        """Listened since the last break."""
        self._energy = 0.0
        self._reminded = 0

    @property
    def rested(self) -> bool:
        """Whether there was a break so long that the ears are fresh."""
        return self.last > 0.0 and self._now() - self.last >= FRESH_SECONDS

    @property
    def level(self) -> float | None:
        """How loud it was on average, LUFS as sent to the loudspeakers; None before anything was heard."""
        if self.seconds < 1.0 or self._energy <= 0.0:
            return None
        return OFFSET + 10.0 * float(np.log10(self._energy / self.seconds))

    def hear(self, power: float, gain: float, elapsed: float) -> None:
        """Something of a K-weighted mean square was heard for so long, `gain` dB louder."""
        now = self._now()
        if now - self.last >= BREAK_SECONDS:
            self.seconds = self._energy = 0.0
            self._reminded = 0
        self.last = now
        self.seconds += elapsed
        self._energy += power * 10.0 ** (gain / 10.0) * elapsed

    def reminder(self, minutes: float) -> str:
        """What there is to be said of the time, each time another `minutes` have passed; empty else, and for 0."""
        if minutes <= 0.0 or self.seconds < (self._reminded + 1) * minutes * 60.0:
            return ""
        self._reminded = int(self.seconds / (minutes * 60.0))
        return f"You have listened for {self.seconds / 60.0:.0f} minutes. A break of ten minutes rests the ears."

    def told(self) -> str:
        """In a few words."""
        if self._now() - self.last >= BREAK_SECONDS or self.seconds < 60.0:
            return ""
        level = self.level
        at = "" if level is None else f" at {level:.0f} LUFS".replace("-", "−")
        return f"{self.seconds / 60.0:.0f} min{at}"
