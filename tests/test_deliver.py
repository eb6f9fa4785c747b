"""Files as they leave: exact, dithered, under the ceiling, whole or not at all."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from gluvo.deliver.targets import TARGETS, shortfalls, target_named
from gluvo.deliver.write import write_deliverable
from gluvo.dsp.dither import Ditherer
from gluvo.errors import AudioFileError, Cancelled, WriteError
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import trace_of
from gluvo.render.chain import run_chain
from gluvo.session.media import Material
from gluvo.session.records import Deliverable
from gluvo.steps import Limiter, Step, Trim

from .conftest import RATE, material, music, noise, one, sine

CHAIN: list[Step] = [Trim(id="t", gain=-2.0), Limiter(id="l", drive=9.0, ceiling=-1.0)]


@pytest.fixture(scope="module")
def song() -> Material:
    return material(music(4.0))


def deliverable(**changes: object) -> Deliverable:
    return Deliverable(id="d", name="Master", **changes)


@pytest.mark.parametrize(
    ("format", "bits"), [("wav", "16"), ("wav", "24"), ("wav", "32f"), ("flac", "16"), ("flac", "24")]
)
@pytest.mark.parametrize("rate", [0, 44_100, 96_000])
def test_every_format_and_rate(tmp_path: Path, song: Material, format: str, bits: str, rate: int) -> None:
    path = tmp_path / f"x.{format}"
    written = write_deliverable(song, one(CHAIN), deliverable(format=format, bits=bits, rate=rate), path)
    info = soundfile.info(path)
    assert (info.samplerate, info.channels) == (rate or RATE, 2)
    assert info.subtype == {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}[bits]
    assert info.frames == pytest.approx(4.0 * (rate or RATE), abs=2)
    assert written.figures.true_peak <= -1.0 + 0.05
    own = figures_of(trace_of(run_chain(CHAIN, song.sounds["stem-1"].samples, RATE), RATE))
    assert written.figures.integrated == pytest.approx(own.integrated, abs=0.05)


def test_whole_numbers_are_within_half_a_step(tmp_path: Path, song: Material) -> None:
    master = run_chain(CHAIN, song.sounds["stem-1"].samples, RATE)
    for bits in (16, 24):
        write_deliverable(song, one(CHAIN), deliverable(bits=str(bits)), tmp_path / "x.wav")
        read = soundfile.read(tmp_path / "x.wav")[0]
        assert np.abs(read - master).max() <= 0.5000001 * 2.0 ** (1 - bits)
    write_deliverable(song, one(CHAIN), deliverable(bits="32f"), tmp_path / "x.wav")
    assert np.array_equal(soundfile.read(tmp_path / "x.wav", dtype="float32")[0], master.astype(np.float32))


def test_conversion_does_not_pass_the_ceiling(tmp_path: Path) -> None:
    harsh = material(noise(2.0, 0.3))
    written = write_deliverable(harsh, one(CHAIN), deliverable(rate=44_100), tmp_path / "x.wav")
    assert written.mended > 0.0
    assert written.figures.true_peak <= -1.0 + 0.05


def test_tpdf_dither_is_what_it_is_called() -> None:
    x = np.full((400_000, 2), 0.3 * 2.0**-15)
    y = Ditherer(16, RATE).run(x) / 2.0**31 - x
    step = 2.0**-15
    # triangular noise of 2 steps and rounding: a quarter of a step's square in all, whatever the sound
    assert y.std() == pytest.approx(step / 2.0, rel=0.01)
    assert np.abs(y).max() <= 1.5 * step
    assert abs(y.mean()) < 0.005 * step
    assert np.array_equal(Ditherer(16, RATE, seed=5).run(x), Ditherer(16, RATE, seed=5).run(x))


def test_dither_frees_the_error_from_the_signal(tmp_path: Path) -> None:
    """A tone a third of a step high is lost by rounding and kept by dither."""
    faint = material(sine(1000, 4.0) * 0.33 * 2.0**-15)
    for dither, kept in (("none", False), ("tpdf", True)):
        write_deliverable(faint, one([]), deliverable(bits="16", dither=dither), tmp_path / "x.wav")
        read = soundfile.read(tmp_path / "x.wav")[0][:, 0]
        level = abs(np.mean(read * np.exp(-2j * np.pi * 1000 * np.arange(len(read)) / RATE))) * 2
        assert bool(level == pytest.approx(0.33 * 2.0**-15, rel=0.05)) is kept


def test_cancelling_leaves_nothing(tmp_path: Path, song: Material) -> None:
    old = tmp_path / "x.wav"
    old.write_bytes(b"the old one")
    for limit in (0.1, 0.5, 0.75):

        def progress(done: float, limit: float = limit) -> None:
            if done > limit:
                raise Cancelled("stopped")

        with pytest.raises(Cancelled):
            write_deliverable(song, one(CHAIN), deliverable(), old, progress)
        assert [p.name for p in tmp_path.iterdir()] == ["x.wav"] and old.read_bytes() == b"the old one"


def test_a_full_disk_leaves_nothing(tmp_path: Path, song: Material) -> None:
    import resource
    import signal

    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, hard))
    try:
        with pytest.raises(WriteError, match="could not be written"):
            write_deliverable(song, one(CHAIN), deliverable(), tmp_path / "x.wav")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
    assert not list(tmp_path.iterdir())


def test_refusals(tmp_path: Path, song: Material) -> None:
    with pytest.raises(WriteError, match="FLAC"):
        write_deliverable(song, one(CHAIN), deliverable(format="flac", bits="32f"), tmp_path / "x.flac")
    part = Material(RATE, {}, song.frames, {"stem-1": "Take.wav was not found in Quay."})
    with pytest.raises(AudioFileError, match=r"Nothing was written.*Take\.wav was not found"):
        write_deliverable(part, one(CHAIN), deliverable(), tmp_path / "x.wav")
    with pytest.raises(WriteError, match="cannot be written to"):
        write_deliverable(song, one(CHAIN), deliverable(), tmp_path / "no" / "x.wav")


def test_targets_and_their_verdicts() -> None:
    assert all(t.source for t in TARGETS), "each has figures that a public document gives"
    streaming = target_named("streaming")
    assert streaming is not None and target_named("moon") is None
    quiet = figures_of(trace_of(sine(1000, 4.0, -20), RATE))
    assert "under the target" in shortfalls(quiet, streaming)[0]
    loud = figures_of(trace_of(sine(1000, 4.0, -0.2), RATE))
    assert len(shortfalls(loud, streaming)) == 2
    assert shortfalls(figures_of(trace_of(sine(1000, 4.0, -14), RATE)), streaming) == []
