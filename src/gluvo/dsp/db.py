"""Decibels."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

FLOOR_DB = -200.0
"""What digital silence reads; low enough to be told from any signal, finite so that figures stay figures."""


FADER_OFF = -72.0
"""dB at which a fader stands for nothing at all."""


def fader_gain(db: float) -> float:
    """The factor of a fader, whose lowest place is −∞ dB.

    >>> fader_gain(FADER_OFF), fader_gain(0.0)
    (0.0, 1.0)
    """
    return 0.0 if db <= FADER_OFF else gain_of(db)


def gain_of(db: float) -> float:
    """The factor of a gain in dB.

    >>> gain_of(0.0)
    1.0
    """
    return 1.0 if db == 0.0 else 10.0 ** (db / 20.0)


def db_of(amplitude: float) -> float:
    """The level in dB of an amplitude, never under `FLOOR_DB`.

    >>> round(db_of(0.5), 2)
    -6.02
    """
    return max(FLOOR_DB, 20.0 * math.log10(amplitude)) if amplitude > 0.0 else FLOOR_DB


def power_db(power: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels in dB of powers (mean squares), never under `FLOOR_DB`.

    >>> power_db(np.array([1.0, 0.0])).tolist()
    [0.0, -200.0]
    """
    floor = 10.0 ** (FLOOR_DB / 10.0)
    return 10.0 * np.log10(np.maximum(power, floor))
