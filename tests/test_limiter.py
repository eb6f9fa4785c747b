"""The limiter: nothing passes, nothing is touched that need not be."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from scipy import signal

from gluvo.advise.loudness_target import driven
from gluvo.dsp.db import db_of
from gluvo.measure.overview import ReducedBy
from gluvo.measure.trace import Span
from gluvo.render.chain import Chain, run_chain
from gluvo.render.song import Renderer
from gluvo.steps import Clipper, Limiter
from gluvo.steps.ceiling import CeilingStep

from .conftest import RATE, hold, material, music, noise, one, sine


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


def distortion(frequency: float, step: Limiter, rate: int = RATE) -> float:
    """THD+N in dB of a sine driven 6 dB over, a second after it began."""
    t = np.arange(3 * rate) / rate
    x = np.repeat(np.sin(2 * np.pi * frequency * t)[:, None] * 10 ** (6 / 20), 2, axis=1)
    y = run_chain([step], x, rate)[rate:, 0]
    window = np.hanning(len(y))
    tone = np.stack([f(2 * np.pi * frequency * t[: len(y)]) for f in (np.sin, np.cos)], axis=1)
    fitted = tone @ np.linalg.lstsq(tone * window[:, None], y * window, rcond=None)[0]
    return db_of(float(np.linalg.norm((y - fitted) * window) / np.linalg.norm(fitted * window)))


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
def test_lows_stay_clean(rate: int) -> None:
    """With the settings of a new limiter the gain does not follow single waves."""
    assert distortion(30.0, Limiter(), rate) < -60.0
    assert distortion(50.0, Limiter(), rate) < -60.0
    assert distortion(100.0, Limiter(), rate) < -70.0
    assert distortion(100.0, Limiter(true_peak=False), rate) < -70.0


def test_auto_release_reaches_lower_the_more_of_it_there_is() -> None:
    by_amount = [distortion(50.0, Limiter(auto_release=a)) for a in (0.0, 10.0, 25.0, 50.0, 100.0)]
    assert all(later <= earlier + 0.01 for earlier, later in itertools.pairwise(by_amount) if earlier > -100)
    assert by_amount[0] > -45.0 and by_amount[-1] < -100.0


@pytest.mark.parametrize("step", [Limiter(), Limiter(auto_release=100.0), Limiter(true_peak=False)])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_single_peak_is_let_go_within_150_ms(step: Limiter, rate: int) -> None:
    x = np.full((rate, 2), 0.01)
    x[rate // 4 : rate // 4 + rate // 1000] = 2.0
    told = reductions(step, x, rate)
    held = np.flatnonzero(told > 0.999 * told.max())[-1]
    gone = np.flatnonzero(told > 0.1 * told.max())[-1]
    assert told.max() > 5.9
    assert (gone - held) / rate < 0.15


def test_who_sets_a_fast_release_gets_it() -> None:
    """Between the waves of a bass the gain is back, whatever the auto release."""
    x = sine(50, 1.0, 6.0)
    for amount in (0.0, 50.0, 100.0):
        told = reductions(Limiter(release=0.05, auto_release=amount, look_ahead=0.1), x, RATE)[RATE // 2 :]
        assert told.min() == 0.0
        assert told.max() > 5.9


def reductions(step: Limiter, x: np.ndarray, rate: int) -> np.ndarray:
    """What is taken at every sample, in dB."""
    chain, out, told = Chain([step], rate), np.zeros((512, 2)), np.zeros(len(x))
    for at in range(0, len(x), 512):
        n = len(x[at : at + 512])
        chain.process(x[at : at + n], out[:n])
        told[at : at + n] = chain.processors[0].reduction[:n]
    return told


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize("frequency", [30, 997, 5000, 7000, 10_000, 15_000, 18_000])
def test_what_peaks_right_under_the_ceiling_is_not_touched(rate: int, frequency: int) -> None:
    n = rate // 2
    edge = np.minimum(1.0, np.minimum(np.arange(n), np.arange(n)[::-1]) / (0.05 * rate))
    wave = np.sin(2 * np.pi * frequency * np.arange(n) / rate + 0.7) * (0.5 - 0.5 * np.cos(np.pi * edge))
    for under in (0.0, 0.005, 0.02):
        x = np.repeat(wave[:, None], 2, axis=1) * 10 ** ((-1.0 - under) / 20)
        assert np.abs(run_chain([Limiter(ceiling=-1.0)], x, rate) - x).max() < 1e-12


CLIPPERS = {
    "square": Clipper(drive=8.0, ceiling=-1.0),
    "round": Clipper(drive=8.0, ceiling=-1.0, knee=60.0, oversampling=8),
    "plain rate": Clipper(drive=8.0, ceiling=-1.0, oversampling=1),
}


@pytest.mark.sampled(5)
@pytest.mark.parametrize("step", CLIPPERS.values(), ids=CLIPPERS.keys())
@pytest.mark.parametrize("name", [n for n in SIGNALS if n != "white noise"])
def test_a_clipper_holds_its_ceiling_between_samples_too(name: str, step: Clipper) -> None:
    y = run_chain([step], np.concatenate([SIGNALS[name](), np.zeros((4800, 2))]), RATE)
    assert peak_at_16x(y) <= step.ceiling + 0.05


@pytest.mark.parametrize("name", [n for n in SIGNALS if n != "white noise"])
def test_two_in_a_row_hold_the_last_ones_ceiling(name: str) -> None:
    x = np.concatenate([SIGNALS[name](), np.zeros((4800, 2))])
    first, last = Clipper(drive=6.0, ceiling=-1.0), Limiter(drive=3.0, ceiling=-1.0)
    for chain in ([first, last], [last, first]):
        assert peak_at_16x(run_chain(chain, x, RATE)) <= -1.0 + 0.05


def test_a_clipper_touches_nothing_under_its_knee() -> None:
    x = music(1.0)
    x *= 10 ** (-1.3 / 20) / 10 ** (peak_at_16x(x) / 20)
    assert np.array_equal(run_chain([Clipper(ceiling=-1.0)], x, RATE), x)
    assert np.array_equal(run_chain([Clipper(knee=10.0)], x, RATE), x)
    assert not np.array_equal(run_chain([Clipper(ceiling=-3.0)], x, RATE), x)


@pytest.mark.sampled(2)
@pytest.mark.parametrize("knee", [0.0, 1.0, 40.0, 100.0])
def test_a_clipper_follows_its_curve(knee: float) -> None:
    """A slow ramp is not yet what a filter could smear."""
    step = Clipper(ceiling=-6.0, knee=knee, oversampling=1)
    x = np.repeat(np.linspace(0.0, 1.2, 2 * RATE)[:, None], 2, axis=1) * np.array([1.0, -1.0])
    y = run_chain([step], x, RATE)
    assert y[: -RATE // 10] == pytest.approx(step.shaper(x)[: -RATE // 10], abs=2e-5)


def test_the_share_of_clipped_samples_is_told() -> None:
    """Of a sine driven 6 dB over, two thirds of the time stand over the ceiling."""
    x = sine(100, 1.0, 6.02)
    told = reductions(Clipper(), x, RATE)[RATE // 4 :]
    assert (told > 0.0).mean() == pytest.approx(2.0 / 3.0, abs=0.01)
    assert told.max() == pytest.approx(6.02, abs=0.05)


def test_oversampling_keeps_what_clipping_makes_from_folding_back() -> None:
    x = sine(5000, 1.0, 12.0)
    for factor, allowed in ((4, -70.0), (8, -85.0)):
        y = run_chain([Clipper(oversampling=factor)], x, RATE)[RATE // 4 :][:24_000, 0]
        spectrum = np.abs(np.fft.rfft(y * signal.windows.blackmanharris(24_000)))
        freqs = np.fft.rfftfreq(24_000, 1 / RATE)
        others = np.min([np.abs(freqs - 5000 * k) for k in (1, 3)], axis=0) > 60
        assert db_of(float(spectrum[others].max() / spectrum.max())) < allowed


@pytest.mark.sampled(5)
@pytest.mark.parametrize("rate", [44_100, 96_000])
@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize(
    "step",
    [
        Limiter(id="l", ceiling=-3.0, aim=2.0),
        Limiter(id="l", ceiling=-1.0, aim=5.0, true_peak=False, link=0.0, knee=3.0, look_ahead=5.0),
        Clipper(id="l", ceiling=-6.0, aim=2.0),
        Clipper(id="l", ceiling=-3.0, aim=0.5, knee=60.0, oversampling=1),
    ],
    ids=["limiter", "unlinked", "clipper", "round"],
)
def test_a_drive_is_found_for_what_it_takes_off(step: CeilingStep, by: ReducedBy, rate: int) -> None:
    """What the joint tells, in any span; held, it is found again when what comes in is louder."""
    x = music(4.0, rate)
    for gain, span in ((0.7, Span(0.876, 3.21)), (0.4, None)):
        renderer = Renderer(material(x * gain, rate))
        held = msgspec.structs.replace(step, aim_by=by, aim=step.aim * (0.1 if by == "mean" else 1.0), hold_aim=True)
        session = hold(renderer, one([held]), span)
        joint = renderer.song(session).joint("l")
        assert joint is not None
        reduced = joint.reduced(span)
        assert reduced is not None and reduced.of(by) == pytest.approx(held.aim, abs=0.05)


def test_a_drive_that_reach_sets_is_no_longer_held() -> None:
    session = one([Limiter(id="l", drive=3.0, hold_aim=True, hold_loudness=True)])
    step = driven(session, "l", 8.0, -1.0).step("l")
    assert isinstance(step, Limiter) and step.drive == 8.0 and not step.held_now
