"""Played through a real sound server with a null sink, and recorded from there; skipped where none can be had."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile

from gluvo.play.engine import Monitoring
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.steps import Glue, Limiter, Trim

from .conftest import material, music, noise, one, sine, until

CARD_RATE = 48_000
MISSING = [name for name in ("pulseaudio", "parec", "pactl") if shutil.which(name) is None]
pytestmark = [
    pytest.mark.thorough,
    pytest.mark.skipif(bool(MISSING), reason=f"no sound server here: {', '.join(MISSING)} missing"),
]


class SoundServer:
    """A sound server of this test's own, with a null sink."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.socket = folder, folder / "native"
        self._process: subprocess.Popen[bytes] | None = None
        self._recording: subprocess.Popen[bytes] | None = None
        self.config = folder / "alsa.conf"
        # without being asked to, it does not tell that it ran dry
        place = f'type pulse server "unix:{self.socket}" handle_underrun 1'
        self.config.write_text(f"</usr/share/alsa/alsa.conf>\npcm.!default {{ {place} }}\nctl.!default {{ {place} }}\n")
        self.env = os.environ | {
            "XDG_RUNTIME_DIR": str(folder),
            "PULSE_RUNTIME_PATH": str(folder),
            "PULSE_STATE_PATH": str(folder),
            "PULSE_SERVER": f"unix:{self.socket}",
            "HOME": str(folder),
        }

    def start(self) -> None:
        plain = {key: value for key, value in self.env.items() if key != "PULSE_SERVER"}
        command = [
            "pulseaudio",
            "-n",
            "--daemonize=no",
            "--exit-idle-time=-1",
            "--use-pid-file=no",
            "--disable-shm=yes",
        ]
        for module in (
            f"module-native-protocol-unix auth-anonymous=1 socket={self.socket}",
            f"module-null-sink sink_name=out rate={CARD_RATE} format=float32le",
        ):
            command += ["-L", module]
        self._process = subprocess.Popen(command, env=plain, stderr=subprocess.DEVNULL)
        until(lambda: self._sinks() == 0, 20.0)

    def _sinks(self) -> int:
        return subprocess.run(
            ["pactl", "list", "short", "sinks"], env=self.env, capture_output=True, check=False
        ).returncode

    def stop(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
        self.socket.unlink(missing_ok=True)

    def record(self) -> Path:
        path = self.folder / "heard.raw"
        with path.open("wb") as file:
            self._recording = subprocess.Popen(
                [
                    "parec",
                    "-d",
                    "out.monitor",
                    "--format=float32le",
                    "--rate=48000",
                    "--channels=2",
                    "--raw",
                    "--latency-msec=20",
                ],
                env=self.env,
                stdout=file,
                stderr=subprocess.DEVNULL,
            )
        until(lambda: path.stat().st_size > 0, 20.0)
        return path

    def recorded(self) -> np.ndarray:
        assert self._recording is not None
        self._recording.terminate()
        self._recording.wait()
        raw = (self.folder / "heard.raw").read_bytes()
        return np.frombuffer(raw[: len(raw) // 8 * 8], dtype="<f4").reshape(-1, 2).astype(np.float64)


@pytest.fixture
def server(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Iterator[SoundServer]:
    made = SoundServer(tmp_path_factory.mktemp("s"))
    monkeypatch.setenv("ALSA_CONFIG_PATH", str(made.config))
    try:
        made.start()
    except (AssertionError, OSError):
        made.stop()
        pytest.skip("the sound server does not start here")
    yield made
    made.stop()


@pytest.fixture
def host(server: SoundServer) -> Iterator[Host]:
    made = Host()
    yield made
    made.close()


def opened(host: Host, x: np.ndarray, rate: int = CARD_RATE, chain: tuple = (), **view: object) -> RemoteEngine:  # type: ignore[type-arg]
    session = one(chain, **view)
    engine = RemoteEngine(host, material(x, rate), {}, session.replace(rate=rate))
    engine.listen(Monitoring())
    host.wait()
    until(lambda: bool(engine.read() is not None and engine.device_name != "starting"))
    return engine


def steady(engine: RemoteEngine, seconds: float) -> None:
    end = time.monotonic() + seconds
    until(lambda: engine.read() is not None and time.monotonic() >= end)


def heard_tone(x: np.ndarray, freq: float = 440.0) -> np.ndarray:
    """What is no steady tone of that frequency: by a least-squares sine over each tenth of a second."""
    frames = CARD_RATE // 10
    t = np.arange(frames) / CARD_RATE
    basis = np.stack([np.sin(2 * np.pi * freq * t), np.cos(2 * np.pi * freq * t)], axis=1)
    rest = []
    for at in range(0, len(x) - frames, frames):
        part = x[at : at + frames, 0]
        rest.append(float(np.abs(part - basis @ np.linalg.lstsq(basis, part, rcond=None)[0]).max()))
    return np.array(rest)


def sounding(x: np.ndarray) -> np.ndarray:
    """From half a second after the first sample that sounds to half a second before the last."""
    there = np.flatnonzero(np.abs(x).max(axis=1) > 1e-5)
    return x[there[0] + CARD_RATE // 2 : there[-1] - CARD_RATE // 2]


LONGEST_STALL = 0.012
"""Seconds for which a processor may do nothing for this test before what plays, serves and records cannot keep up."""


class Stalls:
    """How long each processor of this machine did nothing for whoever asked it to: a thread on each asks all the time."""

    def __init__(self) -> None:
        self.longest = 0.0
        self._over = threading.Event()
        self._threads = [
            threading.Thread(target=self._watch, args=(cpu,), daemon=True) for cpu in os.sched_getaffinity(0)
        ]
        for thread in self._threads:
            thread.start()

    def _watch(self, cpu: int) -> None:
        os.sched_setaffinity(0, {cpu})
        last = time.monotonic()
        while not self._over.wait(0.002):
            now = time.monotonic()
            self.longest, last = max(self.longest, now - last - 0.002), now

    def end(self) -> None:
        self._over.set()
        for thread in self._threads:
            thread.join()


@pytest.fixture
def stalls() -> Iterator[Stalls]:
    made = Stalls()
    yield made
    made.end()


def kept_up(engine: RemoteEngine, stalls: Stalls, whole: bool) -> None:
    """What is not whole has been counted as a dropout, or this machine stood still: then there is no more to see."""
    if not whole and (engine.dropouts or stalls.longest > LONGEST_STALL):
        pytest.skip(f"this machine was too busy to play: it stood still for {1000 * stalls.longest:.0f} ms")
    assert whole


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_a_session_of_any_rate_plays_without_a_gap(server: SoundServer, host: Host, stalls: Stalls, rate: int) -> None:
    engine = opened(host, sine(440, 8.0, -12, rate=rate), rate)
    server.record()
    assert "default" in engine.device_name and not engine.failed
    engine.play()
    steady(engine, 4.0)
    engine.stop()
    steady(engine, 0.5)
    stalls.end()
    engine.close()
    heard = sounding(server.recorded())
    assert len(heard) > 2 * CARD_RATE
    kept_up(engine, stalls, heard_tone(heard).max() < 1e-3)
    assert np.abs(heard).max() == pytest.approx(10 ** (-12 / 20), abs=2e-3)


def test_what_arrives_is_what_a_file_has_and_30_s_have_no_gap(server: SoundServer, host: Host, stalls: Stalls) -> None:
    from gluvo.render.machine import play_through
    from gluvo.render.plan import Plan

    song = music(32.0) * 0.5 + noise(32.0, 0.02)  # so that no moment is like another
    chain = (
        Trim(id="t", gain=-2.0),
        Glue(id="g", threshold=-26.0, ratio=3.0, look_ahead=2.0),
        Limiter(id="l", drive=3.0),
    )
    engine = opened(host, song, chain=chain)
    server.record()
    engine.play()
    steady(engine, 30.0)
    engine.stop()
    steady(engine, 0.3)
    stalls.end()
    engine.close()
    heard = server.recorded()
    wanted = play_through(Plan(one(chain)).result, material(song))
    first = int(np.argmax(np.abs(heard).max(axis=1) > 1e-6))
    piece = heard[first + CARD_RATE : first + 2 * CARD_RATE].sum(axis=1)
    over = wanted[: 4 * CARD_RATE].sum(axis=1)
    size = 1 << 19
    found = np.fft.irfft(np.fft.rfft(over, size) * np.conj(np.fft.rfft(piece, size)), size)
    at = int(np.argmax(found[: 4 * CARD_RATE]))
    both = min(len(heard) - first - CARD_RATE, len(wanted) - at, 28 * CARD_RATE)
    difference = heard[first + CARD_RATE :][:both] - wanted[at : at + both]
    kept_up(engine, stalls, both > 27 * CARD_RATE and bool(np.abs(difference).max() < 2e-7))  # as exact as float32 is


def test_start_stop_and_start_are_fades(server: SoundServer, host: Host, stalls: Stalls) -> None:
    from scipy import signal

    engine = opened(host, sine(150, 30.0, -12), chain=(Glue(id="g", threshold=-20.0, look_ahead=5.0), Limiter(id="l")))
    server.record()
    steady(engine, 0.5)
    for place in (3.0, 11.3, 20.7):
        engine.seek(place)
        engine.play()
        steady(engine, 0.6)
        engine.stop()
        steady(engine, 0.3)
    stalls.end()
    engine.close()
    high = signal.sosfilt(signal.butter(8, 8000.0, "highpass", fs=CARD_RATE, output="sos"), server.recorded(), axis=0)
    loudest = 20 * np.log10(np.abs(high[2000:]).max())
    kept_up(engine, stalls, loudest < -80.0)
    assert loudest < -80.0


def test_a_server_that_goes_is_told_in_words_and_gone_back_to(server: SoundServer, host: Host, stalls: Stalls) -> None:
    engine = opened(host, sine(440, 60.0, -12))
    engine.play()
    steady(engine, 1.0)
    server.stop()
    until(lambda: engine.read() is not None and bool(engine.failed))
    assert engine.failed == "The sound device “default” is gone. Playing silently until it is back."
    assert engine.playing and engine.take_event() == engine.failed
    at = engine.position
    until(lambda: engine.read() is not None and engine.position > at + 0.5)  # it goes on meanwhile
    server.start()
    server.record()
    until(lambda: engine.read() is not None and not engine.failed)
    assert "default" in engine.device_name and "is back" in engine.take_event() and engine.playing
    steady(engine, 2.5)
    engine.stop()
    steady(engine, 0.3)
    stalls.end()
    engine.close()
    heard = sounding(server.recorded())
    assert len(heard) > CARD_RATE
    kept_up(engine, stalls, bool(np.median(heard_tone(heard)) < 1e-3))


def test_without_a_server_there_is_silence_that_keeps_time(server: SoundServer) -> None:
    server.stop()
    host = Host()
    engine = opened(host, sine(440, 10.0, -12))
    assert engine.device_name == "Silent device"
    engine.play()
    until(lambda: engine.read() is not None and engine.position > 0.5)
    engine.close()
    host.close()


def test_a_card_that_takes_blocks_late_loses_nothing(server: SoundServer, host: Host) -> None:
    """The server stands still for a moment, as a laden machine does: what was held up comes after, whole."""
    engine = opened(host, sine(440, 30.0, -12))
    server.record()
    engine.play()
    steady(engine, 1.0)
    assert server._process is not None
    for _ in range(3):
        os.kill(server._process.pid, 19)  # SIGSTOP
        time.sleep(0.3)
        os.kill(server._process.pid, 18)  # SIGCONT
        steady(engine, 1.0)
    position = engine.position
    until(lambda: engine.read() is not None and engine.position > position + 0.5)
    assert not engine.failed and engine.playing
    engine.stop()
    steady(engine, 0.3)
    engine.close()
    server.recorded()


def test_the_file_that_is_heard_can_be_read(tmp_path: Path) -> None:
    """That what is compared with is what it says: a tone is one, and a gap in it is none."""
    tone = sine(440, 2.0, -12)
    soundfile.write(tmp_path / "x.wav", tone, CARD_RATE, "FLOAT")
    assert heard_tone(soundfile.read(tmp_path / "x.wav")[0]).max() < 1e-6
    tone[CARD_RATE : CARD_RATE + 100] = 0.0
    assert heard_tone(tone).max() > 0.1
