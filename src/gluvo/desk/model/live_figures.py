"""What is heard now, in figures: levels that fall slowly, peaks that are held, loudness so far; and the last minutes of it."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

import numpy as np

from gluvo.dsp.db import db_of
from gluvo.measure.loudness import OFFSET, SILENT, gated
from gluvo.play.meters import Readings

HOLD_SECONDS, FALL = 1.5, 24.0
"""How long a peak is held, and how many dB a second a level falls."""
HOP = 0.1
"""Seconds between the blocks that count for the loudness so far, and between points of the history."""
RECENT = 3.0
"""Seconds that short-term loudness, RMS and correlation are of."""
MINUTES = 5.0
"""Of history that are kept."""
MOST_HOPS = round(3.0 * 3600.0 / HOP)
"""So much of what was heard counts for the loudness so far."""
SELDOM = 1000
"""It is reckoned anew when this part of it is new: the longer it is, the less a moment changes it, and the more it costs."""


class LiveFigures:
    """Turns the engine's blocks into what meters show. Loudness, RMS and correlation are those of what is heard, before the
    level match and the output level."""

    def __init__(self) -> None:
        self.levels, self.held = [-120.0, -120.0], [-120.0, -120.0]
        self._held_for = [0.0, 0.0]
        self.true_peak = 0.0
        """The largest since it was reset, linear."""
        self.reductions: dict[str, float] = {}
        """dB that each step takes now, by its id, falling slowly."""
        self._recent = np.zeros((0, 5))
        """Seconds, K-weighted power, mean squares and product of the blocks of the last 3 s."""
        self._hop: list[float] = [0.0, 0.0]
        self._hops, self._hopped = np.zeros(MOST_HOPS), 0
        """K-weighted power of every `HOP` since it was reset."""
        self._integrated, self._counted = SILENT, 0
        self.history: deque[Point] = deque(maxlen=round(60.0 * MINUTES / HOP))
        self._hop_reductions: dict[str, float] = {}

    def take(self, readings: Readings, elapsed: float, steps: Sequence[str] = ()) -> None:
        """The blocks since the last call, the seconds that have passed, and the ids of the steps that are told of."""
        for c in range(2):
            peak = db_of(float(readings.peaks[:, c].max(initial=0.0)))
            self.levels[c] = max(peak, self.levels[c] - FALL * elapsed)
            self._held_for[c] += elapsed
            if peak >= self.held[c] or self._held_for[c] > HOLD_SECONDS:
                self.held[c], self._held_for[c] = max(peak, self.levels[c]), 0.0
        self.true_peak = max(self.true_peak, float(readings.true_peak.max(initial=0.0)))
        tops = readings.reductions.max(axis=0).tolist() if len(readings.seconds) else []
        now = dict(zip(steps, tops, strict=False))
        self.reductions = {
            id: max(now.get(id, 0.0), self.reductions.get(id, 0.0) - FALL * elapsed) for id in {*now, *self.reductions}
        }
        self.reductions = {id: value for id, value in self.reductions.items() if id in now or value > 0.0}
        for id, value in now.items():
            self._hop_reductions[id] = max(value, self._hop_reductions.get(id, 0.0))
        if len(readings.seconds):
            blocks = np.column_stack([readings.seconds, readings.power, readings.squares, readings.product])
            recent = np.concatenate([self._recent, blocks])
            after = np.cumsum(recent[::-1, 0])[::-1] - recent[:, 0]
            self._recent = recent[after < RECENT]
            for seconds, power in zip(readings.seconds.tolist(), readings.power.tolist(), strict=True):
                self._count(seconds, power)

    def _count(self, seconds: float, power: float) -> None:
        """A block goes into what counts for the loudness so far, and into the history."""
        while seconds > 1e-9:  # a block may lie in two of them
            part = min(seconds, HOP - self._hop[0])
            seconds -= part
            self._hop[0] += part
            self._hop[1] += part * power
            if self._hop[0] < HOP - 1e-9:
                continue
            if self._hopped == MOST_HOPS:  # the older half no longer counts
                self._hopped = MOST_HOPS // 2
                self._hops[: self._hopped] = self._hops[-self._hopped :]
                self._counted = 0
            self._hops[self._hopped] = self._hop[1] / self._hop[0]
            self._hopped += 1
            self._hop = [0.0, 0.0]
            now = self.loudness(0.4), self.loudness(3.0), self.rms, max(self.levels), self.correlation
            self.history.append(Point(*now, self._hop_reductions))
            self._hop_reductions = {}

    def loudness(self, seconds: float) -> float:
        """Loudness of the last moments, LUFS."""
        energy, weight = self._mean(1, seconds)
        return OFFSET + 10.0 * float(np.log10(max(energy, 1e-20))) if weight else SILENT

    @property
    def integrated(self) -> float:
        """Gated loudness of all since it was reset, LUFS (BS.1770-5): blocks of 400 ms every 100 ms."""
        if self._hopped - self._counted > self._hopped // SELDOM:
            self._counted = self._hopped
            hops = self._hops[: self._hopped]
            whole = np.convolve(hops, np.full(4, 0.25), mode="valid") if len(hops) >= 4 else hops
            self._integrated = gated(whole)
        return self._integrated

    @property
    def rms(self) -> float:
        """Of the last 3 s, dBFS."""
        left, right = self._mean(2, 3.0)[0], self._mean(3, 3.0)[0]
        return db_of(((left + right) / 2.0) ** 0.5)

    @property
    def correlation(self) -> float | None:
        """Of left and right over the last 3 s; None where there is nothing."""
        left, right, product = (self._mean(n, 3.0)[0] for n in (2, 3, 4))
        return product / (left * right) ** 0.5 if left * right > 1e-24 else None

    def _mean(self, column: int, seconds: float) -> tuple[float, float]:
        """The mean of a column over the last moments, and over how many seconds that is."""
        length = self._recent[:, 0]
        after = np.cumsum(length[::-1])[::-1] - length
        part = self._recent[after < seconds]
        weight = float(part[:, 0].sum())
        return (float(part[:, 0] @ part[:, column]) / weight if weight else 0.0), weight

    def reset(self) -> None:
        """Start over: held peaks and the loudness so far are those of what comes from now on."""
        self.true_peak = 0.0
        self.held = list(self.levels)
        self._hopped = 0
        self._hop = [0.0, 0.0]
        self._counted = 0
        self._integrated = SILENT

    def forget(self) -> None:
        """Another sound is heard: start over, with the last moments too."""
        self._recent = self._recent[:0]
        self.reset()


class Point:
    """A moment of the history."""

    __slots__ = ("correlation", "momentary", "peak", "reductions", "rms", "short_term")

    def __init__(
        self,
        momentary: float,
        short_term: float,
        rms: float,
        peak: float,
        correlation: float | None,
        reductions: dict[str, float],
    ) -> None:
        self.momentary, self.short_term, self.rms, self.peak = momentary, short_term, rms, peak
        self.correlation, self.reductions = correlation, reductions
