"""What is played: a waltz as bars of chords, and the parts made from them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from gluvo.demo import instruments as play
from gluvo.demo.instruments import RATE, Random
from gluvo.dsp.kernel import Floats

CHORDS = {
    "Am": (57, 60, 64),
    "C": (55, 60, 64),
    "Dm": (57, 62, 65),
    "E": (56, 59, 64),
    "F": (57, 60, 65),
    "G": (55, 59, 62),
    "Bb": (58, 62, 65),
    "Em": (55, 59, 64),
    "D": (57, 62, 66),
    "Bm": (59, 62, 66),
}
ROOTS = {"Am": 33, "C": 36, "Dm": 38, "E": 28, "F": 29, "G": 31, "Bb": 34, "Em": 28, "D": 38, "Bm": 35}


@dataclass(frozen=True)
class ScoreSection:
    """A stretch of the song."""

    name: str
    chords: str
    """One chord a bar."""
    energy: float
    """0–1: who plays, and how hard."""
    tune: str = ""
    """Syllables as ``beat:length:note:sung``, beats counted from the part's start, notes as MIDI numbers."""


def verse_tune(lift: int = 0) -> str:
    shape = [
        (0, 2, 69, "ha"),
        (2, 1, 67, "o"),
        (3, 2, 64, "sa"),
        (5, 1, 62, "e"),
        (6, 3, 65, "to"),
        (9, 2, 62, "i"),
        (12, 2, 64, "se"),
        (14, 1, 65, "a"),
        (15, 2, 67, "so"),
        (17, 1, 65, "u"),
        (18, 4, 64, "sia"),
    ]
    return " ".join(f"{b + 24 * r}:{n}:{p + lift}:{s}" for r in range(2) for b, n, p, s in shape)


def chorus_tune(lift: int = 0) -> str:
    shape = [
        (0, 3, 72, "sa"),
        (3, 2, 71, "o"),
        (5, 1, 69, "te"),
        (6, 3, 72, "ha"),
        (9, 2, 69, "so"),
        (11, 1, 67, "i"),
        (12, 2, 67, "se"),
        (14, 1, 69, "a"),
        (15, 3, 71, "to"),
        (18, 3, 72, "sea"),
        (21, 2, 74, "ha"),
        (23, 1, 71, "u"),
    ]
    return " ".join(f"{b + 24 * r}:{n}:{p + lift}:{s}" for r in range(2) for b, n, p, s in shape)


FERRY_HOURS: tuple[ScoreSection, ...] = (
    ScoreSection("Intro", "Am Am F G Am Dm E E", 0.16),
    ScoreSection("Verse 1", "Am Am F G Am Dm E E Am F G Am", 0.38, verse_tune()),
    ScoreSection("Chorus 1", "C G Am F C G F E Am Am", 0.72, chorus_tune()),
    ScoreSection("Verse 2", "Am Am F G Am Dm E E F G", 0.46, verse_tune()),
    ScoreSection("Chorus 2", "C G Am F C G F E Am Am", 0.8, chorus_tune()),
    ScoreSection("Bridge", "Dm Am Bb F Dm Am E E", 0.3, "0:5:69:a 6:5:72:o 12:5:74:sa 18:5:71:ha"),
    ScoreSection("Last chorus", "C G Am F C G F E C G F Am", 1.0, chorus_tune()),
    ScoreSection("Out", "Am Am Am", 0.25),
)

PIER_LIGHTS: tuple[ScoreSection, ...] = (
    ScoreSection("Opening", "G D Em C G D", 0.4, verse_tune(-2)),
    ScoreSection("Refrain 1", "C D G Em C D G G", 0.85, chorus_tune(-5)),
    ScoreSection("Second verse", "G D Em C G D", 0.5, verse_tune(-2)),
    ScoreSection("Refrain 2", "C D G Em C D G G G", 1.0, chorus_tune(-5)),
)
COLD_ROPE: tuple[ScoreSection, ...] = (
    ScoreSection("Start", "Em C G D Em C", 0.6, verse_tune(-5)),
    ScoreSection("First refrain", "Em D C D Em D C Bm", 0.95, chorus_tune(-8)),
    ScoreSection("Middle", "Am Em C D", 0.55),
    ScoreSection("Last refrain", "Em D C D Em D C Bm Em", 1.0, chorus_tune(-8)),
)

STEMS = (
    "Kick",
    "Snare",
    "Tom high",
    "Tom low",
    "Cymbals",
    "Upright bass",
    "Marimba",
    "Accordion",
    "Plucked strings",
    "Voice low",
    "Voice high",
)


@dataclass(frozen=True)
class Bar:
    part: ScoreSection
    number: int
    """Within the part."""
    start: float
    chord: str
    last: bool


class Performance:
    """Plays parts into one mono track a stem, with everybody's small unevenness."""

    def __init__(self, parts: tuple[ScoreSection, ...], beat: float, seed: int) -> None:
        self.parts, self.beat = parts, beat
        self.random: Random = np.random.default_rng(seed)
        bars = sum(len(p.chords.split()) for p in parts)
        self.frames = int((bars * 3 * beat + 2.0) * RATE)
        self.tracks = {name: np.zeros(self.frames) for name in STEMS}
        self._notes: dict[tuple[object, ...], Floats] = {}
        self.strokes = [play.cymbal(self.random, 0.8, 0.3 + 0.1 * (n % 3), dark=0.6) for n in range(7)]
        for bar in self.bars():
            self._drums(bar)
            self._low(bar)
            self._middle(bar)
        for part, start in self.starts():
            self._voices(part, start)

    def starts(self) -> Iterator[tuple[ScoreSection, float]]:
        """Each part and when it begins."""
        at = 0.0
        for part in self.parts:
            yield part, at
            at += len(part.chords.split()) * 3 * self.beat

    def bars(self) -> Iterator[Bar]:
        for part, start in self.starts():
            chords = part.chords.split()
            for n, chord in enumerate(chords):
                yield Bar(part, n, start + n * 3 * self.beat, chord, n == len(chords) - 1)

    def put(self, stem: str, time: float, note: Floats, gain: float = 1.0) -> None:
        """Add a note, a few milliseconds off."""
        late = float(np.clip(self.random.normal(0.002, 0.004), -0.008, 0.012))
        at = max(0, int((time + late) * RATE))
        n = min(len(note), self.frames - at)
        if n > 0:
            self.tracks[stem][at : at + n] += note[:n] * gain

    def note(self, make: Callable[..., Floats], *about: float) -> Floats:
        """A note as it was played before, if it was; velocity, which comes last, in steps of a tenth."""
        key = (make, *about[:-1], round(about[-1], 1))
        if key not in self._notes:
            self._notes[key] = make(self.random, *about[:-1], max(0.1, round(about[-1], 1)))
        return self._notes[key]

    def velocity(self, around: float) -> float:
        return float(np.clip(around + self.random.normal(0.0, 0.05), 0.08, 1.0))

    def _drums(self, bar: Bar) -> None:
        r, b, energy = self.random, self.beat, bar.part.energy
        if energy > 0.28 or (bar.number % 2 == 0 and energy > 0.2):
            self.put("Kick", bar.start, self.note(play.kick, self.velocity(0.45 + 0.5 * energy)))
        if energy > 0.65 and bar.number % 4 == 3:
            self.put("Kick", bar.start + 2.5 * b, self.note(play.kick, self.velocity(0.6)))
        if energy > 0.35:
            for n, weight in ((1, 1.0), (2, 0.55 if energy < 0.7 else 0.75)):
                if not (bar.last and n == 2):
                    self.put(
                        "Snare",
                        bar.start + n * b,
                        self.note(play.snare, self.velocity((0.25 + 0.65 * energy) * weight)),
                    )
        if energy > 0.6 and bar.number % 4 == 1:
            self.put("Snare", bar.start + 2.5 * b, self.note(play.snare, self.velocity(0.18)))
        if bar.last and energy > 0.25 and bar.part.name != "Out":
            for n, (stem, freq) in enumerate((("Tom high", 148.0), ("Tom high", 148.0), ("Tom low", 97.0))):
                hit = self.note(play.tom, freq, self.velocity(0.55 + 0.12 * n))
                self.put(stem, bar.start + (1.5 + 0.5 * n) * b, hit)
        for n in range(6 if energy > 0.65 else 3):
            beat = n * (0.5 if energy > 0.65 else 1.0)
            accent = 0.5 if beat == 0 else 0.38 if beat == int(beat) else 0.2
            struck = self.strokes[int(r.integers(len(self.strokes)))]
            self.put("Cymbals", bar.start + beat * b, struck, 2.4 * self.velocity(accent * (0.4 + 0.6 * energy)))
        if bar.number == 0 and energy > 0.6:
            self.put("Cymbals", bar.start, play.cymbal(r, 2.6, 0.95), 1.5)

    def _low(self, bar: Bar) -> None:
        b, energy = self.beat, bar.part.energy
        if bar.part.name == "Intro" and bar.number < 4:
            return
        root = ROOTS[bar.chord]
        uneven = 1.75 if root in (28, 29) else 0.75 if root in (36, 38) else 1.0  # some notes bloom, some hide
        long = 2.7 * b if energy < 0.6 else 1.8 * b
        self.put(
            "Upright bass", bar.start, self.note(play.bass, root, long, self.velocity(0.55 + 0.35 * energy)), uneven
        )
        if energy > 0.6:
            self.put(
                "Upright bass", bar.start + 2 * b, self.note(play.bass, root + 7, 0.9 * b, self.velocity(0.6)), 0.8
            )

    def _middle(self, bar: Bar) -> None:
        b, energy = self.beat, bar.part.energy
        notes = CHORDS[bar.chord]
        order = (0, 1, 2, 1, 2, 1) if bar.number % 2 == 0 else (2, 1, 0, 1, 0, 1)
        for n, k in enumerate(order):
            if energy < 0.25 and n % 2:
                continue
            lift = 12 if energy > 0.6 and n in (2, 4) else 0
            self.put(
                "Marimba",
                bar.start + n * b / 2,
                self.note(play.marimba, notes[k] + lift, self.velocity(0.35 + 0.4 * energy)),
            )
        if energy > 0.3:
            for late in (1, 2):
                for k in notes:
                    length = (0.55 if energy < 0.65 else 0.85) * b
                    reed = self.note(play.accordion, k, length, self.velocity(0.35 + 0.45 * energy))
                    self.put("Accordion", bar.start + late * b, reed, 0.8)
        if energy > 0.6 or bar.part.name in ("Bridge", "Intro"):
            for k in (notes[0] - 12, notes[1]):
                held = self.note(play.accordion, k, 2.9 * b, self.velocity(0.3 + 0.35 * energy))
                self.put("Accordion", bar.start, held, 0.75)
        if energy > 0.42:
            for beat in (0.5, 1.5, 2.5) if energy > 0.7 else (1.5,):
                for strum, k in enumerate(notes):
                    string = self.note(play.pluck, k + 12, 0.7, 0.62, self.velocity(0.4 + 0.45 * energy))
                    self.put("Plucked strings", bar.start + beat * b + 0.011 * strum, string)

    def _voices(self, part: ScoreSection, start: float) -> None:
        end = len(part.chords.split()) * 3
        for word in part.tune.split():
            at, beats, note, sung = word.split(":")
            if int(at) + int(beats) > end:
                continue
            length, time = int(beats) * self.beat * 0.97, start + int(at) * self.beat
            v = self.velocity(0.5 + 0.45 * part.energy)
            self.put("Voice high", time, play.voice(self.random, int(note), length, v, sung, 1.12))
            if part.energy > 0.6:
                below = int(note) - (9 if int(note) % 12 in (0, 4, 9) else 8)
                self.put("Voice low", time + 0.012, play.voice(self.random, below, length, v * 0.9, sung, 0.95))
            elif part.energy > 0.42:
                self.put(
                    "Voice low",
                    time + 0.01,
                    play.voice(self.random, int(note) - 12, length, v * 0.7, sung, 0.95),
                )
