"""What the lanes of an equaliser share: magnitudes in dB, and how far their scale reaches."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.steps import MidSideEq
from gluvo.steps.bands import WITH_GAIN

LOWEST = 10.0
"""Hz at the left end of the lanes."""
GAIN_RANGES = (6.0, 12.0, 24.0, 48.0)


def gain_range(step: MidSideEq, rate: int) -> float:
    """dB at the upper edge of the lanes: the least of a few that hold all bands, their moves and their sums."""
    freqs = np.geomspace(LOWEST, 20_000.0, 64)
    tallest = max([abs(b.scaled(step.strength)) + (b.range if b.moving else 0.0) for b in step.bands], default=0.0)
    shaped = step.replace(bands=tuple(b for b in step.bands if b.shape in WITH_GAIN))  # cuts have no end
    for target in {b.target for b in shaped.bands}:
        along = ("stereo",) if target == "stereo" else ("stereo", target)
        tallest = max(tallest, float(np.abs(db_of_response(shaped.response(along, freqs, rate))).max()))
    return next((g for g in GAIN_RANGES if tallest <= 0.92 * g), GAIN_RANGES[-1])


def db_of_response(h: np.ndarray) -> Floats:
    """Magnitudes in dB."""
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(h), 1e-9)))
