"""Audio that cannot be used is refused with one sentence, at every door."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.errors import AudioFileError
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session import sequential_reader
from gluvo.session.create import new_session
from gluvo.session.media import audio_files, read_material
from gluvo.session.sounds import read_sound
from gluvo.session.tree import rows

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


@pytest.mark.parametrize("whole", [True, False], ids=["whole", "cut short"])
@pytest.mark.parametrize("raw", [True, False], ids=["bytes", "library"])
@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize(
    ("form", "order"),
    [("WAV", "FILE"), ("WAV", "BIG"), ("WAVEX", "FILE"), ("RF64", "FILE"), ("W64", "FILE"), ("AIFF", "FILE")],
)
def test_three_bytes_a_sample_are_read_as_the_library_reads_them(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: str, order: str, channels: int, raw: bool, whole: bool
) -> None:
    x = np.random.default_rng(0).uniform(-1.0, 1.0, (5001, channels))
    x[:3] = [[1.0], [-1.0], [2.0**-23]]
    path = tmp_path / "x"
    soundfile.write(path, x, RATE, "PCM_24", format=form, endian=order)
    if not whole:
        path.write_bytes(path.read_bytes()[:-1000])
    wanted = soundfile.read(path, dtype="float32", always_2d=True)[0]
    if not raw:
        monkeypatch.setattr(sequential_reader, "RAW", None)
    found = []
    with sequential_reader.SequentialReader(path) as file:
        while len(piece := file.pieces(777)):
            found.append(piece)
    assert np.array_equal(np.concatenate(found), wanted) and len(wanted) > 4000


def test_stems_of_other_lengths_rates_and_starts_are_summed(tmp_path: Path) -> None:
    a = written(tmp_path / "a.wav", np.full((RATE, 2), 0.25), subtype="FLOAT")
    b = written(tmp_path / "b.wav", np.full((22_050, 2), 0.5), 44_100, "FLOAT")
    session = new_session([a, b], (), tmp_path, "ab")
    late = msgspec.structs.replace(session.stems[1], offset=0.75)
    session = session.with_strip(late)
    material = read_material(session, tmp_path)
    total = play_through(Plan(session).result, material)
    assert session.rate == RATE and len(total) == round(1.25 * RATE)
    assert total[10_000, 0] == pytest.approx(0.25, abs=1e-6)
    assert total[40_000, 0] == pytest.approx(0.75, abs=1e-3)
    assert total[55_000, 0] == pytest.approx(0.5, abs=1e-3)
    assert np.abs(Renderer(material).song(session).result.audio - total).max() < 1e-6


def test_folders_become_buses(tmp_path: Path) -> None:
    for place in ("Drums/Shells/kick.wav", "Drums/Shells/snare.wav", "Drums/cymbals.wav", "bass.wav"):
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        written(tmp_path / place, noise(0.2)[:, 0] if "bass" in place else noise(0.2))
    session = new_session(audio_files(tmp_path), (), tmp_path, "x", tmp_path)
    shown = {strip.name: (depth, strip.is_mono) for strip, depth in rows(session)}
    assert shown == {
        "bass": (1, True),
        "cymbals": (2, False),
        "kick": (3, False),
        "snare": (3, False),
        "Shells": (2, False),
        "Drums": (1, False),
        "Mix bus": (0, False),
    }
    assert session.view.page == "buses"


def test_a_missing_stem_is_told_and_the_rest_plays(tmp_path: Path) -> None:
    a, b = written(tmp_path / "a.wav", noise(0.3)), written(tmp_path / "b.wav", noise(0.3))
    session = new_session([a, b], (), tmp_path, "ab")
    b.unlink()
    material = read_material(session, tmp_path)
    assert list(material.missing) == [session.stems[1].id] and "was not found" in material.missing[session.stems[1].id]
    alone = Renderer(material).song(session).result.audio
    assert np.array_equal(alone, read_sound(a).samples)


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
