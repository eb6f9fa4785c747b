"""What was measured about a fault, as values along an axis: enough to draw a small picture of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from gluvo.dsp.kernel import Floats


@dataclass(frozen=True, eq=False)
class Evidence:
    """A small picture of what was measured."""

    xs: Floats
    """Hz, seconds of the song, ms, or dBFS; empty where there is nothing to draw."""
    ys: Floats
    along: Literal["frequency", "time", "hit", "bars", "level", "moment"]
    unit: str
    beside: Floats | None = None
    """What the values are compared with, if anything."""
    limit: float | None = None
    """A level that is passed."""
    mark: float | None = None
    """The place on the axis that is meant."""
    names: tuple[str, ...] = ()
    """Of bars."""
    reach: float = 0.0
    """How far the axis goes to both sides of 0 at least, so that next to nothing does not look like much."""
    more: tuple[Floats, ...] = ()
    """Further values along the same axis, such as those of other settings."""
