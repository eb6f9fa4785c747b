"""The engine in a process of its own, as the window sees it, so that nothing the window does can hold up the sound.

Audio lies in shared memory, readings on a shared board; requests go through a pipe.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Mapping

import numpy as np

from gluvo.compare.hearables import TimeMap
from gluvo.errors import GluvoError
from gluvo.play.engine import Monitoring
from gluvo.play.meters import BEAT, DROPOUTS, HELD_BACK, PLAYING, POSITION, STALLS, TAKEN, Board, Readings
from gluvo.play.process import Host
from gluvo.play.requests import (
    AddSound,
    Change,
    ChooseDevice,
    DeviceTold,
    DropSound,
    EngineRequest,
    Listen,
    Load,
    Loop,
    NoLoop,
    Play,
    Seek,
    Stop,
    Trouble,
    Unload,
)
from gluvo.render.plan import steps_heard
from gluvo.session.media import Material
from gluvo.session.records import Session
from gluvo.session.scratch import Address, address_of, scratch
from gluvo.session.sounds import Sound

SILENT_SECONDS, STARTING_SECONDS = 8.0, 120.0
"""How long the process may give no sign of life, once it is up and while it starts."""
MOST_REVIVALS, REVIVALS_SECONDS = 3, 30.0
"""A process that ends more often than this is not started again."""


class RemoteEngine:
    """An `Engine` in another process: the same requests, the same state.

    If the process ends, or no longer answers, it is started again and goes on where it was; `event` tells.
    """

    def __init__(
        self, host: Host, material: Material, references: Mapping[str, Sound], session: Session, device: str = ""
    ) -> None:
        """Load a song and start its device; close it before the next one. Raises `GluvoError` if there is no room for
        what both processes must see."""
        self.rate, self.frames = material.rate, material.frames
        self.device_name, self.failed = "starting", ""
        self.event = ""
        """What has gone wrong with playing since it was last looked at, in a sentence."""
        self._host, self._choice, self._session = host, device, session
        self._addresses: list[dict[str, Address]] = []
        self._kept: dict[str, np.ndarray] = {}
        """What the other process has mapped: it is there as long as this is."""
        self._leaving: deque[tuple[int, np.ndarray]] = deque()
        self._times: dict[str, TimeMap] = {}
        """Of what has another time than the song."""
        try:
            for sounds in (material.sounds, references):
                found = {key: address_of(sound.samples) for key, sound in sounds.items()}
                self._addresses.append({key: address for key, (address, _) in found.items()})
                self._kept |= {key: array for key, (_, array) in found.items()}
            self._board_address, memory = address_of(scratch((Board.SIZE,), shared=True, kind="f8"))
        except (MemoryError, OSError) as error:
            raise GluvoError(f"Nothing can be played: {error}.") from None
        self.board = Board(memory)
        self._ids = steps_heard(session)
        self._playing, self._position = False, 0.0
        self._asked, self._asked_playing, self._asked_place = 0, 0, 0
        """Requests so far, and which of them was the last to play or stop, and to go somewhere."""
        self._loop: tuple[float, float] | None = None
        self._monitoring: Monitoring | None = None
        self._revived: deque[float] = deque(maxlen=MOST_REVIVALS)
        self._given_up = False
        self._watch_from(time.monotonic())
        self._load()

    def _load(self) -> None:
        songs, beside = self._addresses
        self._host.send(Load(songs, beside, self._board_address, self.rate, self.frames, self._session, self._choice))

    def play(self) -> None:
        self._ask(Play())
        self._playing, self._asked_playing = True, self._asked

    def stop(self) -> None:
        self._ask(Stop())
        self._playing, self._asked_playing = False, self._asked

    def seek(self, seconds: float) -> None:
        self._ask(Seek(seconds))
        self._position, self._asked_place = seconds, self._asked

    def loop(self, start: float, end: float) -> None:
        self._loop = start, end
        self._ask(Loop(start, end))

    def no_loop(self) -> None:
        self._loop = None
        self._ask(NoLoop())

    def listen(self, monitoring: Monitoring) -> None:
        self._monitoring = monitoring
        self._ask(Listen(monitoring))

    def add_sound(self, id: str, sound: Sound, time: TimeMap) -> None:
        """See `Engine.add_sound`. Raises `GluvoError` if there is no room for what both processes must see."""
        try:
            address, array = address_of(sound.samples)
        except (MemoryError, OSError) as error:
            raise GluvoError(f"It cannot be heard: {error}.") from None
        self._addresses[1][id] = address
        self._let_go(id)
        self._kept[id] = array
        self._times[id] = time
        self._ask(AddSound(id, address, time))

    def drop_sound(self, id: str) -> None:
        """See `Engine.drop_sound`."""
        self._addresses[1].pop(id, None)
        self._times.pop(id, None)
        self._ask(DropSound(id))
        self._let_go(id)

    def _let_go(self, id: str) -> None:
        """Keep a sound no longer than until all that was asked for so far is done, as some of it may need it."""
        if (array := self._kept.pop(id, None)) is not None:
            self._leaving.append((self._asked, array))

    @property
    def beside(self) -> frozenset[str]:
        """What can be heard besides the song."""
        return frozenset(self._addresses[1])

    def change(self, session: Session) -> None:
        self._session = session
        self._ids = steps_heard(session)
        self._ask(Change(session))

    def _ask(self, request: EngineRequest) -> None:
        self._asked += 1
        self._host.send(request)

    def _taken(self, request: int) -> bool:
        """Whether the sound follows a request. Until it does, what was asked for is what is told."""
        return int(self.board.state[TAKEN]) >= request

    def choose_device(self, name: str) -> None:
        """Play to another device from now on."""
        self._choice, self.device_name = name, "starting"
        self._host.send(ChooseDevice(name))

    @property
    def playing(self) -> bool:
        if self._given_up:
            return False
        return bool(self.board.state[PLAYING]) if self._taken(self._asked_playing) else self._playing

    @property
    def position(self) -> float:
        return float(self.board.state[POSITION]) if self._taken(self._asked_place) else self._position

    @property
    def dropouts(self) -> int:
        return int(self.board.state[DROPOUTS])

    @property
    def stalls(self) -> int:
        """How many dropouts came although the sound was reckoned in time: the computer gave it no time to play."""
        return int(self.board.state[STALLS])

    @property
    def held_back(self) -> int:
        """In how many blocks the output guard has held back what would have passed full scale."""
        return int(self.board.state[HELD_BACK])

    @property
    def step_ids(self) -> tuple[str, ...]:
        """The steps of the live chain, in the order of the readings' reductions."""
        return self._ids

    def read(self) -> Readings:
        """What was played since the last call. Call it often: this is also where the process is looked after."""
        for answer in self._host.answers():
            if isinstance(answer, DeviceTold):
                self.device_name, self.failed = answer.name, answer.failed
                self.event = self.failed or self.event
            elif isinstance(answer, Trouble):
                self.event = answer.words
        self._look_after(time.monotonic())
        while self._leaving and self._taken(self._leaving[0][0]):
            self._leaving.popleft()
        return self.board.read()

    def take_event(self) -> str:
        """What has gone wrong since the last call; empty where nothing has."""
        found, self.event = self.event, ""
        return found

    # --- a process that ends or hangs ----------------------------------------------------------------------

    def _watch_from(self, now: float) -> None:
        self._beat, self._beat_at, self._looked_at, self._was_up = -1.0, now, now, False

    def _look_after(self, now: float) -> None:
        """Start the process again if it has ended, or has been silent for too long."""
        if self._given_up:
            return
        beat = float(self.board.state[BEAT])
        if beat != self._beat or now - self._looked_at > 1.0:  # or it was this process that was held up
            self._was_up = self._was_up or (self._beat >= 0.0 and beat != self._beat)
            self._beat, self._beat_at = beat, now
        self._looked_at = now
        patience = SILENT_SECONDS if self._was_up else STARTING_SECONDS
        if not self._host.alive:
            self._revive(now, "The audio process has ended")
        elif now - self._beat_at > patience:
            self._revive(now, "The audio process no longer answered")

    def _revive(self, now: float, what: str) -> None:
        """Go on in a new process, at the same place."""
        playing, position = self.playing, self.position
        if len(self._revived) == MOST_REVIVALS and now - self._revived[0] < REVIVALS_SECONDS:
            self._given_up = True
            self.device_name, self.failed = "no sound", "no sound: the audio process keeps ending"
            self.event = f"{what}, again and again. Choose another device, or save your work and start Gluvo anew."
            return
        self._revived.append(now)
        self._host.restart()
        self.device_name, self.failed = "starting", ""
        self.event = f"{what} and was started again."
        self._asked = self._asked_playing = self._asked_place = int(self.board.state[TAKEN])
        self._load()
        for id, time_map in self._times.items():
            self._ask(AddSound(id, self._addresses[1][id], time_map))
        if self._loop is not None:
            self.loop(*self._loop)
        if self._monitoring is not None:
            self.listen(self._monitoring)
        self.seek(position)
        if playing:
            self.play()
        self._watch_from(now)

    def tapped(self, frames: int) -> tuple[np.ndarray, np.ndarray] | None:
        """See `Board.tapped`."""
        return self.board.tapped(frames)

    def heard(self, frames: int) -> np.ndarray | None:
        """See `Board.heard`."""
        return self.board.heard(frames)

    def moves(self) -> list[float]:
        """See `Board.moves`; for the first bands of the chosen equaliser."""
        return [float(value) for value in self.board.moves]

    def close(self) -> None:
        """Stop, and give back the memory. The other process lets go of it when it comes to that."""
        self._host.send(Unload())
        self._kept.clear()
