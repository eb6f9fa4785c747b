"""Spectra side by side, at equal loudness."""

from __future__ import annotations

from dataclasses import dataclass

from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Tone


@dataclass(frozen=True, eq=False)
class Frozen:
    """Spectra that are kept to compare with."""

    name: str
    tone: Tone
    loudness: float
    """LUFS of the sound that they are of."""


def difference(a: Frozen, b: Frozen, part: str, fraction: int, centres: Floats) -> Floats:
    """By how many dB `a` lies over `b` about each centre, both at the same loudness, smoothed to 1/`fraction` octave."""
    one, other = (f.tone.smoothed(part, fraction, centres) - f.loudness for f in (a, b))
    return one - other
