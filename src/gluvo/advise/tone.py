"""What each band of an equaliser costs, and bands that would mend what was found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from gluvo.dsp.db import power_db
from gluvo.dsp.kernel import Floats
from gluvo.dsp.notes import hz_of_note, note_of
from gluvo.measure.resonances import Resonance
from gluvo.measure.spectrum import Tone
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import stream
from gluvo.steps import Band, MidSideEq
from gluvo.steps.bands import Target

MOST_LOSS = 1.0
"""dB that a low cut may take from a note before it is told."""
LOWEST_NOTE, HIGHEST_NOTE = 21, 60
"""A0 to C4: where the lowest note that is played is looked for."""
PLAYED = 24.0
"""dB under the strongest low note at which a note still counts as played."""
MOVES = 0.5
"""dB from which a moving band counts as moving."""


@dataclass(frozen=True)
class BandCost:
    """What a band adds to the part of the sound that it works on, or takes from it."""

    change: float
    """dB of that part's energy."""
    share: float
    """Of the energy of the whole sound, −1 to …; negative where it takes away."""


def cost(step: MidSideEq, band: Band, tone: Tone, rate: int) -> BandCost:
    """What a band does to a sound whose spectra are `tone`, with all other bands at work.

    The moves of a band that follows the level do not count; see `movements`.
    """
    freqs = np.maximum(tone.freqs, tone.freqs[1] * 0.5)
    along = ("stereo",) if band.target == "stereo" else ("stereo", band.target)
    others = np.abs(step.without_band(band.id).response(along, freqs, rate))
    own = np.abs(band.response(freqs, rate, step.strength)) if band.on else np.ones(len(freqs))
    before, after = tone.total(band.target, others**2), tone.total(band.target, (others * own) ** 2)
    if before <= 1e-20:
        return BandCost(0.0, 0.0)
    # mid and side add up to the mean of both channels; a single channel is half of it
    whole, weight = tone.total("stereo"), 0.5 if band.target in ("left", "right") else 1.0
    change = power_db(np.array([max(after, 1e-30) / before]))[0]
    return BandCost(float(change), weight * (after - before) / max(whole, 1e-30))


@dataclass(frozen=True)
class LowCutCost:
    """The truth about a low cut."""

    song: float
    """dB of the target's energy that it takes from the song; negative."""
    section: float
    """The same for the section."""
    loses_below: float
    """Hz under which every note loses more than `MOST_LOSS` dB; 0 where none does."""
    lowest_played: float
    """Hz of the lowest note that is played in the song; 0 where there is none."""
    note_loss: float
    """dB that this note loses."""

    @property
    def lowest_hurt(self) -> str:
        """The lowest note that is played, if it loses more than `MOST_LOSS` dB; else nothing."""
        return note_of(self.lowest_played) if self.note_loss > MOST_LOSS else ""

    def describe(self) -> str:
        """In words, for a line of the table."""
        if self.loses_below <= 0.0:
            return "takes nothing that is played"
        words = f"under {note_of(self.loses_below)} over 1 dB goes"
        if self.lowest_played > 0.0:
            words += f" · lowest note played {note_of(self.lowest_played)} loses {self.note_loss:.1f} dB"
        return words


def low_cut_cost(step: MidSideEq, band: Band, song: Tone, section: Tone, rate: int) -> LowCutCost:
    """What a low cut takes from the song and from the section, and from the notes in it."""
    numbers = np.arange(LOWEST_NOTE - 9, 128)
    notes = np.array([hz_of_note(float(n)) for n in numbers])
    losses = -20.0 * np.log10(np.maximum(np.abs(band.response(notes, rate, step.strength)), 1e-9))
    hurt = notes[losses > MOST_LOSS]
    played = lowest_played(song, band.target)
    loss = float(np.interp(played, notes, losses)) if played > 0.0 else 0.0
    return LowCutCost(
        cost(step, band, song, rate).change,
        cost(step, band, section, rate).change,
        float(hurt.max()) if len(hurt) and band.on else 0.0,
        played,
        loss if band.on else 0.0,
    )


def lowest_played(tone: Tone, part: str) -> float:
    """Hz of the lowest note from A0 on that stands as a note: louder than both of its neighbours two semitones away,
    and not far under the strongest low note. 0 where there is none."""
    numbers = np.arange(LOWEST_NOTE - 2, HIGHEST_NOTE + 3)
    levels = tone.smoothed(part, 12.0, np.array([hz_of_note(float(n)) for n in numbers]))
    inside = slice(2, len(numbers) - 2)
    strongest = float(levels[inside].max())
    for n in range(2, len(numbers) - 2):
        stands = levels[n] > levels[n - 2] + 1.0 and levels[n] > levels[n + 2] - 6.0
        if stands and levels[n] > strongest - PLAYED and levels[n] >= levels[n - 1 : n + 2].max():
            return hz_of_note(float(numbers[n]))
    return 0.0


@dataclass(frozen=True)
class Movement:
    """How far and how often a band moves."""

    most: float
    """dB, signed, at the furthest."""
    share: float
    """Of the time, for which it moves by `MOVES` or more."""


def movements(
    step: MidSideEq, x: np.ndarray, rate: int, progress: Progress = no_progress, keys: Sequence[np.ndarray] = ()
) -> Mapping[int, Movement]:
    """How the moving bands of an equaliser move over `x` (frames, 2), by their ids; `keys` are what keyed ones listen to."""
    processor = step.make(rate)
    moved: dict[int, list[Floats]] = {id: [] for id in processor.moved}
    if not moved:
        return {}
    for _, place, _ in stream(processor, x, progress, keys):
        for id, curve in processor.moved.items():
            moved[id].append(curve[place].copy())
    found = {}
    for id, pieces in moved.items():
        curve = np.concatenate(pieces) if pieces else np.zeros(1)
        furthest = float(curve[np.argmax(np.abs(curve))])
        found[id] = Movement(furthest, float(np.mean(np.abs(curve) >= MOVES)))
    return found


WIDER = 0.5
"""A cut that follows a hunt has this times the Q of the bell that hunted."""


def hunting(step: MidSideEq, target: str, freq: float, gain: float, q: float) -> MidSideEq:
    """The equaliser, switched on, with a boosted bell at a place. To be heard only: never stored or rendered."""
    bell = Band(target=_target(target), freq=_within(freq), gain=gain, q=q)
    return step.replace(on=True, bands=(*step.bands, msgspec.structs.replace(bell, id=-1)))


def cut_found(target: str, freq: float, depth: float, q: float) -> Band:
    """The bell that cuts where a hunt ended, by `depth` dB (raises, where that is under 0): wider than the one that hunted."""
    return Band(target=_target(target), freq=_within(freq), gain=-depth, q=round(max(0.1, q * WIDER), 2))


def cut_for(resonance: Resonance, depth: float | None = None) -> Band:
    """A bell that takes a resonance down by half of its prominence, or by `depth` dB."""
    amount = min(9.0, resonance.prominence / 2.0) if depth is None else depth
    q = min(12.0, max(0.7, resonance.q))
    return Band(target=_target(resonance.part), freq=_within(resonance.freq), gain=-round(amount, 1), q=round(q, 2))


def _within(freq: float) -> float:
    return min(20_000.0, max(10.0, round(freq, 1 if freq < 1000 else 0)))


def _target(part: str) -> Target:
    return part if part in ("mid", "side", "left", "right") else "stereo"  # type: ignore[return-value]
