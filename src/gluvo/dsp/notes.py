"""Notes of the equal-tempered scale, A4 at 440 Hz."""

from __future__ import annotations

import math
import re

NAMES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")
_NOTE = re.compile(r"\s*([a-gA-G])\s*([#♯bB♭]?)\s*(-?\d)\s*([+-]\s*\d+)?\s*(?:c|ct|cents?)?\s*")
_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}


def note_of(hz: float) -> str:
    """The nearest note.

    >>> note_of(440.0), note_of(27.5), note_of(205.0)
    ('A4', 'A0', 'G♯3')
    """
    number = round(69.0 + 12.0 * math.log2(hz / 440.0))
    return f"{NAMES[number % 12]}{number // 12 - 1}"


def hz_of_note(number: float) -> float:
    """The frequency of a note by its number; 69 is A4."""
    return 440.0 * 2.0 ** ((number - 69.0) / 12.0)


def hz_of(text: str) -> float | None:
    """The frequency that a note's name means, with cents if they follow; None if it is no note's name.

    >>> hz_of("a4"), round(hz_of("E♭2 +10"), 2), hz_of("440")
    (440.0, 78.23, None)
    """
    found = _NOTE.fullmatch(text.replace("−", "-"))
    if found is None:
        return None
    letter, sign, octave, cents = found.groups()
    step = _STEPS[letter.lower()] + (0 if not sign else 1 if sign in "#♯" else -1)
    number = 12.0 * (int(octave) + 1) + step
    return hz_of_note(number + (float(cents.replace(" ", "")) / 100.0 if cents else 0.0))
