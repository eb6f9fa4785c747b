"""The instruments of the demo: one note at a time, mono, at `RATE`. All noise comes from a generator that is handed in."""

from __future__ import annotations

import functools

import numpy as np

from gluvo.dsp.filters import Sections, cascade, high_cut, low_cut
from gluvo.dsp.kernel import Floats, kernel

RATE = 48_000
Random = np.random.Generator


def pitch(midi: float) -> float:
    """Frequency in Hz of a MIDI note number."""
    return 440.0 * 2.0 ** ((midi - 69.0) / 12.0)


def seconds(length: float) -> Floats:
    return np.arange(int(length * RATE)) / RATE


@functools.cache
def _band(low: float, high: float) -> Floats:
    return cascade(low_cut(low, 12, RATE), high_cut(high, 12, RATE))


def filtered(sos: Floats, x: Floats) -> Floats:
    """A mono signal through sections."""
    both = np.repeat(x[:, None], 2, axis=1)
    Sections(sos).run(both, both)
    return both[:, 0]


def shaped_noise(random: Random, length: float, low: float, high: float) -> Floats:
    """Noise between two frequencies, RMS 1."""
    noise = filtered(_band(low, high), random.standard_normal(int(length * RATE)))
    return np.asarray(noise / noise.std())


@kernel
def _tone(freq: Floats, start: Floats, end: Floats, sines: Floats, cosines: Floats, out: Floats) -> None:
    """Sum of harmonics whose levels move from `start` to `end`; sines of multiples by recurrence."""
    phase, frames = 0.0, out.shape[0]
    for i in range(frames):
        phase += freq[i] / RATE
        phase -= np.floor(phase)
        angle = 2.0 * np.pi * phase
        s, c = np.sin(angle), np.cos(angle)
        two_cos, s_before, c_before = 2.0 * c, 0.0, 1.0
        share, total = i / frames, 0.0
        for k in range(start.shape[0]):
            total += (start[k] + share * (end[k] - start[k])) * (sines[k] * s + cosines[k] * c)
            s_before, s = s, two_cos * s - s_before
            c_before, c = c, two_cos * c - c_before
        out[i] = total


def tone(freq: Floats, start: Floats, end: Floats) -> Floats:
    """A tone of harmonics. Their phases are spread (M. Schroeder, 1970), so that they do not add up to spikes."""
    k = np.arange(len(start))
    phases = -np.pi * k * (k + 1) / max(1, len(start)) * 0.8
    out = np.zeros(len(freq))
    _tone(freq, start, end, np.cos(phases), np.sin(phases), out)
    return out


@kernel
def _pluck(delay: float, loss: float, bright: float, excitation: Floats, out: Floats) -> None:
    """A plucked string (K. Karplus and A. Strong, CMJ 7(2), 1983) with a fractional delay and damped highs."""
    whole = int(delay)
    part = delay - whole
    line = np.zeros(whole + 2)
    damped = 0.0
    for i in range(out.shape[0]):
        at = i % (whole + 1)
        after = (i + 1) % (whole + 1)
        read = line[after] * (1.0 - part) + line[at] * part
        damped = damped + bright * (read - damped)
        fresh = excitation[i] if i < excitation.shape[0] else 0.0
        out[i] = fresh + read
        line[at] = fresh + damped * loss


@kernel
def softened(x: Floats, pole: float) -> Floats:
    """A one-pole low-pass."""
    out, y = np.zeros(len(x)), 0.0
    for i in range(len(x)):
        y = x[i] + pole * y
        out[i] = y
    return out


def pluck(random: Random, midi: float, length: float, bright: float, velocity: float) -> Floats:
    """A plucked string; `bright` 0–1 tells how long its highs last."""
    period = RATE / pitch(midi)
    burst = random.standard_normal(int(period))
    soft = softened(burst, 0.75 - 0.5 * velocity)
    soft -= soft.mean()  # a string that is pulled aside swings about where it rests
    out = np.zeros(int(length * RATE))
    _pluck(period - 0.5 / bright, 0.9965, bright, soft / np.abs(soft).max(), out)
    t = seconds(length)
    return np.asarray(out * np.exp(-t * 2.0 / length) * velocity * 0.35)


def kick(random: Random, velocity: float) -> Floats:
    t = seconds(0.5)
    sweep = 47.0 + 70.0 * np.exp(-t / 0.028) + 120.0 * np.exp(-t / 0.004)
    body = np.sin(2 * np.pi * np.cumsum(sweep) / RATE) * np.exp(-t / 0.13)
    beater = shaped_noise(random, 0.5, 1800, 5500) * np.exp(-t / 0.005) * 0.10 * velocity
    return np.asarray((body + beater) * (1.0 - np.exp(-t / 0.0008)) * velocity)


def snare(random: Random, velocity: float) -> Floats:
    t = seconds(0.4)
    shell = np.sin(2 * np.pi * 186 * t) * np.exp(-t / 0.06) + 0.6 * np.sin(2 * np.pi * 331 * t) * np.exp(-t / 0.04)
    wires = shaped_noise(random, 0.4, 1200, 9500) * (np.exp(-t / 0.07) + 0.25 * np.exp(-t / 0.16)) * 0.33
    return np.asarray((0.5 * shell + wires * (0.4 + 0.6 * velocity)) * (1.0 - np.exp(-t / 0.0005)) * velocity)


def tom(random: Random, freq: float, velocity: float) -> Floats:
    t = seconds(0.7)
    sweep = freq * (1.0 + 0.35 * np.exp(-t / 0.03))
    body = np.sin(2 * np.pi * np.cumsum(sweep) / RATE) * np.exp(-t / 0.2)
    over = 0.4 * np.sin(2 * np.pi * 1.59 * freq * t) * np.exp(-t / 0.09)
    stick = shaped_noise(random, 0.7, 900, 6000) * np.exp(-t / 0.008) * 0.12
    return np.asarray((body + over + stick) * velocity * 0.8)


def cymbal(random: Random, length: float, velocity: float, dark: float = 0.0) -> Floats:
    """A struck plate: a dense cloud of inharmonic partials and noise, highs dying first."""
    t = seconds(length)
    freqs = 320.0 * np.exp(random.random(28) * 3.9)
    rings = np.zeros(len(t))
    for f in freqs:
        rings += np.sin(2 * np.pi * f * t + random.random() * 6.3) * np.exp(-t / (length * 0.3) * (0.5 + f / 9000))
    wash = shaped_noise(random, length, 3500 * (1 - 0.5 * dark), 15000) * np.exp(-t / (length * 0.2))
    ping = shaped_noise(random, length, 5000, 12000) * np.exp(-t / 0.012)
    return np.asarray((rings * 0.05 + wash * 0.25 + ping * 0.25 * velocity) * velocity * 0.35)


def marimba(random: Random, midi: float, velocity: float) -> Floats:
    f, t = pitch(midi), seconds(0.7)
    decay = 0.38 * (220.0 / f) ** 0.5
    bar = np.sin(2 * np.pi * f * t) * np.exp(-t / decay)
    bar += 0.22 * velocity * np.sin(2 * np.pi * 3.93 * f * t) * np.exp(-t / (decay * 0.25))
    if 9.2 * f < 20000:
        bar += 0.07 * velocity**2 * np.sin(2 * np.pi * 9.2 * f * t) * np.exp(-t / (decay * 0.1))
    knock = shaped_noise(random, 0.7, 400, 2500) * np.exp(-t / 0.006) * 0.05
    release = np.minimum(1.0, np.maximum(0.0, (0.7 - t) / 0.08))  # the mallet is laid on it: it does not end at once
    return np.asarray((bar + knock) * velocity * (1.0 - np.exp(-t / 0.0006)) * release * 0.5)


def bass(random: Random, midi: float, length: float, velocity: float) -> Floats:
    """An upright bass: a dark pluck over a round fundamental, with a little finger noise."""
    t = seconds(length)
    string = pluck(random, midi, length, 0.32, 1.0)
    f = pitch(midi)
    round_part = (np.sin(2 * np.pi * f * t) + 0.45 * np.sin(4 * np.pi * f * t)) * np.exp(-t / 0.5)
    finger = shaped_noise(random, length, 700, 2500) * np.exp(-t / 0.012) * 0.03
    release = np.minimum(1.0, np.maximum(0.0, (length - t) / 0.05))
    attack = 1.0 - np.exp(-t / 0.004)
    return np.asarray((string * 0.5 + 0.4 * round_part + finger) * velocity * attack * release)


def accordion(random: Random, midi: float, length: float, velocity: float) -> Floats:
    """Two reeds a few cents apart, opened by the bellows."""
    t = seconds(length)
    k = np.arange(1, 27)
    k = k[k * pitch(midi) < 11000]
    reed = (1.0 + 0.5 * (k % 2)) / k**1.05 * (1.0 + 1.2 * np.exp(-(((k * pitch(midi) - 1400) / 700) ** 2)))
    total = np.zeros(len(t))
    for cents in (-5.0 - random.random() * 2, 6.0 + random.random() * 2):
        freq = np.full(len(t), pitch(midi) * 2.0 ** (cents / 1200))
        total += tone(freq, reed * velocity**0.3, reed * velocity**0.5)
    bellows = np.minimum(1.0, t / 0.035) * np.minimum(1.0, np.maximum(0.0, (length - t) / 0.06))
    return np.asarray(total * bellows * velocity * 0.09 * (1.0 + 0.05 * np.sin(2 * np.pi * 5.6 * t)))


VOWELS = {
    "a": ((720, 1180, 2620, 3500), (1.0, 0.55, 0.22, 0.14)),
    "o": ((440, 820, 2560, 3300), (1.0, 0.5, 0.10, 0.08)),
    "e": ((500, 1850, 2550, 3500), (1.0, 0.42, 0.28, 0.16)),
    "i": ((310, 2150, 2900, 3600), (1.0, 0.30, 0.28, 0.14)),
    "u": ((330, 760, 2400, 3200), (1.0, 0.35, 0.06, 0.05)),
}


def _vowel(name: str, freq: float, lift: float) -> Floats:
    k = np.arange(1, int(11000 / freq) + 1)
    f = k * freq
    level = np.zeros(len(k))
    for centre, height in zip(*VOWELS[name], strict=True):
        width = 70 + 0.06 * centre
        level += height / (1.0 + ((f - centre * lift) / width) ** 2)
    return np.asarray((level + 0.012) / k**0.55)


def voice(random: Random, midi: float, length: float, velocity: float, sung: str, lift: float) -> Floats:
    """One syllable. `sung` is an optional consonant (s, t, h) and one or two vowels; `lift` scales formants."""
    consonant = sung[0] if sung[0] in "sth" else ""
    vowels = sung[len(consonant) :]
    t = seconds(length)
    f = pitch(midi)
    vibrato = (
        np.minimum(1.0, np.maximum(0.0, (t - 0.18) / 0.25)) * 0.011 * np.sin(2 * np.pi * (5.1 + random.random()) * t)
    )
    scoop = -0.035 * np.exp(-t / 0.045)
    drift = 0.004 * np.interp(t, np.linspace(0, length, 8), random.standard_normal(8))
    freq = f * (1.0 + vibrato + scoop + drift)
    sound = tone(freq, _vowel(vowels[0], f, lift), _vowel(vowels[-1], f, lift))
    envelope = np.minimum(1.0, t / 0.045) * np.minimum(1.0, np.maximum(0.0, (length - t) / 0.09))
    breath = shaped_noise(random, length, 2500, 9000) * 0.012
    body = (sound * 0.16 + breath) * envelope * velocity
    if not consonant:
        return np.asarray(body)
    long = {"s": 0.11, "t": 0.03, "h": 0.07}[consonant]
    low, high = {"s": (5600, 10500), "t": (3500, 9500), "h": (900, 4000)}[consonant]
    u = seconds(long)
    hiss = shaped_noise(random, long, low, high) * np.sin(np.pi * u / long) ** (0.7 if consonant == "s" else 1.5)
    level = {"s": 0.21, "t": 0.14, "h": 0.03}[consonant]
    out = np.concatenate([np.zeros(int(long * 0.8 * RATE)), body])
    out[: len(hiss)] += hiss * level * (0.5 + 0.5 * velocity)
    return np.asarray(out)
