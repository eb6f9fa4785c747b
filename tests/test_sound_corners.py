"""The sound at the ends of its ranges: what an audit with independent signals looks at."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.dsp.filters import response
from gluvo.dsp.matched import bell, tilt
from gluvo.measure.trace import Span, trace_of
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.meters import HELD_BACK
from gluvo.render.chain import run_chain
from gluvo.render.song import Renderer, lead_in
from gluvo.session.media import Material
from gluvo.steps import MAX_BLOCK, Band, Clipper, Glue, Limiter, MidSideEq, Saturation, Trim
from gluvo.steps.bands import SHAPES, Shape

from .conftest import RATE, material, music, noise, one, sine

RATES = (44_100, 48_000, 96_000, 192_000)
SLOPES = (6, 12, 18, 24, 36, 48, 72, 96)


def db(x: np.ndarray | float) -> np.ndarray:
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(x), 1e-15)))


def top_of(band: Band, strength: float) -> float:
    """The highest level of a band's prototype, dB."""
    freqs = band.freq * np.unique(np.concatenate([np.geomspace(1e-3, 1e3, 4001), np.geomspace(0.2, 5.0, 8001)]))
    return float(db(band.prototype_response(freqs, strength)).max())


# --- equaliser ---------------------------------------------------------------------------------------------------------


@pytest.mark.thorough
@settings(max_examples=150, deadline=None)
@given(
    shape=st.sampled_from([name for name, _ in SHAPES]),
    slope=st.sampled_from(SLOPES),
    rate=st.sampled_from(RATES),
    gain=st.one_of(st.floats(-24.0, 24.0), st.sampled_from([-24.0, 24.0])),
    q=st.one_of(st.floats(0.1, 10.0), st.sampled_from([0.1, 10.0])),
    freq=st.one_of(st.floats(10.0, 20_000.0), st.sampled_from([10.0, 20_000.0])),
    strength=st.sampled_from([100.0, 200.0]),
)
def test_every_band_is_bounded_up_to_the_nyquist_frequency(
    shape: Shape, slope: int, rate: int, gain: float, q: float, freq: float, strength: float
) -> None:
    band = Band(id=1, shape=shape, slope=slope, freq=freq, gain=gain, q=q)
    sos = band.sections(rate, strength)
    if not len(sos):
        return
    freqs = np.concatenate([np.linspace(0.0, rate / 2, 4001), np.geomspace(5.0, rate / 2, 2001)])
    assert float(db(response(sos, freqs, rate)).max()) < top_of(band, strength) + 2.5
    radius = max(float(np.abs(np.roots(row[3:])).max(initial=0.0)) for row in sos)
    slowest = max(
        (float(np.roots(np.trim_zeros(d, "f")).real.max()) for _, d in band.prototypes(strength)), default=-1.0
    )
    assert radius <= max(0.9999, np.exp(slowest * 2 * np.pi * freq / rate) + 1e-6) and radius < 1.0


def test_a_steep_shelf_at_the_top_does_not_explode() -> None:
    band = Band(id=1, shape="high_shelf", freq=20_000.0, gain=12.0, q=2.0, slope=96)
    for rate in RATES:
        x = noise(1.0, 0.01, rate=rate)
        y = run_chain([MidSideEq(bands=(band,))], x, rate)
        assert np.isfinite(y).all() and db(y.std() / x.std()) < 14.0


@pytest.mark.parametrize(("shape", "slope"), list(itertools.product(("low_cut", "high_cut"), (48, 72, 96))))
def test_steep_cuts_follow_their_prototypes(shape: Shape, slope: int) -> None:
    for freq in (30.0, 200.0, 1000.0, 4000.0, 8000.0, 12_000.0):
        band = Band(id=1, shape=shape, freq=freq, slope=slope, q=0.71)
        freqs = np.geomspace(10.0, 20_000.0, 400)
        got, wanted = db(response(band.sections(44_100), freqs, 44_100)), db(band.prototype_response(freqs))
        counted = wanted > wanted.max() - 50.0
        assert np.abs(got - wanted)[counted].max() < (0.3 if slope == 48 or freq < 8000.0 else 0.5), freq


@pytest.mark.parametrize("shape", ["notch", "band_pass"])
def test_notch_and_band_pass_follow_their_prototypes(shape: Shape) -> None:
    for freq, q in itertools.product((50.0, 1000.0, 6000.0, 12_000.0), (0.7, 3.0, 10.0)):
        band = Band(id=1, shape=shape, freq=freq, q=q)
        freqs = np.geomspace(20.0, 20_000.0, 400)
        got, wanted = db(response(band.sections(44_100), freqs, 44_100)), db(band.prototype_response(freqs))
        counted = (wanted > wanted.max() - 40.0) & (np.abs(np.log2(freqs / freq)) > (0.02 if shape == "notch" else 0.0))
        assert np.abs(got - wanted)[counted].max() < (0.3 if shape == "notch" else 0.4), (freq, q)


def settled_band(band: Band, moved: float, freqs: np.ndarray) -> np.ndarray:
    """The response in dB that a moving band has while it stands at a movement, measured with an impulse."""
    still = msgspec.structs.replace(band, threshold=-80.0, ratio=20.0, range=abs(moved), attack=0.1, release=3000.0)
    processor = MidSideEq(bands=(still,)).make(RATE)
    sound = np.ascontiguousarray(noise(2.0, 0.5))
    for at in range(0, len(sound), MAX_BLOCK):
        block = sound[at : at + MAX_BLOCK].copy()
        processor.process(block, block)
    (mover,) = [band for stage in processor.stages for band in stage.moving.values()]
    mover.filters[:] = mover.memory[:] = 0.0
    impulse = np.zeros((MAX_BLOCK, 2))
    impulse[0] = 1e-3
    out = impulse.copy()
    processor.process(out, out)
    assert processor.moved[band.id][0] == pytest.approx(moved, abs=0.05)
    z = np.exp(-2j * np.pi * freqs[:, None] / RATE * np.arange(MAX_BLOCK))
    return db(z @ out[:, 0] * 1e3)


@pytest.mark.parametrize(
    ("shape", "q", "slope", "freq", "gain"),
    [
        ("bell", 2.0, 12, 1000.0, 0.0),
        ("bell", 2.0, 12, 1000.0, 6.0),
        ("bell", 0.7, 12, 9000.0, 3.0),
        ("low_shelf", 0.71, 24, 300.0, 0.0),
        ("high_shelf", 0.71, 48, 6000.0, -3.0),
        ("low_shelf", 1.5, 12, 500.0, 4.0),
    ],
)
@pytest.mark.parametrize(("moves", "moved"), [("down", -12.0), ("down", -3.7), ("up", 5.0)])
def test_a_moving_band_is_the_static_band_of_its_gain(
    shape: Shape, q: float, slope: int, freq: float, gain: float, moves: str, moved: float
) -> None:
    band = Band(id=1, shape=shape, q=q, slope=slope, freq=freq, gain=gain, dynamic=True, moves=moves)
    freqs = np.geomspace(60.0, 18_000.0, 60)
    wanted = db(band.reaching(moved).response(freqs, RATE))
    assert np.abs(settled_band(band, moved, freqs) - wanted).max() < 0.2


def test_a_moving_band_at_rest_passes_bit_for_bit() -> None:
    x = noise(0.5, 1e-5)
    for shape in ("bell", "low_shelf", "high_shelf"):
        band = Band(id=1, shape=shape, dynamic=True, threshold=0.0, slope=24, q=0.71)
        assert np.array_equal(run_chain([MidSideEq(bands=(band,))], x, RATE), x)


@pytest.mark.parametrize(
    "change",
    [{"slope": 96}, {"slope": 6}, {"q": 10.0}, {"q": 0.3}, {"freq": 900.0}, {"gain": -12.0}, {"shape": "low_cut"}],
)
def test_an_edit_is_never_louder_than_the_louder_end(change: dict[str, object]) -> None:
    """Bands that are changed while they play begin as if they had been at work all along."""
    band = Band(id=1, shape="low_shelf", freq=150.0, gain=9.0, q=2.0, slope=48)
    tones = sum(sine(f, 4.0, -24.0) for f in (60.0, 155.0, 420.0))
    before = MidSideEq(id="eq", bands=(band,))
    after = before.with_band(msgspec.structs.replace(band, **change))
    for at in (24_000, 24_391, 24_777):
        engine = Engine(material(tones), {}, one([before]))
        engine.listen(Monitoring())
        engine.play()
        heard, block = [], np.zeros((512, 2))
        for n in range(180):
            if n * 512 >= at > (n - 1) * 512:
                engine.change(one([after]))
            engine.pull(block)
            heard.append(block.copy())
        out = np.concatenate(heard)[:, 0]
        steady = [np.abs(run_chain([step], tones, RATE)[RATE : 3 * RATE]).max() for step in (before, after)]
        assert db(np.abs(out[at:]).max() / max(steady)) < 1.0


# --- saturation --------------------------------------------------------------------------------------------------------


def level_at(x: np.ndarray, freq: float, rate: int = RATE) -> complex:
    """Amplitude and phase of a tone in the middle of `x`."""
    part = x[len(x) // 4 : -len(x) // 4, 0]
    n = np.arange(len(part)) + len(x) // 4
    window = np.hanning(len(part))
    return complex(2.0 * np.sum(part * window * np.exp(-2j * np.pi * freq * n / rate)) / np.sum(window))


@pytest.mark.sampled(3)
@pytest.mark.parametrize(("low", "high"), [(90.0, 20_000.0), (300.0, 6000.0), (2000.0, 20_000.0), (20.0, 500.0)])
@pytest.mark.parametrize("drive", [-11.0, 0.0, 12.0, 36.0])
def test_a_range_boosts_nothing_at_its_edges(low: float, high: float, drive: float) -> None:
    step = Saturation(shape="soft", drive=drive, low=low, high=high)
    edges = [f for f in (low / 4, low / 2, low, 1.4 * low, high / 1.4, high, 2 * high) if 25.0 < f < 19_000.0]
    for freq in edges:
        for level in (-60.0, -12.0):
            x = sine(freq, 1.0, level)
            change = level_at(run_chain([step], x, RATE), freq) / level_at(x, freq)
            assert db(abs(change)) < 0.1 and abs(np.degrees(np.angle(change))) < 1.0, (freq, level)
    quiet = sine(np.sqrt(max(low, 30.0) * min(high, 15_000.0)), 1.0, -100.0)
    assert np.abs(run_chain([step], quiet, RATE) - quiet).max() < 1e-3 * np.abs(quiet).max()


@pytest.mark.parametrize("rate", [44_100, 192_000])
@pytest.mark.parametrize(
    ("low", "high", "tilted", "bias"),
    [(20.0, 20_000.0, 0.0, 0.0), (300.0, 4000.0, 0.0, 0.0), (20.0, 20_000.0, 6.0, 0.0), (20.0, 20_000.0, -6.0, 80.0)],
)
def test_dense_never_passes_full_scale(rate: int, low: float, high: float, tilted: float, bias: float) -> None:
    hot = music(1.5, rate) * 3.0
    square = np.sign(sine(997.0, 0.5, rate=rate)) * 0.999
    for drive, over, mix in ((-6.0, 1, 100.0), (12.0, 4, 100.0), (36.0, 8, 60.0)):
        step = Saturation(
            shape="dense",
            drive=drive,
            oversampling=over,
            low=low,
            high=high,
            tilt=tilted,
            bias=bias,
            mix=mix,
        )
        for x in (hot, square, noise(0.5, 2.0, rate=rate)):
            assert np.abs(run_chain([step], x, rate)).max() <= 1.0 + 1e-9


# --- detectors, releases, ceilings -------------------------------------------------------------------------------------


def test_the_detectors_filters_are_the_same_at_every_rate() -> None:
    freqs = np.array([40.0, 200.0, 1000.0, 5000.0, 10_000.0, 15_000.0, 19_000.0])
    for slope in (-6.0, -1.5, 3.0, 6.0):
        levels = np.array([db(response(tilt(slope, rate), freqs, rate)) for rate in RATES])
        assert np.ptp(levels, axis=0).max() < 0.5
        line = slope * np.log2(freqs / 1000.0)
        assert np.abs(levels - line)[:, (freqs >= 40) & (freqs <= 10_000)].max() < 0.6
    for freq, gain, q in ((8000.0, 18.0, 0.5), (15_000.0, -18.0, 2.0), (3000.0, 12.0, 1.0)):
        levels = np.array([db(response(bell(freq, gain, q, rate), freqs, rate)) for rate in RATES])
        assert np.ptp(levels, axis=0).max() < 0.6


def test_a_section_after_a_loud_part_is_as_the_whole_song_has_it() -> None:
    """Slow releases reach far back: the lead-in is as long as the chain remembers."""
    x = np.concatenate([noise(12.0, 0.5), noise(26.0, 0.01)])
    glue = Glue(id="g", ratio=10.0, threshold=-30.0, attack=1.0, release=3000.0, auto_release=100.0)
    renderer, fresh = Renderer(material(x)), Renderer(material(x))
    span = Span(24.0, 30.0)
    session = one([glue])
    whole = renderer.song(session).result.figures(span).integrated
    alone = fresh.section(session, span)
    assert alone.result.figures(span).integrated == pytest.approx(whole, abs=0.05)
    joint, song = alone.joint("g"), renderer.song(session).joint("g")
    assert joint is not None and song is not None
    assert joint.mean_reduction(span) == pytest.approx(song.mean_reduction(span), abs=0.1)
    assert [lead_in(memory) for memory in (0.0, 5.0, 5.1, 39.0, 1000.0)] == [5.0, 5.0, 10.0, 40.0, 80.0]


@pytest.mark.parametrize("true_peak", [True, False])
def test_up_to_the_ceiling_nothing_is_touched(true_peak: bool) -> None:
    for freq, under in itertools.product((55.0, 997.0, 3000.0, 9000.0), (0.002, 0.01, 0.03)):
        fade = np.clip(np.minimum(np.arange(RATE // 2), np.arange(RATE // 2)[::-1]) / 2400.0, 0.0, 1.0)[:, None]
        x = sine(freq, 0.5, -1.0 - under) * fade  # begun at once it would peak between samples
        step = Limiter(ceiling=-1.0, true_peak=true_peak)
        assert np.abs(run_chain([step], x, RATE) - x).max() < 1e-12, (freq, under)


def test_a_limiter_gives_back_what_shaving_takes() -> None:
    x = music(3.0)
    plain = run_chain([Limiter(drive=6.0, ceiling=-6.0)], x, RATE)
    lifted = run_chain([Limiter(drive=6.0, ceiling=-6.0, output=3.2)], x, RATE)
    assert np.abs(lifted - plain * 10 ** (3.2 / 20)).max() < 1e-12


def test_one_place_takes_out_what_is_no_number() -> None:
    x = noise(0.2)
    x[100], x[200, 0], x[300, 1] = np.nan, np.inf, -np.inf
    x[400] = 1e30
    for steps in (
        [Trim(gain=3.0)],
        [Glue(ratio=4.0, threshold=-30.0), Limiter()],
        [MidSideEq(bands=(Band(id=1, gain=6.0),))],
    ):
        assert np.isfinite(run_chain(steps, x, RATE)).all()
    sounds = material(x)
    song = Renderer(Material(RATE, sounds.sounds, sounds.frames)).song(one([Glue(id="g", ratio=4.0, threshold=-30.0)]))
    assert np.isfinite(song.joint("g").audio).all()
    engine = Engine(sounds, {}, one([Glue(id="g", ratio=4.0, threshold=-30.0)]))
    engine.listen(Monitoring())
    engine.play()
    block = np.zeros((512, 2))
    for _ in range(12):
        engine.pull(block)
        assert np.isfinite(block).all() and np.abs(block).max() <= 1.0


def test_the_output_guard_tells_when_it_holds_back() -> None:
    for level, held in ((-1.0, False), (6.0, True)):
        engine = Engine(material(sine(220, 1.0, level)), {}, one([]))
        engine.listen(Monitoring())
        engine.play()
        block = np.zeros((512, 2))
        for _ in range(30):
            engine.pull(block)
        assert bool(engine.board.state[HELD_BACK]) is held


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("times", [1, 4, 16])
def test_a_clipper_holds_its_ceiling_from_the_first_sample(rate: int, times: int) -> None:
    """A song that begins in the middle of a wave that is clipped."""
    for freq, phase in itertools.product((60.0, 997.0, 5000.0), (0.3, 1.0, 1.57, 2.2, 4.0)):
        x = sine(freq, 0.2, 12.0, rate, phase)
        y = run_chain([Clipper(ceiling=-3.0, oversampling=times)], x, rate)
        peaks = trace_of(y.astype(np.float32), rate).true_peak
        assert 20 * np.log10(peaks[:10].max()) < -2.99, (freq, phase)
