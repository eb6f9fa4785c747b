"""What a detector hears: its tone, whose the reduction is, which hits it notices; and what a curve bends."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from gluvo.advise.reduction_shares import LONGEST, contributors, looked_at, shares_of
from gluvo.advise.step_analysis import analysed_step
from gluvo.dsp import matched
from gluvo.dsp.compression import Curve
from gluvo.dsp.filters import response
from gluvo.dsp.shaping import dense, edge, soft
from gluvo.measure.bend import BINS, REACH, BendMeter
from gluvo.measure.drive import RANGES
from gluvo.measure.hits import find_onsets
from gluvo.measure.paths import HOP, PathsMeter
from gluvo.measure.trace import Span
from gluvo.render.chain import run_chain, run_through
from gluvo.render.song import Renderer
from gluvo.session.media import Material
from gluvo.session.records import MIX, Bus, Media, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.steps import Glue, Saturation

from .conftest import RATE, material, music, noise, one, sine

BENT = Glue(
    id="g",
    ratio=4.0,
    threshold=-30.0,
    low_cut=90.0,
    low_cut_slope=48,
    high_cut=9000.0,
    high_cut_slope=36,
    low_shelf_gain=-6.0,
    high_shelf_gain=5.0,
    tilt=2.0,
    tilt_pivot=400.0,
    bell_gain=4.0,
    second_gain=-8.0,
    second_q=3.0,
)


def db(values: np.ndarray) -> np.ndarray:
    return 20.0 * np.log10(np.maximum(np.abs(values), 1e-12))


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
@pytest.mark.parametrize("slope", [12, 24, 36, 48])
@pytest.mark.parametrize("freq", [500.0, 4000.0, 15_000.0])
def test_a_high_cut_falls_as_it_says(rate: int, slope: int, freq: float) -> None:
    freqs = np.geomspace(30.0, 18_000.0, 200)
    found = db(response(Glue(high_cut=freq, high_cut_slope=slope).detector_sections(rate), freqs, rate))
    wanted = np.sum(
        [db(matched.analogue_response(p, freq, freqs)) for p in matched.high_cut_prototypes(slope // 6)], axis=0
    )
    counted = wanted > -40.0
    assert np.abs(found - wanted)[counted].max() < 0.5
    assert float(np.interp(freq, freqs, found)) == pytest.approx(-3.0, abs=0.5)


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_low_cut_falls_by_forty_eight_db_an_octave(rate: int) -> None:
    sections = Glue(low_cut=200.0, low_cut_slope=48).detector_sections(rate)
    at = db(response(sections, np.array([50.0, 100.0, 200.0, 2000.0]), rate))
    assert at == pytest.approx([-96.3, -48.2, -3.0, 0.0], abs=0.3)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("gain", [-18.0, 6.0, 18.0])
def test_shelves_reach_their_gain_and_pass_the_rest(rate: int, gain: float) -> None:
    low = db(response(Glue(low_shelf_gain=gain).detector_sections(rate), np.array([20.0, 120.0, 5000.0]), rate))
    high = db(response(Glue(high_shelf_gain=gain).detector_sections(rate), np.array([50.0, 5000.0, 19_000.0]), rate))
    assert low == pytest.approx([gain, gain / 2, 0.0], abs=0.35)
    assert high == pytest.approx([0.0, gain / 2, gain], abs=0.35)


@pytest.mark.parametrize("pivot", [100.0, 1000.0, 10_000.0])
def test_a_tilt_turns_about_its_pivot(pivot: float) -> None:
    sections = Glue(tilt=3.0, tilt_pivot=pivot).detector_sections(RATE)
    at = db(response(sections, pivot * np.array([0.5, 1.0, 2.0]), RATE))
    assert at[1] == pytest.approx(0.0, abs=0.01) and at == pytest.approx([-3.0, 0.0, 3.0], abs=0.6)


@pytest.mark.parametrize("feed_back", [False, True])
def test_what_is_heard_of_the_detector_is_its_response(feed_back: bool) -> None:
    """Any steady tone comes out of the ear as loud as the sections say."""
    step = msgspec.structs.replace(BENT, feed_back=feed_back)
    for freq in (60.0, 300.0, 3000.0, 12_000.0):
        heard = run_through(step.ear(RATE), sine(freq, 1.0, -12.0))[RATE // 2 :]
        wanted = db(response(step.detector_sections(RATE), np.array([freq]), RATE))[0] - 12.0
        assert 10 * np.log10(2.0 * (heard[:, 0] ** 2).mean()) == pytest.approx(wanted, abs=0.02)


def test_filters_that_are_out_leave_the_detector_alone() -> None:
    assert len(Glue().detector_sections(RATE)) == 0
    for moved in ("high_cut_slope", "low_shelf_freq", "high_shelf_freq", "tilt_pivot", "second_freq", "second_q"):
        other = {"high_cut_slope": 48, "second_q": 2.0}.get(moved, 900.0)
        assert len(msgspec.structs.replace(Glue(), **{moved: other}).detector_sections(RATE)) == 0


# --- whose it is -------------------------------------------------------------------------------------------------


def kit(**stems: np.ndarray) -> tuple[Session, Material]:
    """Stems on a bus `kit` with a Glue, that on the mix bus."""
    found = [Stem(id=id, name=id, media=Media(path=f"{id}.wav", size=1, sha256=id), into="kit") for id in stems]
    glue = Glue(id="g", ratio=4.0, threshold=-24.0, attack=1.0)
    bus = Bus(id="kit", name="Kit", into=MIX, chain=(glue,))
    session = Session(strips=(Bus(id=MIX, name="Mix bus", into=""), bus, *found), rate=RATE)
    sounds = {id: Sound(x.astype(np.float32), RATE) for id, x in stems.items()}
    return session, Material(RATE, sounds, max(len(x) for x in stems.values()))


def beats(freq: float, level: float, seconds: float = 6.0, every: float = 0.5) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.repeat((level * np.exp(-(t % every) / 0.05) * np.sin(2 * np.pi * freq * t))[:, None], 2, axis=1)


SPAN = Span(0.0, 6.0)


def test_the_loud_one_drives_it() -> None:
    session, sounds = kit(kick=beats(60.0, 0.8), pad=sine(800.0, 6.0, -40.0), bell=sine(2000.0, 6.0, -60.0))
    shares = {s.stem: s.share for s in shares_of(Renderer(sounds), session, "g", SPAN)}
    assert shares["kick"] > 0.95 and shares["pad"] < 0.1 and shares["bell"] < 0.02
    assert next(iter(shares)) == "kick"


def test_two_alike_share_it_and_one_alone_has_nobody_to_share_with() -> None:
    session, sounds = kit(left=noise(6.0, 0.2, seed=1), right=noise(6.0, 0.2, seed=2))
    shares = [s.share for s in shares_of(Renderer(sounds), session, "g", SPAN)]
    assert len(shares) == 2 and abs(shares[0] - shares[1]) < 0.05 and 0.0 < shares[0] < 1.0
    alone, sound = kit(left=noise(6.0, 0.2))
    assert contributors(alone, "g") == () and shares_of(Renderer(sound), alone, "g", SPAN) == ()


def test_a_low_cut_moves_the_shares() -> None:
    session, sounds = kit(kick=beats(50.0, 0.8), snare=beats(1500.0, 0.5, every=1.0))
    renderer = Renderer(sounds)

    def kick(of: Session) -> float:
        return next(s.share for s in shares_of(renderer, of, "g", SPAN) if s.stem == "kick")

    cut = session.with_step(msgspec.structs.replace(session.step("g"), low_cut=300.0, low_cut_slope=48))
    assert kick(session) > 0.5 > 0.1 > kick(cut)


def test_shares_are_of_what_the_key_hears_and_nothing_else() -> None:
    session, sounds = kit(kick=beats(60.0, 0.8), pad=sine(800.0, 6.0, -20.0))
    keyed = session.with_chain("kit", ()).with_chain(
        MIX, (Glue(id="g", ratio=4.0, threshold=-24.0, attack=1.0, key="kit"),)
    )
    assert contributors(keyed, "g") == ("kick", "pad")
    assert shares_of(Renderer(sounds), keyed, "g", SPAN)[0].stem == "kick"
    by_stem = keyed.with_step(msgspec.structs.replace(keyed.step("g"), key="kick"))
    assert contributors(by_stem, "g") == ()
    muted = keyed.with_strip(msgspec.structs.replace(keyed.strip("pad"), mute=True))
    assert contributors(muted, "g") == ()


def test_silence_and_what_is_not_reduced_have_no_shares() -> None:
    session, sounds = kit(kick=np.zeros((RATE, 2)), pad=np.zeros((RATE, 2)))
    assert shares_of(Renderer(sounds), session, "g", Span(0.0, 1.0)) == ()
    assert shares_of(Renderer(sounds), session, "gone", Span(0.0, 1.0)) == ()
    off = session.with_step(msgspec.structs.replace(session.step("g"), on=False))
    assert shares_of(Renderer(sounds), off, "g", Span(0.0, 1.0)) == ()


def test_of_a_long_song_the_loudest_is_looked_at() -> None:
    x = noise(LONGEST + 20.0, 0.01)
    x[25 * RATE : 38 * RATE] *= 20.0
    session, sounds = one([Glue(id="g", ratio=2.0, threshold=-30.0)]), material(x)
    renderer = Renderer(sounds)
    joint = renderer.joint(renderer.plan(session).after["g"])
    span = looked_at(joint, Span(0.0, LONGEST + 20.0))
    assert span.start <= 25.1 and span.end >= 37.9 and span.seconds <= LONGEST
    assert looked_at(joint, Span(3.0, 9.0)) == Span(3.0, 9.0)


# --- two paths ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("feed_back", [False, True])
def test_the_paths_are_what_passes_and_what_the_detector_reads(feed_back: bool) -> None:
    """A cut that deafens the detector to the kick leaves the snare's hits, and only those, noticed."""
    kick, snare = beats(50.0, 0.8), np.roll(beats(2500.0, 0.5, every=1.0), RATE // 4, axis=0)
    step = Glue(id="g", ratio=3.0, threshold=-24.0, attack=1.0, low_cut=400.0, low_cut_slope=48, feed_back=feed_back)
    renderer, session = Renderer(material(kick + snare)), one([step])
    plan = renderer.plan(session)
    before, after = (renderer.joint(node, SPAN) for node in (plan.before["g"], plan.after["g"]))
    around = analysed_step(step, before, after, SPAN)
    assert around.paths is not None and around.listened is not None and around.drive is not None
    assert len(around.paths.signal) == len(around.paths.detector) == round(6.0 / HOP)
    onsets = np.array([0.0, 0.25, 0.5, 1.0, 1.25, 1.5, 2.25])
    noticed = around.paths.noticed(onsets, step.curve)
    assert noticed.tolist() == [False, True, False, False, True, False, True]
    assert around.drive.ranges[0] < 0.05 and sum(around.drive.ranges) == pytest.approx(1.0, abs=0.02)
    assert len(around.drive.ranges) == len(RANGES)


def test_the_paths_come_out_the_same_in_any_pieces() -> None:
    x, random = music(3.0), np.random.default_rng(5)
    levels = random.uniform(-60.0, 0.0, len(x))
    whole = PathsMeter(x, RATE)
    whole.push(0, levels)
    pieces, at = PathsMeter(x, RATE), 0
    while at < len(x):
        n = int(random.integers(1, 5000))
        pieces.push(at, levels[at : at + n])
        at += n
    assert np.array_equal(whole.finish().detector, pieces.finish().detector)
    every = levels[: len(whole.finish().detector) * 96].reshape(-1, 96).max(axis=1)
    assert np.array_equal(whole.finish().detector, every)


def test_hits_near_the_end_are_looked_at_too() -> None:
    x = np.zeros((RATE, 2))
    x[RATE - 200 :] = 0.5
    meter = PathsMeter(x, RATE)
    meter.push(0, np.full(RATE, -10.0))
    paths = meter.finish()
    assert paths.noticed(np.array([0.999, 5.0]), Curve(-20.0, 0.5, 0.0, 60.0)).tolist() == [True, True]
    assert len(find_onsets(x, RATE)) <= 1


# --- what bends --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("shaper", [soft(2.0, 0.0), soft(1.0, 0.4), edge(2.0, 0.3), dense(1.0, 0.0), dense(4.0, 0.5)])
def test_the_slope_is_the_gain_of_the_smallest(shaper: object) -> None:
    assert callable(shaper)
    assert float(shaper(np.array([1e-7]))[0] / 1e-7) == pytest.approx(shaper.slope, rel=1e-4)  # type: ignore[attr-defined]


@pytest.mark.parametrize("shape", ["soft", "warm", "dense", "edge"])
def test_only_what_bends_is_heard(shape: str) -> None:
    """What is soft leaves nothing, what is loud what the curve makes of it less its gain for the smallest."""
    step = Saturation(shape=shape, drive=6.0, tilt=1.0)
    faint = run_through(step.ear(RATE), sine(300.0, 0.6, -90.0))
    assert 20 * np.log10(np.abs(faint[RATE // 4 :]).max() + 1e-20) < -140.0
    loud = sine(300.0, 0.6, -3.0)
    assert 20 * np.log10(np.abs(run_through(step.ear(RATE), loud)[RATE // 4 :]).max()) > -30.0


@pytest.mark.parametrize("shape", ["soft", "edge"])
def test_where_the_slope_is_one_it_is_all_that_changes(shape: str) -> None:
    step = Saturation(shape=shape, drive=9.0, mix=70.0, mid=100.0, side=40.0, low=80.0, output=-2.0)
    x = music(2.0)
    plain = msgspec.structs.replace(step, output=0.0)
    change = (run_chain([plain], x, RATE) - x) * 10 ** (-2.0 / 20)
    assert np.abs(run_through(step.ear(RATE), x) - change).max() < 1e-12


def test_an_idle_one_bends_nothing() -> None:
    assert not run_through(Saturation().ear(RATE), noise(0.2)).any()


def test_the_levels_and_the_share_that_is_bent_are_counted() -> None:
    t = np.arange(RATE) / RATE
    wave = np.stack([np.sin(2 * np.pi * 97 * t), 0.1 * np.sin(2 * np.pi * 97 * t)], axis=1)
    meter = BendMeter(edge(2.0, 0.0))
    for at in range(0, RATE, 777):
        meter.push(wave[at : at + 777])
    found = meter.finish()
    assert found.levels.sum() == pytest.approx(1.0) and len(found.levels) == BINS
    beyond = 1.0 - 2.0 / np.pi * np.arcsin(0.5 / 10 ** (-0.1 / 20))
    assert found.bends == pytest.approx(beyond, abs=0.002)
    assert found.bends_much == pytest.approx(1.0 - 2.0 / np.pi * np.arcsin(0.5 / 10 ** (-1.0 / 20)), abs=0.002)
    hot = BendMeter(edge(2.0, 0.0))
    hot.push(np.full((10, 2), 3.0 * REACH))
    assert hot.finish().levels[-1] == 1.0 and hot.finish().bends_much == 1.0
    assert BendMeter(soft(1.0, 0.0)).finish().bends == 0.0


def test_the_analysis_counts_what_comes_to_the_curve() -> None:
    x = sine(200.0, 2.0, -6.0)
    found = []
    for step in (Saturation(id="s", shape="edge", drive=12.0), Saturation(id="s", shape="edge", drive=12.0, low=900.0)):
        renderer, session = Renderer(material(x)), one([step])
        plan = renderer.plan(session)
        before, after = (renderer.joint(node) for node in (plan.before["s"], plan.after["s"]))
        found.append(analysed_step(step, before, after, Span(0.5, 1.5)).bend)
    assert found[0] is not None and found[0].bends == pytest.approx(2 / 3, abs=0.02)
    assert found[1] is not None and found[1].bends < 0.01  # it lies under the range, and never comes there


# --- the tone after it -------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_the_tone_after_it_is_what_it_says(rate: int) -> None:
    """A sound too soft to be bent comes out with the tone alone."""
    step = Saturation(drive=0.0, after_tilt=1.0, after_low=-4.0, after_high=6.0, hold_loudness=False)
    x = np.zeros((rate, 2))
    x[100] = 1e-4
    spectrum = np.fft.rfft(run_chain([step], x, rate)[:, 0]) / np.fft.rfft(x[:, 0])
    freqs = np.array([40.0, 200.0, 1000.0, 6000.0, 15_000.0])
    wanted = db(response(step.tone_after(rate), freqs, rate))
    assert db(spectrum[freqs.astype(int)]) == pytest.approx(wanted, abs=0.02)
    assert wanted[0] < -4.0 and wanted[4] > 5.0


def test_a_level_tone_changes_no_bit_and_mix_leaves_what_passes_beside() -> None:
    x = music(2.0)
    plain = Saturation(drive=9.0, mix=60.0, hold_loudness=False)
    moved = msgspec.structs.replace(plain, after_low_freq=300.0, after_high_freq=9000.0)
    assert np.array_equal(run_chain([plain], x, RATE), run_chain([moved], x, RATE))
    bright = msgspec.structs.replace(plain, after_high=12.0)
    whole = run_chain([msgspec.structs.replace(bright, mix=100.0)], x, RATE)
    assert np.abs(run_chain([bright], x, RATE) - (x + 0.6 * (whole - x))).max() < 1e-12
    idle = Saturation(after_high=12.0)
    assert np.array_equal(run_chain([idle], x, RATE), x)


def test_a_dense_one_never_passes_full_scale_whatever_the_tone() -> None:
    step = Saturation(shape="dense", drive=18.0, after_low=12.0, after_high=12.0, hold_loudness=False)
    assert np.abs(run_chain([step], music(2.0) * 3.0, RATE)).max() <= 1.0 + 1e-9
