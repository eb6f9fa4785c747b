"""Saturation against its own curve, and what folds back."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest

from gluvo.advise.shelf import BUILT_IN
from gluvo.dsp.oversampling import FACTORS, Oversampler
from gluvo.measure.harmonics import harmonics_of, new_spectrum
from gluvo.render.chain import run_chain
from gluvo.session.presets import Preset
from gluvo.steps import Saturation

from .conftest import RATE, music, noise, sine

SHAPES = ("soft", "warm", "dense", "edge")


def level_of(x: np.ndarray, freq: float) -> np.ndarray:
    """Levels against a steady tone's own, dB, by Hz; the second holds whole cycles of the tone and of all its aliases."""
    spectrum = np.abs(np.fft.rfft(x))
    return 20 * np.log10(np.maximum(spectrum, 1e-12) / spectrum[round(freq)])


@pytest.mark.parametrize(("shape", "most"), [("soft", -100), ("warm", -100), ("dense", -100), ("edge", -80)])
def test_little_folds_back(shape: str, most: float) -> None:
    """A 5 kHz sine at +12 dB drive, 8 ×: whatever is not a harmonic is an alias."""
    y = run_chain([Saturation(shape=shape, drive=12.0, oversampling=8)], sine(5000, 4.0, 0.0), RATE)
    level = level_of(y[2 * RATE : 3 * RATE, 0], 5000)
    freqs = np.arange(len(level))
    assert level[(freqs % 5000 != 0) & (freqs > 20)].max() <= most


def test_oversampling_is_worth_its_time() -> None:
    found = []
    for factor in FACTORS:
        step = Saturation(shape="edge", drive=18.0, oversampling=factor)
        level = level_of(run_chain([step], sine(5000, 1.2), RATE)[4800 : 4800 + RATE, 0], 5000)
        freqs = np.arange(len(level))
        found.append(float((10 ** (level[(freqs % 5000 != 0) & (freqs > 20)] / 10)).sum()))
    assert all(later < earlier / 2 for earlier, later in itertools.pairwise(found))


@pytest.mark.parametrize("factor", FACTORS)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_the_way_up_and_back_is_in_time_and_flat(factor: int, rate: int) -> None:
    """With the mean of neighbours in between, as a shaper does it."""
    for freq, most in ((997.0, 2e-3), (10_000.0, 1e-2)):
        over, last = Oversampler(factor, rate, 4096), np.zeros(2)
        t = np.arange(3 * 4096) / rate
        x = np.stack([np.sin(2 * np.pi * freq * t), np.cos(2 * np.pi * freq * t)], axis=1)
        out = np.zeros_like(x)
        for at in range(0, len(x), 4096):
            raised = np.concatenate([last, over.up(x[at : at + 4096])])
            last = raised[-2:].copy()
            over.down(0.5 * (raised[2:] + raised[:-2]), out[at : at + 4096])
        late = over.latency
        assert np.abs(out[4096:] - x[4096 - late : len(x) - late]).max() < most


@pytest.mark.thorough
@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("drive", [4.0, 9.0, 20.0])
def test_harmonics_are_those_of_the_curve(shape: str, drive: float) -> None:
    step = Saturation(shape=shape, drive=drive, bias=30.0, oversampling=8)
    x = sine(1000, 1.0, -3.0)
    found = harmonics_of(run_chain([step], x, RATE)[:, 0], RATE, 1000.0)
    wanted = harmonics_of(step.shaper(sine(1000, 1.0, -3.0, 64 * RATE)[:, 0]), 64 * RATE, 1000.0)
    strong = np.array(wanted.levels) > -70
    assert np.abs(np.array(found.levels) - np.array(wanted.levels))[strong].max() < 0.15
    assert found.thd == pytest.approx(wanted.thd, rel=0.01)


def test_odd_curves_make_odd_harmonics_only() -> None:
    x = sine(1000, 1.0, -3.0)
    for shape, even in (("soft", False), ("dense", False), ("edge", False), ("warm", True)):
        found = harmonics_of(run_chain([Saturation(shape=shape, drive=9.0)], x, RATE)[:, 0], RATE, 1000.0)
        assert (found.levels[0] > -60) is even, shape  # the second harmonic
        assert found.levels[1] > -45


def test_harmonics_of_a_known_wave() -> None:
    t = np.arange(RATE) / RATE
    x = (
        0.5 * np.sin(2 * np.pi * 440 * t)
        + 0.05 * np.sin(2 * np.pi * 880 * t + 1)
        + 0.005 * np.cos(2 * np.pi * 2200 * t)
    )
    found = harmonics_of(x, RATE, 440.0)
    assert found.levels[0] == pytest.approx(-20.0, abs=0.01) and found.levels[3] == pytest.approx(-40.0, abs=0.01)
    assert found.thd == pytest.approx(np.hypot(0.1, 0.01), rel=1e-3) and found.level == pytest.approx(-6.02, abs=0.01)


def test_dense_raises_what_is_soft_and_never_passes_full_scale() -> None:
    step = Saturation(shape="dense", drive=0.0, oversampling=8)
    soft = run_chain([step], sine(300, 0.5, -30.0), RATE)
    assert 20 * np.log10(np.abs(soft[RATE // 4 :]).max()) == pytest.approx(-30.0 + 20 * np.log10(15 / 8), abs=0.1)
    curve = step.shaper(np.linspace(-4, 4, 4001))
    assert np.abs(curve).max() <= 1.0 + 1e-12
    for drive in (-11.0, -3.0, 12.0):
        for bias in (0.0, 60.0):
            harder = msgspec.structs.replace(step, drive=drive, bias=bias).shaper(np.linspace(-4, 4, 4001))
            assert np.abs(harder).max() <= 1.0 + 1e-12 and np.all(np.diff(harder) >= -1e-12)


@pytest.mark.parametrize("shape", SHAPES)
def test_what_lies_outside_the_range_stays_as_it_came(shape: str) -> None:
    step = Saturation(shape=shape, drive=12.0, low=800.0, high=2000.0)
    for freq in (60.0, 9000.0):
        x = sine(freq, 1.0, -12.0)
        y = run_chain([step], x, RATE)
        assert np.abs(y - x)[RATE // 4 : -RATE // 4].max() < (0.02 if shape != "dense" else 0.04) * 10 ** (-12 / 20)
    inside = sine(1200.0, 1.0, -6.0)
    assert np.abs(run_chain([step], inside, RATE) - inside)[RATE // 4 : -RATE // 4].max() > 0.05


def test_mid_and_side_are_bent_apart_where_their_amounts_differ() -> None:
    """Neither drives the other's products: a soft side under a loud mid comes out as it would alone."""
    mid, side = sine(440, 2.0, -3.0), sine(700, 2.0, -30.0) * np.array([1.0, -1.0])
    step = Saturation(drive=12.0, mid=0.0, side=100.0, oversampling=8)
    both, alone = run_chain([step], mid + side, RATE), run_chain([step], side, RATE)
    assert np.abs(both - mid - alone).max() < 1e-9
    only_mid = run_chain([Saturation(drive=12.0, mid=100.0, side=0.0, oversampling=8)], mid + side, RATE)
    assert np.abs(0.5 * (only_mid[:, 0] - only_mid[:, 1]) - side[:, 0]).max() < 1e-9


def test_the_tilt_goes_exactly_back() -> None:
    """Where the curve is all but straight, a tilt before it changes nothing."""
    x = noise(1.0, 1e-5)
    plain, tilted = (run_chain([Saturation(drive=-11.0, tilt=t)], x, RATE) for t in (0.0, 6.0))
    assert np.abs(plain - tilted).max() < 1e-9
    strong = run_chain([Saturation(drive=12.0, tilt=6.0)], noise(1.0, 0.2), RATE)
    assert np.abs(strong - run_chain([Saturation(drive=12.0)], noise(1.0, 0.2), RATE)).max() > 0.01


def test_new_sound_is_told_from_a_change_of_tone() -> None:
    """A gain adds nothing new; distortion does, where its harmonics are."""
    x = noise(4.0, 0.1)
    assert new_spectrum(x, 0.5 * x, RATE).share < 1e-6
    t = np.arange(4 * RATE) / RATE
    tone = np.repeat((0.5 * np.sin(2 * np.pi * 500 * t))[:, None], 2, axis=1) + noise(4.0, 1e-4)
    third = tone + np.repeat((0.05 * np.sin(2 * np.pi * 1500 * t + 0.3 * t))[:, None], 2, axis=1)
    found = new_spectrum(tone, third, RATE)
    assert found.share == pytest.approx(0.01, rel=0.1)
    assert found.freqs[np.argmax(found.new)] == pytest.approx(1500, rel=0.05)


@pytest.mark.parametrize("preset", [p for p in BUILT_IN if p.kind == "saturation"], ids=lambda p: p.name)
def test_presets_do_something_to_music(preset: Preset) -> None:
    (step,) = preset.items
    assert isinstance(step, Saturation) and not step.idle
    x = music(2.0) / np.abs(music(2.0)).max()
    change = run_chain([msgspec.structs.replace(step, on=True)], x, RATE) - x
    assert 1e-4 < np.abs(change).max() < 1.0
