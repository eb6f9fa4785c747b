"""Level match: gains by which everything in the Hear row is equally loud."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gluvo.measure.loudness import SILENT

RESULT, UNTOUCHED, STEP_OUT, CHANGE = "result", "untouched", "step_out", "change"
DETECTOR, BAND, TAKEN = "detector", "band", "taken"
UP_TO, WET = "up_to", "wet"
"""What the Hear row offers besides references."""
ALTERNATIVES = tuple(f"alternative_{n}" for n in range(1, 5))
"""The first to the fourth of the alternatives that there are at the chosen step."""

MOST_BOOST = 24.0
"""dB; what is fainter than this under the others stays fainter."""


@dataclass(frozen=True)
class Reading:
    """How loud something is that can be heard."""

    loudness: float
    """LUFS, by what the match goes by."""
    true_peak: float
    """dBTP"""
    quiet_by_nature: bool = False
    """A difference, which may be boosted a lot and never decides how loud the others play."""
    trim: float = 0.0
    """dB by which it is to be louder than the rest."""


def matched_gains(readings: Mapping[str, Reading], anchor: str = "untouched") -> dict[str, float]:
    """Gains in dB that bring all readings to the loudness of the `anchor`, lowered together if one would clip.

    Silence gets 0 dB.

    >>> matched_gains({"untouched": Reading(-18, -6), "result": Reading(-14, -1)})
    {'untouched': 0.0, 'result': -4.0}
    """
    heard = {key: r for key, r in readings.items() if r.loudness > SILENT}
    if not heard:
        return dict.fromkeys(readings, 0.0)
    level = heard[anchor].loudness if anchor in heard else min(r.loudness for r in heard.values())
    over = max(
        (level - r.loudness + r.trim + r.true_peak for r in heard.values() if not r.quiet_by_nature), default=0.0
    )
    level -= max(0.0, over)
    gains = dict.fromkeys(readings, 0.0)
    for key, r in heard.items():
        gain = level - r.loudness + r.trim
        if r.quiet_by_nature:
            gain = min(gain, MOST_BOOST, -r.true_peak)
        gains[key] = gain
    return gains
