"""Dither: the noise is where it was designed to be, and frees the error from the sound."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.deliver.audition import KINDS, SAFE, end_of, raised_end
from gluvo.dsp.dither import Ditherer, noise_of, wanted_noise
from gluvo.session.records import Deliverable

from .conftest import music

STEP = 2.0**-15
CURVES = ("light", "ear", "deep")
RATES = (44_100, 48_000, 96_000, 192_000)


def density(error: np.ndarray) -> np.ndarray:
    """The power of an error by frequency, dB against that of TPDF and rounding."""
    window = np.hanning(8192)
    parts = [np.abs(np.fft.rfft(error[at : at + 8192] * window)) ** 2 for at in range(0, len(error) - 8192, 4096)]
    return 10.0 * np.log10(np.mean(parts, axis=0) / (window**2).sum() / (STEP**2 / 4.0))


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("amount", [0.3, 1.0])
def test_the_noise_lies_where_it_was_designed(rate: int, curve: str, amount: float) -> None:
    freqs = np.linspace(100.0, rate / 2.0 - 100.0, 1500)
    made, wanted = (f(curve, amount, freqs, rate) for f in (noise_of, wanted_noise))
    assert np.sqrt(((made - wanted) ** 2).mean()) < 0.8
    assert np.abs(made - wanted).max() < 2.6
    x = np.zeros((1 << 18, 2))
    x[:, 0] = 0.1 * np.sin(np.arange(len(x)) * 0.01)
    error = Ditherer(16, rate, curve, amount).run(x)[:, 0] / 2.0**31 - x[:, 0]
    measured = density(error)
    there = noise_of(curve, amount, np.fft.rfftfreq(8192, 1 / rate), rate)
    smooth = np.convolve(measured - there, np.full(33, 1 / 33), "valid")
    assert np.abs(smooth).max() < 0.7


@pytest.mark.parametrize("curve", CURVES)
def test_where_the_ear_is_keenest_there_is_least(curve: str) -> None:
    keen = {c: float(noise_of(c, 1.0, np.array([3300.0]), 44_100)[0]) for c in CURVES}
    assert keen["deep"] < keen["ear"] < keen["light"] < -9.0
    half = float(noise_of(curve, 0.5, np.array([3300.0]), 44_100)[0])
    assert half == pytest.approx(keen[curve] / 2.0, abs=0.6)


def test_no_shaping_is_tpdf() -> None:
    x = np.random.default_rng(3).standard_normal((5000, 2)) * 0.1
    assert np.array_equal(Ditherer(16, 48_000, "deep", 0.0).run(x), Ditherer(16, 48_000, "tpdf").run(x))


@pytest.mark.parametrize("curve", ["tpdf", *CURVES])
def test_blocks_make_no_difference(curve: str) -> None:
    x = np.random.default_rng(4).standard_normal((3000, 2)) * 0.1
    parts = Ditherer(16, 48_000, curve)
    joined = np.concatenate([parts.run(x[a : a + 501]) for a in range(0, 3000, 501)])
    assert np.array_equal(joined, Ditherer(16, 48_000, curve).run(x))


@pytest.mark.parametrize("curve", ["tpdf", *CURVES])
def test_a_tone_under_a_step_is_kept_and_its_error_is_not_distortion(curve: str) -> None:
    rate, n = 48_000, 1 << 18
    tone = 0.4 * STEP * np.sin(2 * np.pi * 1000 * np.arange(n) / rate)
    y = Ditherer(16, rate, curve).run(np.stack([tone, tone], axis=1))[:, 0] / 2.0**31
    turn = np.exp(-2j * np.pi * np.arange(n) / rate)
    level = [2.0 * abs(np.mean(y * turn ** (1000 * k))) / STEP for k in (1, 2, 3, 5)]
    assert level[0] == pytest.approx(0.4, abs=0.02)
    assert max(level[1:]) < 0.03


@pytest.mark.parametrize("curve", ["none", "tpdf", *CURVES])
def test_full_scale_does_not_turn_over(curve: str) -> None:
    x = np.repeat(np.array([1.0, -1.0, 2.0, -2.0] * 500)[:, None], 2, axis=1)
    y = Ditherer(16, 48_000, curve).run(x) / 2.0**31
    assert np.abs(y - np.clip(x, -1.0, 1.0)).max() < (300 if curve in CURVES else 3) * STEP
    assert np.all(np.sign(y) == np.sign(x))


@pytest.mark.parametrize("kind", [kind for kind, _ in KINDS])
def test_the_raised_end_is_what_the_file_holds_and_never_loud(kind: str) -> None:
    rate, x = 48_000, music(4.0) * 0.5
    row = Deliverable(id="d", name="D", bits="16", fade_out=4.0, fade_shape="even")
    heard = raised_end(x, rate, row, kind, 60.0)
    assert heard.shape == x.shape and np.isfinite(heard).all()
    assert np.abs(heard).max() <= 10 ** (SAFE / 20) * 1.001
    last = np.abs(heard[-200:]).max() / 10**3  # where all is under a step
    assert (last == 0.0) is (kind == "none") or last <= 64 * STEP
    assert end_of(row, 100.0) == 4.0 and end_of(msgspec.structs.replace(row, fade_out=0.0), 100.0) == 3.0
    assert end_of(row, 1.5) == 1.5
