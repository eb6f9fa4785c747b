"""Spectrum, stereo, flat tops, hits and pumping on signals whose values are known."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from gluvo.measure.flattops import flat_tops
from gluvo.measure.hits import ENVELOPE_HOP, find_onsets, hits_of, pumping_share
from gluvo.measure.spectrum import spectrum, welch
from gluvo.measure.stereo import stereo_bands

from .conftest import RATE, music, noise, sine


def test_white_noise_is_flat() -> None:
    s = spectrum(noise(30.0, 0.1), RATE, "left", 3)
    expected = 10 * np.log10(0.01 / (RATE / 2))
    inside = (s.freqs > 60) & (s.freqs < 18_000)
    assert s.levels[inside] == pytest.approx(expected, abs=0.3)


def test_pink_noise_falls_three_decibels_an_octave() -> None:
    random = np.random.default_rng(5)
    n = 40 * RATE
    shape = 1.0 / np.sqrt(np.maximum(1.0, np.arange(n // 2 + 1)))
    pink = np.fft.irfft(np.fft.rfft(random.standard_normal(n)) * shape)
    s = spectrum(np.repeat(pink[:, None] / pink.std() * 0.1, 2, axis=1), RATE, "mid", 3)
    inside = (s.freqs > 80) & (s.freqs < 16_000)
    line = s.levels + 10 * np.log10(s.freqs)
    assert line[inside] == pytest.approx(np.median(line[inside]), abs=0.3)


def test_welch_agrees_with_scipy() -> None:
    x = noise(2.0)
    freqs, own = welch(x[:, 0], x[:, 1], RATE, 4096)
    theirs = signal.csd(x[:, 0], x[:, 1], RATE, nperseg=4096, detrend=False)
    assert freqs == pytest.approx(theirs[0])
    assert np.abs(own - theirs[1]).max() < 1e-12


@pytest.mark.parametrize(
    ("left", "right", "correlation", "mono_loss"),
    [(1.0, 1.0, 1.0, 0.0), (1.0, 0.0, 0.0, 3.01), (1.0, -0.5, -1.0, 10 * np.log10(1.25 / 2 / 0.0625))],
)
def test_stereo_of_closed_forms(left: float, right: float, correlation: float, mono_loss: float) -> None:
    tone = sine(1000, 2.0, -6)
    band = stereo_bands(tone * np.array([left, right]), RATE, [(500, 2000)])[0]
    assert band.correlation == pytest.approx(correlation, abs=0.01)
    assert band.mono_loss == pytest.approx(mono_loss, abs=0.1)


def test_unrelated_sides_read_so() -> None:
    for band in stereo_bands(noise(10.0), RATE):
        assert band.correlation == pytest.approx(0.0, abs=0.05)
        assert band.width == pytest.approx(0.0, abs=0.5)
        assert band.mono_loss == pytest.approx(3.01, abs=0.3)


def test_flat_tops_are_found_to_the_sample() -> None:
    x = sine(100, 0.1, 1.0)
    clipped = np.clip(x, -0.95, 0.95)
    found = flat_tops(clipped)
    edges = np.flatnonzero(np.diff((np.abs(x[:, 0]) >= 0.95 * 10 ** (-0.01 / 20)).astype(int)) == 1) + 1
    assert [t.start for t in found if t.channel == 0] == edges.tolist()
    assert all(abs(t.length - found[0].length) <= 1 for t in found)
    assert flat_tops(x * 0.7) == () and flat_tops(sine(3000, 0.1, -0.2)) == ()


def quantised(x: np.ndarray, bits: int) -> np.ndarray:
    return np.round(x * 2.0 ** (bits - 1)) / 2.0 ** (bits - 1)


@pytest.mark.parametrize("rate", [44_100, 48_000, 192_000])
@pytest.mark.parametrize("bits", [16, 24, 53])
@pytest.mark.parametrize("hiss", [0.0, 1e-5, 3e-4])
def test_low_notes_have_no_flat_tops(rate: int, bits: int, hiss: float) -> None:
    random = np.random.default_rng(1)
    t = np.arange(2 * rate) / rate
    kick = np.sin(2 * np.pi * (45.0 * t + 2.0 * (1 - np.exp(-t / 0.03)))) * np.exp(-t / 0.4)
    for freq in (20.0, 30.0, 47.3, 100.0, 219.0, 300.0, 800.0):
        x = sine(freq, 2.0, -0.3, rate=rate)
        x += hiss * random.standard_normal(x.shape)
        assert flat_tops(quantised(x, bits)) == (), freq
    assert flat_tops(quantised(np.stack([kick, kick], axis=1) * 0.99, bits)) == ()


@pytest.mark.parametrize("freq", [30.0, 100.0, 1000.0])
@pytest.mark.parametrize("gain", [1.0, 0.97, 0.9123])
def test_clipped_notes_have_flat_tops_also_after_a_gain(freq: float, gain: float) -> None:
    x = (np.clip(sine(freq, 1.0, 1.0), -1.0, 1.0) * gain).astype(np.float32)
    assert len(flat_tops(x)) == pytest.approx(4 * freq, abs=4)


@pytest.mark.parametrize(
    "kind", [("x.ogg", "OGG", "VORBIS"), ("x.mp3", "MP3", "MPEG_LAYER_III"), ("x.flac", "FLAC", "PCM_16")]
)
def test_a_clipped_mix_is_told_from_one_that_is_not_after_any_codec(kind: tuple[str, str, str], tmp_path: Path) -> None:
    name, container, codec = kind
    mix = music(6.0)
    mix *= 0.85 / np.abs(mix).max()
    found = []
    for x in (mix, np.clip(mix * 3.0, -0.99, 0.99)):
        soundfile.write(tmp_path / name, x, RATE, format=container, subtype=codec)
        found.append(len(flat_tops(soundfile.read(tmp_path / name)[0])))
    assert found[0] == 0 and found[1] > 10


def hits_signal(times: np.ndarray, decay: float = 0.08, seconds: float = 8.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    x = np.zeros(len(t))
    random = np.random.default_rng(1)
    for at in times:
        since = t - at
        x += np.where(since >= 0, np.exp(-np.maximum(since, 0) / decay), 0.0) * 0.7
    return (x * random.choice([-1.0, 1.0], len(t)))[:, None] * np.ones(2)


def test_onsets_lie_within_three_milliseconds() -> None:
    times = np.arange(0.3, 7.5, 0.41)
    found = find_onsets(hits_signal(times), RATE)
    assert len(found) == len(times)
    assert found == pytest.approx(times, abs=0.003)


def test_punch_and_recovery_of_constructed_hits() -> None:
    times = np.arange(0.3, 7.4, 0.5)
    before = hits_signal(times)
    t = np.arange(len(before)) / RATE
    since = np.min(np.where(t[:, None] >= times - 1e-9, t[:, None] - times, 9.0), axis=1)
    halved = np.where((since >= 0.0) & (since < 0.020), 0.5, 1.0)  # half the peak, all of the body
    reduction = -20 * np.log10(halved)
    found = hits_of(before, before * halved[:, None], reduction[::16], RATE / 16, RATE)
    assert found is not None
    assert found.punch_kept == pytest.approx(0.5, rel=0.02)
    assert found.spacing == pytest.approx(0.5, abs=0.003)
    fall = np.where(since < 1.0, 6.0 * np.exp(-since / 0.05), 0.0)
    slow = hits_of(before, before, fall[::16], RATE / 16, RATE)
    assert slow is not None and slow.recovery == pytest.approx(0.05 * np.log(10), abs=3 * ENVELOPE_HOP)


def test_pumping_of_known_movements() -> None:
    t = np.arange(0, 10, 1 / 3000)
    assert pumping_share(3 + 2 * np.sin(2 * np.pi * 2.0 * t), 3000, 2.0) > 0.95
    assert pumping_share(np.full(len(t), 3.0), 3000, 2.0) < 0.02
    drift = 3 + np.sin(2 * np.pi * 0.37 * t)
    assert pumping_share(drift, 3000, 2.0) < 0.1


def test_too_few_hits_is_no_answer() -> None:
    assert hits_of(np.zeros((RATE, 2)), np.zeros((RATE, 2)), np.zeros(100), 100.0, RATE) is None
