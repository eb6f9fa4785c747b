"""Road tests: listening as on other loudspeakers and in other places. For the ears only.

A new one is a record in `ROADS`.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from typing import get_args

import msgspec
import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.measure.loudness import ABSOLUTE_GATE, integrated
from gluvo.measure.spectrum import octaves, tone_of
from gluvo.measure.trace import trace_of
from gluvo.session.records import RoadKind, RoadTest
from gluvo.steps import Band, MidSideEq, Saturation, Step

MIXING_PHON = 83.0
"""How loud it is mixed: what is heard at other levels is told against this."""
NOISE_SECONDS = 20.0
BLOCK_SECONDS = 0.4

_F = (
    "20 25 31.5 40 50 63 80 100 125 160 200 250 315 400 500 630 800 1000 1250 1600 2000 2500 3150 4000 5000 6300 8000 "
    "10000 12500"
)
_ALPHA = (
    ".532 .506 .480 .455 .432 .409 .387 .367 .349 .330 .315 .301 .288 .276 .267 .259 .253 .250 .246 .244 .243 .243 .243 .242 "
    ".242 .245 .254 .271 .301"
)
_LU = (
    "-31.6 -27.2 -23.0 -19.1 -15.9 -13.0 -10.3 -8.1 -6.2 -4.5 -3.1 -2.0 -1.1 -0.4 0.0 0.3 0.5 0.0 -2.7 -4.1 -1.0 1.7 2.5 1.2 "
    "-2.1 -7.1 -11.2 -10.7 -3.1"
)
_TF = (
    "78.5 68.7 59.5 51.1 44.0 37.5 31.5 26.5 22.1 17.9 14.4 11.4 8.6 6.2 4.4 3.0 2.2 2.4 3.5 1.7 -1.3 -4.2 -6.0 -5.4 -1.5 6.0 "
    "12.6 13.9 12.3"
)


def equal_loudness(phon: float) -> tuple[Floats, Floats]:
    """Frequencies in Hz, and the sound pressure levels in dB that are as loud as 1 kHz at `phon` dB (ISO 226:2003).

    >>> freqs, levels = equal_loudness(40.0)
    >>> round(float(levels[freqs == 1000.0][0])), round(float(levels[freqs == 100.0][0]))
    (40, 64)
    """
    freqs, alpha, lu, tf = (np.array([float(v) for v in text.split()]) for text in (_F, _ALPHA, _LU, _TF))
    a = 4.47e-3 * (10.0 ** (0.025 * phon) - 1.15) + (0.4 * 10.0 ** ((tf + lu) / 10.0 - 9.0)) ** alpha
    return freqs, 10.0 / alpha * np.log10(a) - lu + 94.0


def lost_at(phon: float, freqs: Floats) -> Floats:
    """What the ear loses at a lower level against the mixing level, dB, 0 at 1 kHz."""
    known, low = equal_loudness(phon)
    high = equal_loudness(MIXING_PHON)[1]
    lost = (high - MIXING_PHON) - (low - phon)
    return np.interp(np.log(freqs), np.log(known), lost)


QUIET_BANDS = (
    Band(id=1, shape="low_shelf", freq=45.0, q=0.71, slope=6),
    Band(id=2, freq=80.0, q=0.5),
    Band(id=3, freq=220.0, q=0.6),
    Band(id=4, freq=1600.0, q=1.0),
    Band(id=5, freq=3500.0, q=0.8),
    Band(id=6, freq=8500.0, q=1.2),
    Band(id=7, shape="high_shelf", freq=10_000.0, q=0.71, slope=6),
    Band(id=8, shape="low_shelf", freq=60.0, q=0.71, slope=6),
)
"""Places at which a few gains come near what the ear loses at any level."""


@functools.lru_cache(maxsize=16)
def quiet_eq(phon: float, rate: int) -> MidSideEq:
    """An equaliser that sounds as the ear hears at a level.

    Only gains are looked for, by least squares in dB that prefer small ones, in few steps: it is made beside the sound,
    which must not wait.
    """
    centres = octaves(rate, 25.0, 4)
    centres = centres[centres <= 12_500.0]
    wanted = lost_at(phon, centres)
    gains, small, nothing = np.full(len(QUIET_BANDS), -6.0), 0.1 * np.eye(len(QUIET_BANDS)), np.zeros(len(QUIET_BANDS))
    for _ in range(4):
        bands = _with_gains(gains)
        each = [20.0 * np.log10(np.abs(band.response(centres, rate))) / band.gain for band in bands]
        gains = np.linalg.lstsq(np.vstack([np.stack(each, axis=1), small]), np.append(wanted, nothing), rcond=None)[0]
        gains = np.where(np.abs(gains) < 0.05, 0.05, gains)
    return MidSideEq(id="road", bands=_with_gains(gains))


def _with_gains(gains: Floats) -> tuple[Band, ...]:
    return tuple(msgspec.structs.replace(band, gain=float(gain)) for band, gain in zip(QUIET_BANDS, gains, strict=True))


@dataclass(frozen=True)
class Road:
    """A road test. `rows` are the factors of left and right at each ear, before its steps."""

    key: RoadKind
    name: str
    tip: str
    rows: tuple[tuple[float, float], tuple[float, float]] = ((1.0, 0.0), (0.0, 1.0))
    steps: Callable[[RoadTest, int], tuple[Step, ...]] = lambda _settings, _rate: ()
    """The steps that it goes through, at a rate."""
    noise: Callable[[int], Floats] | None = None
    """Mono noise that is heard with it, at a rate; its level does not matter."""


def _small(settings: RoadTest, _rate: int) -> tuple[Step, ...]:
    eq = MidSideEq(
        id="road",
        bands=(
            Band(id=1, shape="low_cut", freq=220.0, q=0.9, slope=24),
            Band(id=2, shape="high_cut", freq=9000.0, q=0.71, slope=24),
            Band(id=3, freq=1800.0, gain=3.0, q=0.8),
        ),
    )
    bent = (Saturation(id="road-bent", shape="soft", drive=9.0, mix=60.0, oversampling=2),) if settings.distorts else ()
    return (eq, *bent)


def _headphones(_settings: RoadTest, _rate: int) -> tuple[Step, ...]:
    return (
        MidSideEq(
            id="road", bands=(Band(id=1, target="side", shape="low_shelf", freq=700.0, gain=-8.0, q=0.71, slope=6),)
        ),
    )


def _shaped(rate: int, slope: Callable[[Floats], Floats]) -> Floats:
    """Noise with a spectrum, the same every time."""
    count = round(NOISE_SECONDS * rate)
    freqs = np.fft.rfftfreq(count, 1.0 / rate)
    random = np.random.default_rng(226)
    phases = np.exp(2j * np.pi * random.random(len(freqs)))
    levels = np.where((freqs > 20.0) & (freqs < 12_000.0), 10.0 ** (slope(np.maximum(freqs, 1.0)) / 20.0), 0.0)
    x = np.fft.irfft(phases * levels, count)
    return np.asarray(0.1 * x / np.sqrt((x**2).mean()))


@functools.lru_cache(maxsize=4)
def room_noise(rate: int) -> Floats:
    """People and dishes: falling by 5 dB an octave over 500 Hz, flat below."""
    return _shaped(rate, lambda f: -5.0 * np.log2(np.maximum(f, 500.0) / 500.0))


@functools.lru_cache(maxsize=4)
def car_noise(rate: int) -> Floats:
    """Tyres and wind: falling by 6 dB an octave over 80 Hz."""
    return _shaped(rate, lambda f: -6.0 * np.log2(np.maximum(f, 80.0) / 80.0))


MONO = ((0.5, 0.5), (0.5, 0.5))
ROADS: tuple[Road, ...] = (
    Road("off", "Off", "As it is."),
    Road("mono", "One loudspeaker", "Both channels summed to one.", MONO),
    Road(
        "small",
        "Small speaker",
        "One small loudspeaker: nothing below 200 Hz or above 9 kHz, a hard middle; bent, if you like.",
        MONO,
        _small,
    ),
    Road("room", "Noisy room", "With people and dishes around.", noise=room_noise),
    Road("car", "Car", "With the noise of tyres and wind.", noise=car_noise),
    Road(
        "headphones",
        "Headphones as loudspeakers",
        "Crossfeed: the sides share their lows, as they do in a room.",
        steps=_headphones,
    ),
    Road(
        "quiet",
        "Very quiet",
        "As the ear hears at a low level, at which lows are lost (ISO 226).",
        steps=lambda settings, rate: (quiet_eq(settings.quiet, rate),),
    ),
    Road("swapped", "Swapped sides", "Left on the right, and right on the left.", ((0.0, 1.0), (1.0, 0.0))),
)
assert tuple(road.key for road in ROADS) == get_args(RoadKind)


def road_of(settings: RoadTest) -> Road:
    """The road test that is set."""
    return next(road for road in ROADS if road.key == settings.kind)


def noise_gain(settings: RoadTest, loudness: float, rate: int) -> float:
    """The factor of a road's noise, so that it is as loud against music of `loudness` LUFS as the levels say; 0 without."""
    road = road_of(settings)
    if road.noise is None or loudness <= ABSOLUTE_GATE:
        return 0.0
    own = _loudness_of(road.noise, rate)
    return float(10.0 ** ((loudness + settings.noise_level - settings.play_level - own) / 20.0))


@functools.lru_cache(maxsize=8)
def _loudness_of(noise: Callable[[int], Floats], rate: int) -> float:
    x = noise(rate)
    return integrated(trace_of(np.stack([x, x], axis=1), rate))


@dataclass(frozen=True)
class Masked:
    """What of a song falls under a noise."""

    share: float
    """Of time and bands together, 0–1, of what is not silent."""
    by_band: tuple[tuple[str, float], ...]
    """The share of the time, for lows, middle and highs."""


BANDS = (("lows", 30.0, 250.0), ("middle", 250.0, 4000.0), ("highs", 4000.0, 12_000.0))


def masked(x: np.ndarray, rate: int, settings: RoadTest, loudness: float) -> Masked | None:
    """What of `x` (frames, 2), which has a `loudness`, lies under the noise: third-octave bands of every 0.4 s whose power is
    under that of the noise there. None where there is no noise."""
    road, gain = road_of(settings), noise_gain(settings, loudness, rate)
    if road.noise is None or gain <= 0.0 or not len(x):
        return None
    n = road.noise(rate) * gain
    noise = tone_of(np.stack([n, n], axis=1), rate)
    centres = octaves(rate, 31.5, 3)
    centres = centres[centres <= 12_000.0]
    floor = noise.smoothed("stereo", 3, centres)
    size = max(1, round(BLOCK_SECONDS * rate))
    levels = [tone_of(x[start : start + size], rate).smoothed("stereo", 3, centres) for start in range(0, len(x), size)]
    level = np.stack(levels)
    heard = level > -110.0
    under = heard & (level < floor)
    found = []
    for name, low, high in BANDS:
        inside = (centres >= low) & (centres < high)
        found.append((name, float(under[:, inside].sum() / max(1, heard[:, inside].sum()))))
    return Masked(float(under.sum() / max(1, heard.sum())), tuple(found))
