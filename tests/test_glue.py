"""Glue against theory: curve, time constants, detector, aim and held loudness."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
import pytest

from gluvo.advise.aim import detector_levels, find_threshold
from gluvo.advise.equal_loudness import find_makeup
from gluvo.dsp.filters import low_cut, response
from gluvo.dsp.matched import bell, tilt
from gluvo.measure.figures import figures_of
from gluvo.measure.overview import ReducedBy
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import Chain, run_chain
from gluvo.render.joint import Joint
from gluvo.render.song import Renderer
from gluvo.session.records import Media, Stem
from gluvo.steps import Glue, Trim

from .conftest import RATE, hold, material, music, noise, one, sine


def square(level_db: float, seconds: float) -> np.ndarray:
    """A signal whose level is the same at every sample."""
    x = np.full((round(seconds * RATE), 2), 10 ** (level_db / 20))
    x[1::2] *= -1
    return x


def reduction_of(step: Glue, x: np.ndarray) -> np.ndarray:
    chain, parts = Chain([step], RATE), []
    for at in range(0, len(x), 512):
        block = np.ascontiguousarray(x[at : at + 512])
        chain.process(block, np.zeros_like(block))
        parts.append(chain.processors[0].reduction[: len(block)].copy())
    return np.concatenate(parts)


@pytest.mark.parametrize("feed_back", [False, True])
@pytest.mark.parametrize(("ratio", "knee"), [(2.0, 0.0), (4.0, 0.0), (2.0, 12.0), (20.0, 6.0)])
def test_static_curve(ratio: float, knee: float, feed_back: bool) -> None:
    for level in (-40.0, -27.0, -24.0, -20.0, -12.0, -3.0):
        over = level + 24.0
        if 2 * over <= -knee:
            theory = 0.0
        elif 2 * over < knee:
            theory = (1 - 1 / ratio) * (over + knee / 2) ** 2 / (2 * knee)
        else:
            theory = (1 - 1 / ratio) * over
        x = square(level, 0.6)
        step = Glue(ratio=ratio, knee=knee, threshold=-24.0, attack=5.0, release=50.0, feed_back=feed_back)
        y = run_chain([step], x, RATE)
        assert 20 * np.log10(abs(x[-1, 0] / y[-1, 0])) == pytest.approx(theory, abs=0.05)


def test_limit_and_range() -> None:
    x = square(-4.0, 0.6)
    held = run_chain([Glue(limit=True, knee=0.0, threshold=-24.0, attack=1.0)], x, RATE)
    assert 20 * np.log10(abs(held[-1, 0])) == pytest.approx(-24.0, abs=0.05)
    bounded = run_chain([Glue(limit=True, knee=0.0, threshold=-24.0, attack=1.0, range=6.0)], x, RATE)
    assert 20 * np.log10(abs(bounded[-1, 0])) == pytest.approx(-10.0, abs=0.05)


@pytest.mark.parametrize("feed_back", [False, True])
@pytest.mark.parametrize("mode", [0.0, 100.0])
@pytest.mark.parametrize(("attack", "release"), [(1.0, 50.0), (10.0, 100.0), (40.0, 30.0), (300.0, 300.0)])
def test_time_constants(attack: float, release: float, mode: float, feed_back: bool) -> None:
    x = np.concatenate([square(-60, 0.2), square(-10, 3.0), square(-60, 3.0)])
    step = Glue(
        ratio=20.0,
        knee=0.0,
        threshold=-30.0,
        attack=attack,
        release=release,
        auto_release=0.0,
        link=mode,
        feed_back=feed_back,
    )
    r = reduction_of(step, x)
    full = 20.0 * (1 - 1 / 20)
    rise = np.argmax(r > full * (1 - np.exp(-1))) - 0.2 * RATE
    fall = np.argmax(r[int(3.2 * RATE) :] < full * np.exp(-1))
    assert rise / RATE * 1000 == pytest.approx(attack, rel=0.05)
    assert fall / RATE * 1000 == pytest.approx(release, rel=0.05)


def test_feeding_back_is_softer_at_first_and_quicker_on_the_way() -> None:
    """In the knee the loop pulls less, so small reductions set in later; over the threshold it lets go sooner."""
    settings = {"ratio": 4.0, "knee": 20.0, "threshold": -24.0, "attack": 20.0, "release": 200.0}
    x = np.concatenate([square(-60, 0.1), square(-28, 0.5)])
    ahead, back = (reduction_of(Glue(**settings, feed_back=fb), x) for fb in (False, True))
    assert ahead[-1] == pytest.approx(back[-1], abs=0.05) and back[-1] > 0.3
    at = int(0.115 * RATE)
    assert back[at] < 0.7 * ahead[at]
    x = np.concatenate([square(-4, 0.5), square(-14, 0.4)])
    settings |= {"knee": 0.0}
    ahead, back = (reduction_of(Glue(**settings, feed_back=fb), x) for fb in (False, True))
    at = int(0.6 * RATE)
    assert back[at] < ahead[at] - 1.0 and back[-1] == pytest.approx(ahead[-1], abs=1.2)


def test_feeding_back_never_runs_away() -> None:
    for step in (
        Glue(limit=True, knee=0.0, threshold=-50.0, attack=0.02, release=5.0, feed_back=True),
        Glue(ratio=20.0, threshold=-40.0, attack=0.02, release=5.0, tilt=6.0, bell_gain=18.0, feed_back=True),
        Glue(ratio=20.0, threshold=-40.0, attack=0.02, rms=50.0, mode="mid_side", link=30.0, feed_back=True),
    ):
        r = reduction_of(step, noise(2.0, 0.4))
        assert np.isfinite(r).all() and r.max() <= 60.0 and r[RATE:].mean() > 3.0


def test_a_key_drives_the_reduction() -> None:
    x, key = square(-10.0, 1.0), np.concatenate([square(-60, 0.5), square(-8, 0.5)])
    renderer = Renderer(material(x, key=key))
    keyed = Stem(id="key", name="Key", media=Media(path="k.wav", size=1, sha256="1" * 64), mute=True)
    session = one([Glue(id="g", key="key", ratio=4.0, threshold=-30.0, knee=0.0, attack=0.1)])
    session = session.replace(strips=(*session.strips, keyed))
    out = renderer.song(session).result.audio
    assert np.array_equal(out[: int(0.45 * RATE)], x[: int(0.45 * RATE)].astype(np.float32))
    assert 20 * np.log10(abs(out[-1, 0])) == pytest.approx(-10.0 - 22.0 * 0.75, abs=0.05)
    found = find_threshold(
        msgspec.structs.replace(session.step("g"), aim=3.0),
        source(renderer),
        Span(0.6, 1.0),
        keys=[renderer.joint(key) for key in renderer.plan(session).keys["g"]],
    )
    assert found.met and found.value == pytest.approx(-8.0 - 4.0, abs=0.1)


@pytest.mark.parametrize("feed_back", [False, True])
def test_levels_that_the_detector_reads(feed_back: bool) -> None:
    """A square at −10 dBFS reads −10 going in, and what is left of it coming out."""
    renderer = Renderer(material(square(-10.0, 3.0)))
    glue = Glue(id="g", ratio=4.0, threshold=-30.0, knee=0.0, attack=1.0, feed_back=feed_back)
    levels = detector_levels(glue, source(renderer), Span(1.0, 2.0))
    assert len(levels) == 100
    assert levels[-50:] == pytest.approx(-25.0 if feed_back else -10.0, abs=0.05)


def test_the_aim_is_met_when_feeding_back(renderer: Renderer) -> None:
    span, glue = Span(9.0, 15.0), Glue(id="g", ratio=3.0, aim=2.5, low_cut=80.0, feed_back=True)
    found = find_threshold(glue, source(renderer), span)
    song = renderer.song(one([msgspec.structs.replace(glue, threshold=found.value)]))
    assert found.met and song.joint("g").reduced(span).peaks == pytest.approx(2.5, abs=0.05)


def test_auto_release_lets_single_hits_go_but_holds_dense_parts() -> None:
    step = Glue(ratio=4.0, knee=0.0, threshold=-30.0, attack=1.0, release=40.0, auto_release=100.0)
    for length, held in ((0.01, False), (4.0, True)):
        r = reduction_of(step, np.concatenate([square(-60, 0.1), square(-10, length), square(-60, 1.0)]))
        after = r[int((0.1 + length + 0.25) * RATE)]
        assert bool(after > 0.5 * r.max()) is held


@pytest.mark.parametrize(("freq", "slope"), [(30.0, 24), (90.0, 24), (120.0, 24), (60.0, 12), (240.0, 12)])
def test_the_detectors_low_cut(freq: float, slope: int) -> None:
    """A tone 20 dB over the threshold is reduced by as much as the cut leaves over it."""
    order = slope / 6
    attenuation = 10 * np.log10(1 + (120.0 / freq) ** (2 * order))
    theory = max(0.0, (20.0 - attenuation) * 0.75)
    step = Glue(ratio=4.0, knee=0.0, threshold=-30.0, attack=0.02, release=3000.0, low_cut=120.0, low_cut_slope=slope)
    assert reduction_of(step, sine(freq, 4.0, -10.0))[-RATE:].max() == pytest.approx(theory, abs=0.3)


def test_detector_filters_have_their_shapes() -> None:
    for rate in (44_100, 48_000, 96_000):
        freqs = np.array([50.0, 200.0, 1000.0, 4000.0, 6000.0])
        for slope in (-6.0, -2.0, 3.0, 6.0):
            line = 20 * np.log10(abs(response(tilt(slope, rate), freqs, rate)))
            assert line == pytest.approx(slope * np.log2(freqs / 1000.0), abs=0.6)
        peak = 20 * np.log10(abs(response(bell(3000.0, 9.0, 2.0, rate), np.array([3000.0, 100.0]), rate)))
        assert peak == pytest.approx([9.0, 0.0], abs=0.05)
        cut = 20 * np.log10(abs(response(low_cut(100.0, 24, rate), np.array([100.0, 50.0, 1000.0]), rate)))
        assert cut == pytest.approx([-3.01, -24.1, 0.0], abs=0.05)


def test_rms_reads_a_sine_like_its_peak() -> None:
    peak = reduction_of(Glue(ratio=4.0, threshold=-30.0, attack=0.02, release=3000.0), sine(1000, 3.0, -10))
    mean = reduction_of(Glue(ratio=4.0, threshold=-30.0, attack=0.02, release=3000.0, rms=30.0), sine(1000, 3.0, -10))
    assert mean[-1] == pytest.approx(peak[-1], abs=0.1)


def test_link_keeps_or_frees_the_image() -> None:
    x = sine(1000, 1.0, -6.0) * np.array([1.0, 0.05])
    tied = run_chain([Glue(ratio=4.0, threshold=-24.0, link=100.0)], x, RATE)[-4800:]
    free = run_chain([Glue(ratio=4.0, threshold=-24.0, link=0.0)], x, RATE)[-4800:]
    assert np.abs(tied[:, 1] / tied[:, 0]).max() == pytest.approx(0.05, rel=1e-6)
    assert np.abs(free[:, 1]).max() == pytest.approx(np.abs(x[:, 1]).max(), rel=0.01)


def test_mid_only_leaves_the_side_alone() -> None:
    x = noise(1.0, 0.3)
    y = run_chain([Glue(ratio=8.0, threshold=-40.0, mode="mid")], x, RATE)
    assert np.abs((y[:, 0] - y[:, 1]) - (x[:, 0] - x[:, 1])).max() < 1e-12
    y = run_chain([Glue(ratio=8.0, threshold=-40.0, mode="side")], x, RATE)
    assert np.abs((y[:, 0] + y[:, 1]) - (x[:, 0] + x[:, 1])).max() < 1e-12


def test_look_ahead_reduces_before_the_hit() -> None:
    x = np.concatenate([square(-60, 0.2), square(-6, 0.3)])
    late = run_chain([Glue(ratio=10.0, threshold=-30.0, attack=2.0)], x, RATE)
    early = run_chain([Glue(ratio=10.0, threshold=-30.0, attack=2.0, look_ahead=10.0)], x, RATE)
    first = slice(int(0.2 * RATE), int(0.201 * RATE))
    assert np.abs(early[first]).max() < 0.2 * np.abs(late[first]).max()


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    return Renderer(material(music(16.0)))


def source(renderer: Renderer) -> Joint:
    return renderer.joint(renderer.plan(one([])).result)


@pytest.mark.parametrize("aim", [0.5, 2.0, 6.0])
@pytest.mark.parametrize("ratio", [1.5, 4.0])
def test_aim_is_met(renderer: Renderer, aim: float, ratio: float) -> None:
    span = Span(9.0, 15.0)
    glue = Glue(id="g", ratio=ratio, aim=aim, low_cut=80.0, look_ahead=2.0, attack=15.0)
    found = find_threshold(glue, source(renderer), span)
    song = renderer.song(one([msgspec.structs.replace(glue, threshold=found.value)]))
    reached = song.joint("g").reduced(span).peaks
    assert found.met
    assert reached == pytest.approx(aim, abs=0.05)


def test_an_aim_out_of_reach_says_so(renderer: Renderer) -> None:
    found = find_threshold(Glue(id="g", ratio=1.2, aim=20.0), source(renderer), None)
    assert not found.met and found.value == -60.0 and found.reached < 20.0


def test_quiet_parts_do_not_count() -> None:
    x = np.concatenate([music(6.0), music(6.0) * 1e-4]).astype(np.float32)
    half, whole = Renderer(material(x[: 6 * RATE])), Renderer(material(x))
    glue = Glue(id="g", ratio=3.0, aim=3.0)
    thresholds = [find_threshold(glue, source(r), None).value for r in (half, whole)]
    assert thresholds[0] == pytest.approx(thresholds[1], abs=0.2)


@pytest.mark.parametrize("mix", [100.0, 50.0])
def test_held_loudness(renderer: Renderer, mix: float) -> None:
    span = Span(9.0, 15.0)
    glue = Glue(id="g", ratio=4.0, threshold=-30.0, mix=mix)
    found = find_makeup(glue, source(renderer), span)
    song = renderer.song(one([msgspec.structs.replace(glue, makeup=found.value)]))
    before, after = song.untouched.figures(span).integrated, song.result.figures(span).integrated
    assert found.value > 0.5
    assert after == pytest.approx(before, abs=0.05)


def test_mean_reduction_is_that_of_the_gain(renderer: Renderer) -> None:
    """What the ledger says was taken off is what the sound lost."""
    x = square(-10.0, 4.0)
    song = Renderer(material(x)).song(
        one([Trim(id="t"), Glue(id="g", ratio=4.0, threshold=-30.0, knee=0.0, attack=0.1)])
    )
    lost = figures_of(trace_of(x, RATE), Span(1, 3)).rms - song.result.figures(Span(1, 3)).rms
    assert song.joint("g").mean_reduction(Span(1, 3)) == pytest.approx(lost, abs=0.01)


@pytest.mark.sampled(5)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize(
    "other",
    [{}, {"feed_back": True}, {"look_ahead": 3.0, "mode": "mid_side"}, {"mix": 40.0}],
    ids=["", "back", "late", "mix"],
)
def test_an_aim_is_met_as_it_is_read(rate: int, by: ReducedBy, other: dict[str, Any]) -> None:
    """What the joint tells after Mix, at peaks, at most or on average, in any span."""
    x = music(6.0, rate)
    renderer = Renderer(material(x, rate))
    for span in (None, Span(1.234, 4.567)):
        glue = Glue(id="g", ratio=4.0, attack=5.0, aim=2.5, aim_by=by, hold_aim=True, **other)
        joint = renderer.song(hold(renderer, one([glue]), span)).joint("g")
        assert joint is not None
        reduced = joint.reduced(span)
        assert reduced is not None and reduced.of(by) == pytest.approx(2.5, abs=0.05)
        assert reduced.mean <= reduced.peaks <= reduced.most
        assert f"{reduced.of(by):.1f}" in reduced.words and f"{reduced.of(by):.1f}" in reduced.short
