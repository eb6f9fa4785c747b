"""The engine at work in its own process: takes requests from a pipe.

Audio lies in shared memory, readings on a shared board. The process takes one song after the other.
"""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import signal
import sys
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import cast

import msgspec
import numpy as np

from gluvo.compare.match import RESULT
from gluvo.dsp.delay import clean
from gluvo.errors import GluvoError
from gluvo.logs import PLAYING_LOG, start_log
from gluvo.play.device import SILENT, Device, SilentDevice, look_again, open_device
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.fades import best_lag, scaled
from gluvo.play.meters import BEAT, TAKEN, Board
from gluvo.play.requests import (
    AddSound,
    Answer,
    Change,
    ChooseDevice,
    Close,
    DeviceTold,
    Done,
    DropSound,
    EngineRequest,
    Listen,
    Load,
    Loop,
    NoLoop,
    Play,
    Request,
    Seek,
    Stop,
    TellDone,
    Trouble,
    Unload,
)
from gluvo.session.media import Material
from gluvo.session.records import Bus, Lift, Media, RoadTest, Section, Session, Stem
from gluvo.session.scratch import mapped
from gluvo.session.sounds import Sound
from gluvo.steps import STEP_KINDS, AnyStep

RECORD = "GLUVO_RECORD"
"""Names an environment variable: a WAV that the silent device writes what it is given to."""
SWITCH_SECONDS = 1e-4
"""How long the thread that prepares an edit may keep the interpreter while the audio thread wants it."""
LOOK_SECONDS = 2.0
"""Between looks for a sound device that has gone."""
PREFETCH_EVERY = 0.5
"""Seconds between looks ahead."""

log = logging.getLogger(__name__)


class Server:
    """The process's side: takes requests until it is told to close, or the pipe is closed."""

    def __init__(self, pipe: Connection) -> None:
        self._pipe = pipe
        self._waiting: list[Request] = []
        self._engine: Engine | None = None
        self._make: Callable[[Session], Engine] | None = None
        self._beside: dict[str, Sound] = {}
        self._session = Session()
        self._choice = ""
        self._rebuilt = 0.0
        self._lost, self._look_at = False, 0.0
        """Whether the device has gone that was played to, and when it is looked for again."""
        self._done = 0
        """How many of the song's requests have been come to."""

    def run(self) -> None:
        """Until the end. Nothing that is asked for ends it: what cannot be done is told."""
        while True:
            request = self._next()
            if isinstance(request, Close):
                self._unload()
                return
            try:
                self._do(request)
            except Exception as error:  # whatever it is, the sound goes on as it was
                log.exception("a request to the audio process failed")
                self._tell(Trouble(f"That could not be played ({error}). What played before goes on."))
                self._taken(request)

    def _next(self) -> Request:
        """The next request. Of several edits in a row only the last one counts."""
        try:
            while not self._waiting and not self._pipe.poll(PREFETCH_EVERY):
                self._look_after()
            if self._engine is not None:
                self._engine.board.state[BEAT] += 1
            request: Request = self._waiting.pop(0) if self._waiting else self._pipe.recv()
            while isinstance(request, Change) and self._pipe.poll():
                following = self._pipe.recv()
                if not isinstance(following, Change):
                    self._waiting.append(following)
                    break
                self._taken(request)
                request = following
        except (EOFError, OSError):
            return Close()
        return request

    def _look_after(self) -> None:
        """Between requests: look ahead, and see to an audio thread that has ended."""
        engine = self._engine
        if engine is None:
            return
        engine.board.state[BEAT] += 1
        if not engine.output.failed:
            if self._lost and time.monotonic() >= self._look_at:
                self._look_for_it()
            engine.prefetch(self._pipe.poll)
            return
        failed, playing, position = engine.output.failed, engine.playing, engine.position
        make = self._make if engine.output.broken else None
        engine.output.close()
        if make is not None:
            again, self._rebuilt = time.monotonic() - self._rebuilt < 5.0, time.monotonic()
            self._engine = engine = make(_bare(self._session) if again else self._session)
        engine.seek(position)
        if playing:
            engine.play()
        engine.mark(self._done)
        if make is not None:
            self._start(self._choice)
            self._tell(Trouble(f"Playing was interrupted by a fault ({failed}) and goes on."))
        else:
            self._lost, self._look_at = True, time.monotonic()
            self._start(SILENT, f"{failed} Playing silently until it is back.")

    def _look_for_it(self) -> None:
        """See whether the sound device that was lost is there again, and go back to it."""
        assert self._engine is not None
        self._look_at = time.monotonic() + LOOK_SECONDS
        look_again()
        try:
            device = open_device(self._engine.rate, self._choice)
        except (GluvoError, OSError, RuntimeError) as error:
            log.info("not yet: %s", error)
            return
        if isinstance(device, SilentDevice):
            return
        self._lost = False
        self._engine.output.close()
        self._engine.output.start(device)
        self._tell(DeviceTold(device.name, ""))
        self._tell(Trouble(f"The sound device “{device.name}” is back: playing to it."))

    def _do(self, request: Request) -> None:
        engine = self._engine
        match request:
            case Load():
                self._unload()
                self._load(request)
            case Unload():
                self._unload()
            case TellDone():
                self._tell(Done())
            case ChooseDevice(name) if engine is not None:
                self._choice, self._lost = name, False
                engine.output.close()
                self._start(name)
            case EngineRequest() if engine is not None:
                self._ask(engine, request)
                self._taken(request)

    def _ask(self, engine: Engine, request: EngineRequest) -> None:
        match request:
            case Play():
                engine.play()
            case Stop():
                engine.stop()
            case Seek(seconds):
                engine.seek(seconds)
            case Loop(start, end):
                engine.loop(start, end)
            case NoLoop():
                engine.no_loop()
            case Listen(monitoring):
                engine.listen(monitoring)
            case Change(session):
                engine.change(session)
                self._session = session
            case DropSound(id):
                self._beside.pop(id, None)
                engine.drop_sound(id)
            case AddSound(id, address, time_map):
                with contextlib.suppress(FileNotFoundError):  # it was let go before this was come to
                    self._beside[id] = Sound(mapped(address), engine.rate)
                    engine.add_sound(id, self._beside[id], time_map)

    def _taken(self, request: Request) -> None:
        if self._engine is not None and isinstance(request, EngineRequest):
            self._done += 1
            self._engine.mark(self._done)

    def _load(self, wanted: Load) -> None:
        rate, frames = wanted.rate, wanted.frames
        try:
            shared = mapped(wanted.board)
            sounds, self._beside = (
                {key: Sound(mapped(address), rate) for key, address in found.items()}
                for found in (wanted.songs, wanted.beside)
            )
        except FileNotFoundError:
            return  # another song was opened before this one was come to
        shared[BEAT] += 1
        self._done = int(shared[TAKEN])
        self._make = lambda session: Engine(Material(rate, sounds, frames), self._beside, session, Board(shared))
        self._session, self._choice, self._lost = wanted.session, wanted.device, False
        self._engine = self._make(wanted.session)
        gc.freeze()
        self._start(wanted.device)

    def _start(self, choice: str, told: str = "") -> None:
        assert self._engine is not None
        device, failed = _device(self._engine.rate, choice)
        self._engine.output.start(device)
        self._tell(DeviceTold(device.name, failed or told))

    def _unload(self) -> None:
        if self._engine is not None:
            self._engine.output.close()
        self._engine = self._make = None
        self._beside = {}
        gc.unfreeze()  # what was loaded with it is looked at again: it holds the song's audio
        gc.collect()

    def _tell(self, answer: Answer) -> None:
        with contextlib.suppress(OSError):
            self._pipe.send(answer)


def _bare(session: Session) -> Session:
    """The session without any step, for when one of them cannot be played."""
    return session.replace(strips=tuple(msgspec.structs.replace(s, chain=()) for s in session.strips))


def serve(pipe: Connection) -> None:
    """The process's own loop."""
    start_log(PLAYING_LOG)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C in a terminal reaches both; the window closes this one
    with contextlib.suppress(OSError):
        os.nice(-11)  # only root or a realtime group may; without it, it works as well on an idle machine
    sys.setswitchinterval(SWITCH_SECONDS)
    rehearse()
    Server(pipe).run()


def rehearse() -> None:
    """Play a little silence without a device, so that every kernel is loaded before there is something to hear."""
    rate = 48_000
    silence = Sound(np.zeros((rate // 4, 2), dtype=np.float32), rate)
    examples = [step for kind in STEP_KINDS for step in kind.examples()]
    everything = cast(
        "tuple[AnyStep, ...]",
        tuple(
            msgspec.structs.replace(step, id=f"warm-{n}", sections=() if n else ("warm",))
            for n, step in enumerate(examples)
        ),
    )
    eared = next(step.id for step in everything if step.has_ear)
    empty = Session()
    warm = empty.replace(
        strips=(
            *empty.strips,
            Bus(id="warm", name="", chain=everything, rides=(Lift(section="warm", gain=1.0),)),
            Stem(id="warm-stem", name="", media=Media(path="", size=0, sha256="0" * 64), into="warm"),
        ),
        sections=(Section(id="warm", name="", start=0.01, end=0.02),),
    )
    few = np.zeros((4, 2))
    clean(few, few)  # what is seldom needed
    best_lag(few, 1, 2, 1)
    scaled(few, 1.0, 0.5)
    engine = Engine(Material(rate, {"warm-stem": silence}, len(silence.samples)), {"": silence}, warm)
    engine.listen(Monitoring(gains={RESULT: 0.0}, road=RoadTest(kind="small", distorts=True)))
    engine.play()
    block = np.zeros((512, 2))
    for n in range(6):
        if n == 2:
            engine.change(warm.looking(step=eared))
        engine.pull(block)


def _device(rate: int, choice: str) -> tuple[Device, str]:
    """The chosen device, or the silent one and why."""
    try:
        if record := os.environ.get(RECORD):
            return SilentDevice(rate, Path(record)), ""
        return open_device(rate, choice), ""
    except (GluvoError, OSError, RuntimeError) as error:
        return SilentDevice(rate), f"{error} Playing to the silent device instead."
