"""What the window asks of the process that plays, and what that tells: one record for each, sent through a pipe.

Light to import, as `process` is.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from gluvo.compare.hearables import TimeMap
    from gluvo.play.engine import Monitoring
    from gluvo.session.records import Session
    from gluvo.session.scratch import Address


class Request:
    """Something that is asked of the process."""


class EngineRequest(Request):
    """Something that is asked of the engine. Those of a song are counted, so that it can be told which the sound follows."""


@dataclass(frozen=True)
class Load(Request):
    """Take another song."""

    songs: Mapping[str, Address]
    beside: Mapping[str, Address]
    board: Address
    rate: int
    frames: int
    session: Session
    device: str
    """The chosen device; empty for the default."""


@dataclass(frozen=True)
class Unload(Request):
    """Let go of the song."""


@dataclass(frozen=True)
class ChooseDevice(Request):
    name: str


@dataclass(frozen=True)
class TellDone(Request):
    """Answer `Done` when all that was asked for before is done."""


@dataclass(frozen=True)
class Close(Request):
    """End."""


@dataclass(frozen=True)
class Play(EngineRequest):
    pass


@dataclass(frozen=True)
class Stop(EngineRequest):
    pass


@dataclass(frozen=True)
class Seek(EngineRequest):
    seconds: float


@dataclass(frozen=True)
class Loop(EngineRequest):
    start: float
    end: float
    """Seconds."""


@dataclass(frozen=True)
class NoLoop(EngineRequest):
    pass


@dataclass(frozen=True)
class Listen(EngineRequest):
    monitoring: Monitoring


@dataclass(frozen=True)
class AddSound(EngineRequest):
    """Have something to be heard besides the song."""

    id: str
    address: Address
    time: TimeMap


@dataclass(frozen=True)
class DropSound(EngineRequest):
    id: str


@dataclass(frozen=True)
class Change(EngineRequest):
    """Take over an edited session."""

    session: Session


class Answer:
    """Something that the process tells."""


@dataclass(frozen=True)
class DeviceTold(Answer):
    """What is played to now, and why it is not what was chosen; empty where it is."""

    name: str
    failed: str


@dataclass(frozen=True)
class Trouble(Answer):
    words: str


@dataclass(frozen=True)
class Done(Answer):
    pass
