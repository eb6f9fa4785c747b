"""True peak of a whole array."""

from __future__ import annotations

import numpy as np

from gluvo.measure.trace import trace_of


def true_peak(x: np.ndarray, rate: int) -> float:
    """The largest magnitude between and at samples (BS.1770-5, Annex 2; eightfold with a parabola below 64 kHz).

    `x` is (frames, 2); the result is linear, 1.0 = full scale.
    """
    return float(trace_of(x, rate).true_peak.max(initial=0.0))
