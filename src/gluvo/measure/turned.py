"""How far one sound is turned in phase against another one, by frequency."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Floats

SECONDS_A_WINDOW = 0.17
LEAST_ALIKE = 0.5
"""Coherence under which nothing is said: the two are different sounds there."""


def turned_phase(before: np.ndarray, after: np.ndarray, rate: int, centres: Floats, fraction: float = 3.0) -> Floats:
    """Degrees by which `after` (frames, 2) is turned against `before`, −180 to 180, in bands of 1/`fraction` octave about
    `centres` in Hz; NaN where the two are not alike enough to tell.

    The angle of the cross-spectrum by Welch's method (Bendat and Piersol, 'Random Data', ch. 9), of left and right together;
    the coherence of the same is what tells how alike they are.
    """
    from scipy import signal  # it takes long to load

    size = 1 << max(8, round(SECONDS_A_WINDOW * rate).bit_length() - 1)
    if len(before) < 2 * size:
        return np.full(len(centres), np.nan)
    cross: Floats | complex = 0.0
    own: Floats | float = 0.0
    theirs: Floats | float = 0.0
    for side in (0, 1):
        a, b = (x[:, side].astype(np.float64) for x in (before, after))
        freqs, both = signal.csd(a, b, rate, nperseg=size)
        cross = cross + both
        own = own + signal.welch(a, rate, nperseg=size)[1]
        theirs = theirs + signal.welch(b, rate, nperseg=size)[1]
    found = np.full(len(centres), np.nan)
    for n, centre in enumerate(centres):
        inside = (freqs >= centre * 2.0 ** (-0.5 / fraction)) & (freqs < centre * 2.0 ** (0.5 / fraction))
        if not inside.any():
            continue
        together = np.asarray(cross)[inside].sum()
        powers = float(np.asarray(own)[inside].sum() * np.asarray(theirs)[inside].sum())
        if powers > 0.0 and abs(together) ** 2 > LEAST_ALIKE * powers:
            found[n] = np.degrees(np.angle(together))
    return found
