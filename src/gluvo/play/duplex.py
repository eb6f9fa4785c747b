"""Out through some channels of a device and in through others at once: for what stands outside the computer.

A simulated unit ships as such a device, so that everything can be tried, and is tested, without any hardware.
"""

from __future__ import annotations

import contextlib
import logging
import math
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from gluvo.dsp.db import gain_of
from gluvo.dsp.warping import HALF, read_at
from gluvo.errors import DeviceError
from gluvo.play.device import BLOCK, DEPTH_SECONDS
from gluvo.progress import Progress, no_progress

SIMULATED = "simulated unit"
log = logging.getLogger(__name__)


class Duplex(Protocol):
    """Takes a block and gives one of the same length that came in meanwhile, in time."""

    name: str
    rate: int

    def exchange(self, block: np.ndarray) -> tuple[np.ndarray, bool]:
        """Send (n, 2) float32 out; what came in, (n, 2), and whether something was lost. Raises `DeviceError`."""

    def close(self) -> None: ...


class SimulatedUnit:
    """37.3 ms late, with a clock 12 ppm off, noise of −80 dBFS, a soft bend, lows that roll off under 25 Hz, 1.5 dB softer."""

    name = "Simulated unit"
    LATE, OFF, NOISE, BEND, LOWS, GAIN = 0.0373, 12e-6, -80.0, 0.7, 25.0, -1.5

    def __init__(self, rate: int, in_time: bool = True) -> None:
        """`in_time`: whether it keeps real time, as a device does."""
        self.rate = rate
        self._past = np.zeros((0, 2), dtype=np.float32)
        self._first, self._done = 0, 0
        """The frame with which the past begins, and frames that came back."""
        self._random = np.random.default_rng(37)
        self._low = np.zeros((2, 2))
        self._began = time.monotonic() if in_time else None

    def exchange(self, block: np.ndarray) -> tuple[np.ndarray, bool]:
        n = len(block)
        self._past = np.concatenate([self._past, block.astype(np.float32)])
        step = 1.0 / (1.0 + self.OFF)
        at = self._done * step - self.LATE * self.rate - self._first
        came = read_at(self._past, at, step, n).astype(np.float64)
        self._done += n
        keep = max(0, int(at) - 2 * HALF)
        self._past, self._first = self._past[keep:], self._first + keep
        came = np.tanh(came * gain_of(self.GAIN) * self.BEND) / self.BEND
        came = self._rolled_off(came)
        came += self._random.standard_normal(came.shape) * gain_of(self.NOISE)
        if self._began is not None:
            ahead = self._began + self._done / self.rate - time.monotonic() - DEPTH_SECONDS
            if ahead > 0.0:
                time.sleep(ahead)
        return came.astype(np.float32), False

    def _rolled_off(self, x: np.ndarray) -> np.ndarray:
        from scipy import signal  # it takes long to load

        b, a = signal.butter(1, self.LOWS, "high", fs=self.rate)
        y, self._low[:1] = signal.lfilter(b, a, x, axis=0, zi=self._low[:1])
        return np.asarray(y)

    def close(self) -> None:
        """Nothing is held."""


class CardDuplex:
    """Two further channels of a sound card each way, by PortAudio."""

    def __init__(self, rate: int, index: int, outs: int, ins: int) -> None:
        """`outs`, `ins`: the first of the two channels out and in, from 0."""
        try:
            import sounddevice

            info = sounddevice.query_devices(index)
            self._outs, self._ins = outs, ins
            self._stream = sounddevice.Stream(
                samplerate=rate,
                device=(index, index),
                channels=(ins + 2, outs + 2),
                dtype="float32",
                blocksize=BLOCK,
                latency=DEPTH_SECONDS,
            )
            self._stream.start()
        except OSError as error:
            raise DeviceError(f"Sound input is not available ({error}).") from None
        except (sounddevice.PortAudioError, ValueError) as error:
            log.warning("no way out and in at %s Hz: %s", rate, error)
            raise DeviceError(f"The device cannot play and record at once at {rate / 1000:g} kHz.") from None
        self.name, self.rate = str(info["name"]), rate
        self._trouble = sounddevice.PortAudioError

    def exchange(self, block: np.ndarray) -> tuple[np.ndarray, bool]:
        out = np.zeros((len(block), self._outs + 2), dtype=np.float32)
        out[:, self._outs :] = block
        try:
            dry = bool(self._stream.write(out))
            came, over = self._stream.read(len(block))
        except self._trouble as error:
            log.warning("%s has stopped: %s", self.name, error)
            raise DeviceError(f"The device “{self.name}” is gone, or its rate has changed. Nothing was kept.") from None
        return np.asarray(came)[:, self._ins : self._ins + 2], dry or bool(over)

    def close(self) -> None:
        with contextlib.suppress(self._trouble):
            self._stream.close()


class Input(Protocol):
    """Gives what comes in, block by block, in time."""

    name: str

    def read(self) -> tuple[np.ndarray, bool]:
        """The next block, (n, 2) float32, and whether something was lost before it. Raises `DeviceError`."""

    def close(self) -> None: ...


class SimulatedPlayer:
    """Another program that plays a sound into an input, round and round: for trying it without one."""

    name = "Simulated player"

    def __init__(self, rate: int, sound: np.ndarray, in_time: bool = True) -> None:
        """`sound`: (frames, 2). `in_time`: whether it keeps real time, as a device does."""
        self._sound, self._at, self._rate = sound, 0, rate
        self._began = time.monotonic() if in_time else None

    def read(self) -> tuple[np.ndarray, bool]:
        places = np.arange(self._at, self._at + BLOCK) % max(1, len(self._sound))
        self._at += BLOCK
        if self._began is not None:
            time.sleep(max(0.0, self._began + self._at / self._rate - time.monotonic()))
        return self._sound[places].astype(np.float32), False

    def close(self) -> None:
        """Nothing is held."""


class CardInput:
    """Two channels of a sound card's inputs, by PortAudio; a monitor of the sound server is one, too."""

    def __init__(self, rate: int, index: int, first: int) -> None:
        """`first`: the first of the two channels, from 0."""
        try:
            import sounddevice

            self._first = first
            self._stream = sounddevice.InputStream(
                samplerate=rate,
                device=index,
                channels=first + 2,
                dtype="float32",
                blocksize=BLOCK,
                latency=DEPTH_SECONDS,
            )
            self._stream.start()
            self.name = str(sounddevice.query_devices(index)["name"])
        except OSError as error:
            raise DeviceError(f"Sound input is not available ({error}).") from None
        except (sounddevice.PortAudioError, ValueError) as error:
            log.warning("no input at %s Hz: %s", rate, error)
            raise DeviceError(f"The input is not there, or cannot record at {rate / 1000:g} kHz.") from None
        self._trouble = sounddevice.PortAudioError

    def read(self) -> tuple[np.ndarray, bool]:
        try:
            came, over = self._stream.read(BLOCK)
        except self._trouble as error:
            log.warning("%s has stopped: %s", self.name, error)
            raise DeviceError(f"The input “{self.name}” is gone, or its rate has changed.") from None
        return np.asarray(came)[:, self._first : self._first + 2], bool(over)

    def close(self) -> None:
        with contextlib.suppress(self._trouble):
            self._stream.close()


@dataclass(frozen=True)
class InputWay:
    """An input that can be chosen."""

    key: str
    title: str
    open: Callable[[int, np.ndarray], Input]
    """At a rate, Hz; the sound is what the simulated player plays. Raises `DeviceError`."""


def input_ways() -> Sequence[InputWay]:
    """All inputs that there are: pairs of channels of each card, and the simulated player."""
    found = []
    for index, name, _, ins in _listed(lambda d: int(d["max_input_channels"]) >= 2):
        for first in range(0, ins - 1, 2):
            found.append(
                InputWay(
                    f"{name}/{first}",
                    f"{name}: in {first + 1}–{first + 2}",
                    lambda rate, _sound, index=index, first=first: CardInput(rate, index, first),  # type: ignore[misc]
                )
            )
    return (*found, InputWay(SIMULATED, SimulatedPlayer.name, SimulatedPlayer))


@dataclass(frozen=True)
class Way:
    """A way out and in that can be chosen."""

    key: str
    """As it is kept as the user's choice."""
    title: str
    open: Callable[[int], Duplex]
    """At a rate, Hz. Raises `DeviceError`."""


def ways() -> Sequence[Way]:
    """All ways out and in that there are: pairs of further channels of each card, and the simulated unit."""
    found = []
    for index, name, outs, ins in _cards():
        for out in range(0, outs - 1, 2):
            for into in range(0, ins - 1, 2):
                title = f"{name}: out {out + 1}–{out + 2}, in {into + 1}–{into + 2}"
                found.append(
                    Way(
                        f"{name}/{out}/{into}",
                        title,
                        lambda rate, index=index, out=out, into=into: CardDuplex(rate, index, out, into),  # type: ignore[misc]
                    )
                )
    return (*found, Way(SIMULATED, SimulatedUnit.name, SimulatedUnit))


def _cards() -> list[tuple[int, str, int, int]]:
    """Index, name and channels out and in of the cards that have both."""
    return _listed(lambda d: int(d["max_output_channels"]) >= 2 and int(d["max_input_channels"]) >= 2)


def _listed(has: Callable[[dict[str, Any]], bool]) -> list[tuple[int, str, int, int]]:
    """Index, name and channels out and in of cards."""
    try:
        import sounddevice

        found = sounddevice.query_devices()
    except OSError:
        return []
    except sounddevice.PortAudioError as error:
        log.warning("the sound cards could not be listed: %s", error)
        return []
    there = ((n, d) for n, d in enumerate(found) if has(d))
    return [(n, str(d["name"]), min(32, d["max_output_channels"]), min(32, d["max_input_channels"])) for n, d in there]


@dataclass(frozen=True)
class Pass:
    """What came of a pass."""

    came: np.ndarray
    """(n, 2) float32, as long as what was sent and what it was waited for after that."""
    lost: int
    """Blocks in which the device lost something."""


def run_pass(device: Duplex, sent: np.ndarray, after: float = 1.0, progress: Progress = no_progress) -> Pass:
    """Play what is sent through a device and record what comes back, until `after` s after its end. `progress` may raise
    `Cancelled`. Raises `DeviceError`."""
    frames = len(sent) + math.ceil(after * device.rate)
    came, lost = np.zeros((frames, 2), dtype=np.float32), 0
    silence = np.zeros((BLOCK, 2), dtype=np.float32)
    for start in range(0, frames, BLOCK):
        block = silence.copy()
        part = sent[start : start + BLOCK]
        block[: len(part)] = part
        back, was_lost = device.exchange(block)
        n = min(BLOCK, frames - start)
        came[start : start + n] = back[:n]
        lost += was_lost
        progress(min(1.0, (start + n) / frames))
    return Pass(came, lost)


@dataclass(frozen=True)
class LevelCheck:
    """What came back of a tone."""

    out: float
    """dBFS, RMS"""
    back: float
    """dBFS, RMS; −200 for nothing."""
    late: float | None
    """Seconds of the way there and back; none where nothing came."""

    def words(self) -> str:
        if self.late is None:
            return f"A tone of {self.out:.0f} dBFS went out, and nothing came back.".replace("-", "−")
        told = f"A tone of {self.out:.1f} dBFS came back at {self.back:.1f} dBFS, {self.late * 1000:.1f} ms late."
        return told.replace("-", "−")


def check_level(device: Duplex, progress: Progress = no_progress) -> LevelCheck:
    """Send a tone of 1 kHz for a second between pings, and look how loud and how late it comes back."""
    from gluvo.measure.round_trip import SONG, framed, round_trip

    rate = device.rate
    tone = 0.1 * np.sin(2.0 * np.pi * 1000.0 * np.arange(rate) / rate)
    sent = np.repeat(tone[:, None], 2, axis=1)
    came = run_pass(device, framed(sent, rate), 1.0, progress).came
    trip = round_trip(came, rate, 1.0)
    out = 20.0 * math.log10(0.1 / math.sqrt(2.0))
    if trip is None:
        return LevelCheck(out, -200.0, None)
    first = round(trip.begins * rate)
    middle = came[first + rate // 4 : first + 3 * rate // 4].astype(np.float64)
    power = float(np.mean(middle**2)) if len(middle) else 0.0
    return LevelCheck(out, 10.0 * math.log10(max(power, 1e-20)), trip.begins / (1.0 + trip.drift * 1e-6) - SONG)
