"""What a new print of a stem has otherwise than the one before it, in words; and where it lies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.measure.loudness import SILENT, integrated
from gluvo.measure.same_song import SameSong, same_song
from gluvo.measure.spectrum import spectrum
from gluvo.measure.trace import Span, Tracer
from gluvo.progress import Progress, no_progress
from gluvo.session.sounds import Sound

BANDS = (
    ("lows", 20.0, 120.0),
    ("low mids", 120.0, 500.0),
    ("mids", 500.0, 2000.0),
    ("presence", 2000.0, 6000.0),
    ("air", 6000.0, 20_000.0),
)
"""Ranges that a change of tone is told by, Hz."""
TOLD_SECONDS = 2.0
"""The shortest stretch that is told to be something else: a second that is nearly silent is like nothing."""
HEARD_LU, HEARD_TONE, HEARD_SECONDS = 0.1, 0.5, 0.001
"""The least changes that are told: of loudness and tone in dB, of time in s."""


@dataclass(frozen=True)
class PrintChange:
    """How a new print lies in time against an old one, and what it has otherwise."""

    same: SameSong | None
    """None where nothing of the old one was found in the new one, which then begins where that began."""
    louder: float
    """LU, integrated; NaN where one of them is silent."""
    longer: float
    """s"""
    tone: tuple[float, ...]
    """dB by which each of `BANDS` is stronger, the change of loudness taken away."""

    @property
    def later(self) -> float:
        """By how many s its sound lies later in its file."""
        return self.same.seconds if self.same is not None else 0.0

    def words(self) -> str:
        """In a few words, without a full stop."""
        told = []
        if not np.isfinite(self.louder):
            told.append("one of the two is silent")
        elif abs(self.louder) >= HEARD_LU:
            told.append(f"{abs(self.louder):.1f} LU {'louder' if self.louder > 0 else 'softer'}")
        heard = sorted(zip(self.tone, BANDS, strict=True), key=lambda pair: -abs(pair[0]))
        told += [
            f"{band[0]} {dB:+.1f} dB".replace("-", "−") for dB, band in heard[:2] if abs(dB) >= HEARD_TONE
        ]  # what stands out, and not a table
        if abs(self.longer) >= HEARD_SECONDS:
            told.append(f"{abs(self.longer):.3f} s {'longer' if self.longer > 0 else 'shorter'}")
        if self.same is None:
            told.append("not lined up, since nothing of the old one is found in it")
        else:
            if abs(self.same.seconds) >= HEARD_SECONDS / 10:
                way = "later" if self.same.seconds > 0 else "earlier"
                told.append(f"begins {abs(self.same.seconds) * 1000:.1f} ms {way} in its file, which is made good")
            if self.same.inverted:
                told.append("its polarity is turned")
            if self.same.slower:
                way = "slower" if self.same.slower > 0 else "faster"
                told.append(f"it runs {abs(self.same.slower) * 1e6:.0f} ppm {way}")
            if differs := [span for span in self.same.differs if span.seconds >= TOLD_SECONDS]:
                told.append(f"something else at {', '.join(map(_place, differs[:3]))}")
        return ", ".join(told) or "no difference that is heard"


def print_change(old: Sound, new: Sound, progress: Progress = no_progress) -> PrintChange:
    """What a new print has otherwise than an old one; both of one rate."""
    same = same_song(old.samples, new.samples, old.rate, lambda d: progress(0.6 * d))
    levels = [_loudness(sound) for sound in (old, new)]
    progress(0.8)
    louder = levels[1] - levels[0] if min(levels) > SILENT else float("nan")
    return PrintChange(same, louder, (len(new.samples) - len(old.samples)) / old.rate, _tone(old, new, louder))


def _loudness(sound: Sound) -> float:
    tracer = Tracer(sound.rate, between=False)
    tracer.push(np.asarray(sound.samples))
    return integrated(tracer.finish())


def _tone(old: Sound, new: Sound, louder: float) -> tuple[float, ...]:
    if not np.isfinite(louder):
        return (0.0,) * len(BANDS)
    pairs = zip(band_powers(old.samples, old.rate), band_powers(new.samples, new.rate), strict=True)
    return tuple(10.0 * float(np.log10(b / a)) - louder if min(a, b) > 1e-12 else 0.0 for a, b in pairs)


def band_powers(x: np.ndarray, rate: int) -> tuple[float, ...]:
    """The power of a sound's mid in each of `BANDS`, full scale²."""
    found = spectrum(x, rate, "mid", 3)
    freqs, levels = np.asarray(found.freqs), np.asarray(found.levels)
    density = freqs * 10.0 ** (levels / 10.0)
    bands = [density[(freqs >= low) & (freqs < high)] for _, low, high in BANDS]
    return tuple(float(np.mean(band)) if len(band) else 0.0 for band in bands)


def _place(span: Span) -> str:
    return f"{int(span.start) // 60}:{int(span.start) % 60:02d}"
