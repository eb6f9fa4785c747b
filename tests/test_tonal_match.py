"""Tonal match: a known curve is found again; what is kept is an ordinary equaliser."""

from __future__ import annotations

import numpy as np
import pytest

from gluvo.advise.adaptive_tone import adapted
from gluvo.advise.tonal_match import MatchSettings, TonalMatch, tonal_match, with_match
from gluvo.errors import GluvoError
from gluvo.measure.loudness import integrated
from gluvo.measure.spectrum import tone_of
from gluvo.measure.trace import trace_of
from gluvo.render.chain import run_chain
from gluvo.render.joint import Joint
from gluvo.steps import Band, Limiter, MidSideEq, Trim

from .conftest import RATE, noise, one

CURVES = [
    (
        Band(id=1, freq=120.0, gain=3.0, q=1.0),
        Band(id=2, freq=900.0, gain=-4.0, q=1.4),
        Band(id=3, freq=5000.0, gain=3.5, q=0.8),
    ),
    (
        Band(id=1, shape="low_shelf", freq=150.0, gain=4.0, q=0.71),
        Band(id=2, freq=450.0, gain=-3.0, q=2.0),
        Band(id=3, shape="high_shelf", freq=6000.0, gain=-3.0, q=0.71),
    ),
]


def pink(seconds: float = 20.0, seed: int = 1, rate: int = RATE) -> np.ndarray:
    white = np.random.default_rng(seed).standard_normal((round(seconds * rate), 2))
    spectrum = np.fft.rfft(white, axis=0)
    freqs = np.fft.rfftfreq(len(white), 1.0 / rate)[:, None]
    return 0.1 * np.fft.irfft(spectrum / np.sqrt(np.maximum(freqs, 10.0) / 100.0), len(white), axis=0)


def found_for(x: np.ndarray, wanted: np.ndarray, rate: int = RATE, **settings: object) -> TonalMatch:
    level = integrated(trace_of(wanted, rate))
    made = MatchSettings(**{"amount": 100.0, "bands": 8, **settings})
    return tonal_match(tone_of(x, rate), [(tone_of(wanted, rate), level)], rate, made)


@pytest.mark.sampled(3)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("curve", CURVES)
def test_a_known_curve_is_found_again(curve: tuple[Band, ...], rate: int) -> None:
    x = pink(rate=rate)
    eq = MidSideEq(id="e", bands=curve)
    found = found_for(x, run_chain([eq], x, rate) * 0.4, rate)
    centres = found.components[0].centres
    for freqs in (centres[(centres > 50) & (centres < 14_000)],):
        wanted, made = (20 * np.log10(np.abs(e.response(("stereo",), freqs, rate))) for e in (eq, found.step))
        apart = made - wanted
        assert np.abs(apart - apart.mean()).max() < 0.5
    assert found.error < 0.6 and len(found.step.bands) <= 8
    assert all(abs(b.gain) <= 6.0 and 30.0 <= b.freq <= 16_000.0 for b in found.step.bands)


@pytest.mark.thorough
def test_half_the_amount_makes_up_half() -> None:
    x = pink()
    wanted = run_chain([MidSideEq(id="e", bands=CURVES[0])], x, RATE)
    whole, half = (found_for(x, wanted, amount=amount) for amount in (100.0, 50.0))
    assert half.components[0].wanted == pytest.approx(0.5 * whole.components[0].wanted)
    assert np.abs(half.components[0].made - 0.5 * whole.components[0].made).max() < 0.4
    assert found_for(x, wanted, amount=0.0).step.bands == ()


def test_mid_and_side_are_matched_apart() -> None:
    x = pink()
    bands = (Band(id=1, target="mid", freq=300.0, gain=-4.0), Band(id=2, target="side", freq=3000.0, gain=4.0))
    found = found_for(x, run_chain([MidSideEq(id="e", bands=bands)], x, RATE), apart=True)
    assert {b.target for b in found.step.bands} == {"mid", "side"} and found.error < 0.6
    mono = np.repeat(x.mean(axis=1, keepdims=True), 2, axis=1)
    only = found_for(mono, x, apart=True)
    assert {b.target for b in only.step.bands} <= {"mid"}


@pytest.mark.sampled(3)
@pytest.mark.parametrize("apart", [False, True])
@pytest.mark.parametrize("most", [1, 2, 8])
def test_it_takes_no_more_bands_than_it_may(most: int, apart: bool) -> None:
    x = pink(4.0)
    found = found_for(x, run_chain([MidSideEq(id="e", bands=CURVES[0])], x, RATE), bands=most, apart=apart)
    assert 1 <= len(found.step.bands) <= most
    assert [b.id for b in found.step.bands] == list(range(1, len(found.step.bands) + 1))


def test_differences_beyond_six_decibels_are_not_made_up() -> None:
    x = pink()
    found = found_for(x, run_chain([MidSideEq(id="e", bands=(Band(id=1, freq=1000.0, gain=18.0, q=2.0),))], x, RATE))
    assert all(abs(b.gain) <= 6.0 for b in found.step.bands) and np.abs(found.components[0].wanted).max() <= 7.0


def test_nothing_to_match_is_told() -> None:
    x = pink(3.0)
    with pytest.raises(GluvoError, match="no reference that sounds"):
        found_for(x, np.zeros_like(x))
    with pytest.raises(GluvoError, match="silent"):
        found_for(np.zeros_like(x), x)


@pytest.mark.thorough
def test_it_goes_before_what_holds_the_ceiling() -> None:
    step = found_for(pink(4.0), noise(4.0)).step
    made, id = with_match(one([Trim(id="t"), Limiter(id="l")]), step)
    assert [item.id for item in made.mix.chain] == ["t", id, "l"]
    first, id = with_match(one([Limiter(id="l")]), step)
    assert [item.id for item in first.mix.chain] == [id, "l"]
    eq = made.step(id) if (id := made.mix.chain[1].id) else None
    assert isinstance(eq, MidSideEq) and eq.hold_loudness and 0 < len(eq.bands) <= 8


def test_bands_that_adapt_work_where_the_song_departs_and_no_further() -> None:
    """A song half of which is as the reference and half 6 dB up in one range: the cut works on that half alone."""
    reference = pink(seed=2)
    x = pink(seed=3)
    half = len(x) // 2
    x[half:] = run_chain([MidSideEq(id="e", bands=(Band(id=1, freq=2000.0, gain=8.0, q=1.0),))], x, RATE)[half:]
    cut = MidSideEq(id="c", bands=(Band(id=1, freq=2000.0, gain=-5.0, q=1.0),))
    song, theirs = (Joint(v.astype(np.float32), trace_of(v, RATE)) for v in (x, reference))
    step, moves = adapted(cut, (song, None), [(theirs, None)])
    assert len(moves) == 1 and 0.35 < moves[0].works < 0.6 and "sinks by up to 5.0 dB" in moves[0].words()
    band = step.bands[0]
    assert band.moving and band.gain == 0.0 and band.range == 5.0
    y = run_chain([step], x, RATE)
    ring = [Band(id=1, shape="band_pass", freq=2000.0, q=1.5)]
    before, after = (run_chain([MidSideEq(id="r", bands=tuple(ring))], v, RATE) for v in (x, y))

    def level(v: np.ndarray, place: slice) -> float:
        return float(10 * np.log10((v[place] ** 2).mean()))

    calm, loud = slice(RATE, half - RATE), slice(half + RATE, len(x) - RATE)
    assert level(after, calm) - level(before, calm) > -1.5
    assert -5.2 < level(after, loud) - level(before, loud) < -2.5


def test_what_is_raised_comes_back_where_it_is_as_loud() -> None:
    reference = run_chain([MidSideEq(id="e", bands=(Band(id=1, freq=2000.0, gain=6.0, q=1.0),))], pink(seed=2), RATE)
    x = pink(seed=3)
    song, theirs = (Joint(v.astype(np.float32), trace_of(v, RATE)) for v in (x, reference))
    lift = MidSideEq(id="c", bands=(Band(id=1, freq=2000.0, gain=4.0, q=1.0),))
    step, moves = adapted(lift, (song, None), [(theirs, None)])
    assert step.bands[0].gain == 4.0 and step.bands[0].range == 4.0 and moves[0].works > 0.6
    loud = Joint(reference.astype(np.float32), trace_of(reference, RATE))
    assert adapted(lift, (loud, None), [(theirs, None)])[1][0].works < 0.1


@pytest.mark.parametrize("x", [np.zeros((RATE, 2)), np.zeros((1, 2))])
def test_of_silence_nothing_adapts(x: np.ndarray) -> None:
    joint = Joint(x.astype(np.float32), trace_of(x, RATE))
    cut = MidSideEq(id="c", bands=(Band(id=1, freq=2000.0, gain=-5.0),))
    assert adapted(cut, (joint, None), [(joint, None)]) == (cut, ())
