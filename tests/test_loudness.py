"""Loudness and range against EBU Tech 3341 and 3342 and an independent meter."""

from __future__ import annotations

import numpy as np
import pyloudnorm
import pytest

from gluvo.measure import loudness
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import Span, k_weighting, trace_of

from .conftest import RATE, music, noise, sine


def levels(*parts: tuple[float, float], rate: int = RATE) -> np.ndarray:
    """A 1 kHz stereo sine in steps of ``(dBFS, seconds)``, without a jump in phase."""
    gains = np.concatenate([np.full(round(s * rate), 10 ** (db / 20)) for db, s in parts])
    tone = np.sin(2 * np.pi * 1000 * np.arange(len(gains)) / rate) * gains
    return np.repeat(tone[:, None], 2, axis=1)


@pytest.mark.thorough
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize(
    ("parts", "wanted"),
    [
        pytest.param([(-23, 20)], -23, id="case 1"),
        pytest.param([(-33, 20)], -33, id="case 2"),
        pytest.param([(-36, 10), (-23, 60), (-36, 10)], -23, id="case 3"),
        pytest.param([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23, id="case 4"),
        pytest.param([(-26, 20), (-20, 20.1), (-26, 20)], -23, id="case 5"),
    ],
)
def test_tech_3341_integrated(parts: list[tuple[float, float]], wanted: float, rate: int) -> None:
    if rate > 96_000 and len(parts) > 1:
        pytest.skip("one case at 192 kHz is enough: the filters are the same")
    assert loudness.integrated(trace_of(levels(*parts, rate=rate), rate)) == pytest.approx(wanted, abs=0.1)


def test_tech_3341_case_9_short_term_is_constant() -> None:
    trace = trace_of(levels(*[(-20, 1.34), (-30, 1.66)] * 5), RATE)
    assert loudness.short_term(trace) == pytest.approx(-23, abs=0.1)


def test_tech_3341_case_12_momentary_is_constant() -> None:
    trace = trace_of(levels(*[(-20, 0.18), (-30, 0.22)] * 25), RATE)
    assert loudness.momentary(trace)[60:] == pytest.approx(-23, abs=0.1)


@pytest.mark.parametrize("i", range(20))
def test_tech_3341_cases_10_and_13_maxima(i: int) -> None:
    for silence, length, curve in ((0.15 * i, 3.0, loudness.short_term), (0.02 * i, 0.4, loudness.momentary)):
        x = np.concatenate([np.zeros((round(silence * RATE), 2)), sine(1000, length, -23), np.zeros((RATE, 2))])
        assert curve(trace_of(x, RATE)).max() == pytest.approx(-23, abs=0.1)


@pytest.mark.parametrize(("step", "curve", "window"), [(3.0, loudness.short_term, 3.0), (0.4, loudness.momentary, 0.4)])
def test_tech_3341_cases_11_and_14_follow_rising_maxima(step: float, curve: object, window: float) -> None:
    for level in range(-38, -18, 4):
        x = np.concatenate([sine(1000, step, level), np.zeros((RATE, 2))])
        assert curve(trace_of(x, RATE)).max() == pytest.approx(level, abs=0.1)


@pytest.mark.parametrize(
    ("parts", "wanted"),
    [
        ([(-20, 20), (-30, 20)], 10),
        ([(-20, 20), (-15, 20)], 5),
        ([(-40, 20), (-20, 20)], 20),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
    ],
)
def test_tech_3342_range(parts: list[tuple[float, float]], wanted: float) -> None:
    assert loudness.loudness_range(trace_of(levels(*parts), RATE)) == pytest.approx(wanted, abs=1)


@pytest.mark.parametrize("rate", [44_100, 48_000])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_agrees_with_an_independent_meter(rate: int, seed: int) -> None:
    x = music(14.0, rate, seed)
    own = loudness.integrated(trace_of(x, rate))
    assert own == pytest.approx(pyloudnorm.Meter(rate).integrated_loudness(x), abs=0.05)


def test_k_weighting_equals_the_standards_table_at_48_khz() -> None:
    table = [
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585],
        [1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621],
    ]
    assert k_weighting(48_000) == pytest.approx(np.array(table), abs=1e-8)


def test_a_section_reads_as_if_it_were_cut_out() -> None:
    x = music(12.0)
    whole = figures_of(trace_of(x, RATE), Span(4.0, 9.0))
    alone = figures_of(trace_of(x[4 * RATE : 9 * RATE], RATE))
    assert whole.integrated == pytest.approx(alone.integrated, abs=0.02)
    assert whole.sample_peak == alone.sample_peak
    assert whole.seconds == alone.seconds


def test_silence_and_blinks_have_figures() -> None:
    for x in (np.zeros((RATE, 2)), np.zeros((5, 2)), noise(0.05)):
        f = figures_of(trace_of(x, RATE))
        assert all(np.isfinite([f.integrated, f.true_peak, f.plr, f.correlation, f.mono_loss]))
    assert figures_of(trace_of(np.zeros((RATE, 2)), RATE)).integrated == loudness.SILENT


def test_definitions_of_levels() -> None:
    f = figures_of(trace_of(sine(1000, 10, -6), RATE))
    assert f.rms == pytest.approx(-9.01, abs=0.01)
    assert f.crest == pytest.approx(3.01, abs=0.01)
    assert f.plr == pytest.approx(f.true_peak - f.integrated)
    assert f.psr == pytest.approx(f.true_peak - f.max_short_term)


def test_blocks_do_not_matter() -> None:
    from gluvo.measure.trace import Tracer

    x = noise(3.0)
    one, many = trace_of(x, RATE), Tracer(RATE)
    for at in range(0, len(x), 777):
        many.push(x[at : at + 777])
    other = many.finish()
    assert other.weighted == pytest.approx(one.weighted, abs=1e-12)
    assert other.true_peak == pytest.approx(one.true_peak, abs=5e-3)
