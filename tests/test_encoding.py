"""Encode check: aligned to the sample, measured, and the margin that it asks for."""

from __future__ import annotations

import numpy as np
import pytest

from gluvo.deliver.encoding import BANDS, Encoding, decoded_peak, encoded, encoding_of, find_margin, lateness
from gluvo.deliver.formats import FORMATS
from gluvo.errors import GluvoError, WriteError
from gluvo.render.chain import run_chain
from gluvo.steps import Limiter

from .conftest import RATE, music

LOSSY = [Encoding(f.key, 192) for f in FORMATS.values() if f.lossy]


@pytest.fixture(scope="module")
def master() -> np.ndarray:
    return run_chain([Limiter(drive=10.0, ceiling=-1.0)], music(5.0), RATE).astype(np.float32)


@pytest.mark.sampled(3)
@pytest.mark.parametrize("encoding", LOSSY, ids=lambda e: e.format)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_what_is_decoded_lies_on_the_master_to_the_sample(encoding: Encoding, rate: int, master: np.ndarray) -> None:
    found = encoded(master, rate, encoding)
    assert found.decoded.shape == master.shape and found.rate == rate
    assert lateness(master[2000:], found.decoded[2000:]) == 0
    assert abs(found.louder) < 0.6
    assert len(found.lost) == len(BANDS) and found.lost[0] < -12.0
    whole = float(np.square(found.decoded - master).sum() / np.square(master).sum())
    assert whole < 0.2


@pytest.mark.thorough
def test_more_bits_lose_less(master: np.ndarray) -> None:
    for format in ("mp3", "aac", "opus", "ogg"):
        few, many = (encoded(master, RATE, Encoding(format, rate)).lost[2] for rate in (96, 320))
        assert many < few, format


def test_how_late_something_is() -> None:
    x = np.random.default_rng(2).standard_normal((60_000, 2))
    for late in (0, 1, 37, 1105, -5, -529):
        y = np.roll(x, late, axis=0) * 0.5
        assert lateness(x[1000:-1000], y[1000:-1000]) == late
    assert lateness(np.zeros((500, 2)), np.zeros((500, 2))) == 0


@pytest.mark.parametrize("seconds", [0.05, 0.3])
def test_short_and_silent_songs_can_be_encoded(seconds: float) -> None:
    for x in (music(1.0)[: round(seconds * RATE)], np.zeros((round(seconds * RATE), 2))):
        for encoding in LOSSY:
            found = encoded(x.astype(np.float32), RATE, encoding)
            assert found.decoded.shape == x.shape and np.isfinite(found.decoded).all()


@pytest.mark.thorough
def test_the_margin_is_the_smallest_that_does() -> None:
    x = music(5.0)

    def at(margin: float, _progress: object) -> tuple[np.ndarray, int]:
        return run_chain([Limiter(drive=10.0, ceiling=-1.0 - margin)], x, RATE).astype(np.float32), RATE

    pair = (Encoding("aac", 128), Encoding("opus", 96))
    found = find_margin(at, pair, -1.0)
    assert found.met and 0.0 < found.margin < 3.0
    assert max(peak for _, peak in found.peaks) <= -1.0
    assert found.margin - found.too_little <= 0.051
    audio, rate = at(found.too_little, None)
    assert max(decoded_peak(audio, rate, e) for e in pair) > -1.0, "a smaller margin would not do"
    assert find_margin(at, pair, 6.0).margin == 0.0
    assert not find_margin(at, pair, -30.0).met
    with pytest.raises(GluvoError, match="at least one"):
        find_margin(at, (), -1.0)


def test_an_encoder_that_fails_is_told(master: np.ndarray, monkeypatch: pytest.MonkeyPatch) -> None:
    from gluvo.deliver.writers import AvWriter

    def broken(self: object, frame: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(AvWriter, "_mux", broken)
    with pytest.raises(WriteError, match="MP3 could not be encoded here"):
        encoded(master, RATE, Encoding("mp3", 128))


def test_ids_are_read_back() -> None:
    assert encoding_of("encoding-mp3-192-lost") == Encoding("mp3", 192)
    for id in ("result", "encoding-wax-3", "encoding-mp3-x", "reference-1"):
        assert encoding_of(id) is None
