"""The way out of the computer and back: pings before and after the song tell how late it came back, by what clock, how loud
and which way round.

A ping is an exponential sweep (Farina, 'Simultaneous measurement of impulse response and distortion', 2000) between bounds that
every unit passes. It is found by cross-correlation, and then to a small part of a sample by the slope of the phase between what
was sent and what came, from which the bend of the phase that a low cut makes is taken out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.dsp.db import db_of
from gluvo.dsp.kernel import Floats

LEAD, GAP, TAIL, END = 0.5, 1.1, 2.0, 0.6
"""Seconds of silence before the first ping, between it and the song, between the song and the second ping, and after that."""
PING, LOW, HIGH, LEVEL = 0.4, 200.0, 9000.0, -20.0
"""A ping: s, Hz from and to, dBFS at its peak."""
FADE = 0.02
"""Seconds in which it comes and goes."""
SONG = LEAD + PING + GAP
"""Where the song begins in what is sent, s."""
FURTHEST = 40.0
"""Seconds in which the first ping is looked for, and the last one before the end."""
ALIKE = 0.35
"""The normalised correlation from which something is a ping."""
MOST_DRIFT = 400e-6
"""The part by which clocks may be apart."""
CLEAR_LOW, CLEAR_HIGH = 600.0, 6500.0
"""Hz between which the phase is looked at."""


def ping(rate: float, stretched: float = 0.0) -> Floats:
    """The ping at a rate, mono; longer by a part `stretched`."""
    seconds = PING * (1.0 + stretched)
    t = np.arange(round(seconds * rate)) / rate / (1.0 + stretched)
    k = np.log(HIGH / LOW)
    wave = np.sin(2.0 * np.pi * LOW * PING / k * (np.exp(k * t / PING) - 1.0))
    fade = np.clip(np.minimum(t, PING - t) / FADE, 0.0, 1.0)
    return np.asarray(10.0 ** (LEVEL / 20.0) * wave * np.sin(0.5 * np.pi * fade) ** 2)


def framed(song: np.ndarray, rate: int) -> np.ndarray:
    """What is sent: the song (frames, 2) between pings, float32."""
    one = np.repeat(ping(rate)[:, None], 2, axis=1)

    def still(seconds: float) -> np.ndarray:
        return np.zeros((round(seconds * rate), 2))

    parts = (still(LEAD), one, still(SONG - LEAD - PING), song, still(TAIL), one, still(END))
    return np.concatenate(parts).astype(np.float32)


@dataclass(frozen=True)
class RoundTrip:
    """How what came back lies against what was sent."""

    begins: float
    """Where in what came back the song begins, s."""
    drift: float
    """ppm by which it takes longer."""
    gain: float
    """dB"""
    inverted: bool
    noise: float | None
    """dBFS, RMS, in the silence after the ping; none where that is not in it."""
    pings: int
    """How many of the two were found."""


def round_trip(came: np.ndarray, rate: int, seconds: float) -> RoundTrip | None:
    """Find the pings in what came back (frames, 2) at any rate, of a song of so many seconds; None where there is none."""
    mono = np.asarray(came, dtype=np.float64)
    louder = np.argmax((mono**2).sum(axis=0))
    both = mono.sum(axis=1)
    mono = both if float(both @ both) > 0.5 * float(mono[:, louder] @ mono[:, louder]) else mono[:, louder] * 2.0
    near = round(FURTHEST * rate)
    apart = SONG - LEAD + seconds + TAIL  # from the first ping to the second
    drift = 0.0
    first: _Ping | None = None
    last: _Ping | None = None
    for _ in range(3):  # a ping that is stretched by the drift is found a little beside its place
        one = 2.0 * ping(rate, drift)
        first = _found(mono, one, rate, slice(0, near + len(one)), earliest=True)
        last = _found(mono, one, rate, slice(max(0, len(mono) - near - len(one)), len(mono)), earliest=False)
        if first is None or last is None:
            break
        if abs(last.at - first.at) < PING:  # the same one twice: it began late, or ended early
            first, last = (None, last) if first.at > 0.5 * len(mono) / rate else (first, None)
            break
        before, drift = drift, (last.at - first.at) / apart - 1.0
        if abs(drift) > MOST_DRIFT:  # one of the two is something else
            last, drift = None, 0.0
            break
        if abs(drift - before) < 1e-9:
            break
    if first is None and last is None:
        return None
    if first is not None:
        begins = first.at + (SONG - LEAD) * (1.0 + drift)
    else:
        assert last is not None
        begins = last.at - (seconds + TAIL) * (1.0 + drift)
    gains = [abs(p.gain) for p in (first, last) if p is not None]
    return RoundTrip(
        begins,
        drift * 1e6,
        db_of(float(np.mean(gains))),
        (first or last).gain < 0.0,  # type: ignore[union-attr]
        _noise(np.asarray(came), rate, first.at) if first is not None else None,
        len(gains),
    )


@dataclass(frozen=True)
class _Ping:
    at: float
    """s"""
    gain: float
    """The factor by which it came; negative where it is turned."""


def _found(x: Floats, one: Floats, rate: int, where: slice, earliest: bool) -> _Ping | None:
    """Where the earliest or the last ping in a stretch of a sound begins, if there is any."""
    from scipy import signal  # it takes long to load

    first = where.start
    x = x[where]
    if len(x) < len(one):
        return None
    products = signal.correlate(x, one, mode="valid", method="fft")
    power = np.concatenate([[0.0], np.cumsum(x**2)])
    floor = 1e-6 * float(one @ one)  # 60 dB under the ping there is none
    alike = np.abs(products) / np.sqrt(np.maximum(power[len(one) :] - power[: -len(one)], floor) * float(one @ one))
    most = float(alike.max())
    if most < ALIKE:
        return None
    good = np.flatnonzero(alike >= max(ALIKE, 0.7 * most))
    edge = good[0] if earliest else good[-1]
    near = slice(max(0, edge - len(one) // 2), edge + len(one) // 2)
    best = near.start + int(np.argmax(alike[near]))
    part, gain = _beside(x, one, best, rate)
    return _Ping((first + best + part) / rate, gain)


def _beside(x: Floats, one: Floats, best: int, rate: int) -> tuple[float, float]:
    """The part of a frame by which a ping lies after a place, and its factor, by the phase between both."""
    size = 1 << int(np.ceil(np.log2(len(one) + 4096)))
    before = min(best, 1024)
    there = np.zeros(size)
    piece = x[best - before : best - before + size]
    there[: len(piece)] = piece
    sent = np.zeros(size)
    sent[before : before + len(one)] = one
    spectrum = np.fft.rfft(there) * np.conj(np.fft.rfft(sent))
    power = np.abs(np.fft.rfft(sent)) ** 2
    freqs = np.fft.rfftfreq(size, 1.0 / rate)
    inside = (freqs >= CLEAR_LOW) & (freqs <= CLEAR_HIGH)
    ratio, w = spectrum[inside], 2.0 * np.pi * freqs[inside]
    weight = power[inside]
    sign = 1.0 if float((ratio.real * weight).sum()) >= 0.0 else -1.0
    phase = np.unwrap(np.angle(sign * ratio))
    phase -= 2.0 * np.pi * round(float(np.average(phase, weights=weight)) / (2.0 * np.pi))
    design = np.stack([-w, 1.0 / w], axis=1)  # late by a time; a low cut
    root = np.sqrt(weight)
    solved, *_ = np.linalg.lstsq(design * root[:, None], phase * root, rcond=None)
    gain = float(np.sqrt((np.abs(ratio) ** 2).sum() / (weight**2).sum()))
    return float(solved[0]) * rate, sign * gain


def _noise(came: np.ndarray, rate: int, at: float) -> float | None:
    """The RMS level between the first ping and the song, dBFS."""
    first, last = round((at + PING + 0.3) * rate), round((at + PING + GAP - 0.1) * rate)
    still = came[first:last].astype(np.float64)
    return db_of(float(np.sqrt(np.mean(still**2)))) if len(still) > rate // 10 else None
