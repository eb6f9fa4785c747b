"""Sounds beside the song, such as references: each with a time of its own, and two places for them in the live graph."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gluvo.compare.hearables import TimeMap
from gluvo.dsp.kernel import Audio
from gluvo.play.graph import BESIDE
from gluvo.session.sounds import Sound


@dataclass(frozen=True, eq=False)
class TimedSound:
    """A sound as the audio thread reads it."""

    samples: Audio
    stretches: np.ndarray
    """Rows of start and end in the song, start and end in the sound, in frames; see `playhead.read_block`."""


def timed(sound: Sound, time: TimeMap, rate: int) -> TimedSound:
    """A sound, and when it plays what of itself."""
    places = [(s.start, s.end, s.own_start, s.own_end) for s in time.stretches]
    return TimedSound(np.asarray(sound.samples), np.round(np.array(places).reshape(-1, 4) * rate).astype(np.int64))


class SoundsBeside:
    """Holds them by their ids. Two have a place in the graph, so that one can fade into another.

    What is dropped stays until it has faded out. Only the audio thread calls this.
    """

    def __init__(self, fade_frames: int) -> None:
        self._sounds: dict[str, TimedSound] = {}
        self._leaving: dict[str, int] = {}
        """What is let go, and in how many frames."""
        self._linger = 3 * fade_frames
        """Frames until something that was dropped has been waited for and has faded out."""
        self._slots = ["" for _ in BESIDE]
        """What has each of the graph's places."""
        self._slot = 0
        """The place that is heard."""

    def __contains__(self, id: str) -> bool:
        return id in self._sounds

    def take_in(self, id: str, sound: TimedSound) -> bool:
        """Have a sound from now on, or in place of what has that id; whether that one may be heard, so that the new one
        has to fade in over it."""
        before, self._sounds[id] = self._sounds.get(id), sound
        self._leaving.pop(id, None)
        if before is None or id not in self._slots:
            return False
        former = f"{id} before"
        self._sounds[former], self._slots[self._slots.index(id)] = before, former
        self._leaving[former] = self._linger
        return True

    def drop(self, id: str) -> None:
        """Let a sound go, once it has faded out."""
        self._leaving[id] = self._linger

    def go_on(self, frames: int) -> None:
        """Let go of what has faded out by then."""
        for id in tuple(self._leaving):
            self._leaving[id] -= frames
            if self._leaving[id] < 0:
                del self._leaving[id]
                self._sounds.pop(id, None)

    def all(self) -> list[TimedSound]:
        """All that there are; also for other threads."""
        return list(self._sounds.values())

    # --- places --------------------------------------------------------------------------------------------

    @property
    def place(self) -> str:
        """The graph's name for the place that is heard."""
        return BESIDE[self._slot]

    @property
    def other_place(self) -> str:
        """The graph's name for the place that is not heard, or fades out."""
        return BESIDE[1 - self._slot]

    def at(self, place: str) -> TimedSound | None:
        """What has a place of the graph."""
        return self._sounds.get(self._slots[BESIDE.index(place)])

    def has_place(self, id: str) -> bool:
        return id in self._slots

    def move_in(self, id: str) -> bool:
        """Have a sound in the place that is heard, which is the other one where it is not there already, so that one fades
        into the other; whether it is new there."""
        if id == self._slots[self._slot]:
            return False
        self._slot = 1 - self._slot
        new = self._slots[self._slot] != id
        self._slots[self._slot] = id
        return new
