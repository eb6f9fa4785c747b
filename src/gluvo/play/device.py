"""Where sound goes: a sound card, or a silent stand-in that keeps the same time."""

from __future__ import annotations

import contextlib
import logging
import math
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np
import soundfile

from gluvo.errors import DeviceError

BLOCK = 512
"""Frames written at a time."""
DEPTH_SECONDS = 0.032
"""What a device holds ahead of what is heard: three blocks at 48 kHz. An edit is heard so much later; while edits come
as fast as they can and renders run, the longest that making a block was held up was measured at 19 ms."""
SILENT = "silent"

log = logging.getLogger(__name__)


class Device(Protocol):
    """Takes blocks in time."""

    name: str
    rate: int

    def write(self, block: np.ndarray) -> bool:
        """Take a block, ``(n, 2)`` float32; waits until there is room. True if the device had run dry before."""

    def close(self) -> None:
        """Stop; nothing can be written after."""


class SilentDevice:
    """Makes no sound but keeps real time; can write what it was given to a WAV file."""

    name = "Silent device"

    def __init__(self, rate: int, record: Path | None = None) -> None:
        self.rate = rate
        self._file = soundfile.SoundFile(str(record), "w", rate, 2, "FLOAT") if record else None
        self._due: float | None = None
        """When the last written frame will have been played."""

    def write(self, block: np.ndarray) -> bool:
        if self._file is not None:
            self._file.write(block)
        now = time.monotonic()
        dry = self._due is not None and now > self._due
        if self._due is None or dry:
            self._due = now
        self._due += len(block) / self.rate
        ahead = self._due - now - DEPTH_SECONDS
        if ahead > 0.0:
            time.sleep(ahead)
        return dry

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None


class SoundCard:
    """An output of PortAudio. Writing waits inside PortAudio, with the interpreter's lock released."""

    def __init__(self, rate: int, index: int | None = None) -> None:
        try:
            import sounddevice

            info = sounddevice.query_devices(index, "output")
            self._stream = sounddevice.OutputStream(
                samplerate=rate,
                device=index,
                channels=2,
                dtype="float32",
                blocksize=BLOCK,
                latency=DEPTH_SECONDS,
            )
            self._stream.start()
        except OSError as error:  # no PortAudio on this machine
            raise DeviceError(f"Sound output is not available ({error}).") from None
        except (sounddevice.PortAudioError, ValueError) as error:
            log.warning("no output at %s Hz: %s", rate, error)
            raise DeviceError(f"The sound device cannot play at {rate / 1000:g} kHz.") from None
        self.name = str(info["name"])
        self.rate = rate
        self._trouble = sounddevice.PortAudioError
        self._holds = float(self._stream.latency)
        self._full = math.inf
        """When it was last full, by the monotonic clock."""

    def write(self, block: np.ndarray) -> bool:
        late = time.monotonic() - self._full > self._holds  # not every sound server tells that it ran dry
        try:
            dry = bool(self._stream.write(block)) or late
            self._full = time.monotonic()
            return dry
        except self._trouble as error:
            log.warning("%s has stopped: %s", self.name, error)
            raise DeviceError(f"The sound device “{self.name}” is gone.") from None

    def close(self) -> None:
        with contextlib.suppress(self._trouble):  # it may be gone already
            self._stream.close()


def _cards() -> list[str]:
    """The names of the sound cards' outputs, in PortAudio's order. Empty where there are none, or PortAudio cannot list them."""
    return [name for _, name in _outputs()]


def _outputs() -> list[tuple[int, str]]:
    try:
        import sounddevice

        found = sounddevice.query_devices()
    except OSError as error:  # no PortAudio on this machine
        log.info("no sound cards: %s", error)
        return []
    except sounddevice.PortAudioError as error:
        log.warning("the sound cards could not be listed: %s", error)
        return []
    return [(n, str(d["name"])) for n, d in enumerate(found) if d["max_output_channels"] >= 2]


def _open_card(rate: int, name: str) -> Device:
    return SoundCard(rate, next((n for n, found in _outputs() if found == name), None))


@dataclass(frozen=True)
class DeviceKind:
    """A way to play."""

    names: Callable[[], Sequence[str]]
    """What there is of it to choose from, by names that are kept as the user's choice."""
    open: Callable[[int, str], Device]
    """One at a rate, by its name; its own choice where there is none of that name. Raises `DeviceError`."""
    title: Callable[[str], str] = str
    """What a name is called on screen."""


DEVICE_KINDS: tuple[DeviceKind, ...] = (
    DeviceKind(_cards, _open_card),
    DeviceKind(lambda: [SILENT], lambda rate, _: SilentDevice(rate), lambda _: SilentDevice.name),
)
"""What can be played to. Without a choice it is the first kind of which there is any; a new one is a record here."""


def device_choices() -> list[tuple[str, str]]:
    """What to choose a device from: name, empty for the default, and title."""
    return [("", "Default"), *((name, kind.title(name)) for kind in DEVICE_KINDS for name in kind.names())]


def look_again() -> None:
    """Have the outputs listed anew: PortAudio keeps those that it found when it was first asked. No card may be open."""
    with contextlib.suppress(Exception):  # whatever is wrong with it, it is as it was
        import sounddevice

        sounddevice._terminate()
        sounddevice._initialize()


def open_device(rate: int, choice: str = "") -> Device:
    """The chosen device; where there is none of that name, the default one, which is silent where nothing else plays."""
    there = [(kind, kind.names()) for kind in DEVICE_KINDS]
    kind = next((kind for kind, names in there if choice in names), next(kind for kind, names in there if names))
    try:
        return kind.open(rate, choice)
    except DeviceError:
        if choice:
            raise
    return SilentDevice(rate)
