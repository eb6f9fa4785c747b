"""Outlines of audio and of reduction, for drawing and for counting."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, Protocol, Self

import numpy as np

from gluvo.dsp.kernel import Floats, Singles, kernel
from gluvo.dsp.simd_max import largest
from gluvo.dsp.vectors import fma8, load8, splat8, total8
from gluvo.measure.trace import Span, Trace
from gluvo.measure.truepeak import hop_frames

OUTLINE_HOP = 256
"""Frames between points of an outline."""
POINTS = 1024
"""Points of an outline that are read at a time."""
REDUCTION_HOP = 16
"""Frames between points of a reduction's curve."""


class Sliced(Protocol):
    """Audio of which slices are arrays, as those of an array are."""

    def __len__(self) -> int: ...

    def __getitem__(self, frames: slice, /) -> np.ndarray: ...


@dataclass(frozen=True, eq=False)
class Outline:
    """The smallest and largest sample of both channels in every `OUTLINE_HOP` frames."""

    low: Floats
    high: Floats
    rate: int


def outline_of(x: Sliced, rate: int) -> Outline:
    """The outline of audio, (frames, 2), which is read by slices.

    >>> outline_of(np.ones((48000, 2), dtype=np.float32), 48000).rate
    48000
    """
    count = -(-len(x) // OUTLINE_HOP)
    low, high = np.zeros(count), np.zeros(count)
    for first in range(0, count, POINTS):  # by slices, so that what is made when it is read is never made as a whole
        part = slice(first, first + POINTS)
        _extremes(x[first * OUTLINE_HOP : (first + POINTS) * OUTLINE_HOP], OUTLINE_HOP, low[part], high[part])
    return Outline(low, high, rate)


@kernel
def _extremes(x: Singles, hop: int, low: Floats, high: Floats) -> None:
    for k in range(low.shape[0]):
        bottom, top = 0.0, 0.0
        for i in range(k * hop, min(x.shape[0], (k + 1) * hop)):
            bottom = min(bottom, min(x[i, 0], x[i, 1]))
            top = max(top, max(x[i, 0], x[i, 1]))
        low[k], high[k] = bottom, top


PEAKS_SHARE = 0.05
"""The share of the time in which more is taken than is told as taken at peaks."""
WORTH = 0.1
"""dB of reduction that count as work."""
APART = 0.5
"""Seconds between catches that are listed apart."""


@dataclass(frozen=True)
class Catch:
    """A place where much is taken."""

    seconds: float
    taken: float
    """dB"""


@dataclass(frozen=True)
class Working:
    """How often a step works, and how long."""

    times: int
    mean_seconds: float
    share: float
    """Of the time, 0–1."""


ReducedBy = Literal["peaks", "most", "mean"]
"""Which figure of a reduction; see `Reduced`."""
REDUCED_BY: Mapping[ReducedBy, str] = {"peaks": "at peaks", "most": "at most", "mean": "on average"}
"""In words."""


@dataclass(frozen=True)
class Reduced:
    """What a step takes away over a span, dB; only where it has signal."""

    mean: float
    """On average."""
    peaks: float
    """What is passed `PEAKS_SHARE` of the time: what is read off a meter when hits come."""
    most: float
    """At most."""

    @classmethod
    def among(cls, values: Floats) -> Self:
        """The figures of amounts that all count alike."""
        if not len(values):
            return cls(0.0, 0.0, 0.0)
        return cls(float(values.mean()), float(np.quantile(values, 1.0 - PEAKS_SHARE)), float(values.max()))

    def of(self, by: ReducedBy) -> float:
        """One of the three."""
        return {"peaks": self.peaks, "most": self.most, "mean": self.mean}[by]

    @property
    def words(self) -> str:
        """All three, as they are told."""
        return f"{self.peaks:.1f} dB off at peaks, {self.most:.1f} at most, {self.mean:.1f} on average"

    @property
    def short(self) -> str:
        """All three where there is little room."""
        return f"{self.peaks:.1f} dB at peaks, {self.most:.1f} at most, {self.mean:.1f} mean"


@dataclass(frozen=True, eq=False)
class Reduction:
    """What a step takes away, in dB ≥ 0."""

    rate: int
    curve: np.ndarray
    """Largest of every `REDUCTION_HOP` frames, float32."""
    mean: Floats
    """Means over every 10 ms."""
    top: Floats
    """Largest of every 10 ms."""
    busy: Floats
    """The share of every 10 ms in which anything is taken, 0–1."""

    @property
    def curve_rate(self) -> float:
        return self.rate / REDUCTION_HOP

    def largest(self, span: Span | None = None) -> float:
        """The largest reduction, dB."""
        return float(self.top[self._rows(span)].max(initial=0.0))

    def average(self, heard: np.ndarray, span: Span | None = None) -> float:
        """The mean reduction in dB over the hops that are `heard` (see `heard_hops`)."""
        values = self.heard_values(heard, span)
        return float(values.mean()) if len(values) else 0.0

    def heard_values(self, heard: np.ndarray, span: Span | None = None) -> Floats:
        """The mean reduction in dB of each hop that is `heard`."""
        rows = self._rows(span)
        mean, mask = self.mean[rows], heard[: len(self.mean)][rows]
        return mean[: len(mask)][mask]

    def reduced(self, heard: np.ndarray, span: Span | None = None) -> Reduced:
        """The figures over a span; those of the mean and the peaks where it is `heard` (see `heard_hops`)."""
        first = round(span.start * self.curve_rate) if span is not None else 0
        curve = self._part(span)
        rows = (max(0, first) + np.arange(len(curve))) * REDUCTION_HOP // hop_frames(self.rate)
        counted = curve[heard[np.minimum(rows, len(heard) - 1)]] if len(heard) and len(curve) else curve[:0]
        peaks = float(np.quantile(counted, 1.0 - PEAKS_SHARE)) if len(counted) else 0.0
        return Reduced(self.average(heard, span), peaks, self.largest(span))

    def cut(self, span: Span) -> Reduction:
        """That of a span alone."""
        rows, fine = (
            self._rows(span),
            slice(*(int(t * self.rate + 0.5) // REDUCTION_HOP for t in (span.start, span.end))),
        )
        return Reduction(self.rate, self.curve[fine], self.mean[rows], self.top[rows], self.busy[rows])

    def share_over(self, db: float, span: Span | None = None) -> float:
        """The share of the time, 0–1, in which more than so many dB are taken."""
        part = self._part(span)
        return float((part > db).mean()) if len(part) else 0.0

    def share_taken(self, span: Span | None = None) -> float:
        """The share of samples, 0–1, from which anything is taken."""
        rows = self.busy[self._rows(span)]
        return float(rows.mean()) if len(rows) else 0.0

    def working(self, span: Span | None = None) -> Working:
        """How often more than `WORTH` dB are taken, and for how long at a time."""
        over = self._part(span) > WORTH
        times = int(np.count_nonzero(np.diff(over.astype(np.int8), prepend=0) == 1))
        seconds = float(over.sum()) * REDUCTION_HOP / self.rate
        return Working(times, seconds / times if times else 0.0, float(over.mean()) if len(over) else 0.0)

    def hardest(self, span: Span | None = None, count: int = 10) -> tuple[Catch, ...]:
        """The places where most is taken, hardest first, none within `APART` seconds of another."""
        rows, hop = self._rows(span), hop_frames(self.rate) / self.rate
        top = self.top[rows].copy()
        first, gap = rows.start or 0, round(APART / hop)
        found: list[Catch] = []
        while len(found) < count and len(top) and (taken := float(top.max())) > WORTH:
            at = int(np.argmax(top))
            found.append(Catch((first + at + 0.5) * hop, taken))
            top[max(0, at - gap) : at + gap + 1] = 0.0
        return tuple(found)

    def _part(self, span: Span | None) -> np.ndarray:
        """The curve over a span."""
        if span is None:
            return self.curve
        return self.curve[max(0, round(span.start * self.curve_rate)) : max(0, round(span.end * self.curve_rate))]

    def _rows(self, span: Span | None) -> slice:
        if span is None:
            return slice(None)
        hop = hop_frames(self.rate) / self.rate
        return slice(max(0, round(span.start / hop)), max(0, round(span.end / hop)))


def overs(trace: Trace, above_db: float = 0.0, count: int = 50) -> tuple[Catch, ...]:
    """The places where the true peak passes a level in dBTP, highest first, none within `APART` seconds of another.

    >>> from gluvo.measure.trace import trace_of
    >>> x = np.zeros((48000, 2)); x[24200] = 2.0
    >>> [round(over.seconds, 1) for over in overs(trace_of(x, 48000))]
    [0.5]
    """
    peaks = 20.0 * np.log10(np.maximum(trace.true_peak, 1e-10)) - above_db
    gap = round(APART / trace.hop_seconds)
    found: list[Catch] = []
    while len(found) < count and len(peaks) and (most := float(peaks.max())) > 0.0:
        at = int(np.argmax(peaks))
        found.append(Catch((at + 0.5) * trace.hop_seconds, most))
        peaks[max(0, at - gap) : at + gap + 1] = -np.inf
    return tuple(found)


class ReductionTracer:
    """Collects a step's reduction, block by block."""

    def __init__(self, rate: int, frames: int) -> None:
        self._rate, self._at, self._frames = rate, 0, frames
        self._curve = np.zeros(-(-frames // REDUCTION_HOP), dtype=np.float32)
        hops = -(-frames // hop_frames(rate))
        self._mean, self._top, self._busy = np.zeros(hops), np.zeros(hops), np.zeros(hops)

    def push(self, reduction: Floats) -> None:
        """The next block of per-frame reduction."""
        hop = hop_frames(self._rate)
        _collect(reduction, self._at, self._frames, hop, self._curve, self._mean, self._top, self._busy)
        self._at += len(reduction)

    def finish(self) -> Reduction:
        return Reduction(self._rate, self._curve, self._mean, self._top, self._busy)


@kernel
def _collect(
    reduction: Floats, at: int, frames: int, hop: int, curve: Singles, mean: Floats, top: Floats, busy: Floats
) -> None:
    n = max(0, min(reduction.shape[0], frames - at))
    _draw(reduction[:n], at, curve)
    i = 0
    while i < n:
        row = (at + i) // hop
        stop = min(n, (row + 1) * hop - at)
        part, some = reduction[i:stop], 0
        for k in range(part.shape[0]):
            some += part[k] > 0.0
        mean[row] += _sum(part) / hop
        top[row] = max(top[row], largest(part))
        busy[row] += some / hop
        i = stop


@kernel
def _draw(reduction: Floats, at: int, curve: Singles) -> None:
    """The largest of every point of the curve: four go side by side, which need not wait for one another."""
    i, n = 0, reduction.shape[0]
    while i < n:
        place = (at + i) // REDUCTION_HOP
        stop = min(n, (place + 1) * REDUCTION_HOP - at)
        most, a, b, c, d, k = float(curve[place]), 0.0, 0.0, 0.0, 0.0, i
        while k + 4 <= stop:
            a, b = max(a, reduction[k]), max(b, reduction[k + 1])
            c, d = max(c, reduction[k + 2]), max(d, reduction[k + 3])
            k += 4
        while k < stop:
            a = max(a, reduction[k])
            k += 1
        curve[place] = max(most, max(max(a, b), max(c, d)))
        i = stop


@kernel
def _sum(x: Floats) -> float:
    """The sum of values, eight at a time."""
    sums, one, k = splat8(0.0), splat8(1.0), 0
    while k + 8 <= x.shape[0]:
        sums = fma8(one, load8(x, k), sums)
        k += 8
    total = total8(sums)
    for j in range(k, x.shape[0]):
        total += x[j]
    return total


HEARD_FROM = -50.0
"""dBFS of RMS from which sound counts in means."""


def heard_hops(trace: Trace, above_db: float = HEARD_FROM) -> np.ndarray:
    """Which 10 ms have signal: RMS over the surrounding 100 ms above `above_db` dBFS. Only these count in means.

    >>> from gluvo.measure.trace import trace_of
    >>> heard_hops(trace_of(np.zeros((9600, 2)), 48000)).any().item()
    False
    """
    power = trace.squares.mean(axis=1)
    smooth = np.convolve(power, np.full(10, 0.1), mode="same") if len(power) >= 10 else power
    return np.asarray(smooth > 10.0 ** (above_db / 10.0))
