"""Hits: the mean transient before and after a step, and what the step's reduction does around it."""

from __future__ import annotations

import concurrent.futures
from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Audio, Floats, Ints, Singles, kernel
from gluvo.progress import CORES, step_back

ENVELOPE_HOP = 0.0005
"""Seconds between points of an envelope."""
BEFORE, AFTER = 0.020, 0.430
"""What is shown before and after the onset, in seconds."""


@dataclass(frozen=True, eq=False)
class Hits:
    """Envelopes aligned at the onsets of a stretch of audio. All curves share `times`."""

    onsets: Floats
    """Seconds from the start of the audio."""
    times: Floats
    """Seconds from the onset."""
    before: Floats
    """Mean envelope before the step, dBFS; `before_low` and `before_high` are its quartiles."""
    before_low: Floats
    before_high: Floats
    after: Floats
    after_low: Floats
    after_high: Floats
    reduction: Floats
    """Mean reduction, dB."""
    punch_kept: float
    """Punch after ÷ before: punch is the peak of the first 10 ms over the level 50–150 ms after the onset."""
    recovery: float
    """Seconds from the largest reduction until only 10 % of its rise is left; `inf` if not reached before the next hit."""
    spacing: float
    """Median time to the next hit, seconds."""
    pumping: float
    """See `pumping_share`."""
    following: float = 0.0
    """See `following_share`."""


RISE_SECONDS = 0.06
FOLLOWED_A_SECOND = 50.0
"""How finely the time since a hit is told apart."""


def calm(curve: np.ndarray) -> np.ndarray:
    """An envelope without the half-waves of low notes: the largest of 8 ms, then their mean. For drawing only."""
    windows = np.lib.stride_tricks.sliding_window_view(np.pad(curve, 8, mode="edge"), 17)
    return np.asarray(np.convolve(np.pad(windows.max(axis=1), 4, mode="edge"), np.full(9, 1 / 9), mode="valid"))


def find_onsets(x: np.ndarray, rate: int, gap: float = 0.08, envelope: Floats | None = None) -> Floats:
    """Onsets in seconds, at least `gap` apart, by spectral flux.

    The flux is the summed rise of the log-magnitude spectrum (Bello et al., 'A tutorial on onset detection', IEEE
    TSAP 13(5), 2005), peaks of which stand over its local median; each is then moved to where the envelope
    rises, which places it within 3 ms. `envelope`: the `peak_envelope` of `x`, if there is one already.

    >>> x = np.zeros((48000, 2)); x[12000:12500] = 0.5
    >>> bool(abs(find_onsets(x, 48000)[0] - 0.25) < 0.003)
    True
    """
    mono = (x[:, 0].astype(np.float64) + x[:, 1]) / 2.0
    hop, size = max(1, round(0.003 * rate)), round(0.012 * rate)
    if len(mono) < 4 * size:
        return np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(np.concatenate([np.zeros(size), mono]), size)[::hop]
    window = np.hanning(size) * 2.0 / size
    flux = np.zeros(len(frames))

    def rise(start: int) -> None:
        """The flux of a part, with the frame before it: a long section needs little memory so, and uses all cores."""
        first = max(0, start - 1)
        spectra = np.fft.rfft(frames[first : start + 512] * window, axis=1)
        level = np.log(1.0 + 1000.0 * np.sqrt(spectra.real**2 + spectra.imag**2))
        flux[first + 1 : first + len(level)] = np.maximum(0.0, np.diff(level, axis=0)).sum(axis=1)

    with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-hits", step_back) as pool:
        list(pool.map(rise, range(0, len(frames), 512)))
    excess = flux - moving_median(flux, max(3, round(0.25 * rate / hop)) | 1)
    height = max(0.25 * float(np.percentile(excess, 99.0)), 1e-3)
    peaks = highest_peaks(excess, height, max(1, round(gap * rate / hop)))
    envelope = peak_envelope(x, rate) if envelope is None else envelope
    rough = (peaks * hop + size / 2 - size) / rate
    return _refine(envelope, rough, gap)


def rise_at(x: np.ndarray, rate: int, onsets: Floats) -> Floats:
    """By how much the power of `x` (frames, 2) is more in the 60 ms after each of some onsets (s) than in those before it, as a
    factor: about 1 where a low note only beats as it goes on, which flux takes for a beginning; infinite after silence.

    >>> x = np.ones((9600, 2)); x[4800:] *= 2.0
    >>> rise_at(x, 48000, np.array([0.1])).tolist()
    [4.0]
    """
    power = np.concatenate([[0.0], np.cumsum((np.asarray(x, dtype=np.float64) ** 2).sum(axis=1))])
    at = np.clip(np.round(onsets * rate).astype(int), 0, len(x))
    size = round(RISE_SECONDS * rate)
    after, before = power[np.minimum(at + size, len(x))] - power[at], power[at] - power[np.maximum(at - size, 0)]
    return np.asarray(np.divide(after, before, out=np.full(len(at), np.inf), where=before > 0.0))


def moving_median(values: Floats, size: int) -> Floats:
    """The median of `size` (odd) values about each one; the ends are repeated.

    >>> moving_median(np.array([1.0, 9.0, 1.0, 1.0]), 3).tolist()
    [1.0, 1.0, 1.0, 1.0]
    """
    padded = np.pad(values, size // 2, mode="edge")
    return np.asarray(np.median(np.lib.stride_tricks.sliding_window_view(padded, size), axis=1))


def highest_peaks(values: Floats, height: float, distance: int) -> np.ndarray:
    """Places of local maxima of at least `height`, the highest first to keep others `distance` away; sorted.

    >>> highest_peaks(np.array([0.0, 3.0, 0.0, 5.0, 0.0]), 1.0, 3).tolist()
    [3]
    """
    inner = values[1:-1]
    places = np.flatnonzero((inner > values[:-2]) & (inner >= values[2:]) & (inner >= height)) + 1
    free = np.ones(len(values), dtype=bool)
    kept = []
    for place in places[np.argsort(-values[places], kind="stable")]:
        if free[place]:
            kept.append(int(place))
            free[max(0, place - distance + 1) : place + distance] = False
    return np.array(sorted(kept), dtype=np.int64)


def strong(onsets: Floats, envelope: Floats) -> Floats:
    """The onsets that are hits: their peak stands well over what came just before.

    In a dense mix every note is an onset, and the mean of all is flat; the hits are those with at least two
    thirds of the rise, in dB, of the strongest tenth, and at least 3 dB.
    """
    places = np.round(onsets / ENVELOPE_HOP).astype(np.int64)
    rises = np.zeros(len(places))
    for n, at in enumerate(places):
        past, now = envelope[max(0, at - 80) : max(0, at - 6)], envelope[at : at + 24]
        if len(now):
            rises[n] = 20.0 * np.log10((now.max() + 1e-6) / (past.mean() + 1e-6 if len(past) else 1e-6))
    rises = np.minimum(rises, 40.0)  # after silence, any hit is a strong one
    if not len(rises):
        return onsets
    return onsets[rises >= max(3.0, float(np.percentile(rises, 90.0)) * 2.0 / 3.0)]


def _refine(envelope: Floats, rough: Floats, gap: float) -> Floats:
    """Move each onset to where the envelope first passes a quarter of the height it is about to reach."""
    found: list[float] = []
    for onset in rough:
        first = max(0, round((onset - 0.012) / ENVELOPE_HOP))
        part = envelope[first : first + round(0.036 / ENVELOPE_HOP)]
        if not len(part):
            continue
        top = int(part.argmax())
        low = float(part[: top + 1].min())
        place = first + int(np.argmax(part[: top + 1] > low + 0.25 * (part[top] - low)))
        time = place * ENVELOPE_HOP
        if not found or time - found[-1] >= 0.9 * gap:
            found.append(time)
    return np.array(found)


def peak_envelope(x: np.ndarray, rate: int) -> Floats:
    """The largest magnitude of either channel in each `ENVELOPE_HOP`.

    >>> len(peak_envelope(np.ones((48000, 2)), 48000))
    2000
    """
    count = int(len(x) / rate / ENVELOPE_HOP)
    edges = np.round(np.arange(count + 1) * ENVELOPE_HOP * rate).astype(np.int64)
    out = np.zeros(count)
    _largest(x, edges, out)
    return out


@kernel
def _largest(x: Audio | Singles, edges: Ints, out: Floats) -> None:
    for k in range(out.shape[0]):
        top = 0.0
        for i in range(edges[k], edges[k + 1]):
            top = max(top, max(abs(x[i, 0]), abs(x[i, 1])))
        out[k] = top


def hits_of(before: np.ndarray, after: np.ndarray, reduction: Floats, reduction_rate: float, rate: int) -> Hits | None:
    """Compare hits before and after a step, aligned in time, with the step's reduction in dB over them.

    `before` and `after` are (frames, 2); `reduction` has `reduction_rate` values a second. None if there are
    fewer than two hits.
    """
    env_before, env_after = peak_envelope(before, rate), peak_envelope(after, rate)
    onsets = strong(find_onsets(before, rate, envelope=env_before), env_before)
    points = np.arange(-round(BEFORE / ENVELOPE_HOP), round(AFTER / ENVELOPE_HOP))
    places = np.round(onsets / ENVELOPE_HOP).astype(np.int64)
    inside = (places + points[0] >= 0) & (places + points[-1] < min(len(env_before), len(env_after)))
    onsets, places = onsets[inside], places[inside]
    if len(onsets) < 2:
        return None
    index = places[:, None] + points[None, :]
    times = np.asarray(points * ENVELOPE_HOP, dtype=np.float64)
    dry, wet = env_before[index], env_after[index]
    at = np.arange(len(reduction)) / reduction_rate
    curve = np.interp(onsets[:, None] + times[None, :], at, reduction).mean(axis=0) if len(reduction) else 0 * times
    spacing = float(np.median(np.diff(onsets)))
    return Hits(
        onsets,
        times,
        *(_spread(dry)),
        *(_spread(wet)),
        curve,
        punch_kept=punch(wet, times) / punch(dry, times),
        recovery=_recovery(curve, times),
        spacing=spacing,
        pumping=pumping_share(reduction, reduction_rate, 1.0 / spacing),
        following=following_share(reduction, reduction_rate, onsets),
    )


def punch(envelopes: Floats, times: Floats) -> float:
    """Peak within 10 ms of the onset over the level 50–150 ms after it, of the mean of `envelopes` (hits, points).

    >>> times = np.arange(-0.02, 0.43, 0.0005)
    >>> float(punch(np.ones((3, len(times))), times))
    1.0
    """
    mean = np.sqrt((envelopes**2).mean(axis=0))
    peak = mean[(times >= -0.001) & (times < 0.010)].max()
    body = np.sqrt((mean[(times >= 0.050) & (times < 0.150)] ** 2).mean())
    return float(max(peak, 1e-9) / max(body, 1e-9))


def pumping_share(reduction: Floats, reduction_rate: float, hits_per_second: float) -> float:
    """The share of the reduction's variance at the hits' rate and its multiples 2 to 4; 0 where it hardly moves.

    >>> t = np.arange(3000) / 300
    >>> round(pumping_share(1.0 + np.sin(2 * np.pi * 2.0 * t), 300.0, 2.0), 2)
    1.0
    """
    moved = np.asarray(reduction, dtype=np.float64) - np.mean(reduction)
    if len(moved) < 16 or float(moved.std()) < 0.01:
        return 0.0
    power = np.abs(np.fft.rfft(moved * np.hanning(len(moved)))) ** 2
    freqs = np.fft.rfftfreq(len(moved), 1.0 / reduction_rate)
    width = max(0.04 * hits_per_second, 2.5 * freqs[1])
    near = np.zeros(len(freqs), dtype=bool)
    for multiple in range(1, 5):
        near |= np.abs(freqs - multiple * hits_per_second) <= width
    return float(power[near].sum() / power.sum())


def following_share(reduction: Floats, reduction_rate: float, onsets: Floats) -> float:
    """The share of the reduction's variance that the time since the last of some `onsets` (s) accounts for, which need not be
    regular; 0 where it hardly moves.

    >>> t, hits = np.arange(3000) / 300, np.array([0.0, 1.5, 2.0, 4.0, 5.5, 6.0, 8.0])
    >>> since = t - hits[np.searchsorted(hits, t, side="right") - 1]
    >>> round(following_share(np.exp(-since), 300.0, hits), 2)
    1.0
    """
    at = np.arange(len(reduction)) / reduction_rate
    last = np.searchsorted(onsets, at, side="right") - 1
    moved = np.asarray(reduction, dtype=np.float64)[last >= 0]
    if len(moved) < 16 or float(moved.std()) < 0.01:
        return 0.0
    since = np.round((at[last >= 0] - onsets[last[last >= 0]]) * FOLLOWED_A_SECOND).astype(int)
    counts = np.bincount(since)
    typical = np.bincount(since, moved) / np.maximum(counts, 1)
    return 1.0 - float((moved - typical[since]).var() / moved.var())


def _spread(envelopes: Floats) -> tuple[Floats, Floats, Floats]:
    """Mean, lower and upper quartile over hits, in dBFS."""
    low, high = np.percentile(envelopes, [25.0, 75.0], axis=0)
    return power_db((envelopes**2).mean(axis=0)), power_db(low**2), power_db(high**2)


def _recovery(curve: Floats, times: Floats) -> float:
    top = int(np.argmax(curve))
    rest = float(curve.min())
    if curve[top] - rest < 0.05:
        return 0.0
    low = np.flatnonzero(curve[top:] <= rest + 0.1 * (curve[top] - rest))
    return float(times[top + low[0]] - times[top]) if len(low) and curve[-1] < curve[top] else float("inf")
