"""The same song found again: to the frame, turned over, louder, with a piece missing; and no other song taken for it."""

from __future__ import annotations

import numpy as np
import pytest
import soxr

from gluvo.compare.references import same_time_map
from gluvo.measure.same_song import same_song
from gluvo.render.chain import run_chain
from gluvo.steps import Band, Glue, Limiter, MidSideEq

from .conftest import RATE, music, noise


def song(seconds: float = 60.0, seed: int = 3) -> np.ndarray:
    """Notes of chance over hits of chance, never the same twice."""
    chance = np.random.default_rng(seed)
    x = 0.004 * noise(seconds, 0.2, seed=seed)
    at = 0.2
    while at < seconds - 1.2:
        first, length = round(at * RATE), round(chance.uniform(0.2, 1.0) * RATE)
        t = np.arange(length) / RATE
        note = np.sin(2 * np.pi * chance.uniform(60.0, 900.0) * t) * np.exp(-t / 0.3) * chance.uniform(0.05, 0.3)
        x[first : first + length] += note[:, None] * np.array([1.0, chance.uniform(0.3, 1.0)])
        at += chance.uniform(0.05, 0.3)
    return x


SONG = song()


@pytest.mark.sampled(3)
@pytest.mark.parametrize("frames", [0, 12_345, -7_001])
@pytest.mark.parametrize(("gain", "inverted"), [(0.5, False), (1.7, True)])
def test_it_is_found_to_the_frame(frames: int, gain: float, inverted: bool) -> None:
    other = np.concatenate([np.zeros((frames, 2)), SONG]) if frames >= 0 else SONG[-frames:]
    found = same_song(SONG, other * (-gain if inverted else gain), RATE)
    assert found is not None and found.frames == frames and found.inverted is inverted
    assert found.gain == pytest.approx(20 * np.log10(gain), abs=0.01) and found.correlation > 0.9999
    tail = [span for span in found.differs if span.start > 1.0]
    assert not tail


def test_a_master_of_it_is_found() -> None:
    chain = [
        MidSideEq(bands=(Band(id=1, shape="high_shelf", freq=3000.0, gain=4.0), Band(id=2, freq=200.0, gain=-3.0))),
        Glue(ratio=4.0, threshold=-24.0, attack=5.0, makeup=4.0),
        Limiter(drive=8.0, ceiling=-1.0),
    ]
    master = np.concatenate([np.zeros((4321, 2)), run_chain(chain, SONG, RATE)])
    found = same_song(SONG, master, RATE)
    assert found is not None and abs(found.frames - 4321) <= 3 and not found.inverted and found.gain > 1.0


def test_where_it_differs_is_told() -> None:
    other = SONG.copy()
    other[20 * RATE : 26 * RATE] = song(6.0, seed=9)
    found = same_song(SONG, other, RATE)
    assert found is not None and found.frames == 0
    assert [(s.start, s.end) for s in found.differs] == [(20.0, 26.0)]


@pytest.mark.thorough
@pytest.mark.parametrize("seed", [11, 12])
def test_another_song_is_not_it(seed: int) -> None:
    assert same_song(SONG, song(seed=seed), RATE) is None
    assert same_song(SONG, noise(60.0, 0.2), RATE) is None and same_song(SONG, SONG[: 2 * RATE], RATE) is None
    assert same_song(SONG, np.zeros_like(SONG), RATE) is None


@pytest.mark.sampled(2)
@pytest.mark.parametrize("off", [0.00002, -0.0001, 0.0003, -0.0006, 0.00095])
def test_another_speed_is_found_up_to_a_thousandth(off: float) -> None:
    """Wherever it stands, the place in the other sound is right to half a millisecond."""
    begins = 30_000
    other = np.concatenate([np.zeros((begins, 2)), soxr.resample(SONG, RATE, RATE * (1.0 + off), quality="VHQ")])
    found = same_song(SONG, other, RATE)
    assert found is not None and not found.differs
    lasts = len(SONG) / RATE
    for at in (0.0, lasts / 2.0, lasts):
        assert found.there(at) == pytest.approx(begins / RATE + at * (1.0 + off), abs=0.0005)
    time = same_time_map(found, len(other) / RATE)
    for at in np.linspace(0.5, lasts - 0.5, 200):
        assert time.own(at, len(other) / RATE) == pytest.approx(found.there(at), abs=0.0021)


@pytest.mark.sampled(2)
@pytest.mark.parametrize("off", [0.0011, 0.0015, -0.002, 0.01])
def test_a_speed_that_is_further_off_is_refused(off: float) -> None:
    other = soxr.resample(SONG, RATE, RATE * (1.0 + off), quality="VHQ")
    assert same_song(SONG, other, RATE) is None


def test_another_rate_that_was_converted_is_found() -> None:
    there = soxr.resample(SONG, RATE, 44_100, quality="VHQ")
    found = same_song(SONG, soxr.resample(there, 44_100, RATE, quality="VHQ"), RATE)
    assert found is not None and found.frames == 0 and found.gain == pytest.approx(0.0, abs=0.02)


def test_music_that_goes_round_lies_where_it_lies() -> None:
    """The same loop all along is found at every turn of it: it lies where all of it does."""
    loop = np.tile(music(2.0), (25, 1))
    found = same_song(loop, np.concatenate([np.zeros((4800, 2)), loop]), RATE)
    assert found is not None and found.frames == 4800
