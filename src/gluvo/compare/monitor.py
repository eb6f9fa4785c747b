"""The monitor views: which part of the sound is heard."""

from __future__ import annotations

from dataclasses import dataclass
from typing import get_args

from gluvo.session.records import MonitorView

Row = tuple[float, float]


@dataclass(frozen=True)
class Monitor:
    """A monitor view. `rows` are the factors of left and right at each ear."""

    key: MonitorView
    name: str
    tip: str
    rows: tuple[Row, Row]


MONITORS: tuple[Monitor, ...] = (
    Monitor("stereo", "Stereo", "Both channels, as they are.", ((1.0, 0.0), (0.0, 1.0))),
    Monitor("mid", "Mid", "What both sides share.", ((0.5, 0.5), (0.5, 0.5))),
    # the side keeps its polarity at each ear, so that it sounds wide
    Monitor("side", "Side", "What differs between the sides; nothing of the middle.", ((0.5, -0.5), (-0.5, 0.5))),
    Monitor("left", "Left", "The left channel in both ears.", ((1.0, 0.0), (1.0, 0.0))),
    Monitor("right", "Right", "The right channel in both ears.", ((0.0, 1.0), (0.0, 1.0))),
    Monitor("mono", "Mono", "Both channels summed, as one loudspeaker would.", ((0.5, 0.5), (0.5, 0.5))),
)
assert tuple(m.key for m in MONITORS) == get_args(MonitorView)


def monitor(key: str) -> Monitor:
    """A view by its key."""
    return next(m for m in MONITORS if m.key == key)
