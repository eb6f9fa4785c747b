"""What is heard while one steers: switches, fades, edits of filters, loops and starts, without a thump, a click or a gap."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any

import msgspec
import numpy as np
import pytest
from scipy import signal

from gluvo.play.device import BLOCK
from gluvo.play.engine import Engine, Monitoring
from gluvo.session.sounds import Sound
from gluvo.steps import STEP_KINDS, Glue, Limiter, ResonanceTamer, Saturation, Step, TransientShaper, Trim, Width
from gluvo.steps.settings import settings_of

from .conftest import RATE, material, music, noise, one, sine
from .test_play import playing, pulled

HIGH = signal.butter(8, 8000.0, "highpass", fs=RATE, output="sos")


def db(x: float) -> float:
    return 20.0 * np.log10(max(x, 1e-15))


def clicks(out: np.ndarray) -> float:
    """The loudest above 8 kHz, dBFS; the first moments, in which the filter begins, aside."""
    return db(float(np.abs(signal.sosfilt(HIGH, out, axis=0)[2000:]).max()))


def sound_of(x: np.ndarray) -> Sound:
    return Sound(x.astype(np.float32), RATE)


# --- references -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("blocks", [1, 2, 3, 20])
def test_switching_references_only_what_was_and_what_comes_is_heard(blocks: int) -> None:
    """A song that is late by a tenth of a second, and four references a fourth apart, to and fro at any speed."""
    freqs = {"a": 300.0, "b": 400.0, "c": 500.0, "d": 600.0}
    beside = {id: sound_of(sine(freq, 6.0, -6.0)) for id, freq in freqs.items()}
    session = one([ResonanceTamer(id="t", at_most=6.0)])
    engine = playing(Engine(material(noise(6.0, 0.05)), beside, session), path="a")
    pulled(engine, RATE // 2)
    heard, whole = "a", [pulled(engine, RATE // 10)]
    for path in (*"babacdbdcadbca", "d"):
        engine.listen(Monitoring(path=path))
        whole.append(pulled(engine, blocks * BLOCK))
        heard = path
    whole.append(pulled(engine, RATE // 10))
    out = pulled(engine, RATE // 2)
    assert clicks(np.concatenate(whole)) < -80.0
    spectrum = np.abs(np.fft.rfft(out[:, 0] * np.hanning(len(out)))) / len(out) * 4
    found = {id: db(spectrum[round(freq / 2.0)]) for id, freq in freqs.items()}
    assert found.pop(heard) == pytest.approx(-6.0, abs=0.1) and max(found.values()) < -100.0


def test_no_reference_is_heard_that_was_not_asked_for() -> None:
    """Two references are heard in turn, then a third: in the place where the first one lay nothing of it is left."""
    beside = {id: sound_of(sine(freq, 4.0, -6.0)) for id, freq in {"a": 9000.0, "b": 200.0, "c": 300.0}.items()}
    engine = playing(Engine(material(noise(4.0, 0.05)), beside, one([ResonanceTamer(id="t", at_most=6.0)])), path="a")
    pulled(engine, RATE // 2)
    engine.listen(Monitoring(path="b"))
    pulled(engine, RATE // 2)
    before = pulled(engine, RATE // 10)
    engine.listen(Monitoring(path="c"))
    assert clicks(np.concatenate([before, pulled(engine, RATE // 2)])) < -80.0


# --- fades ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("level", [0.0, -40.0, -60.0])
def test_every_change_of_what_is_heard_is_a_fade_of_20_ms_at_any_level(level: float) -> None:
    tone = sine(220, 12.0, -6)
    engine = Engine(material(tone), {"r": sound_of(tone)}, one([Trim(id="t", gain=-6.0)], step="t"))
    engine.listen(Monitoring(level=level))
    engine.play()
    pulled(engine, RATE // 2)
    out = []
    changes: tuple[dict[str, Any], ...] = (
        {"dim": True},
        {"view": "mid"},
        {"view": "side"},
        {"view": "left"},
        {"path": "untouched"},
        {"path": "r"},
        {},
    )
    for change, wait in itertools.product(changes, (3, 7, 1)):
        engine.listen(Monitoring(level=level, gains={"result": 3.0 if wait == 7 else 0.0}, **change))
        out.append(pulled(engine, wait * BLOCK))
    engine.stop()
    out.append(pulled(engine, 20 * BLOCK))
    engine.play()
    out.append(pulled(engine, 20 * BLOCK))
    whole = np.concatenate(out) / 10 ** (level / 20)
    assert clicks(whole) < -80.0


# --- starts and loops ---------------------------------------------------------------------------------------------------


def test_play_is_silence_and_then_a_fade() -> None:
    """Whatever has to run in does so before, in whoever asks: the audio thread has nothing to catch up with."""
    song = material(sine(150, 20.0, -6))
    engine = Engine(
        song, {}, one([Glue(id="g", look_ahead=5.0), Saturation(id="s", mid=30.0), Limiter(id="l", drive=6.0)])
    )
    for start in (4.3, 11.11, 0.7):
        engine.seek(start)
        engine.play()
        before = engine._blocks
        out = np.concatenate([np.zeros((2000, 2)), pulled(engine, RATE // 2)])
        assert engine._blocks - before == -(-RATE // 2 // BLOCK)  # nothing was made but what is heard
        assert clicks(out[: RATE // 10]) < max(-80.0, clicks(out[RATE // 10 :]) + 3.0)  # no more than saturation makes
        engine.stop()
        pulled(engine, RATE // 4)


@pytest.mark.parametrize("loop", [(3.0, 6.0), (0.0, 6.0), (2.0, 5.999)])
def test_a_loop_to_the_end_of_the_file_fades_out_and_in(loop: tuple[float, float]) -> None:
    engine = Engine(material(sine(150, 6.0, -6)), {}, one([]))
    engine.loop(*loop)
    engine.seek(loop[1] - 0.5)
    out = pulled(playing(engine), 2 * RATE)
    assert clicks(np.concatenate([np.zeros((2000, 2)), out])) < -80.0
    settled = out[round(0.7 * RATE) : round(1.7 * RATE)]
    assert np.abs(settled).max() == pytest.approx(0.5012, abs=1e-3)


# --- edits ----------------------------------------------------------------------------------------------------------------

THUMPS: list[tuple[Step, Step]] = [
    (Saturation(mid=50.0, side=50.0, tilt=-6.0), Saturation(mid=50.0, side=50.0, tilt=6.0)),
    (Width(mono_below=120.0), Width(mono_below=300.0)),
    *(
        (Width(bands=2, crossover_1=a, width_2=150.0), Width(bands=2, crossover_1=b, width_2=150.0))
        for a, b in ((16_000.0, 30.0), (1000.0, 50.0))
    ),
]


def extremes() -> Iterator[tuple[Step, Step]]:
    """Each number of each step at one end, and then at the other, with all else at work."""
    for kind in STEP_KINDS:
        for example in kind.examples():
            for name, setting in settings_of(type(example)).items():
                if not isinstance(getattr(example, name), float):
                    continue
                yield tuple(msgspec.structs.replace(example, **{name: v}) for v in (setting.low, setting.high))


def loudest(x: np.ndarray) -> float:
    return db(float(np.abs(x).max()))


def over(first: Step | None, second: Step | None, x: np.ndarray) -> float:
    """By how many dB the edit from one to the other is louder than the louder end."""
    chains = [[msgspec.structs.replace(s, id="s")] if s is not None else [] for s in (first, second)]
    engine = playing(Engine(material(x), {}, one(chains[0])), level=-40.0)  # far from the guard
    settled = round(0.8 * RATE)
    before = pulled(engine, settled)
    engine.change(one(chains[1]))
    during = pulled(engine, settled)
    after = pulled(engine, settled)
    return loudest(during) - max(loudest(before[settled // 2 :]), loudest(after))


SOUNDS = {
    "lows": sine(55, 3.0, -12) + sine(41, 3.0, -30),
    "noise": np.clip(noise(3.0, 0.08), -0.2, 0.2),
}


@pytest.mark.parametrize("sound", SOUNDS)
@pytest.mark.parametrize("pair", THUMPS, ids=lambda pair: type(pair[0]).__name__)
def test_filters_begin_as_if_they_had_been_at_work(pair: tuple[Step, Step], sound: str) -> None:
    for first, second in (pair, pair[::-1]):
        assert over(first, second, SOUNDS[sound]) < 1.0


@pytest.mark.sampled(2)
@pytest.mark.parametrize("kind", STEP_KINDS, ids=lambda kind: kind.__name__)
def test_a_step_put_in_does_not_take_its_own_start_for_a_hit(kind: type[Step]) -> None:
    steps = (
        [TransientShaper(attack=12.0)]
        if kind is TransientShaper
        else [s for s in kind.examples() if not s.contains_steps]
    )
    for step, x in itertools.product(steps, SOUNDS.values()):
        assert over(None, step, x) < 1.0
        assert over(step, None, x) < 1.0


@pytest.mark.thorough
@pytest.mark.parametrize("kind", [k for k in STEP_KINDS if not k().contains_steps], ids=lambda kind: kind.__name__)
def test_no_edit_from_end_to_end_of_a_range_is_louder_than_its_louder_end(kind: type[Step]) -> None:
    for first, second in extremes():
        if type(first) is kind:
            for a, b in ((first, second), (second, first)):
                assert over(a, b, SOUNDS["lows"]) < 1.0, (a, b)


def test_stopped_and_played_at_once_fades_out_and_in() -> None:
    """A key pressed twice: what was heard is not cut off, and an edit right after it is not lost."""
    engine = playing(Engine(material(sine(150, 8.0, -6)), {}, one([])))
    out = [pulled(engine, RATE // 2)]
    for gain in (-1.0, -2.0, -3.0):
        engine.stop()
        engine.play()
        engine.change(one([Trim(id="t", gain=gain)]))
        out.append(pulled(engine, RATE // 2))
    assert clicks(np.concatenate(out)) < -80.0 and engine.playing
    assert np.abs(out[-1][-4800:]).max() == pytest.approx(10 ** (-9 / 20), abs=1e-3)


@pytest.mark.parametrize("freq", [100.0, 440.0, 1000.0, 5000.0])
def test_a_change_of_latency_makes_no_notch(freq: float) -> None:
    """Half a wave of a tone later: what fades out and what fades in would take each other away."""
    engine = playing(Engine(material(sine(freq, 8.0, -12)), {}, one([Glue(id="g", threshold=0.0)])))
    pulled(engine, RATE // 2)
    for ahead in (500.0 / freq, 0.0, 10.0, 0.1, 3.0, 0.0):
        engine.change(one([Glue(id="g", threshold=0.0, look_ahead=min(ahead, 10.0))]))
        level = running(pulled(engine, RATE // 4), max(0.002, 1.0 / freq))
        assert level.min() > -15.0 - 0.5 - 0.6 and level.max() < -15.0 + 0.6, ahead


# --- loudness ---------------------------------------------------------------------------------------------------------------


def running(out: np.ndarray, seconds: float = 0.02) -> np.ndarray:
    """Level over the last moments, dB."""
    frames = round(seconds * RATE)
    return 10 * np.log10(np.convolve((out**2).mean(axis=1), np.ones(frames) / frames, "valid") + 1e-15)


@pytest.mark.parametrize("gain", [7.5, -7.5, 20.0])
def test_a_level_match_follows_an_edit_at_once(gain: float) -> None:
    """The window tells the new gain when the song is rendered; until then the music that plays tells it."""
    x = sine(440, 6.0, -30) + sine(1000, 6.0, -34)
    engine = playing(Engine(material(x), {}, one([Trim(id="t")])), gains={"untouched": 0.0, "result": 0.0})
    before = running(pulled(engine, RATE)[RATE // 2 :])
    engine.change(one([Trim(id="t", gain=gain)]))
    during = running(pulled(engine, RATE))
    assert during.max() < before.max() + 1.0 and during.min() > before.min() - 3.5
    assert during[round(0.1 * RATE) :] == pytest.approx(before[-1], abs=0.3)
    engine.listen(Monitoring(gains={"untouched": 0.0, "result": -gain}))
    out = pulled(engine, RATE // 2)
    assert running(out) == pytest.approx(before[-1], abs=0.3) and clicks(out) < -90.0
    engine.listen(Monitoring())
    assert running(pulled(engine, RATE // 2))[-1] == pytest.approx(before[-1] + gain, abs=0.1)


@pytest.mark.thorough
def test_a_level_match_follows_a_limiter_on_music() -> None:
    x = music(12.0) * 0.5
    engine = playing(Engine(material(x), {}, one([Limiter(id="l")])), gains={"untouched": 0.0, "result": 0.0})
    pulled(engine, 4 * RATE)
    engine.change(one([Limiter(id="l", drive=9.0)]))
    out = pulled(engine, 4 * RATE)
    still = playing(Engine(material(x), {}, one([Limiter(id="l")])), gains={"untouched": 0.0, "result": 0.0})
    pulled(still, 4 * RATE)
    plain = pulled(still, 4 * RATE)
    louder = running(out, 0.4) - running(plain, 0.4)
    assert louder.max() < 1.0 and louder[-1] > -3.0
