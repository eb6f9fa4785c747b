"""Audio that cannot be used is refused with one sentence, at every door."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
import soundfile

from gluvo.errors import AudioFileError
from gluvo.session.create import new_session
from gluvo.session.media import audio_files, read_sound, read_sum

from .conftest import RATE, music, noise


def written(path: Path, x: np.ndarray, rate: int = RATE, subtype: str = "PCM_16") -> Path:
    soundfile.write(path, x, rate, subtype)
    return path


def not_audio(folder: Path) -> Path:
    (folder / "x.wav").write_text("dear diary, today the sea was calm " * 100)
    return folder / "x.wav"


def empty(folder: Path) -> Path:
    (folder / "x.wav").touch()
    return folder / "x.wav"


def truncated(folder: Path, name: str = "x.wav") -> Path:
    path = written(folder / name, noise(1.0))
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    return path


def with_nan(folder: Path) -> Path:
    x = noise(0.5)
    x[12_000] = np.nan
    return written(folder / "x.wav", x, subtype="FLOAT")


BAD = {
    "not audio": (not_audio, "cannot be read as audio"),
    "empty": (empty, "is empty"),
    "truncated wav": (truncated, "cut short|cannot be read"),
    "truncated flac": (lambda f: truncated(f, "x.flac"), "cut short|cannot be read"),
    "no frames": (lambda f: written(f / "x.wav", np.zeros((0, 2))), "0 frames"),
    "8 kHz": (lambda f: written(f / "x.wav", noise(0.5, rate=8000), 8000), "8 kHz"),
    "6 channels": (lambda f: written(f / "x.wav", np.zeros((4800, 6))), "6 channels"),
    "NaN": (with_nan, "damaged samples"),
    "missing": (lambda f: f / "x.wav", "not found"),
    "a folder": (lambda f: f, "is a folder"),
}


@pytest.mark.parametrize(("make", "says"), BAD.values(), ids=BAD.keys())
def test_refused_with_a_sentence(tmp_path: Path, make, says: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(AudioFileError, match=says) as caught:
        read_sound(make(tmp_path))
    assert str(caught.value).endswith(".") and "\n" not in str(caught.value)


@pytest.mark.parametrize("rate", [44_100, 88_200, 96_000, 192_000])
def test_rates_that_are_taken(tmp_path: Path, rate: int) -> None:
    sound = read_sound(written(tmp_path / "x.wav", noise(0.3, rate=rate), rate))
    assert (sound.rate, sound.samples.shape) == (rate, (round(0.3 * rate), 2))


def test_mono_is_put_on_both_sides(tmp_path: Path) -> None:
    x = noise(0.3)[:, 0]
    sound = read_sound(written(tmp_path / "x.wav", x, subtype="FLOAT"))
    assert np.array_equal(sound.samples, np.repeat(x[:, None].astype(np.float32), 2, axis=1))


@pytest.mark.parametrize(
    ("suffix", "subtype"), [("flac", "PCM_24"), ("aiff", "PCM_24"), ("ogg", "VORBIS"), ("mp3", "MPEG_LAYER_III")]
)
def test_formats_that_are_taken(tmp_path: Path, suffix: str, subtype: str) -> None:
    x = music(1.0)
    sound = read_sound(written(tmp_path / f"x.{suffix}", x, subtype=subtype))
    assert abs(sound.seconds - 1.0) < 0.1
    assert np.abs(sound.samples).max() == pytest.approx(np.abs(x).max(), rel=0.2)


def test_stems_of_other_lengths_and_rates_are_summed(tmp_path: Path) -> None:
    a = written(tmp_path / "a.wav", np.full((RATE, 2), 0.25), subtype="FLOAT")
    b = written(tmp_path / "b.wav", np.full((22_050, 2), 0.5), 44_100, "FLOAT")
    total = read_sum([a, b])
    assert len(total.samples) == RATE
    assert total.samples[10_000, 0] == pytest.approx(0.75, abs=1e-3)
    assert total.samples[40_000, 0] == pytest.approx(0.25, abs=1e-6)


def test_folders(tmp_path: Path) -> None:
    with pytest.raises(AudioFileError, match="no audio"):
        audio_files(tmp_path)
    with pytest.raises(AudioFileError, match="cannot be read"):
        audio_files(tmp_path / "nowhere")
    written(tmp_path / "b.wav", noise(0.1))
    written(tmp_path / "a.flac", noise(0.1))
    (tmp_path / "notes.txt").write_text("x")
    assert [p.name for p in audio_files(tmp_path)] == ["a.flac", "b.wav"]


def test_a_file_that_may_not_be_read(tmp_path: Path) -> None:
    path = written(tmp_path / "x.wav", noise(0.1))
    path.chmod(0)
    if os.access(path, os.R_OK):
        pytest.skip("this user may read everything")
    with pytest.raises(AudioFileError, match="permissions"):
        read_sound(path)


def test_a_bad_reference_makes_no_session(tmp_path: Path, mix_file: Path) -> None:
    with pytest.raises(AudioFileError):
        new_session([mix_file], [not_audio(tmp_path)], tmp_path, "x")
