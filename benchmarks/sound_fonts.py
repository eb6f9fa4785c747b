"""Notes played by a sound font: a MIDI file for each stem, turned into sound by FluidSynth, which must be installed."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np
import soundfile

DRUMS = {"kick": 36, "snare": 38, "cymbal": 51}
"""Keys of the General MIDI percussion map."""
TICKS = 960
"""A quarter note, half a second long."""


@dataclass(frozen=True)
class Note:
    """A note of a stem; `kind` is what plays it, see `watchouts.song`."""

    at: float
    """s"""
    kind: str
    pitch: int
    """MIDI number; of no account for drums."""
    length: float
    """s"""
    strength: float
    """0–1"""


def played(notes: Sequence[Note], font: Path, programs: dict[str, int], frames: int, rate: int) -> np.ndarray:
    """A stem's notes as sound, ``(frames,)``. `programs`: the General MIDI program, from 0, of each kind."""
    if shutil.which("fluidsynth") is None:
        raise SystemExit("FluidSynth must be installed to play sound fonts.")
    events: list[tuple[float, mido.Message]] = []
    for note in notes:
        drum = note.kind in DRUMS
        key, channel = (DRUMS[note.kind], 9) if drum else (note.pitch, sorted(programs).index(note.kind))
        velocity = max(1, min(127, round(40 + 87 * note.strength)))
        events.append((note.at, mido.Message("note_on", note=key, velocity=velocity, channel=channel)))
        events.append((note.at + note.length, mido.Message("note_off", note=key, channel=channel)))
    track, now = mido.MidiTrack(), 0
    for channel, kind in enumerate(sorted(programs)):
        track.append(mido.Message("program_change", program=programs[kind], channel=channel))
    for at, message in sorted(events, key=lambda e: (e[0], e[1].type == "note_on")):
        tick = round(at * 2 * TICKS)
        track.append(message.copy(time=tick - now))
        now = tick
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "stem.mid", Path(folder) / "stem.wav"
        mido.MidiFile(ticks_per_beat=TICKS, tracks=[track]).save(score)
        room = ["-R", "0", "-C", "0"]  # neither reverb nor chorus: the songs get a place of their own
        output = ["-r", str(rate), "-g", "0.5", "-O", "float", "-T", "wav", "-F", str(sound)]
        subprocess.run(["fluidsynth", "-niq", *room, *output, str(font), str(score)], check=True, capture_output=True)
        x = soundfile.read(sound, always_2d=True)[0].mean(axis=1)[:frames]
    return np.concatenate([x, np.zeros(frames - len(x))])
