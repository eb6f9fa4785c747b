"""The demo's audio: stems with their rooms and faults, the rough print, and the two references."""

from __future__ import annotations

import concurrent.futures
from dataclasses import dataclass

import numpy as np

from gluvo.demo.instruments import RATE
from gluvo.demo.score import COLD_ROPE, FERRY_HOURS, PIER_LIGHTS, STEMS, Performance, ScoreSection
from gluvo.dsp.filters import Sections, high_cut
from gluvo.dsp.kernel import Audio, Floats, Ints, kernel
from gluvo.dsp.matched import bell
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.steps import Glue, Limiter, Trim


@dataclass(frozen=True)
class Place:
    """Where a player stands: level in dB, pan −1 to 1, and how much room in dB."""

    level: float
    pan: float
    room: float


PLACES = {
    "Kick": Place(4.5, 0.0, -24.0),
    "Snare": Place(3.0, 0.08, -14.0),
    "Tom high": Place(-2.0, -0.4, -14.0),
    "Tom low": Place(-1.0, 0.4, -14.0),
    "Cymbals": Place(2.0, 0.25, -14.0),
    "Upright bass": Place(6.0, 0.0, -26.0),
    "Marimba": Place(-6.0, -0.45, -12.0),
    "Accordion": Place(-6.0, 0.4, -13.0),
    "Plucked strings": Place(-2.0, -0.25, -12.0),
    "Voice low": Place(2.0, 0.22, -12.0),
    "Voice high": Place(5.5, -0.06, -12.0),
}


LINES = np.array([1433, 1601, 1867, 2053, 2251, 2399, 2617, 2797], dtype=np.int64)
EARLY = np.array([313, 587, 809, 1129, 1381, 1747], dtype=np.int64)


@kernel
def put_in_hall(
    x: Floats, lines: Ints, early: Ints, feedback: float, damping: float, dry: Floats, wet: float, out: Audio
) -> None:
    """Pan a track and add a small hall without lows: early reflections to alternate sides, then eight delay lines
    fed back through a Householder matrix with damped highs (J.-M. Jot and A. Chaigne, AES 90, 1991)."""
    rows = np.zeros((8, 4096))
    damped = np.zeros(8)
    past = np.zeros(4096)
    low_left, low_right = 0.0, 0.0
    for i in range(x.shape[0]):
        past[i & 4095] = x[i]
        total = 0.0
        for k in range(8):
            damped[k] += damping * (rows[k, (i - lines[k]) & 4095] - damped[k])
            total += damped[k]
        left, right = 0.0, 0.0
        for k in range(8):
            rows[k, i & 4095] = x[i] + feedback * (damped[k] - 0.25 * total)
            if k % 2:
                left += damped[k]
            else:
                right += damped[k]
        for k in range(early.shape[0]):
            tap = past[(i - early[k]) & 4095] * (1.6 - 0.2 * k)
            if k % 2:
                left += tap
            else:
                right += tap
        low_left += 0.028 * (left - low_left)
        low_right += 0.028 * (right - low_right)
        out[i, 0] = dry[0] * x[i] + wet * (left - low_left)
        out[i, 1] = dry[1] * x[i] + wet * (right - low_right)


def staged(track: Floats, place: Place) -> Audio:
    """A mono track put on its place in the hall (−3 dB pan law)."""
    angle = (place.pan + 1.0) * np.pi / 4.0
    level = 10.0 ** (place.level / 20.0)
    out = np.zeros((len(track), 2))
    wet = 0.35 * level * 10.0 ** (place.room / 20.0)
    put_in_hall(track, LINES, EARLY, 0.78, 0.55, level * np.array([np.cos(angle), np.sin(angle)]), wet, out)
    return out


def steadied(track: Floats) -> Floats:
    """A player's own control: the hardest moments come out softer."""
    most = 0.45 * np.abs(track).max()
    out = track / most
    np.tanh(out, out=out)
    out *= most
    return out


def with_bell(x: Audio, freq: float, gain: float, q: float) -> Audio:
    return through(bell(freq, gain, q, RATE), x)


def through(sos: Floats, x: Audio) -> Audio:
    """A copy of `x` through sections."""
    out = np.zeros_like(x)
    Sections(sos).run(x, out)
    return out


def faulty(name: str, x: Audio) -> Audio:
    """The faults that are there to be found."""
    if name in ("Marimba", "Accordion", "Plucked strings"):
        x = with_bell(x, 204.0, 7.0, 2.2)  # a build-up where three players meet
    if name in ("Accordion", "Plucked strings", "Voice high"):
        x = with_bell(x, 4500.0, 8.0, 5.0)  # harshness
    if name == "Accordion":  # its low end arrives turned over on the right
        low = through(high_cut(230.0, 12, RATE), x)
        shared = low.mean(axis=1, keepdims=True) * 2.2
        x = x - low + shared * np.array([1.0, -0.85])
    if name == "Upright bass":  # the stage rumbles under the player
        t = np.arange(len(x)) / RATE
        sway = 0.6 + 0.4 * np.sin(2 * np.pi * 0.23 * t)
        x = x + (0.06 * sway * np.sin(2 * np.pi * 18.0 * t + 0.7 * np.sin(2 * np.pi * 0.31 * t)))[:, None]
    return x


def performed(
    parts: tuple[ScoreSection, ...], beat: float, seed: int, *, faults: bool, progress: Progress
) -> dict[str, Audio]:
    """All stems of a song."""
    performance = Performance(parts, beat, seed)
    progress(0.5)

    def stem(name: str) -> Audio:
        x = staged(steadied(performance.tracks[name]), PLACES[name])
        return faulty(name, x) if faults else x

    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        return dict(zip(STEMS, pool.map(stem, STEMS), strict=True))


FERRY_BEAT, PIER_BEAT, ROPE_BEAT = 60.0 / 176.0, 60.0 / 158.0, 60.0 / 168.0


def ferry_hours(progress: Progress = no_progress) -> tuple[dict[str, Audio], Audio]:
    """The stems of *Ferry Hours*, and their rough print with a sample peak of −0.3 dBFS."""
    stems = performed(FERRY_HOURS, FERRY_BEAT, 41, faults=True, progress=progress)
    mix = summed(stems)
    gain = 10.0 ** (-0.3 / 20.0) / max(mix.max(), -mix.min())
    for x in (*stems.values(), mix):
        x *= gain
    return stems, mix


def summed(stems: dict[str, Audio]) -> Audio:
    total = np.zeros_like(next(iter(stems.values())))
    for stem in stems.values():
        total += stem
    return total


def unmastered(parts: tuple[ScoreSection, ...], beat: float, seed: int, *, air: float, width: float) -> Audio:
    """The same band on another day, without faults; `air` in dB about 9 kHz, `width` scales the sides."""
    x = summed(performed(parts, beat, seed, faults=False, progress=no_progress))
    x = with_bell(x, 9000.0, air, 0.5)
    side = 0.5 * (x[:, :1] - x[:, 1:]) * (width - 1.0)
    x = x + side * np.array([1.0, -1.0])
    return np.asarray(x / np.abs(x).max())


def mastered(x: Audio, drive: float) -> Audio:
    """Glued and limited."""
    chain = [
        Trim(id="t", gain=-3.0),
        Glue(id="g", ratio=2.0, threshold=-20.0, attack=25.0, release=150.0, low_cut=90.0, makeup=1.5),
        Limiter(id="l", drive=drive, ceiling=-0.8),
    ]
    return run_chain(chain, x, RATE)


def pier_lights() -> Audio:
    """Balanced, about −12.5 LUFS."""
    return mastered(unmastered(PIER_LIGHTS, PIER_BEAT, 7, air=2.0, width=1.0), drive=8.5)


def cold_rope() -> Audio:
    """Brighter and wider, about −9.8 LUFS."""
    return mastered(unmastered(COLD_ROPE, ROPE_BEAT, 23, air=6.0, width=1.7), drive=13.23)
