"""The limiter: nothing passes, nothing is touched that need not be."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from gluvo.dsp.db import db_of
from gluvo.render.chain import Chain, run_chain
from gluvo.steps import Limiter

from .conftest import RATE, music, noise, sine


def band_limited(x: np.ndarray) -> np.ndarray:
    return signal.lfilter(signal.firwin(801, 20_000, fs=RATE), 1, x, axis=0)


def clicks() -> np.ndarray:
    x = np.zeros((RATE, 2))
    x[::1111], x[5::2777] = 1.0, -1.0
    return x


SIGNALS = {
    "noise": lambda: band_limited(noise(1.5, 0.25)),
    "white noise": lambda: noise(1.5, 0.25),
    "music": lambda: music(3.0),
    "square": lambda: np.sign(sine(997, 1.0)) * 0.9,
    "clicks": clicks,
    "between samples": lambda: sine(12_000, 1.0, 0.0, phase=np.pi / 4),
    "high tone": lambda: sine(18_997, 1.0, 0.0, phase=0.3),
}
SETTINGS = {
    "plain": Limiter(drive=8.0, ceiling=-1.0),
    "fast": Limiter(drive=12.0, ceiling=-0.3, release=5.0, look_ahead=0.5, auto_release=0.0),
    "unlinked": Limiter(drive=8.0, ceiling=-2.0, link=0.0, knee=4.0, attack=40.0),
}


def peak_at_16x(x: np.ndarray) -> float:
    """The peak at sixteen times the rate, without what the abrupt ends of the array add."""
    fine = signal.resample_poly(np.concatenate([np.zeros((64, 2)), x]), 16, 1)
    return db_of(float(np.abs(fine[64 * 16 : -64 * 16]).max()))


@pytest.mark.parametrize("step", SETTINGS.values(), ids=SETTINGS.keys())
@pytest.mark.parametrize("make", SIGNALS.values(), ids=SIGNALS.keys())
def test_the_true_peak_stays_under_the_ceiling(make, step: Limiter) -> None:  # type: ignore[no-untyped-def]
    y = run_chain([step], np.concatenate([make(), np.zeros((4800, 2))]), RATE)
    assert peak_at_16x(y) <= step.ceiling + 0.05
    assert db_of(float(np.abs(y).max())) <= step.ceiling + 1e-9


@pytest.mark.parametrize("make", SIGNALS.values(), ids=SIGNALS.keys())
@pytest.mark.parametrize("attack", [0.0, 50.0, 100.0])
def test_the_sample_peak_never_passes(make, attack: float) -> None:  # type: ignore[no-untyped-def]
    step = Limiter(
        drive=15.0, ceiling=-1.0, true_peak=False, attack=attack, release=0.05, auto_release=0.0, look_ahead=0.1
    )
    y = run_chain([step], make(), RATE)
    assert np.abs(y).max() <= 10 ** (-1 / 20) * (1 + 1e-9)


def test_nothing_over_the_ceiling_nothing_touched() -> None:
    x = music(2.0)
    x *= 0.85 / np.abs(x).max()
    assert np.array_equal(run_chain([Limiter(ceiling=-1.0)], x, RATE), x)
    assert np.array_equal(run_chain([Limiter(ceiling=-1.0, true_peak=False)], x, RATE), x)


def test_it_comes_back_to_exactly_nothing() -> None:
    loud, soft = noise(0.5, 0.6), noise(6.0, 0.02, seed=1)
    y = run_chain([Limiter(ceiling=-6.0, auto_release=0.0)], np.concatenate([loud, soft]), RATE)
    assert np.array_equal(y[-RATE:], soft[-RATE:])


def test_drive_is_gain_while_there_is_room() -> None:
    x = sine(440, 1.0, -30.0)
    assert run_chain([Limiter(drive=10.0)], x, RATE) == pytest.approx(x * 10**0.5, abs=1e-12)


def test_release_and_auto_release() -> None:
    x = np.concatenate([np.full((480, 2), 2.0), np.full((RATE, 2), 0.1)])
    dense = np.concatenate([np.full((3 * RATE, 2), 2.0), np.full((RATE, 2), 0.1)])

    def gain_after(signal_: np.ndarray, step: Limiter, seconds: float) -> float:
        y = run_chain([step], signal_, RATE)
        at = len(signal_) - RATE + round(seconds * RATE)
        return float(-20 * np.log10(y[at, 0] / 0.1))

    plain = Limiter(true_peak=False, release=100.0, auto_release=0.0, look_ahead=1.0)
    slow = Limiter(true_peak=False, release=100.0, auto_release=100.0, look_ahead=1.0)
    assert gain_after(x, plain, 0.1) == pytest.approx(6.02 * np.exp(-1), rel=0.06)
    assert gain_after(dense, slow, 0.4) > 3.0 * gain_after(dense, plain, 0.4)
    assert gain_after(x, slow, 0.4) < 1.0


def test_unlinked_channels_keep_to_themselves() -> None:
    x = sine(300, 1.0, 3.0) * np.array([1.0, 0.1])
    free = run_chain([Limiter(ceiling=-1.0, link=0.0)], x, RATE)
    tied = run_chain([Limiter(ceiling=-1.0, link=100.0)], x, RATE)
    assert np.array_equal(free[:, 1], x[:, 1])
    assert np.abs(tied[4800:-4800, 1]).max() < np.abs(x[:, 1]).max() * 0.7


def test_reduction_is_told_when_it_is_heard() -> None:
    x = sine(200, 1.0, -12.0)
    x[20_000:20_400] *= 8.0
    chain = Chain([Limiter(ceiling=-3.0)], RATE)
    out, told = np.zeros_like(x), np.zeros(len(x))
    for at in range(0, len(x), 512):
        n = len(x[at : at + 512])
        chain.process(x[at : at + n], out[at : at + n])
        told[at : at + n] = chain.processors[0].reduction[:n]
    late = chain.latency
    heard = np.abs(x[: len(x) - late, 0]) > 0.05
    lost = 20 * np.log10(np.maximum(np.abs(x[: len(x) - late, 0]), 1e-9) / np.maximum(np.abs(out[late:, 0]), 1e-9))
    assert told[late:][heard] == pytest.approx(lost[heard], abs=1e-6)
