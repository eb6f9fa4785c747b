"""Spectra side by side, at equal loudness."""

from __future__ import annotations

import functools
from dataclasses import dataclass

from gluvo.dsp.kernel import Floats
from gluvo.measure.spectrum import Spectrum, Tone, octaves


@dataclass(frozen=True, eq=False)
class Frozen:
    """Spectra that are kept to compare with."""

    name: str
    tone: Tone
    loudness: float
    """LUFS of the sound that they are of."""

    @functools.cached_property
    def thirds(self) -> Spectrum:
        """The mid's spectrum in third octaves."""
        freqs = self.tone.freqs
        centres = octaves(round(2.0 * freqs[-1]))
        return Spectrum(centres, self.tone.smoothed("mid", 3, centres))


def difference(a: Frozen, b: Frozen, part: str, fraction: int, centres: Floats) -> Floats:
    """By how many dB `a` lies over `b` about each centre, both at the same loudness, smoothed to 1/`fraction` octave."""
    one, other = (f.tone.smoothed(part, fraction, centres) - f.loudness for f in (a, b))
    return one - other
