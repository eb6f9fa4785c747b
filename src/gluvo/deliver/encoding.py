"""What lossy encoding does to a master: encoded and decoded here, aligned to the sample, and measured."""

from __future__ import annotations

import concurrent.futures
import math
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from gluvo.deliver.formats import FORMATS, Format
from gluvo.dsp.db import db_of
from gluvo.dsp.kernel import Floats
from gluvo.errors import GluvoError, WriteError
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.trace import trace_of
from gluvo.progress import CORES, Progress, no_progress
from gluvo.session.files import reason_of
from gluvo.session.sounds import read_sound, resampled

BANDS: tuple[tuple[str, float, float], ...] = (
    ("under 200 Hz", 0.0, 200.0),
    ("200 Hz – 2 kHz", 200.0, 2000.0),
    ("2 – 8 kHz", 2000.0, 8000.0),
    ("8 – 16 kHz", 8000.0, 16_000.0),
    ("over 16 kHz", 16_000.0, 1e9),
)
"""What is lost is told in these."""
WINDOW = 8192
EXCERPT = 1 << 17
"""Frames that are laid over each other to find how late a decoder is."""
MOST_LATE = 8192
CLOSE_DB = 0.05
"""dB within which a margin is found."""
MOST_MARGIN = 6.0
TRIES = 8


@dataclass(frozen=True)
class Encoding:
    """A lossy format at a bit rate, kbit/s."""

    format: str
    bit_rate: int

    @property
    def name(self) -> str:
        return f"{FORMATS[self.format].name} {self.bit_rate}"

    @property
    def id(self) -> str:
        """By which it is heard; what is lost has `LOST` after it."""
        return f"encoding-{self.format}-{self.bit_rate}"


LOST = "-lost"


def encoding_of(id: str) -> Encoding | None:
    """The encoding of a hearable's id.

    >>> encoding_of("encoding-mp3-192-lost").name
    'MP3 192'
    """
    parts = id.removesuffix(LOST).split("-")
    if len(parts) != 3 or parts[0] != "encoding" or parts[1] not in FORMATS or not parts[2].isdigit():
        return None
    return Encoding(parts[1], int(parts[2]))


@dataclass(frozen=True, eq=False)
class Encoded:
    """A master after encoding and decoding."""

    encoding: Encoding
    figures: Figures
    """Of what was decoded, at the rate at which it was."""
    louder: float
    """LU against the master."""
    over: float
    """dB by which the true peak has risen."""
    lost: tuple[float, ...]
    """What differs from the master in each of `BANDS`, dB against the master there; −∞ where the master has nothing."""
    late: int
    """Frames by which the decoder was late, before it was aligned."""
    decoded: np.ndarray
    """``(frames, 2)`` float32, at the master's rate, aligned with it."""
    rate: int


def encoded(master: np.ndarray, rate: int, encoding: Encoding, progress: Progress = no_progress) -> Encoded:
    """Encode a master, (frames, 2) at `rate`, decode it again, align and measure it.

    Raises `WriteError` if the encoder fails or there is no room for its file.
    """
    come, went, to = _there_and_back(master, rate, encoding, lambda d: progress(0.7 * d))
    late = lateness(come, went)
    aligned = np.zeros_like(come, dtype=np.float32)
    a, b = max(0, late), min(len(went), len(come) + late)
    if b > a:
        aligned[a - late : b - late] = went[a:b]
    progress(0.75)
    figures, own = figures_of(trace_of(aligned, to)), figures_of(trace_of(come, to))
    progress(0.9)
    lost = _by_band(aligned - come, come, to)
    back = aligned if to == rate else resampled(aligned, to, rate)[: len(master)]
    if len(back) < len(master):
        back = np.concatenate([back, np.zeros((len(master) - len(back), 2), dtype=np.float32)])
    progress(1.0)
    return Encoded(
        encoding,
        figures,
        figures.integrated - own.integrated,
        figures.true_peak - own.true_peak,
        lost,
        late,
        back.astype(np.float32, copy=False),
        rate,
    )


def decoded_of(
    master: np.ndarray, rate: int, encoding: Encoding, progress: Progress = no_progress
) -> tuple[np.ndarray, int]:
    """A master after encoding and decoding, and its rate. Raises as `encoded`."""
    _, went, to = _there_and_back(master, rate, encoding, progress)
    return went, to


def decoded_peak(master: np.ndarray, rate: int, encoding: Encoding, progress: Progress = no_progress) -> float:
    """The true peak of a master after encoding and decoding, dBTP. Raises as `encoded`."""
    _, went, to = _there_and_back(master, rate, encoding, progress)
    return db_of(float(trace_of(went, to).true_peak.max(initial=0.0)))


def _there_and_back(
    master: np.ndarray, rate: int, encoding: Encoding, progress: Progress
) -> tuple[np.ndarray, np.ndarray, int]:
    """What goes into the encoder, what comes out of the decoder, and their rate."""
    format = FORMATS[encoding.format]
    to = format.rate_for(rate)
    come = master if to == rate else resampled(master, rate, to)
    progress(0.1)
    with tempfile.TemporaryDirectory(prefix="gluvo-") as folder:
        path = Path(folder) / f"x{format.suffix}"
        _encode(come, to, format, encoding.bit_rate, path, lambda d: progress(0.1 + 0.6 * d))
        return come, read_sound(path, None, lambda d: progress(0.7 + 0.3 * d)).samples, to


def _encode(x: np.ndarray, rate: int, format: Format, bit_rate: int, path: Path, progress: Progress) -> None:
    try:
        with path.open("w+b") as file:
            writer = format.open(file, rate, "", bit_rate)
            for at in range(0, len(x), 1 << 18):
                progress(at / len(x))
                writer.write(x[at : at + (1 << 18)].astype(np.float32, copy=False))
            writer.close()
    except OSError as error:
        raise WriteError(f"{format.name} could not be encoded here ({reason_of(error)}).") from None


def lateness(come: np.ndarray, went: np.ndarray) -> int:
    """By how many frames `went` is late against `come`: the highest of their cross-correlation over a loud excerpt.

    >>> x = np.random.default_rng(0).standard_normal((9000, 2)); lateness(x[5:], x)
    5
    """
    mono = come.sum(axis=1)
    size = min(EXCERPT, len(mono))
    energy = np.concatenate([[0.0], np.cumsum(mono.astype(np.float64) ** 2)])
    starts = np.arange(0, max(1, len(mono) - size + 1), max(1, size // 4))
    start = int(starts[int(np.argmax(energy[starts + size] - energy[starts]))])
    one = mono[start : start + size]
    first = max(0, start - MOST_LATE)
    other = went[first : start + size + MOST_LATE].sum(axis=1)
    total = 1 << (len(one) + len(other)).bit_length()
    product = np.fft.irfft(np.fft.rfft(other, total) * np.conj(np.fft.rfft(one, total)), total)
    lags = np.concatenate([product[: len(other)], product[-len(one) :]])
    if not lags.max(initial=0.0) > 0.0:
        return 0
    best = int(np.argmax(lags))
    best = best if best < len(other) else best - len(lags)
    return best + first - start


def _by_band(less: np.ndarray, whole: np.ndarray, rate: int) -> tuple[float, ...]:
    """The power of a difference in each band, dB against the whole's there."""
    freqs = np.fft.rfftfreq(WINDOW, 1.0 / rate)
    powers = [_power(less), _power(whole)]
    found = []
    for _, low, high in BANDS:
        inside = (freqs >= low) & (freqs < high)
        lost, there = (float(p[inside].sum()) for p in powers)
        found.append(-math.inf if there <= 0.0 or lost <= 0.0 else 10.0 * math.log10(lost / there))
    return tuple(found)


def _power(x: np.ndarray) -> Floats:
    """The power of both channels by frequency, summed over the whole of it."""
    window, total = np.hanning(WINDOW)[:, None], np.zeros(WINDOW // 2 + 1)
    for at in range(0, max(1, len(x) - WINDOW // 2), WINDOW // 2):
        block = np.zeros((WINDOW, 2))
        piece = x[at : at + WINDOW]
        block[: len(piece)] = piece
        total += (np.abs(np.fft.rfft(block * window, axis=0)) ** 2).sum(axis=1)
    return total


@dataclass(frozen=True)
class Margin:
    """A margin that was looked for."""

    margin: float
    """dB under the target's true peak."""
    peaks: tuple[tuple[Encoding, float], ...]
    """What each encoding then reaches, dBTP."""
    met: bool
    highest: float
    """dBTP that none should pass."""
    too_little: float
    """The largest margin that was tried and does not do; 0 where none is needed."""


def find_margin(
    master_at: Callable[[float, Progress], tuple[np.ndarray, int]],
    encodings: Sequence[Encoding],
    highest: float,
    progress: Progress = no_progress,
) -> Margin:
    """The smallest margin, so the highest ceiling, at which every encoding stays at or under `highest` dBTP.

    `master_at` renders the song for a margin in dB: audio and rate. Raises `GluvoError` where no encoding is given.
    """
    if not encodings:
        raise GluvoError("Choose at least one encoding to find a margin for.")
    tried: dict[float, tuple[tuple[Encoding, float], ...]] = {}

    def over(margin: float) -> float:
        share = len(tried) / TRIES
        audio, rate = master_at(margin, lambda d: progress(share + 0.3 * d / TRIES))

        def peak(encoding: Encoding) -> float:
            return decoded_peak(audio, rate, encoding, lambda _: progress(share + 0.5 / TRIES))

        with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-encoding") as pool:
            peaks = list(pool.map(peak, encodings))
        tried[margin] = tuple(zip(encodings, peaks, strict=True))
        return max(peaks) - highest

    low, high, margin = -CLOSE_DB, math.inf, 0.0
    while len(tried) < TRIES and high - low > CLOSE_DB and low < MOST_MARGIN:
        error = over(margin)
        low, high = (low, margin) if error <= 0.0 else (margin, high)
        if math.isinf(high):
            margin = round(min(MOST_MARGIN, margin + error + 0.02), 3)
        else:
            margin = round((max(low, 0.0) + high) / 2.0, 3) if high > 0.0 else high
    best = min(high, MOST_MARGIN)
    if best not in tried:
        over(best)
    progress(1.0)
    return Margin(best, tried[best], max(p for _, p in tried[best]) <= highest + 1e-9, highest, max(low, 0.0))
