"""Width and crossovers against closed forms."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.dsp.crossover import Crossover
from gluvo.measure.spectrum import tone_of
from gluvo.measure.stereo import image_by_frequency, stereo_bands
from gluvo.render.chain import run_chain
from gluvo.steps import Width

from .conftest import RATE, music, noise, sine


def parts(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mid and side."""
    return (x[:, 0] + x[:, 1]) / 2, (x[:, 0] - x[:, 1]) / 2


def db(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10((a**2).mean() / (b**2).mean()))


@pytest.mark.parametrize("freqs", [[200.0], [120.0, 2500.0], [90.0, 700.0, 5000.0], [300.0, 330.0, 9000.0]])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_crossovers_add_up_flat(freqs: list[float], rate: int) -> None:
    pulse = np.zeros((rate, 2))
    pulse[0] = 1.0
    split = Crossover(freqs, rate, rate)
    bands = [band.copy() for band in split.run(pulse)]
    total = np.abs(np.fft.rfft(sum(bands)[:, 0]))
    assert np.abs(20 * np.log10(total)).max() < 0.01
    at = round(freqs[0])
    for k, band in enumerate(bands[:2]):  # −6 dB where they meet
        wide = len(freqs) == 1 or freqs[1] > 3 * freqs[0]
        level = 20 * np.log10(np.abs(np.fft.rfft(band[:, 0]))[at])
        assert not wide or level == pytest.approx(-6.02, abs=0.1), k
    octave = 20 * np.log10(np.abs(np.fft.rfft(bands[-1][:, 0])))
    assert octave[round(freqs[-1] / 4)] < -45


def test_width_scales_the_side_alone() -> None:
    x = music(1.0)
    for width in (0.0, 50.0, 180.0):
        y = run_chain([Width(width_1=width)], x, RATE)
        (mid, side), (mid_out, side_out) = parts(x), parts(y)
        assert np.abs(mid_out - mid).max() < 1e-12
        assert np.abs(side_out - side * width / 100).max() < 1e-12


@pytest.mark.parametrize(("freq", "band"), [(60.0, 0), (500.0, 1), (3000.0, 2), (14_000.0, 3)])
def test_each_band_has_its_own_width(freq: float, band: int) -> None:
    widths = (0.0, 50.0, 150.0, 200.0)
    step = Width(
        bands=4, width_1=0, width_2=50, width_3=150, width_4=200, crossover_1=150, crossover_2=1200, crossover_3=7000
    )
    x = sine(freq, 1.0, -12.0) * np.array([1.0, 0.3])
    _, side = parts(run_chain([step], x, RATE)[RATE // 2 :])
    _, before = parts(x[RATE // 2 :])
    got = np.sqrt((side**2).mean() / (before**2).mean())
    assert got == pytest.approx(widths[band] / 100, abs=0.04)


def test_balance_turns_the_other_side_down() -> None:
    x = noise(0.5)
    y = run_chain([Width(balance_1=40.0)], x, RATE)
    assert np.abs(y - x * np.array([0.6, 1.0])).max() < 1e-12
    assert np.abs(run_chain([Width(balance_1=-100.0)], x, RATE)[:, 1]).max() < 1e-12


def test_mono_below_leaves_no_side_and_no_shift_above() -> None:
    step = Width(mono_below=140.0)
    low = sine(50.0, 1.0, -12.0) * np.array([1.0, -0.8])
    mid, side = parts(run_chain([step], low, RATE)[RATE // 2 :])
    assert db(side, parts(low)[1][RATE // 2 :]) < -30
    assert db(mid, parts(low)[0][RATE // 2 :]) == pytest.approx(0.0, abs=0.01)
    for freq in (300.0, 1000.0, 5000.0):  # mid and side keep their phase: a sound at the left stays there
        left = sine(freq, 1.0, -12.0) * np.array([1.0, 0.0])
        y = run_chain([step], left, RATE)[RATE // 2 :]
        assert db(y[:, 1], y[:, 0]) < (-25 if freq == 300.0 else -45)


def test_the_sides_low_cut_is_gentle() -> None:
    step = Width(side_low_cut=200.0)
    for freq, wanted in ((50.0, -24.1), (200.0, -3.01), (1600.0, 0.0)):
        x = sine(freq, 2.0, -12.0) * np.array([1.0, -1.0])
        assert db(run_chain([step], x, RATE)[RATE:], x[RATE:]) == pytest.approx(wanted, abs=0.15)


def test_crossovers_out_of_order_are_put_in_order() -> None:
    step = Width(bands=3, crossover_1=4000.0, crossover_2=300.0, width_1=0.0)
    assert step.crossovers == (300.0, 4000.0) and step.edges[0] == (20.0, 300.0)
    swapped = msgspec.structs.replace(step, crossover_1=300.0, crossover_2=4000.0)
    x = music(0.5)
    assert np.array_equal(run_chain([step], x, RATE), run_chain([swapped], x, RATE))


@pytest.mark.parametrize(
    ("right", "correlation", "width", "loss"),
    [(1.0, 1.0, -60.0, 0.0), (0.5, 1.0, -9.54, 0.46), (0.0, 0.0, 0.0, 3.01), (-0.5, -1.0, 9.54, 10.0)],
)
def test_the_image_of_closed_forms(right: float, correlation: float, width: float, loss: float) -> None:
    """One noise at two levels: side to mid is ``(1 − g)/(1 + g)``, and mono loses ``2 (1 + g²) / (1 + g)²``."""
    x = np.repeat(noise(4.0)[:, :1], 2, axis=1) * np.array([1.0, right])
    for band in stereo_bands(x, RATE):
        assert band.correlation == pytest.approx(correlation, abs=0.01)
        assert band.width == pytest.approx(width, abs=0.1) and band.mono_loss == pytest.approx(loss, abs=0.1)
    found = image_by_frequency(tone_of(x, RATE), RATE)
    middle = (found.freqs > 60) & (found.freqs < 15_000)
    assert np.abs(found.correlation[middle] - correlation).max() < 0.01
    assert np.abs(found.width[middle] - width).max() < 0.1 and np.abs(found.mono_loss[middle] - loss).max() < 0.1


def test_unlike_channels_have_no_correlation_and_lose_three_db() -> None:
    found = image_by_frequency(tone_of(noise(20.0), RATE), RATE)
    high = found.freqs > 500
    assert np.abs(found.correlation[high]).max() < 0.15 and np.abs(found.mono_loss[high].mean() - 3.01) < 0.05


def test_a_tone_adds_up_to_the_power() -> None:
    x = noise(3.0) @ np.array([[1.0, 0.4], [0.0, 0.5]])
    found = tone_of(x, RATE)
    mid, side = parts(x)
    for part, wanted in (("left", x[:, 0]), ("right", x[:, 1]), ("mid", mid), ("side", side)):
        assert 10 * np.log10(found.total(part) / (wanted**2).mean()) == pytest.approx(0.0, abs=0.1), part
    white = tone_of(noise(20.0, 0.1), RATE)
    centres = np.geomspace(60, 18_000, 60)
    wanted_db = 10 * np.log10(0.1**2 / (RATE / 2))
    assert np.abs(white.smoothed("left", 3, centres) - wanted_db).max() < 1.0
    assert white.smoothed("stereo", 3, centres)[30:] == pytest.approx(wanted_db, abs=0.3)


def test_bands_are_told_by_their_ranges() -> None:
    assert Width(width_1=80.0).describe() == "width 80 %"
    two = Width(bands=2, crossover_1=200.0, width_2=150.0, balance_1=-10.0)
    assert two.describe() == "width 100 % to 200 Hz, 150 % from 200 Hz · balance −10 % to 200 Hz"
    four = Width(bands=4, width_1=0.0)
    assert four.ranges == ("to 200 Hz", "200 Hz–1.5 kHz", "1.5 kHz–6 kHz", "from 6 kHz")
