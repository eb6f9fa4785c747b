"""The engine in a process of its own, so that nothing the window does can hold up the sound.

Audio lies in shared memory, readings on a shared board; requests go through a pipe. The process is started once
and takes one song after the other.
"""

from __future__ import annotations

import contextlib
import gc
import os
import sys
from collections.abc import Mapping
from multiprocessing.connection import Connection
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from gluvo.errors import GluvoError
from gluvo.play.device import Device, SilentDevice, open_device
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.meters import DROPOUTS, PLAYING, POSITION, TAKEN, Board, Readings
from gluvo.play.process import Host
from gluvo.render.plan import steps_heard
from gluvo.session.media import Material, Sound
from gluvo.session.records import Bus, Media, Session, Stem
from gluvo.session.scratch import address_of, mapped
from gluvo.steps import Band, Glue, Limiter, MidSideEq, Saturation, Trim, Width

RECORD = "GLUVO_RECORD"
"""Names an environment variable: a WAV that the silent device writes what it is given to."""
SWITCH_SECONDS = 1e-4
"""How long the thread that prepares an edit may keep the interpreter while the audio thread wants it."""
PREFETCH_EVERY = 0.5
"""Seconds between looks ahead."""


class Shared:
    """An array in shared memory; the one that made it also takes it away."""

    def __init__(self, array: np.ndarray) -> None:
        self.memory = SharedMemory(create=True, size=max(1, array.nbytes))
        self.shape, self.kind = array.shape, array.dtype.str
        self.array: np.ndarray = np.ndarray(array.shape, array.dtype, self.memory.buf)
        self.array[...] = array

    @property
    def address(self) -> tuple[str, tuple[int, ...], str]:
        """What another process needs to find it."""
        return self.memory.name, self.shape, self.kind

    def close(self) -> None:
        del self.array
        self.memory.close()
        self.memory.unlink()


class RemoteEngine:
    """An `Engine` in another process: the same requests, the same state."""

    def __init__(
        self, host: Host, material: Material, references: Mapping[str, Sound], session: Session, device: str = ""
    ) -> None:
        """Load a song and start its device; close it before the next one."""
        self.rate = material.rate
        self.device_name, self.failed = "starting", ""
        self._host = host
        addresses, self._kept = [], []
        for sounds in (material.sounds, references):
            found = {key: address_of(sound.samples) for key, sound in sounds.items()}
            addresses.append({key: address for key, (address, _) in found.items()})
            self._kept += [array for _, array in found.values()]
        self._board_memory = Shared(np.zeros(Board.SIZE))
        self.board = Board(self._board_memory.array)
        self._ids = steps_heard(session)
        self._playing, self._position, self._asked = False, 0.0, 0
        host.send("load", *addresses, self._board_memory.address, self.rate, material.frames, session, device)

    def play(self) -> None:
        self._playing = True
        self._ask("play")

    def stop(self) -> None:
        self._playing = False
        self._ask("stop")

    def seek(self, seconds: float) -> None:
        self._position = seconds
        self._ask("seek", seconds)

    def loop(self, start: float, end: float) -> None:
        self._ask("loop", start, end)

    def no_loop(self) -> None:
        self._ask("no_loop")

    def listen(self, monitoring: Monitoring) -> None:
        self._ask("listen", monitoring)

    def change(self, session: Session) -> None:
        self._ids = steps_heard(session)
        self._ask("change", session)

    def _ask(self, name: str, *args: object) -> None:
        """Send a request. Until it is taken, what was asked for is what is told."""
        if not self._waiting:
            state = self.board.state
            if name not in ("play", "stop"):
                self._playing = bool(state[PLAYING])
            if name != "seek":
                self._position = float(state[POSITION])
        self._asked += 1
        self._host.send(name, *args)

    @property
    def _waiting(self) -> bool:
        return int(self.board.state[TAKEN]) < self._asked

    def choose_device(self, name: str) -> None:
        """Play to another device from now on."""
        self.device_name = "starting"
        self._host.send("device", name)

    @property
    def playing(self) -> bool:
        return self._playing if self._waiting else bool(self.board.state[PLAYING])

    @property
    def position(self) -> float:
        return self._position if self._waiting else float(self.board.state[POSITION])

    @property
    def dropouts(self) -> int:
        return int(self.board.state[DROPOUTS])

    @property
    def step_ids(self) -> tuple[str, ...]:
        """The steps of the live chain, in the order of the readings' reductions."""
        return self._ids

    def read(self) -> Readings:
        """What was played since the last call."""
        for name, failed in self._host.answers():
            self.device_name, self.failed = name, failed
        return self.board.read()

    def tapped(self, frames: int) -> tuple[np.ndarray, np.ndarray] | None:
        """See `Board.tapped`."""
        return self.board.tapped(frames)

    def moves(self) -> list[float]:
        """See `Board.moves`; for the first bands of the chosen equaliser."""
        return [float(value) for value in self.board.moves]

    def close(self) -> None:
        """Stop, and give back the memory."""
        self._host.send("unload")
        self._host.wait()
        del self.board
        self._board_memory.close()
        self._kept.clear()


def serve(pipe: Connection) -> None:
    """The process's own loop: takes requests until it is told to close, or nobody is there any more."""
    with contextlib.suppress(OSError):
        os.nice(-11)  # only root or a realtime group may; without it, it works as well on an idle machine
    sys.setswitchinterval(SWITCH_SECONDS)
    rehearse(Session(), 48_000)
    engine: Engine | None = None
    held: list[SharedMemory] = []

    def start(choice: str) -> None:
        assert engine is not None
        device, failed = _device(engine.rate, choice)
        engine.start(device)
        pipe.send((device.name, failed))

    def unload() -> None:
        nonlocal engine
        if engine is not None:
            engine.close()
        engine = None
        gc.collect()
        for memory in held:
            with contextlib.suppress(BufferError):
                memory.close()
        held.clear()

    def attached(address: tuple[str, tuple[int, ...], str]) -> np.ndarray:
        name, shape, kind = address
        held.append(SharedMemory(name))
        return np.ndarray(shape, np.dtype(kind), held[-1].buf)

    def take() -> tuple[str, tuple[Any, ...]]:
        """The next request. Of several edits in a row only the last one counts."""
        name, args = pipe.recv()
        while name == "change" and pipe.poll():
            following, others = pipe.recv()
            if following != "change":
                waiting.append((following, others))
                break
            args = others
            if engine is not None:
                engine.board.state[TAKEN] += 1
        return name, args

    waiting: list[tuple[str, tuple[Any, ...]]] = []
    while True:
        try:
            while not waiting and not pipe.poll(PREFETCH_EVERY):
                if engine is not None:
                    engine.prefetch()
            name, args = waiting.pop(0) if waiting else take()
        except (EOFError, OSError, KeyboardInterrupt):
            name, args = "close", ()
        if name == "load":
            unload()
            songs, others, board, rate, frames, session, choice = args
            sounds, references = (
                {key: Sound(mapped(address), rate) for key, address in found.items()} for found in (songs, others)
            )
            rehearse(session, rate)
            engine = Engine(Material(rate, sounds, frames), references, session, Board(attached(board)))
            gc.freeze()
            start(choice)
        elif name == "unload":
            unload()
        elif name == "done":
            pipe.send(("", "done"))
        elif name == "close":
            unload()
            return
        elif name == "device" and engine is not None:
            engine.close()
            start(*args)
        elif engine is not None:
            getattr(engine, name)(*args)
            state = engine.board.state
            state[PLAYING] = engine.playing
            if name == "seek":
                state[POSITION] = args[0]
            state[TAKEN] += 1


def rehearse(session: Session, rate: int) -> None:
    """Play a blink of silence to nobody, so that every kernel is loaded before there is something to hear."""
    silence = Sound(np.zeros((rate // 4, 2), dtype=np.float32), rate)
    bell = Band(id=1, gain=3.0)
    everything = (
        Trim(id="a"), Glue(id="b", ratio=2.0, low_cut=90.0, tilt=1.0), Limiter(id="c"),
        MidSideEq(id="d", bands=(msgspec.structs.replace(bell, dynamic=True), Band(id=2, gain=1.0, target="side"))),
        MidSideEq(id="e", bands=(Band(id=1, gain=3.0, target="mid"),), phase="linear"), Saturation(id="f", drive=6.0, low=90.0),
        Saturation(id="h", drive=6.0, oversampling=1),
        Width(id="g", width_1=80.0, bands=2, mono_below=100.0),
    )  # fmt: skip
    warm = session.replace(
        strips=(
            *session.strips,
            Bus(id="warm", name="", chain=everything),
            Stem(id="warm-stem", name="", media=Media(path="", size=0, sha256="0" * 64), into="warm"),
        )
    )
    sounds = dict.fromkeys([*(s.id for s in session.stems), "warm-stem"], silence)
    engine = Engine(Material(rate, sounds, len(silence.samples)), {"": silence}, warm)
    engine.listen(Monitoring())
    engine.play()
    block = np.zeros((512, 2))
    for n in range(6):
        if n == 2:
            engine.change(warm.looking(step="b"))
        engine.pull(block)


def _device(rate: int, choice: str) -> tuple[Device, str]:
    """The chosen device, or the silent one and why."""
    if record := os.environ.get(RECORD):
        return SilentDevice(rate, Path(record)), ""
    try:
        return open_device(rate, choice), ""
    except GluvoError as error:
        return SilentDevice(rate), f"{error} Playing to the silent device instead."
