"""Road tests: what they do to what is heard, and that they do it to nothing else."""

from __future__ import annotations

import numpy as np
import pytest

from gluvo.compare.road import ROADS, car_noise, equal_loudness, lost_at, masked, noise_gain, quiet_eq, room_noise
from gluvo.measure.loudness import integrated
from gluvo.measure.trace import trace_of
from gluvo.play.ears import RoadPart
from gluvo.play.engine import Engine, Monitoring
from gluvo.session.records import RoadTest

from .conftest import RATE, material, music, noise, one, sine
from .test_play import pulled


def driven(x: np.ndarray, rate: int = RATE, loudness: float = -20.0, **settings: object) -> np.ndarray:
    part = RoadPart(RoadTest(**settings), loudness, rate)
    out = np.array(x, dtype=float)
    for start in range(0, len(out), 512):
        part.process(out[start : start + 512])
    return out


def level(x: np.ndarray) -> float:
    return float(20.0 * np.log10(max(1e-9, np.sqrt((x[len(x) // 2 :] ** 2).mean()))))


def test_sides_are_summed_and_swapped() -> None:
    x = noise(0.2)
    assert np.allclose(driven(x, kind="mono"), np.repeat(x.mean(axis=1, keepdims=True), 2, axis=1))
    assert np.array_equal(driven(x, kind="swapped"), x[:, ::-1])


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
def test_a_small_speaker_has_no_lows_and_no_air(rate: int) -> None:
    levels = {}
    for freq in (60.0, 1000.0, 16_000.0):
        x = sine(freq, 0.5, -12.0, rate)
        levels[freq] = level(driven(x, rate, kind="small")) - level(x)
    assert levels[60.0] < -35.0 and levels[16_000.0] < -15.0 and abs(levels[1000.0]) < 4.0
    plain, bent = (driven(sine(1000.0, 0.5, -3.0), kind="small", distorts=on) for on in (False, True))
    count = len(plain) - RATE // 4
    window = np.hanning(count)
    third = [abs(np.fft.rfft(x[RATE // 4 :, 0] * window)[3000 * count // RATE]) for x in (plain, bent)]
    assert third[1] > 100.0 * third[0]


def test_the_contours_are_those_of_the_standard() -> None:
    told = (
        "99.85 93.94 88.17 82.63 77.78 73.08 68.48 64.37 60.59 56.70 53.41 50.40 47.58 44.98 43.05 41.34 40.06 40.01 41.82 42.51 "
        "39.23 36.51 35.61 36.65 40.01 45.83 51.80 54.28 51.49"
    )  # ISO 226:2003, 40 phon
    assert equal_loudness(40.0)[1] == pytest.approx([float(v) for v in told.split()], abs=0.01)
    for phon in (20.0, 60.0, 80.0):
        freqs, levels = equal_loudness(phon)
        assert levels[freqs == 1000.0] == pytest.approx(phon, abs=0.05)


@pytest.mark.parametrize("phon", [20.0, 45.0, 80.0])
def test_a_low_level_loses_what_the_ear_loses(phon: float) -> None:
    freqs = np.geomspace(30.0, 10_000.0, 40)
    response = 20.0 * np.log10(np.abs(quiet_eq(phon, RATE).response(("stereo",), freqs, RATE)))
    wanted = lost_at(phon, freqs)
    apart = response - wanted
    assert np.abs(apart - apart.mean()).max() < 1.5
    if phon < 50.0:
        assert lost_at(phon, np.array([50.0]))[0] < -10.0


@pytest.mark.parametrize("made", [room_noise, car_noise])
@pytest.mark.parametrize("kind", ["room", "car"])
def test_noise_is_as_loud_as_the_levels_say(kind: str, made: object) -> None:
    silence = np.zeros((10 * RATE, 2))
    for noise_level, play_level, loudness in ((70.0, 70.0, -14.0), (60.0, 80.0, -23.0)):
        heard = driven(silence, loudness=loudness, kind=kind, noise_level=noise_level, play_level=play_level)
        assert integrated(trace_of(heard, RATE)) == pytest.approx(loudness + noise_level - play_level - 6.02, abs=0.3)
    assert noise_gain(RoadTest(kind="car"), -200.0, RATE) == 0.0 and noise_gain(RoadTest(), -14.0, RATE) == 0.0


def test_what_falls_under_the_noise_grows_with_it() -> None:
    x = music(6.0)
    loudness = integrated(trace_of(x, RATE))
    shares = []
    for level_db in (30.0, 60.0, 90.0):
        found = masked(x, RATE, RoadTest(kind="car", noise_level=level_db, play_level=74.0), loudness)
        assert found is not None
        shares.append(found.share)
        assert all(0.0 <= share <= 1.0 for _, share in found.by_band)
    assert shares == sorted(shares) and shares[0] < 0.5 < shares[2]
    assert masked(x, RATE, RoadTest(kind="mono"), loudness) is None
    assert masked(np.zeros((0, 2)), RATE, RoadTest(kind="car"), -14.0) is None


@pytest.mark.parametrize("kind", [road.key for road in ROADS])
def test_switching_in_the_engine_is_heard_without_a_click_and_ends(kind: str) -> None:
    song = material(sine(300.0, 4.0, -12.0))
    engine = Engine(song, {}, one([]))
    engine.listen(Monitoring())
    engine.play()
    pulled(engine, 9600)
    engine.listen(Monitoring(road=RoadTest(kind=kind), loudness=-15.0))
    on = pulled(engine, 19_200)
    engine.listen(Monitoring())
    off = pulled(engine, 19_200)
    if kind not in ("room", "car"):  # noise is no click
        assert np.abs(np.diff(np.concatenate([on, off])[:, 0])).max() < 0.02
    plain = Engine(song, {}, one([]))
    plain.listen(Monitoring())
    plain.play()
    assert np.array_equal(off[9600:], pulled(plain, 48_000)[38_400:])  # nothing of it is left
