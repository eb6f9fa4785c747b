"""Outboard: sent, brought back in step whatever happened on the way, passed in real time, never silently stale."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from scipy import signal

from gluvo.deliver.outboard import bring_back, outboard_of, returned, send, stale, what_goes
from gluvo.deliver.write import prepared, write_rows
from gluvo.desk.editors.outboard import OutboardEditor
from gluvo.desk.editors.pass_dialog import PassDialog
from gluvo.desk.editors.tone_change import CENTRES
from gluvo.dsp.warping import read_at
from gluvo.errors import AudioFileError, DeviceError, SessionError, WriteError
from gluvo.measure.round_trip import SONG, framed, round_trip
from gluvo.measure.trace import Span
from gluvo.opened.tasks import PASSING
from gluvo.play import duplex
from gluvo.play.duplex import SimulatedUnit, Way, check_level, run_pass
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.collect import collect
from gluvo.session.media import media_of, read_material
from gluvo.session.records import MIX, Deliverable, Session, Stem
from gluvo.session.sounds import Sound
from gluvo.session.store import read_session, write_session
from gluvo.steps import Glue, Limiter, Outboard, Trim

from .conftest import RATE, music, one
from .desk import Desk, shortcut
from .test_prints import assert_measured_as_read

MADE = "2026-05-04T10:11:12"
SECONDS = 8.0


def unit(x: np.ndarray, late: float = 0.0, ppm: float = 0.0, gain: float = 1.0, rate: int = RATE) -> np.ndarray:
    """What comes back of a sound: late (or begun so much after it), at another clock, louder or turned over."""
    frames = round((len(x) + max(0.0, late) * rate) * (1.0 + ppm * 1e-6)) + 200
    return read_at(x * gain, -late * rate, 1.0 / (1.0 + ppm * 1e-6), frames)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """A session of a song with an Outboard between a Trim and a Limiter, saved."""
    folder = tmp_path / "song"
    folder.mkdir()
    soundfile.write(folder / "take.wav", music(SECONDS), RATE, "FLOAT")
    session = one([Trim(id="t", gain=-6.0), Outboard(id="o", name="Valve box"), Limiter(id="l", drive=3.0)])
    stem = session.strip("stem-1")
    assert isinstance(stem, Stem)
    session = session.with_strip(msgspec.structs.replace(stem, media=media_of(folder / "take.wav", folder)))
    write_session(folder / "Song.gluvo", session.replace(name="Song"))
    return folder


def loaded(home: Path) -> tuple[Session, Renderer]:
    session = read_session(home / "Song.gluvo").session
    return session, Renderer(read_material(session, home))


def there_and_back(home: Path, **way: float) -> Session:
    """The session with a return of that way."""
    session, renderer = loaded(home)
    session = send(renderer, session, "o", home / "out.wav", home, MADE)
    out, rate = soundfile.read(home / "out.wav", dtype="float32")
    soundfile.write(home / "back.wav", unit(out, **way), rate, "FLOAT")
    return bring_back(session, "o", home / "back.wav", home, MADE)


@pytest.mark.sampled(7)
@pytest.mark.parametrize("late", [0.0, 0.0373, 0.500003, 29.9, -0.2])
@pytest.mark.parametrize("ppm", [0.0, 12.0, -200.0, 200.0])
@pytest.mark.parametrize("rate", [44_100, 48_000, pytest.param(96_000, marks=pytest.mark.thorough)])
def test_a_way_is_found_to_a_hundredth_of_a_sample(late: float, ppm: float, rate: int) -> None:
    out = framed(music(SECONDS, rate) * 0.7, rate)
    b, a = signal.butter(1, 30.0, "high", fs=rate)
    noise = np.random.default_rng(3).standard_normal((len(out) + 31 * rate * (late > 1.0) + 100_000, 2)) * 1e-4
    came = signal.lfilter(b, a, np.tanh(unit(out, late, ppm, -0.6, rate).astype(float)), axis=0)
    came += noise[: len(came)]
    trip = round_trip(came.astype(np.float32), rate, SECONDS)
    assert trip is not None and trip.pings == 2 and trip.inverted
    wanted = (SONG + late) * (1.0 + ppm * 1e-6)
    assert abs(trip.begins - wanted) * rate < 0.01
    assert abs(trip.drift - ppm) * 1e-6 * SECONDS * rate < 0.01
    assert trip.gain == pytest.approx(20 * np.log10(0.6), abs=0.05)
    assert trip.noise == pytest.approx(-80.0, abs=0.5)


@pytest.mark.sampled(3)
@pytest.mark.parametrize(
    "way", [{}, {"late": 0.0373}, {"late": 2.71828, "ppm": 37.0, "gain": -0.5}, {"late": 0.01, "ppm": -200.0}]
)
def test_what_only_went_round_comes_back_in_its_place(home: Path, way: dict[str, float]) -> None:
    """A wire outside changes nothing, at any Mix: dry and wet are in step."""
    session, renderer = loaded(home)
    without = renderer.song(session).result.audio
    session = there_and_back(home, **way)
    for mix in (100.0, 50.0):
        step = msgspec.structs.replace(outboard_of(session, "o"), mix=mix)
        now = session.with_step(step)
        heard = Renderer(read_material(now, home)).song(now).result.audio
        inside = slice(2000, round((SECONDS - 0.1) * RATE))
        difference = np.asarray(heard[inside], dtype=float) - without[inside]
        heard_of = signal.sosfiltfilt(signal.butter(8, 15_000, fs=RATE, output="sos"), difference, axis=0)
        level = 20 * np.log10(np.sqrt(np.mean(heard_of**2)) / np.sqrt(np.mean(np.square(without[inside]))) + 1e-12)
        assert level < -70.0, level


def test_it_passes_bit_for_bit_until_something_came_back(home: Path) -> None:
    session, renderer = loaded(home)
    song = renderer.song(session)
    assert np.array_equal(song.before("o").audio, song.joint("o").audio)


def test_live_is_as_in_a_file_from_any_place_and_in_a_lane(home: Path) -> None:
    from gluvo.render.machine import Machine, filler, played

    session = there_and_back(home, late=0.1, gain=0.8)
    material = read_material(session, home)
    whole = Renderer(material).song(session).result.audio
    plan = Plan(session, material.sounds)
    machine = Machine({"x": plan.result}, material.rate)
    made = np.zeros((material.frames, 2))
    for start, block in played(machine, "x", material.frames, filler(material)):
        made[start : start + len(block)] = block
    assert np.abs(made - whole).max() < 1e-6


@pytest.mark.thorough
def test_what_failed_is_told(home: Path) -> None:
    song = music(SECONDS)
    went = what_goes("k", song, RATE, MADE)
    out = framed(song, RATE)

    def told(came: np.ndarray, mono: bool = False) -> str:
        return "; ".join(returned(went, Sound(came.astype(np.float32), RATE), mono, song, "x.wav").failed)

    assert told(out) == ""
    assert "clipped" in told(np.clip(out * 2.0, -1.0, 1.0))
    assert "mono came back" in told(np.repeat(out.mean(axis=1)[:, None], 2, axis=1), True)
    assert "one channel came back silent" in told(out * np.array([1.0, 0.0]))
    assert "ends 1.0 s before the song does" in told(out[: round((SONG + SECONDS - 1.0) * RATE)])
    late = told(out[round(3.0 * RATE) :])
    assert "a ping is missing" in late and "began 1.0 s after the song did" in late
    only_song = returned(went, Sound(np.roll(song, 4800, axis=0).astype(np.float32), RATE), False, song, "x.wav")
    assert "no ping: lined up by the music" in only_song.failed and abs(only_song.begins - 0.1) < 1e-4
    with pytest.raises(AudioFileError, match="is silent"):
        told(out * 1e-6)
    with pytest.raises(AudioFileError, match="Is it another song's"):
        told(np.random.default_rng(1).standard_normal(out.shape) * 0.1)
    session, _ = loaded(home)
    with pytest.raises(SessionError, match="Nothing has been sent"):
        bring_back(session, "o", home / "take.wav", home, MADE)
    with pytest.raises(SessionError, match="no Outboard"):
        outboard_of(session, "t")


def test_the_sessions_own_files_are_never_written_over(home: Path) -> None:
    session, renderer = loaded(home)
    before = (home / "take.wav").read_bytes()
    with pytest.raises(WriteError, match="never written over"):
        send(renderer, session, "o", home / "take.wav", home, MADE)
    assert (home / "take.wav").read_bytes() == before


def test_what_flows_in_now_is_compared_with_what_was_sent(home: Path) -> None:
    session = there_and_back(home)
    renderer = Renderer(read_material(session, home))
    assert stale(renderer, session, "o", home) is None
    after = session.with_step(Limiter(id="l", drive=5.0))
    assert stale(renderer, after, "o", home) is None  # what comes later is not what was sent
    found = stale(renderer, session.with_step(Trim(id="t", gain=-5.0)), "o", home)
    assert found is not None and "1.0 LU louder" in found.words and "18 dB under it" in found.words
    (home / "out.wav").unlink()
    found = stale(renderer, session.with_step(Trim(id="t", gain=-5.0)), "o", home)
    assert found is not None and "1.0 LU louder" in found.words


def test_a_part_of_the_song_passes_since_none_of_what_came_back_is_its_own(home: Path) -> None:
    session = there_and_back(home)
    material = read_material(session, home)
    plan = Plan(session, material.sounds, only=[MIX])
    assert plan.result.key == Plan(session, material.sounds).result.key


def test_returns_are_media_of_the_session(home: Path, tmp_path: Path) -> None:
    session = there_and_back(home, late=0.02)
    assert any(m.path == "back.wav" for m in session.media)
    made = collect(session, home, tmp_path / "there", flac=True)
    there = read_session(made).session
    assert not read_material(there, made.parent).missing
    (made.parent / "Audio" / "back.wav").unlink()
    lost = read_material(there, made.parent)
    assert "back.wav" in lost.missing["o"]
    assert Plan(there, lost.sounds).result is not None  # it passes, and is told
    row = Deliverable(id="d", name="Master")
    with pytest.raises(AudioFileError, match=r"back\.wav"):
        write_rows(lost, [prepared(Renderer(lost), there, row, tmp_path)], tmp_path)
    off = there.with_step(msgspec.structs.replace(outboard_of(there, "o"), on=False))
    assert write_rows(lost, [prepared(Renderer(lost), off, row, tmp_path)], tmp_path)[
        "d"
    ].files  # none of it is in the file


@pytest.mark.sampled(2)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_the_simulated_unit_is_what_it_says(rate: int) -> None:
    found = check_level(SimulatedUnit(rate, in_time=False))
    assert found.late == pytest.approx(0.0373, abs=1e-5) and found.back - found.out == pytest.approx(-1.5, abs=0.1)
    song = music(SECONDS, rate)
    came = run_pass(SimulatedUnit(rate, in_time=False), framed(song, rate))
    trip = round_trip(came.came, rate, SECONDS)
    assert trip is not None and trip.drift == pytest.approx(12.0, abs=0.1) and trip.noise == pytest.approx(-80, abs=0.5)
    assert "nothing came back" in check_level(Dead(rate)).words()


class Dead:
    """A device that gives nothing."""

    name = "dead"

    def __init__(self, rate: int, after: int = 1 << 60) -> None:
        self.rate, self._left = rate, after

    def exchange(self, block: np.ndarray) -> tuple[np.ndarray, bool]:
        self._left -= 1
        if self._left < 0:
            raise DeviceError("The device “dead” is gone, or its rate has changed. Nothing was kept.")
        return np.zeros_like(block), False

    def close(self) -> None:
        pass


@pytest.mark.thorough
def test_from_the_command_line(home: Path) -> None:
    def gluvo(*args: object) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "gluvo", *map(str, args)], capture_output=True, text=True, check=False
        )

    session = home / "Song.gluvo"
    assert "no Outboard" in gluvo("send", session, "--step", "t", "--out", home / "o.wav").stderr
    found = gluvo("send", session, "--step", "o", "--out", home / "o.wav")
    assert found.returncode == 0, found.stderr
    out, rate = soundfile.read(home / "o.wav")
    soundfile.write(home / "b.flac", unit(out.astype("f4"), 0.3, 0.0, -0.7)[:, :] * 0.9, rate, "PCM_24")
    found = gluvo("return", session, "--step", "o", home / "b.flac")
    assert found.returncode == 0 and "turned over" in found.stdout and "begins at 2.3000" in found.stdout, found
    assert json.loads(session.read_text())["strips"][0]["chain"][1]["returned"]["inverted"]
    found = gluvo("return", session, "--step", "o", home / "take.wav")
    assert found.returncode == 0 and "no ping" in found.stdout
    soundfile.write(home / "z.wav", np.zeros((48_000, 2)), RATE)
    before = session.read_bytes()
    found = gluvo("return", session, "--step", "o", home / "z.wav")
    assert found.returncode == 2 and "is silent" in found.stderr and session.read_bytes() == before


@pytest.fixture
def outboard_desk(desk: Desk) -> Desk:
    """A window with an Outboard before the Glue, chosen."""
    desk.bench.edit("o", lambda s: s.with_chain("mix", (s.mix.chain[0], Outboard(id="o"), *s.mix.chain[1:])))
    desk.bench.look(step="o", page="shape")
    desk.settle()
    return desk


def editor_of(desk: Desk) -> OutboardEditor:
    found = desk.window.shape.editor
    assert isinstance(found, OutboardEditor)
    return found


@pytest.mark.thorough
def test_it_is_sent_brought_back_and_told_when_stale(outboard_desk: Desk, tmp_path: Path) -> None:
    desk = outboard_desk
    assert editor_of(desk).tone.words == "" and editor_of(desk).tone.nothing == "Nothing came back yet."
    desk.bench.outboards.send("o", tmp_path / "out.wav")
    desk.wait(lambda: outboard_of(desk.session, "o").sent is not None)
    out, rate = soundfile.read(tmp_path / "out.wav", dtype="float32")
    out = signal.sosfilt(signal.butter(1, 40.0, "high", fs=rate, output="sos"), out, axis=0).astype(np.float32)
    soundfile.write(tmp_path / "in.wav", unit(out, 0.25, 0.0, -0.5), rate, "FLOAT")
    desk.bench.outboards.bring_back("o", tmp_path / "in.wav")
    desk.wait(lambda: outboard_of(desk.session, "o").returned is not None)
    desk.settle()
    item = outboard_of(desk.session, "o")
    assert item.invert and item.gain == pytest.approx(6.02, abs=0.02)
    assert_measured_as_read(desk)
    rows = editor_of(desk).rows.values
    assert rows[2] == "250.00 ms" and rows[5] == "turned over" and rows[8] == "the same flows in"
    change = editor_of(desk).tone._change
    assert change is not None and editor_of(desk).tone.words.startswith("at most −")
    for freq in (40.0, 60.0, 100.0, 300.0, 1000.0):  # what a filter of the first order takes there
        taken = -10.0 * np.log10(1.0 + (40.0 / freq) ** 2)
        assert change[np.argmin(np.abs(CENTRES - freq))] == pytest.approx(taken, abs=0.35)
    desk.bench.set_setting("trim-1", "gain", -8.0, "Gain")
    desk.settle()
    desk.wait(lambda: "o" in desk.bench.outboards.stale)
    assert "2.0 LU softer" in editor_of(desk).rows.values[8]
    desk.bench.document.undo()
    desk.settle()
    desk.wait(lambda: not desk.bench.outboards.stale)


@pytest.mark.thorough
def test_a_pass_in_real_time_stopped_taken_and_punched_in(outboard_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk, bench = outboard_desk, outboard_desk.bench
    fast = Way(duplex.SIMULATED, "Simulated unit", lambda rate: SimulatedUnit(rate, in_time=False))
    monkeypatch.setattr("gluvo.desk.editors.pass_dialog.ways", lambda: (fast,))
    shortcut(desk, "Ctrl+Alt+G")
    dialog = desk.window.findChild(PassDialog)
    assert dialog is not None and dialog.of.count() == 1
    QTest.mouseClick(dialog.check, Qt.MouseButton.LeftButton)
    desk.wait(lambda: "37.3 ms late" in dialog.words.text())
    desk.wait(dialog.take.isEnabled)
    QTest.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    desk.wait(lambda: outboard_of(desk.session, "o").returned is not None)
    desk.settle()
    first = outboard_of(desk.session, "o").returned
    assert first is not None and first.drift == pytest.approx(12.0, abs=0.5) and not first.failed
    bench.look(section="section-2")
    assert dialog.of.count() == 2
    assert_measured_as_read(desk)
    before = np.asarray(bench.audio.material.sounds["o"].samples).copy()
    bench.set_setting("trim-1", "gain", 0.0, "Gain")
    bench.set_setting("o", "gain", 4.0, "Level")
    desk.settle()
    desk.wait(dialog.take.isEnabled)
    dialog.of.setCurrentIndex(1)
    QTest.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    desk.wait(lambda: outboard_of(desk.session, "o").returned != first)
    desk.settle()
    now = np.asarray(bench.audio.material.sounds["o"].samples)
    span = Span(3.0, 7.5)
    outside, inside = slice(0, round(span.start * RATE)), slice(round(3.2 * RATE), round(7.4 * RATE))
    assert np.array_equal(now[outside], before[outside])
    louder = 20 * np.log10(np.sqrt(np.mean(now[inside] ** 2)) / np.sqrt(np.mean(before[inside] ** 2)))
    assert louder == pytest.approx(6.0, abs=1.0)
    assert outboard_of(desk.session, "o").gain == 4.0  # as it was set
    desk.wait(lambda: "o" in bench.outboards.stale)  # all but the section is still of what was sent before
    told: list[str] = []
    bench.told.connect(lambda said: told.append(said.text))
    bench.outboards.run("o", Way("d", "d", lambda rate: Dead(rate, 20)), None)
    desk.wait(lambda: any("is gone" in t for t in told))
    bench.outboards.run("o", Way("d", "d", Dead), None)
    desk.wait(lambda: any("is silent" in t for t in told))
    dialog.close()


@pytest.mark.thorough
def test_enter_stops_a_check_that_enter_began(outboard_desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk = outboard_desk
    monkeypatch.setattr(
        "gluvo.desk.editors.pass_dialog.ways", lambda: (Way(duplex.SIMULATED, "Simulated unit", SimulatedUnit),)
    )
    shortcut(desk, "Ctrl+Alt+G")
    dialog = desk.window.findChild(PassDialog)
    assert dialog is not None
    dialog.check.setFocus()
    QTest.keyClick(dialog.check, Qt.Key.Key_Return)
    desk.wait(dialog.halt.isEnabled)
    assert dialog.focusWidget() is dialog.halt
    QTest.keyClick(dialog.halt, Qt.Key.Key_Return)
    desk.wait(dialog.check.isEnabled)
    assert dialog.focusWidget() is dialog.check and desk.bench.outboards.checked is None
    dialog.close()


@pytest.mark.thorough
def test_a_pass_that_is_stopped_leaves_nothing(outboard_desk: Desk) -> None:
    desk = outboard_desk
    desk.bench.outboards.run("o", Way("u", "u", SimulatedUnit), None)
    desk.wait(lambda: any(t.kind is PASSING and t.share > 0.2 for t in desk.bench.tasks.shown()))
    shortcut(desk, "Esc")
    desk.wait(lambda: not desk.bench.background.busy)
    assert outboard_of(desk.session, "o").returned is None
    assert not (desk.bench.document.folder / "Returns").exists()


def test_a_chain_with_a_glue_hears_what_came_back(home: Path) -> None:
    session = there_and_back(home, gain=0.25)
    quiet = msgspec.structs.replace(outboard_of(session, "o"), gain=0.0)
    session = session.with_step(quiet).with_new_step(Glue(threshold=-30.0, ratio=4.0), MIX, "o")
    glue = next(i for i in session.items if isinstance(i, Glue))
    soft = Renderer(read_material(session, home)).song(session).joint(glue.id)
    loud_session = session.with_step(msgspec.structs.replace(quiet, gain=12.0))
    loud = Renderer(read_material(loud_session, home)).song(loud_session).joint(glue.id)
    assert soft is not None and loud is not None and loud.mean_reduction() > soft.mean_reduction() + 3.0
