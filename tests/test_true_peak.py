"""True peak against EBU Tech 3341 cases 15–23 and ideal interpolation."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from gluvo.dsp.db import db_of
from gluvo.measure.truepeak import true_peak

from .conftest import RATE, music, noise, sine


@pytest.mark.parametrize(
    ("divisor", "phase", "amplitude", "wanted"),
    [(4, 0, 0.5, -6.02), (4, 45, 0.5, -6.02), (6, 60, 0.5, -6.02), (8, 67.5, 0.5, -6.02), (4, 45, 1.41, 2.98)],
)
def test_tech_3341_cases_15_to_19(divisor: int, phase: float, amplitude: float, wanted: float) -> None:
    x = sine(RATE / divisor, 2.0, db_of(amplitude), phase=np.deg2rad(phase))
    fade = np.minimum(1.0, np.arange(len(x)) / 4800)
    read = db_of(true_peak(x * np.minimum(fade, fade[::-1])[:, None], RATE))
    assert wanted - 0.4 <= read <= wanted + 0.2


@pytest.mark.parametrize("offset", range(4))
def test_tech_3341_cases_20_to_23(offset: int) -> None:
    """A burst of a sixth of the rate, made at four times the rate and decimated from four starts."""
    t = np.arange(4 * RATE // 4)
    burst = np.sin(2 * np.pi * t / 24) * np.hanning(len(t)) ** 0.1
    low = signal.resample_poly(np.roll(burst, offset), 1, 4, window=("kaiser", 9.0))
    read = db_of(true_peak(np.repeat(low[:, None], 2, axis=1), RATE))
    assert -0.4 <= read <= 0.2


def ideal_peak(x: np.ndarray, factor: int = 32) -> float:
    padded = np.concatenate([np.zeros((4096, 2)), x, np.zeros((4096, 2))])
    return float(np.abs(signal.resample(padded, len(padded) * factor)).max())


@pytest.mark.sampled(2)
@pytest.mark.parametrize("seed", range(4))
def test_within_a_tenth_of_ideal_interpolation(seed: int) -> None:
    band = signal.firwin(801, 20_000, fs=RATE)
    for x in (signal.lfilter(band, 1, noise(0.7, 0.2, seed), axis=0), music(1.5, seed=seed)):
        fade = np.minimum(1.0, np.arange(len(x)) / 2000)
        x = x * np.minimum(fade, fade[::-1])[:, None]
        assert db_of(true_peak(x, RATE)) == pytest.approx(db_of(ideal_peak(x)), abs=0.1)


@pytest.mark.parametrize("rate", [44_100, 88_200, 96_000, 192_000])
def test_other_rates(rate: int) -> None:
    x = sine(rate / 4.03, 0.5, -3.0, rate, phase=0.7)
    fade = np.minimum(1.0, np.arange(len(x)) / 2000)
    assert db_of(true_peak(x * np.minimum(fade, fade[::-1])[:, None], rate)) == pytest.approx(-3.0, abs=0.06)


def test_never_under_the_sample_peak() -> None:
    x = noise(1.0, 0.3)
    assert true_peak(x, RATE) >= np.abs(x).max()
