"""De-esser, resonance tamer, transient shaper, the Glue's lift, keys of bands, and what drives a reduction."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.advise.aim import find_lift, find_threshold, lift_hops
from gluvo.advise.aimed import aimed
from gluvo.advise.step_analysis import analysed_step
from gluvo.dsp.compression import lifted_curve
from gluvo.dsp.kernel import Floats
from gluvo.dsp.sibilance import sibilants
from gluvo.dsp.taming import Frames, frame_length
from gluvo.measure.drive import THIRDS, drive_of
from gluvo.measure.hits import hits_of
from gluvo.measure.overview import ReducedBy, heard_hops
from gluvo.measure.trace import Span, trace_of
from gluvo.render.chain import run_chain, run_through
from gluvo.render.joint import Joint
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.records import Bus, Media, Session, Stem
from gluvo.session.store import checked
from gluvo.steps import Band, DeEsser, Glue, MidSideEq, ResonanceTamer, Step, TransientShaper, Trim

from .conftest import RATE, hold, material, music, noise, one, sine

RATES = [44_100, 48_000, 96_000, 192_000]


def reduction_of(step: Step, x: np.ndarray, rate: int = RATE) -> np.ndarray:
    """What a step takes off, dB, of every frame."""
    processor, found = step.make(rate), []
    out = np.zeros((4096, 2))
    for at in range(0, len(x), 4096):
        block = np.ascontiguousarray(x[at : at + 4096])
        processor.run(block, out[: len(block)])
        found.append(processor.reduction[: len(block)].copy())
    return np.concatenate(found)


def voice(rate: int = RATE, level: float = 0.0) -> tuple[np.ndarray, list[tuple[float, float]]]:
    """A vowel with sharp noises in it, and where those are, s."""
    t = np.arange(4 * rate) / rate
    vowel = sum(0.12 / n * np.sin(2 * np.pi * 210 * n * t + n) for n in range(1, 14))
    random = np.random.default_rng(4).standard_normal(len(t))
    spectrum = np.fft.rfft(random)
    freqs = np.fft.rfftfreq(len(t), 1 / rate)
    spectrum[(freqs < 5500.0) | (freqs > 9500.0)] = 0.0
    hiss = np.fft.irfft(spectrum, len(t))
    hiss *= 0.16 / hiss.std()
    places = [(0.8, 0.95), (1.7, 1.8), (2.6, 2.8), (3.4, 3.5)]
    gate = np.zeros(len(t))
    for a, b in places:
        gate[round(a * rate) : round(b * rate)] = 1.0
    ramp = np.hanning(round(0.01 * rate))
    gate = np.convolve(gate, ramp / ramp.sum(), mode="same")
    x = (vowel * (1.0 - 0.9 * gate) + hiss * gate) * np.minimum(1.0, t / 0.2)
    return np.repeat(x[:, None], 2, axis=1) * 10 ** (level / 20), places


# --- de-esser ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("rate", "lowers"), [(44_100, "split"), (192_000, "split"), (96_000, "wide")])
def test_sharp_sounds_lose_what_is_set_and_nothing_else_does(rate: int, lowers: str) -> None:
    x, places = voice(rate)
    y = run_chain([DeEsser(threshold=-18.0, range=5.0, lowers=lowers)], x, rate)
    sharp = np.zeros(len(x), dtype=bool)
    for a, b in places:
        inside = slice(round((a + 0.03) * rate), round((b - 0.02) * rate))
        power = [float(np.square(s[inside]).sum()) for s in (x, y)]
        assert 10 * np.log10(power[1] / power[0]) == pytest.approx(-5.0, abs=0.5)
        sharp[round((a - 0.02) * rate) : round((b + 0.3) * rate)] = True
    power = [float(np.square(s[~sharp]).sum()) for s in (x, y)]
    assert abs(10 * np.log10(power[1] / power[0])) < 0.02
    assert np.abs(y - x)[~sharp].max() < 0.012 * np.abs(x).max()  # 0.1 dB


@pytest.mark.parametrize("level", [-40.0, -20.0, 6.0])
def test_it_goes_by_the_voice_at_any_level(level: float) -> None:
    step = DeEsser(threshold=-16.0, range=6.0)
    plain = reduction_of(step, voice()[0])
    there = reduction_of(step, voice(level=level)[0])
    assert np.abs(there - plain)[RATE // 2 :].max() < 0.01 and plain.max() > 4.0


def test_silence_and_breaths_after_a_word_are_let_be() -> None:
    x, _ = voice()
    x[2 * RATE :] = 0.0
    breath = noise(1.0, 10 ** (-58 / 20))
    x[round(2.05 * RATE) : round(2.05 * RATE) + len(breath)] = breath
    taken = reduction_of(DeEsser(threshold=-18.0, range=12.0), x)
    assert taken[round(2.2 * RATE) : round(2.5 * RATE)].max() < 0.3
    assert reduction_of(DeEsser(threshold=-40.0, range=12.0), np.zeros((RATE, 2))).max() == 0.0


def test_only_what_it_works_on_is_changed() -> None:
    x, _ = voice()
    x[:, 1] *= -0.4  # mostly side
    y = run_chain([DeEsser(threshold=-18.0, range=8.0, mode="side")], x, RATE)
    mid = (x - y).sum(axis=1)
    assert np.abs(mid).max() < 1e-12 and np.abs((x - y)[:, 0] - (x - y)[:, 1]).max() > 0.05


def as_read(step: DeEsser, taken: Floats, by: ReducedBy, heard: np.ndarray | None = None) -> tuple[float, float]:
    """What a De-esser takes where it works, in hops of 10 ms, and the share of the time that it does."""
    hops = taken[: len(taken) // 480 * 480].reshape(-1, 480)
    means = hops.mean(axis=1)
    means = means if heard is None else means[: len(heard)][heard]
    works = means[means > 0.1]
    read = {"mean": np.mean, "peaks": lambda v: np.quantile(v, 0.95), "most": lambda _: hops.max()}[by]
    return float(read(works)) if len(works) else 0.0, len(works) / len(means)


@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize("aim", [0.5, 1.5, 3.0])
def test_its_threshold_is_found_for_what_it_takes_where_it_works(aim: float, by: ReducedBy) -> None:
    x, _ = voice()
    joint = Joint(x.astype(np.float32), trace_of(x, RATE))
    step = DeEsser(range=8.0, threshold=0.0, aim=aim, aim_by=by)
    found = find_threshold(step, joint, None)
    assert found.met
    taken = reduction_of(msgspec.structs.replace(step, threshold=found.value), x)
    assert as_read(step, taken, by)[0] == pytest.approx(aim, abs=0.05)


@pytest.mark.sampled(7)
@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize("aim", [0.3, 1.0, 2.0, 4.0, 7.0])
@pytest.mark.parametrize("sound", ["voice", "music"])
def test_no_threshold_is_nearer_to_the_aim_than_the_one_that_is_found(aim: float, sound: str, by: ReducedBy) -> None:
    """Of those for which it works no more than two fifths of the time, every quarter of a dB."""
    x = voice()[0] if sound == "voice" else music(4.0, seed=8)
    joint = Joint(x.astype(np.float32), trace_of(x, RATE))
    step = DeEsser(range=8.0, aim=aim, aim_by=by)
    heard = heard_hops(joint.trace)[: len(x) // 480]

    def reached(threshold: float) -> tuple[float, float]:
        return as_read(step, reduction_of(msgspec.structs.replace(step, threshold=threshold), x), by, heard)

    found = find_threshold(step, joint, None)
    if found.met:
        assert reached(found.value)[0] == pytest.approx(aim, abs=0.06)
        return
    off = abs(reached(found.value)[0] - aim)
    for threshold in np.arange(-60.0, 0.0, 0.25):
        amount, share = reached(float(threshold))
        if share <= 0.4:
            assert abs(amount - aim) > off - 0.12, threshold


def test_an_aim_out_of_reach_is_said_and_what_takes_nothing_is_refused() -> None:
    x, _ = voice()
    joint = Joint(x.astype(np.float32), trace_of(x, RATE))
    assert not find_threshold(DeEsser(range=2.0, aim=6.0), joint, None).met
    wish = aimed(DeEsser(range=0.0))
    assert wish is not None and wish.problem and not DeEsser(hold_aim=True).held_now


def test_what_is_sharp_all_the_time_is_not_taken_for_sibilants() -> None:
    x = noise(4.0, 0.1)
    joint = Joint(x.astype(np.float32), trace_of(x, RATE))
    step = DeEsser(range=8.0, threshold=0.0, aim=3.0)
    found = find_threshold(step, joint, None)
    taken = reduction_of(msgspec.structs.replace(step, threshold=found.value), x)
    assert not found.met and (taken > 0.1).mean() < 0.5


def test_it_is_held_and_told_where_it_works() -> None:
    x, places = voice()
    renderer, span = Renderer(material(x)), Span(0.5, 3.9)
    session = hold(renderer, one([DeEsser(id="d", range=8.0, threshold=0.0, aim=2.0, hold_aim=True)]), span)
    render = renderer.section(session, span)
    before, after = render.before("d"), render.joint("d")
    assert before is not None and after is not None
    worked = analysed_step(session.item("d"), before, after, span).worked
    assert worked is not None and worked.taken.peaks == pytest.approx(2.0, abs=0.05)
    assert worked.taken.mean < worked.taken.peaks <= worked.taken.most + 0.01
    assert len(worked.places) == len(places)
    for (start, _, most), (a, b) in zip(worked.places, places, strict=True):
        assert a - 0.02 < start < b and 0.1 < most <= 8.0


@settings(max_examples=50, deadline=None)
@given(st.lists(st.booleans(), max_size=60))
def test_runs_of_work_cover_exactly_what_works(at_work: list[bool]) -> None:
    runs = sibilants(np.array(at_work, dtype=float), 0.01, 0.5)
    covered = np.zeros(len(at_work), dtype=bool)
    for a, b in runs:
        assert at_work[a] and at_work[b - 1]
        covered[a:b] = True
    assert not (np.array(at_work, dtype=bool) & ~covered).any()
    assert all(b + 3 < c for (_, b), (c, _) in itertools.pairwise(runs))


# --- resonance tamer -----------------------------------------------------------------------------------------------


@settings(max_examples=20, deadline=None)
@given(st.integers(1, 6), st.sampled_from(RATES))
def test_frames_give_back_what_came(seed: int, rate: int) -> None:
    frames, x = Frames(frame_length(rate)), noise(0.8, 0.3, seed, rate)
    out = np.zeros_like(x)
    at = 0
    while at < len(x):
        n, full = frames.push(x, out, at)
        at += n
        if full:
            frames.analyse()
            frames.add()
    assert np.abs(out[frames.size :] - x[: -frames.size]).max() < 1e-10


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize(("freq", "depth"), [(260.0, 4.0), (1003.0, 6.0), (4321.0, 12.0), (9000.0, 18.0)])
def test_a_steady_tone_loses_what_is_asked_and_noise_does_not(rate: int, freq: float, depth: float) -> None:
    x = noise(4.0, 0.02, rate=rate)
    ringing = x + 0.02 * sine(freq, 4.0, rate=rate)
    step = ResonanceTamer(at_most=depth, stands_out=6.0)
    y = run_chain([step], ringing, rate)
    half = slice(2 * rate, 4 * rate)
    place = round(2 * freq)
    tone = [np.abs(np.fft.rfft(s[half, 0]))[place] for s in (ringing, y)]
    assert 20 * np.log10(tone[1] / tone[0]) == pytest.approx(-depth, abs=0.2)
    calm = run_chain([step], x, rate)
    assert abs(20 * np.log10(np.std(calm[half]) / np.std(x[half]))) < 0.2


@pytest.mark.parametrize("selectivity", [3.0, 8.0])
@pytest.mark.parametrize("speed", [20.0, 250.0, 2000.0])
def test_noise_of_any_colour_is_let_be(selectivity: float, speed: float) -> None:
    white = noise(4.0, 0.1)
    pink = np.fft.irfft(
        np.fft.rfft(white, axis=0) / np.sqrt(np.maximum(np.arange(len(white) // 2 + 1), 1.0))[:, None], axis=0
    )
    for x in (white, pink * 3.0):
        y = run_chain([ResonanceTamer(at_most=24.0, stands_out=selectivity, at_least=speed)], x, RATE)
        lost = 20 * np.log10(np.std(y[RATE:]) / np.std(x[RATE:]))
        assert abs(lost) < (0.2 if speed >= 50.0 else 1.0)  # at 20 ms a frame is all that it goes by


def test_one_partial_among_others_is_let_be_and_a_louder_one_is_not() -> None:
    t = np.arange(4 * RATE) / RATE
    even = sum(0.05 * np.sin(2 * np.pi * 330 * n * t + n * n) for n in range(1, 12))
    x = np.repeat(even[:, None], 2, axis=1) + noise(4.0, 1e-3)
    step = ResonanceTamer(at_most=12.0, stands_out=12.0)
    calm = reduction_of(step, x)[2 * RATE :]
    loud = x + 0.11 * sine(1320.0, 4.0, phase=16.0)
    step = ResonanceTamer(at_most=12.0, stands_out=6.0)
    assert calm.mean() < 0.1 and reduction_of(step, loud)[2 * RATE :].mean() > 0.5


def note(freq: float, partials: list[float], seconds: float = 3.0, rate: int = RATE) -> np.ndarray:
    """A held note with an onset and the partials' amplitudes, over very soft breath."""
    t = np.arange(round(seconds * rate)) / rate
    x = sum(a * np.sin(2 * np.pi * freq * n * t + n * n) for n, a in enumerate(partials, 1) if n * freq < 0.45 * rate)
    return np.repeat((x * np.minimum(t / 0.05, 1.0))[:, None], 2, axis=1) + noise(seconds, 1e-4, rate=rate)


BLOWN = [0.2, 0.08, 0.06, 0.02, 0.01, 0.005]
"""Partials of something like a flute."""
REED = [0.2, 0.004, 0.12, 0.003, 0.06, 0.002, 0.02]
"""And of something that hardly has every other one."""


@pytest.mark.sampled(7)
@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("freq", [147.0, 262.0, 523.0, 1046.0, 2093.0])
@pytest.mark.parametrize("partials", [[0.2], BLOWN, REED], ids=["plain", "blown", "reed"])
def test_a_held_note_is_let_be(rate: int, freq: float, partials: list[float]) -> None:
    x = note(freq, partials, rate=rate)
    taken = reduction_of(ResonanceTamer(at_most=4.0), x, rate)
    assert (
        np.abs(taken[rate // 8 :]).max() < 0.05
    )  # all but the first frame, which has no more than a piece of its onset


@pytest.mark.parametrize("freq", [262.0, 523.0])
def test_what_rings_through_a_held_note_is_cut_all_the_same(freq: float) -> None:
    x = note(freq, BLOWN)
    for place, level in ((freq * 7.43, 0.02), (freq * 5.0, 0.15)):  # beside its partials, and one of them far too loud
        cut = run_chain([ResonanceTamer(at_most=6.0)], x + level * sine(place, 3.0, phase=1.0), RATE)[RATE:]
        left = np.abs(np.fft.rfft(cut[:RATE, 0]))[round(place) - 3 : round(place) + 4].max() * 2 / RATE
        assert left < 0.6 * level


def test_a_tamer_holds_loudness_by_its_output() -> None:
    x = noise(4.0, 0.05) + 0.05 * sine(1003.0, 4.0)
    renderer, span = Renderer(material(x)), Span(1.0, 4.0)
    session = hold(renderer, one([ResonanceTamer(id="r", at_most=12.0, hold_loudness=True)]), span)
    held = session.item("r")
    assert isinstance(held, ResonanceTamer) and held.output > 0.1
    render = renderer.section(session, span)
    assert render.joint("r").loudness(span) == pytest.approx(render.before("r").loudness(span), abs=0.01)


def test_a_tamer_at_nothing_is_its_output_at_once() -> None:
    x = noise(0.3, 0.1)
    y = run_chain([ResonanceTamer(output=6.0)], x, RATE)
    assert np.abs(y - 10 ** (6 / 20) * x).max() < 1e-15


@pytest.mark.parametrize("mode", ["mid", "side"])
def test_the_tamer_leaves_the_other_part_alone(mode: str) -> None:
    x = noise(2.0, 0.2) + 0.2 * sine(2000.0, 2.0) * np.array([1.0, 0.3])
    y = run_chain([ResonanceTamer(at_most=12.0, mode=mode)], x, RATE)
    other = (lambda s: s[:, 0] - s[:, 1]) if mode == "mid" else (lambda s: s[:, 0] + s[:, 1])
    assert np.abs(other(y) - other(x)).max() < 1e-12 and np.abs(y - x).max() > 0.01


def test_weights_say_how_much_is_done_where() -> None:
    x = noise(4.0, 0.01) + 0.008 * sine(400.0, 4.0) + 0.008 * sine(4000.0, 4.0)
    y = run_chain([ResonanceTamer(at_most=6.0, weight_2=0.0, weight_4=200.0)], x, RATE)
    spectra = [np.abs(np.fft.rfft(s[2 * RATE :, 0])) for s in (x, y)]
    lost = [20 * np.log10(spectra[1][round(2 * f)] / spectra[0][round(2 * f)]) for f in (400.0, 4000.0)]
    assert abs(lost[0]) < 0.5 and lost[1] == pytest.approx(-12.0, abs=0.3)


def test_what_the_tamer_takes_is_told_by_frequency() -> None:
    x = noise(4.0, 0.01) + 0.01 * sine(2000.0, 4.0)
    renderer, span = Renderer(material(x)), Span(1.0, 4.0)
    session = one([ResonanceTamer(id="r", at_most=6.0)])
    render = renderer.section(session, span)
    cuts = analysed_step(session.item("r"), render.before("r"), render.joint("r"), span).cuts
    assert cuts is not None
    assert cuts.freqs[int(np.argmax(cuts.mean))] == pytest.approx(2000.0, rel=0.03)
    assert cuts.most.max() == pytest.approx(6.0, abs=0.01) and cuts.mean[cuts.freqs > 3000.0].max() < 0.3


# --- transient shaper ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("freq", [20.0, 22.0, 27.0, 41.0, 200.0])
def test_a_steady_tone_is_not_shaped(freq: float) -> None:
    x = sine(freq, 3.0, -12.0)
    y = run_chain([TransientShaper(attack=12.0, sustain=12.0)], x, RATE)
    assert np.abs(y - x)[RATE:].max() < 10 ** (-60 / 20)


def test_a_hit_after_digital_silence_is_shaped_alike_at_any_level() -> None:
    shaped = []
    for level in (-3.0, -40.0, -80.0, -110.0):
        x = np.zeros((RATE, 2))
        x[RATE // 2 : RATE // 2 + 9600] = sine(500, 0.2, 0.0) * np.exp(-np.arange(9600) / 3000.0)[:, None]
        y = run_chain([TransientShaper(attack=12.0, sustain=-6.0)], x * 10 ** (level / 20), RATE)
        shaped.append(y / 10 ** (level / 20))
    assert max(np.abs(y - shaped[0]).max() for y in shaped) < 1e-6
    assert np.abs(shaped[0]).max() > 2.5


def hits(rate: int = RATE, seconds: float = 6.0) -> np.ndarray:
    """Decaying notes, two a second."""
    t = np.arange(round(seconds * rate)) / rate
    since = t % 0.5
    x = 0.3 * np.exp(-since / 0.09) * np.sin(2 * np.pi * 180 * since) + 0.2 * np.exp(-since / 0.012) * np.sin(
        2 * np.pi * 2300 * since
    )
    return np.repeat(x[:, None], 2, axis=1)


@pytest.mark.parametrize("freq", [50.0, 100.0, 1000.0, 15_000.0])
@pytest.mark.parametrize("rate", [44_100, 192_000])
def test_a_steady_tone_is_neither_attack_nor_sustain(freq: float, rate: int) -> None:
    x = sine(freq, 4.0, -12.0, rate)
    y = run_chain([TransientShaper(attack=12.0, sustain=12.0)], x, rate)
    assert np.abs(y - x)[3 * rate :].max() < 1e-3 * np.abs(x).max()


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("attack", [-12.0, -6.0, 3.0, 6.0, 12.0])
def test_beginnings_get_as_much_louder_as_is_set(rate: int, attack: float) -> None:
    x = hits(rate)
    y = run_chain([TransientShaper(attack=attack, length=40.0)], x, rate)
    start = round(2.0 * rate)
    begins = slice(start + round(0.001 * rate), start + round(0.006 * rate))
    power = [float(np.square(s[begins]).sum()) for s in (x, y)]
    assert 10 * np.log10(power[1] / power[0]) == pytest.approx(attack, abs=0.15 * abs(attack) + 0.2)
    later = slice(start + round(0.25 * rate), start + round(0.4 * rate))
    power = [float(np.square(s[later]).sum()) for s in (x, y)]
    assert abs(10 * np.log10(power[1] / power[0])) < 0.5


def test_what_follows_gets_louder_or_softer_and_the_beginning_stays() -> None:
    x = hits()
    for sustain in (-9.0, 9.0):
        y = run_chain([TransientShaper(sustain=sustain)], x, RATE)
        ends = slice(round(2.25 * RATE), round(2.45 * RATE))
        begins = slice(2 * RATE, 2 * RATE + 240)
        change = [10 * np.log10(np.square(y[p]).sum() / np.square(x[p]).sum()) for p in (ends, begins)]
        assert np.sign(change[0]) == np.sign(sustain) and abs(change[0]) > 5.0 and abs(change[1]) < 1.0


def test_punch_rises_with_the_attack_at_any_level() -> None:
    for level in (-30.0, 0.0):
        x = hits() * 10 ** (level / 20)
        kept = []
        for attack in (-6.0, 0.0, 6.0):
            y = run_chain([TransientShaper(attack=attack, length=10.0)], x, RATE)
            found = hits_of(
                x.astype(np.float32), y.astype(np.float32), np.zeros(round(6.0 * RATE / 64)), RATE / 64, RATE
            )
            assert found is not None
            kept.append(found.punch_kept)
        assert kept[0] < 0.7 < 0.99 < kept[1] < 1.01 < 1.4 < kept[2]


# --- the Glue's lift -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [44_100, 192_000])
@pytest.mark.parametrize("feed_back", [False, True])
@pytest.mark.parametrize(
    ("ratio", "knee", "most"), [(1.5, 0.0, 24.0), (2.0, 6.0, 24.0), (4.0, 12.0, 10.0), (10.0, 0.0, 6.0)]
)
def test_the_lift_follows_its_static_curve(rate: int, feed_back: bool, ratio: float, knee: float, most: float) -> None:
    glue = Glue(
        lift_ratio=ratio,
        lift_threshold=-24.0,
        lift_range=most,
        knee=knee,
        lift_back=1.0,
        lift_up=5.0,
        feed_back=feed_back,
    )
    for level in (-60.0, -40.0, -28.0, -24.0, -20.0, -6.0):
        x = sine(1000.0, 0.6, level, rate)
        x[:, 1] = 10 ** (level / 20) * np.cos(2 * np.pi * 1000.0 * np.arange(len(x)) / rate)  # steady level
        y = run_chain([msgspec.structs.replace(glue, rms=20.0)], x, rate)
        part = slice(round(0.4 * rate), None)
        lifted = 20 * np.log10(np.std(y[part]) / np.std(x[part]))
        wanted = float(lifted_curve(np.array([level]), -24.0, 1 - 1 / ratio, knee, most)[0])
        assert lifted == pytest.approx(wanted, abs=0.05)


def test_hits_are_not_touched_by_the_lift() -> None:
    t = np.arange(2 * RATE) / RATE
    level = np.where(t < 1.0, -50.0, -10.0)
    x = np.repeat((10 ** (level / 20) * np.sin(2 * np.pi * 400 * t))[:, None], 2, axis=1)
    y = run_chain(
        [Glue(lift_ratio=3.0, lift_threshold=-30.0, lift_range=12.0, lift_back=2.0, lift_up=50.0, rms=5.0)], x, RATE
    )
    after = slice(RATE + round(0.03 * RATE), None)
    assert np.abs(y - x)[after].max() < 0.01 * np.abs(x).max()
    soon = slice(RATE + round(0.01 * RATE), RATE + round(0.02 * RATE))
    assert np.abs(y[soon]).max() < np.abs(x).max() * 10 ** (1 / 20)  # the lift is gone within a few milliseconds
    quiet = slice(RATE // 2, RATE - 480)
    assert 20 * np.log10(np.std(y[quiet]) / np.std(x[quiet])) == pytest.approx(12.0, abs=0.1)


@pytest.mark.parametrize("by", ["peaks", "most", "mean"])
@pytest.mark.parametrize("aim", [0.5, 2.0, 4.0])
def test_the_lifts_threshold_is_found_and_held(aim: float, by: ReducedBy) -> None:
    loud_and_low = music(6.0) * np.where(np.arange(6 * RATE) // (RATE // 2) % 4 == 0, 1.0, 0.1)[:, None]
    renderer, span = Renderer(material(loud_and_low)), Span(2.0, 6.0)
    glue = Glue(id="g", lift_ratio=3.0, lift_threshold=-60.0, lift_range=12.0, lift_aim=aim, hold_lift=True)
    glue = msgspec.structs.replace(glue, lift_aim_by=by)
    session = hold(renderer, one([glue]), span)
    found = session.step("g")
    assert isinstance(found, Glue) and found.lift_threshold != -60.0
    source = renderer.section(session, span).before("g")
    assert source is not None
    after = renderer.section(session, span).joint("g")
    assert after is not None
    told = analysed_step(found, source, after, span).lift
    assert told.of(by) == pytest.approx(aim, abs=0.05) and told.mean <= told.peaks <= told.most
    hops = lift_hops(found, source, span)
    assert told.of(by) == pytest.approx({"mean": hops.mean(), "peaks": np.quantile(hops, 0.95), "most": hops.max()}[by])
    assert not find_lift(Glue(lift_ratio=1.0), source, span).met


@pytest.mark.parametrize("low_by", [0.0, 1.0, 4.0, 12.0, 25.0])
@pytest.mark.parametrize("settings", [{}, {"rms": 20.0, "knee": 3.0}])
def test_a_lift_that_is_found_leaves_what_is_loud_alone(low_by: float, settings: dict[str, float]) -> None:
    shape = np.where(np.arange(6 * RATE) // RATE % 2 == 0, 1.0, 10 ** (-low_by / 20))[:, None]
    x = noise(6.0, 0.1) * shape
    renderer, span = Renderer(material(x)), Span(0.0, 6.0)
    glue = Glue(id="g", lift_ratio=2.0, lift_threshold=-60.0, lift_aim=2.0, hold_lift=True, **settings)
    source = renderer.section(one([glue]), span).before("g")
    assert source is not None
    found = find_lift(glue, source, span)
    y = run_chain([msgspec.structs.replace(glue, lift_threshold=found.value)], x, RATE)
    loud = slice(4 * RATE + RATE // 2, 5 * RATE)
    assert abs(20 * np.log10(np.std(y[loud]) / np.std(x[loud]))) < 0.7
    assert found.met is (low_by >= 12.0) and (found.met or "loud" in found.why_not)


@pytest.mark.parametrize("rate", [44_100, 192_000])
def test_what_is_lifted_is_told_as_it_is_done(rate: int) -> None:
    x = music(3.0, rate=rate)
    joint = Joint(x.astype(np.float32), trace_of(x, rate))
    glue = Glue(lift_ratio=3.0, lift_threshold=-20.0, lift_range=9.0)
    lifted = lift_hops(glue, joint, Span(1.0, 3.0))
    y = run_chain([glue], x, rate)
    gained = 10 * np.log10(np.square(y[rate:]).mean() / np.square(x[rate:]).mean())
    assert 0.0 < lifted.min() <= gained <= lifted.max() <= 9.0 and len(lifted) == 200


def test_a_lift_of_one_to_one_is_nothing() -> None:
    x = music(2.0)
    assert np.array_equal(run_chain([Glue(lift_threshold=0.0)], x, RATE), x) and Glue(lift_threshold=0.0).is_transparent
    assert np.array_equal(run_chain([Glue(lift_threshold=0.0, lift_ratio=5.0, lift_range=0.0)], x, RATE), x)


# --- keys and what drives ------------------------------------------------------------------------------------------


@pytest.mark.parametrize("target", ["stereo", "mid", "left"])
def test_a_moving_band_can_listen_to_another_strip(target: str) -> None:
    t = np.arange(2 * RATE) / RATE
    pad = np.repeat((0.2 * np.sin(2 * np.pi * 1000 * t))[:, None], 2, axis=1)
    key = np.where(t > 1.0, 0.6, 0.0)[:, None] * np.repeat(np.sin(2 * np.pi * 1000 * t)[:, None], 2, axis=1)
    band = Band(id=1, dynamic=True, threshold=-40.0, ratio=20.0, range=9.0, key="k", target=target)
    media = Media(path="x.wav", size=1, sha256="0" * 64)
    session = checked(
        Session(
            rate=RATE,
            strips=(
                Bus(id="mix", name="Mix", into=""),
                Bus(id="b", name="B", into="mix", chain=(MidSideEq(id="e", bands=(band,)),)),
                Stem(id="stem-1", name="S", into="b", media=media),
                Stem(id="k", name="K", into="mix", mute=True, media=msgspec.structs.replace(media, sha256="1" * 64)),
            ),
        )
    )
    y = play_through(Plan(session).result, material(pad, k=key))
    lost = 20 * np.log10(np.std(y[round(1.5 * RATE) :, 0]) / np.std(y[RATE // 2 : RATE, 0]))
    assert lost == pytest.approx(-9.0, abs=0.2) and np.std(y[: RATE // 2, 0]) == pytest.approx(
        np.std(pad[: RATE // 2, 0]), rel=1e-3
    )
    gone = session.replace(strips=session.strips[:-1])
    alone = play_through(Plan(gone).result, material(pad))
    assert np.std(alone[RATE:, 0]) == pytest.approx(np.std(y[round(1.5 * RATE) :, 0]), rel=0.02)  # it listens to itself


@pytest.mark.parametrize("freq", [31.25, 62.5, 250.0, 4000.0, 12_500.0])
def test_what_drives_a_reduction_is_where_the_energy_is_while_it_reduces(freq: float) -> None:
    loud = sine(freq, 2.0)
    other = sine(freq * 3.2 if freq < 5000.0 else 100.0, 2.0)
    x = np.concatenate([loud, other * 4.0])
    reduction = np.concatenate([np.full(len(loud), 3.0), np.zeros(len(other))])
    drive = drive_of(x, reduction, RATE)
    top, share = drive.top
    assert abs(np.log2(top / freq)) < 1 / 6 and share > (0.75 if freq > 50.0 else 0.45)
    assert drive.thirds.sum() == pytest.approx(1.0) and len(drive.thirds) == len(THIRDS)
    assert drive.share(0.0, 1e6) == pytest.approx(1.0)
    assert not drive_of(x, np.zeros(len(x)), RATE).thirds.any() and not drive_of(x[:100], reduction, RATE).thirds.any()


def test_a_kick_is_seen_to_drive_a_glue_until_it_is_cut_from_the_detector() -> None:
    t = np.arange(6 * RATE) / RATE
    since = t % 0.5
    kick = np.exp(-since / 0.08) * np.sin(2 * np.pi * 60 * since)
    x = np.repeat((0.7 * kick + 0.05 * np.sin(2 * np.pi * 900 * t))[:, None], 2, axis=1)
    renderer, span = Renderer(material(x)), Span(1.0, 5.0)
    shares = []
    for cut in (20.0, 300.0):
        glue = Glue(id="g", ratio=4.0, threshold=-40.0, low_cut=cut, low_cut_slope=24)
        render = renderer.section(one([glue]), span)
        drive = analysed_step(glue, render.before("g"), render.joint("g"), span).drive
        assert drive is not None
        shares.append(drive.share(0.0, 150.0))
    assert shares[0] > 0.9 and shares[1] < 0.1


@pytest.mark.parametrize("step", [DeEsser(range=6.0, threshold=-40.0), Glue(ratio=4.0, threshold=-40.0)])
def test_what_a_keyed_detector_hears_is_the_key(step: DeEsser | Glue) -> None:
    x = noise(1.0, 0.02)
    loud = sine(7000.0, 1.0, -3.0)
    processor, out = step.make(RATE), np.zeros((4096, 2))
    processor.keys = (np.ascontiguousarray(loud[:4096]),)
    processor.run(np.ascontiguousarray(x[:4096]), out)
    own = step.make(RATE)
    own.run(np.ascontiguousarray(x[:4096]), np.zeros((4096, 2)))
    assert processor.level[0] != own.level[0]
    heard = run_through(step.ear(RATE), loud)
    assert np.std(heard[RATE // 2 :]) > 0.3


def test_trims_of_nothing_pass_and_others_do_not() -> None:
    assert Trim().is_transparent and not Trim(gain=1.0).is_transparent
    assert MidSideEq(bands=(Band(id=1),)).is_transparent and not MidSideEq(bands=(Band(id=1, gain=1.0),)).is_transparent
    assert not MidSideEq(bands=(Band(id=1, dynamic=True),)).is_transparent
    assert (
        Glue(threshold=-30.0).is_transparent
        and not Glue(look_ahead=1.0).is_transparent
        and not Glue(ratio=2.0).is_transparent
    )
